"""A camera worked through as it comes: read, found, linked, counted, and written down at once."""
