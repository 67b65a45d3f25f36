"""What belongs to something that is followed, and what that is: bodies, or specks that never leave their place."""

from __future__ import annotations

import itertools

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.bodies.size_field import SizeField
from drover.core.geometry import pair_overlap
from drover.core.track.travel import travelled
from drover.core.types import Tracks

__all__ = ["of_identities", "of_specks", "owners_of", "rows_by_life"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
SAME = 0.4  # overlap from which a detection is what a track was expected to be at
INSIDE, PIECE = 0.7, 0.1  # share of a piece that lies where its body is expected, and the least share of that it has
SPECK = 0.4  # of a body's height and width there, under which one that stays is a mark on the ground
SPECK_AMONG_ALL = 0.5  # of the smallest of those that go about, where they are of all sizes
SMALLEST = 0.1  # quantile of these that is the smallest
MOVED = 1.0  # own sizes from where it was first seen


def rows_by_life(tracks: Tracks, count: int) -> Int:
    """Rows of tracks in order of identity, then of time, whose detection (of ``count``) they share with nobody."""
    held = np.flatnonzero(tracks.detection >= 0)
    held = held[np.bincount(tracks.detection[held], minlength=count)[tracks.detection[held]] == 1]
    return held[np.argsort(tracks.identity[held], kind="stable")]


def of_identities(tracks: Tracks, value: Float, quantile: float) -> Float:
    """(detections,) that quantile of a value of detections over the life of whoever is linked to each; of several the
    largest, 0 for none.
    """
    held = np.flatnonzero(tracks.detection >= 0)
    held = held[np.argsort(tracks.identity[held], kind="stable")]
    out = np.zeros(len(value))
    for rows in np.split(held, np.flatnonzero(np.diff(tracks.identity[held])) + 1):
        if len(rows):
            of = tracks.detection[rows]
            out[of] = np.maximum(out[of], np.quantile(value[of], quantile))
    return out


def owners_of(tracks: Tracks, count: int, box: NDArray[np.float32], frame_start: Int) -> Int:
    """(count,) identity that each detection is followed as, 0 for none; of several on one blob the first.

    A detection that nobody took, but that lies where something followed must have been just then, is that: when a body
    comes out of a blob, the tracker may let a picture go by. Where none is, the largest piece within that place is.
    """
    owner = np.zeros(count, np.int64)
    linked = np.flatnonzero(tracks.detection >= 0)[::-1]
    owner[tracks.detection[linked]] = tracks.identity[linked]
    adopt(tracks.frame_start, tracks.identity, tracks.detection, tracks.box, frame_start, box, owner)
    return owner


@njit(cache=True, nogil=True)
def adopt(
    track_start: Int,
    identity: NDArray[np.int32],
    detection: NDArray[np.int32],
    expected: NDArray[np.float32],
    frame_start: Int,
    box: NDArray[np.float32],
    owner: Int,
) -> None:  # pragma: no cover
    """Give each free detection to the unseen track whose box it overlaps most, in place; one to each."""
    for f in range(min(track_start.shape[0], frame_start.shape[0]) - 1):
        for r in range(track_start[f], track_start[f + 1]):
            if detection[r] >= 0:
                continue
            best, which = SAME, -1
            for d in range(frame_start[f], frame_start[f + 1]):
                if owner[d] == 0:
                    shared = pair_overlap(expected, r, box, d)
                    if shared >= best:
                        best, which = shared, d
            if which < 0:
                which = largest_within(expected[r], box, owner, frame_start[f], frame_start[f + 1])
            if which >= 0:
                owner[which] = identity[r]


@njit(cache=True, nogil=True)
def largest_within(
    place: NDArray[np.float32], box: NDArray[np.float32], owner: Int, first: int, past: int
) -> int:  # pragma: no cover
    """The largest free detection that lies in a place (4,) px and is no speck there; -1 for none."""
    most, which = PIECE * (place[2] - place[0]) * (place[3] - place[1]), -1
    for d in range(first, past):
        if owner[d] != 0:
            continue
        area = (box[d, 2] - box[d, 0]) * (box[d, 3] - box[d, 1])
        wide = min(box[d, 2], place[2]) - max(box[d, 0], place[0])
        tall = min(box[d, 3], place[3]) - max(box[d, 1], place[1])
        if wide > 0 and tall > 0 and wide * tall >= INSIDE * area and area >= most:
            most, which = area, d
    return which


def of_specks(owner: Int, box: NDArray[np.float32], tracks: Tracks, field: SizeField | None) -> NDArray[np.bool_]:
    """(rows,) which boxes are specks: of one that never left its place, and far smaller than a body is there.

    Where no ``field`` tells how large that is, they are far smaller than all that go about. Who passes by may be taken
    for the speck a while, but is no smaller for that. ``owner`` (rows,) is who each box (rows, 4) px is followed as.
    """
    paths, moved = tracks.paths, travelled(tracks)
    path = [tracks.box[paths.row[a:b]].astype(np.float64) for a, b in itertools.pairwise(paths.start.tolist())]
    side = np.array([np.median(each[:, 2:] - each[:, :2], axis=0) for each in path]).reshape(-1, 2)
    stays, goes = moved < MOVED, moved >= MOVED
    limit = np.zeros((int(max(owner.max(initial=0), paths.identity.max(initial=0))) + 1, 2))
    if field is not None and field.says_something:
        usual = np.array([field.at(float(np.median(each[:, 3]))) for each in path]).reshape(-1, 2)
        limit[paths.identity[stays]] = SPECK * usual[stays]
    elif goes.any():
        limit[paths.identity[stays]] = SPECK_AMONG_ALL * np.quantile(side[goes], SMALLEST, axis=0)
    small = np.zeros(len(limit), np.bool_)
    small[paths.identity] = (side < limit[paths.identity]).all(axis=1)
    return small[owner] & (box[:, 2:] - box[:, :2] < limit[owner]).all(axis=1)
