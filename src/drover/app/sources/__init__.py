"""Choosing what to work on: a file, images, a camera or a stream, looked at before work begins."""
