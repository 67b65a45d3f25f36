"""Count: what crosses which line, when, and which way."""
