"""Corrections by hand, anchored in place and time, applied after the tracks of a clip are finished."""
