"""What a correction by hand is: a fact about places in the clip, never about the numbers of a run.

A correction says "what is here is what was there", "these are two", "this is nothing", "this is a ewe". Linked again
with other settings the numbers change and the places do not, so a correction holds; where the links are right already
it has nothing to do.
"""

from __future__ import annotations

import hashlib
import json
import re
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, model_validator

from drover.core.errors import DroverError
from drover.core.names import MOST_NAME, plain_name

__all__ = ["Edit", "EditKind", "Place", "digest_of", "fraction_box", "read_edits", "write_edits"]

Fraction = Annotated[float, Field(ge=-1.0, le=2.0, allow_inf_nan=False)]  # a forecast may lie a little outside
Time = Annotated[float, Field(ge=0.0, le=1e8, allow_inf_nan=False)]
Sides = tuple[Fraction, Fraction, Fraction, Fraction]
EditKind = Literal["same", "apart", "drop", "class", "name", "colour", "box", "fill", "right", "unsure"]
PLACES = {
    "same": (2, 4), "apart": (2, 2), "drop": (2, 2), "class": (1, 1), "name": (1, 1), "colour": (1, 1),
    "box": (0, 1), "fill": (2, 2), "right": (1, 2), "unsure": (1, 2),
}  # fmt: skip
MOST_EDITS = 20_000
MOST_HELD = 8  # places remembered with a box


class Place(BaseModel):
    """Where something is at a time: ``time`` s and its ``box`` x1, y1, x2, y2 in fractions of the picture."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    time: Time
    box: Sides

    @model_validator(mode="after")
    def _is_a_box(self) -> Place:
        if self.box[2] <= self.box[0] or self.box[3] <= self.box[1]:
            raise ValueError("a box that ends before it begins")
        return self


class Edit(BaseModel):
    """One correction.

    ``kind`` and what its ``places`` are:

    - same: what is at the second place is what was at the first; the ways change over at ``at``. Two more places say
      the same of another, where two had changed places.
    - apart: what is at the second place is not what was at the first; the second begins at ``at``.
    - drop: what is at the first place is nothing, until the time of the second.
    - class, name, colour: what is at the place is of a class, is called, or is shown in ``text``; a name or a colour
      that is empty takes it back.
    - box: at ``at``, what is at the place has this ``box``, and goes straight to where it is seen next; without a
      place it is something that nothing had found. ``hold`` remembers who was who round it: a place before and one
      after, of itself first and then of those beside it; ``way`` the times from and to which it went straight.
    - fill: between the two places it went straight, by way of the boxes drawn by hand between them.
    - right, unsure: what is at the places was looked at and is as it should be, or cannot be told.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: EditKind
    at: Time
    places: tuple[Place, ...] = ()
    text: str = ""
    box: Sides | None = None
    hold: tuple[Place, ...] = Field(default=(), max_length=MOST_HELD)
    way: tuple[Time, Time] | None = None

    @model_validator(mode="after")
    def _is_whole(self) -> Edit:
        least, most = PLACES[self.kind]
        if not least <= len(self.places) <= most or len(self.places) == 3:
            raise ValueError(f"a correction of kind {self.kind} with {len(self.places)} places")
        if self.hold and (self.kind != "box" or not self.places or len(self.hold) % 2):
            raise ValueError("places held in twos are what a box of something known has, and no other correction")
        if self.way is not None and (self.kind != "box" or not self.way[0] <= self.at <= self.way[1]):
            raise ValueError("a way from a time to another is what a box between them has, and no other correction")
        if (self.kind == "box") != (self.box is not None):
            raise ValueError("a box is what a correction of kind box has, and no other")
        if self.box is not None and (self.box[2] <= self.box[0] or self.box[3] <= self.box[1]):
            raise ValueError("a box that ends before it begins")
        if self.kind == "class" and not self.text:
            raise ValueError("a class without a name")
        if self.kind == "colour" and not re.fullmatch(r"(#[0-9a-fA-F]{6})?", self.text):
            raise ValueError("a colour that is not written #rrggbb")
        if self.text != plain_name(self.text) or len(self.text) > MOST_NAME:
            raise ValueError("a name that is too long or not plain text")
        return self


def fraction_box(box: NDArray, size: tuple[int, int]) -> tuple[float, float, float, float]:
    """A box in px as fractions of the picture, rounded to what is seen."""
    sides = np.asarray(box, np.float64) / (size[0], size[1], size[0], size[1])
    x1, y1, x2, y2 = (round(float(v), 5) for v in np.clip(sides, -1.0, 2.0))
    x1, y1 = min(x1, 1.999), min(y1, 1.999)  # what lies that far out still is a box
    return x1, y1, max(x2, x1 + 1e-5), max(y2, y1 + 1e-5)


def digest_of(edits: tuple[Edit, ...]) -> str:
    """Fingerprint of corrections in their order; empty for none."""
    if not edits:
        return ""
    return hashlib.sha256(write_edits(edits).encode()).hexdigest()[:24]


def write_edits(edits: tuple[Edit, ...]) -> str:
    """Corrections as JSON, one a line."""
    return "\n".join(json.dumps(edit.model_dump(exclude_defaults=True)) for edit in edits)


_ONE = TypeAdapter(Edit)


def read_edits(text: str, what: str = "the corrections") -> tuple[Edit, ...]:
    """Corrections from JSON lines.

    Raises
    ------
    DroverError
        One line: which line is no correction, and why.
    """
    lines = [line for line in text.splitlines() if line.strip()]
    if len(lines) > MOST_EDITS:
        raise DroverError(f"{what}: {len(lines)} corrections, more than {MOST_EDITS}; split them")
    out = []
    for number, line in enumerate(lines, 1):
        try:
            out.append(_ONE.validate_json(line))
        except ValidationError as error:
            why = error.errors()[0]["msg"]
            raise DroverError(
                f"{what}, line {number}: is no correction ({why}); put it right or leave it out"
            ) from error
    return tuple(out)
