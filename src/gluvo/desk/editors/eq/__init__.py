"""The equaliser's editor."""
