"""Measures: arrays in, frozen results out."""
