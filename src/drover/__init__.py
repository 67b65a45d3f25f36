"""Drover: find moving objects in video, keep their identities, count crossings, score the result."""

import os

os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # none are wanted; looking for them takes 40 ms of a start

__version__ = "0.12.0"
