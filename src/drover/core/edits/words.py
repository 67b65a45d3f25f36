"""A correction in plain words, with the numbers that its places have now."""

from __future__ import annotations

from drover.core.edits.apply import EditNote
from drover.core.edits.edit import Edit

__all__ = ["edit_words"]


def edit_words(edit: Edit, note: EditNote | None) -> str:
    """What was corrected, and whether it holds; without a note that is not known yet."""
    who = [str(identity) for identity in note.identities] if note is not None else []
    one = who[0] if who else "one"
    both = " and ".join(dict.fromkeys(who)) if len(who) > 1 else one
    text = {
        "same": f"{both} swap" if len(edit.places) == 4 else f"{one} goes on",
        "apart": f"{both} are two",
        "drop": f"{one} dropped",
        "class": f"{one} is of class {edit.text}",
        "name": f"{one} is called {edit.text}" if edit.text else f"{one} has no name",
        "colour": f"{one} in another colour" if edit.text else f"{one} in its own colour",
        "box": f"{one}: box by hand",
        "fill": f"{one}: gap filled",
        "right": f"{both}: right as it is",
        "unsure": f"{both}: not sure",
    }[edit.kind]
    if note is None:
        return text
    if not note.fits:
        return f"{text}: fits no more, {note.words}"
    return f"{text} ({note.words})" if note.words else text
