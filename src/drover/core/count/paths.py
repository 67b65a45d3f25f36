"""Tracks as paths of one point of the box, with what lines and zones ask of them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from drover.core.geometry import box_area, box_reference
from drover.core.recipe import CountSettings
from drover.core.settings.count import REFERENCES
from drover.core.types import Tracks

__all__ = ["KnownPaths", "TrackPaths", "path_for", "prepare_paths", "references_of"]

Float = NDArray[np.float64]


@dataclass(frozen=True)
class TrackPaths:
    """Reference points in path order, made once per set of tracks so that a moved line recounts at once.

    ``x``, ``y`` (rows,) float64 px; ``owner`` (rows,) int32 identity; ``row`` (rows,) int64 row in the tracks.
    """

    tracks: Tracks
    x: Float
    y: Float
    owner: NDArray[np.int32]
    row: NDArray[np.int64]

    @cached_property
    def size(self) -> Float:
        """(rows,) px, the size of the box: the root of its area, at least 1."""
        return np.sqrt(np.maximum(box_area(self.tracks.lying[self.row]), 1.0))

    @cached_property
    def first(self) -> NDArray[np.int64]:
        """(rows,) the place of the first row of each row's path."""
        start = self.tracks.paths.start
        return np.repeat(start[:-1], np.diff(start))

    @cached_property
    def travel(self) -> Float:
        """(rows,) how far the point has come along its path, in sizes of the object."""
        way = np.hypot(np.diff(self.x, prepend=self.x[:1]), np.diff(self.y, prepend=self.y[:1])) / self.size
        gone = np.cumsum(way)
        return gone - gone[self.first] if len(gone) else gone


KnownPaths = dict[str, TrackPaths]


def prepare_paths(
    tracks: Tracks, reference: str = "foot", *, in_scene: bool = False, ready: bool = False
) -> TrackPaths:
    """Paths of one reference point of all identities, see :func:`drover.core.geometry.box_reference`.

    They are those in the picture, or ``in_scene``, where the ground stands still.

    With ``ready`` all that counting needs is worked out now, so that the first count is as quick as the next.
    """
    row = tracks.paths.row
    points = box_reference((tracks.lying if in_scene else tracks.box)[row], reference)
    made = TrackPaths(
        tracks,
        np.ascontiguousarray(points[:, 0]),
        np.ascontiguousarray(points[:, 1]),
        tracks.identity[row],
        row,
    )
    if ready:
        assert len(made.size) == len(made.first) and tracks.class_of_identity is not None
    return made


def references_of(settings: CountSettings) -> set[str]:
    """The points of the box that some line or zone asks for."""
    asked = {line.reference for line in settings.line} | {zone.inside_by for zone in settings.zone}
    asked |= set(REFERENCES) if "two" in asked else set()
    asked |= {"centre"} if "area" in asked else set()
    return asked - {"two", "area"}


def path_for(tracks: Tracks, reference: str, known: KnownPaths, fixed_to: str = "picture") -> TrackPaths:
    """The paths of a reference point, made and put among the known ones when lacking.

    ``fixed_to`` is what that which asks stands still in: the picture, or the scene.
    """
    in_scene = fixed_to == "scene" and tracks.scene_box is not None
    name = f"{reference} in the scene" if in_scene else reference
    if name not in known:
        known[name] = prepare_paths(tracks, reference, in_scene=in_scene)
    return known[name]
