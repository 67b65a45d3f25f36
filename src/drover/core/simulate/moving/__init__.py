"""Scenes seen by a camera that moves, or with one thing to follow: their exact motion is known."""
