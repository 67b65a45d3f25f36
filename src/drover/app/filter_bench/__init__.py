"""The filter of one identity laid open: what it expects, how far off it is, and what other noises would make of it."""
