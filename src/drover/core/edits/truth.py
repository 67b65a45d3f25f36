"""Tracks taken for what was really there, once a person has put them right."""

from __future__ import annotations

import numpy as np

from drover.core.types import Tracks, Truth

__all__ = ["truth_of_tracks"]


def truth_of_tracks(tracks: Tracks) -> Truth:
    """Every row as a true box, all to be considered and all visible."""
    return Truth(
        frame_start=tracks.frame_start, identity=tracks.identity, box=tracks.box,
        consider=np.ones(len(tracks), np.bool_), class_id=tracks.class_id,
        visibility=np.ones(len(tracks), np.float32), class_names=tracks.class_names,
    )  # fmt: skip
