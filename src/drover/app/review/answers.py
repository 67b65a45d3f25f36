"""The answers of a review: the same on buttons, in the menu and on keys."""

from __future__ import annotations

__all__ = ["ANSWERS"]

# What can be said of a moment: name of the wish, key, words on the button, what it does.
ANSWERS = (
    ("right", "C", "Right", "It is right as it is."),
    ("unsure", "U", "Unsure", "It cannot be told; it stays among what may be wrong."),
    ("swap", "S", "Swap", "From here on each of the two goes on as the other."),
    ("join", "J", "Join", "The two are one: the later goes on as the earlier."),
    ("cut", "T", "Cut", "From here on the first is another."),
    ("drop", "D", "Drop", "The first is nothing at all."),
)
