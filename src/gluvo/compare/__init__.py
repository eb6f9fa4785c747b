"""Comparing at equal loudness."""
