"""The window around the pages."""
