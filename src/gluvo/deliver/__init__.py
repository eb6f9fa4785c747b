"""Writing and checking the files that leave the house."""
