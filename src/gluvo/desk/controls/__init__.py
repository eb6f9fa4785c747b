"""Widgets that know Qt and the declarations of settings, and nothing of sound."""
