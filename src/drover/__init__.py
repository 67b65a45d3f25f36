"""Drover: find moving objects in video, keep their identities, count crossings, score the result."""

__version__ = "0.12.0"
