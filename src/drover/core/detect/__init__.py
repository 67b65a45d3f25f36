"""Detect: moving things found in each frame, with the blob behind each box."""
