"""The steps' editors, one file each."""
