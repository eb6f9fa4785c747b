"""Writing the files that are delivered, and checking them."""
