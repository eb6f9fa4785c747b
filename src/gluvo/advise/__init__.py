"""Finding settings from what they should achieve."""
