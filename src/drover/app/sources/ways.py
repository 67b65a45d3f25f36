"""The ways to a source, by the place of their tab in the dialog."""

from __future__ import annotations

__all__ = ["CAMERA", "FILE", "NETWORK"]

FILE, CAMERA, NETWORK = range(3)
