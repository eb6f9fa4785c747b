"""The Compare page."""
