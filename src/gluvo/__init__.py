"""Gluvo: from a stereo mix to a loud, checked master."""

__version__ = "0.1.0"
