"""The Deliver page and what stands on it."""
