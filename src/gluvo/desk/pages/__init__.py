"""The pages of the window."""
