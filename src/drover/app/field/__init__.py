"""The field: the big picture with its overlays and the counting lines."""
