"""The session: one frozen value, its history, and its file."""
