"""Plots: they know measures and arrays, and nothing of sessions."""
