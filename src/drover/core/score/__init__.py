"""Score: the result held against the truth."""
