"""Boxes of another detector: which are taken, which are one thing reported twice, and how they join what moves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.detect.overlaps import pick_boxes
from drover.core.geometry import pair_overlap
from drover.core.recipe import BoxSettings
from drover.core.types import Detections, rows_to_frames

__all__ = ["choose_boxes", "take_rows", "unite"]

LEAST_WEAKENED = 0.05  # confidence under which a box made less sure is dropped, whatever the limits


def choose_boxes(found: Detections, settings: BoxSettings) -> Detections:
    """Boxes over their class's least confidence, freed of overlaps as the settings say.

    Parameters
    ----------
    found : Detections
        As they came from the other detector, with its classes.
    """
    limits = np.array([settings.limit_of(name) for name in found.class_names], np.float32)
    chosen = take_rows(found, found.confidence >= limits[found.class_id]).frozen()
    if settings.overlaps == "leave" or len(chosen) == 0:
        return chosen
    group = np.zeros(len(chosen), np.int64) if settings.across_classes else chosen.class_id.astype(np.int64)
    keep, sure = pick_in_frames(
        chosen.frame_start, chosen.box, chosen.confidence.astype(np.float64), group, settings.most_overlap,
        settings.overlaps == "weaken", LEAST_WEAKENED,
    )  # fmt: skip
    weakened = replace(chosen, confidence=sure.astype(np.float32))
    return take_rows(weakened, keep & (weakened.confidence >= np.minimum(limits, 1.0)[chosen.class_id]))


def unite(motion: Detections, other: Detections, settings: BoxSettings) -> Detections:
    """The other detector's boxes, and what moves where it has none.

    A moving blob that overlaps one of the other boxes is the same thing: the box stays and takes on the blob's
    outline. Blobs are in the class "moving" unless the other detector knows only one class.
    """
    motion, other = motion.frozen(), other.frozen()
    frames = min(motion.frame_count, other.frame_count)
    partner = best_partners(
        motion.frame_start[: frames + 1], other.frame_start[: frames + 1], motion.box, other.box, settings.most_overlap
    )
    lone = np.flatnonzero((partner < 0) & (rows_to_frames(motion.frame_start) < frames))
    names = other.class_names if len(other.class_names) == 1 else (*other.class_names, "moving")
    frame = np.concatenate([rows_to_frames(other.frame_start), rows_to_frames(motion.frame_start)[lone]])
    order = np.argsort(frame, kind="stable")
    blob_of = np.full(len(other), -1, np.int64)
    taken = np.flatnonzero(partner >= 0)
    blob_of[partner[taken]] = taken
    blobs = np.concatenate([blob_of, lone])[order]
    run_start, runs = _runs_of(motion, blobs)
    area = np.concatenate([other.area, motion.area[lone]])[order]
    with_blob = blobs >= 0
    area[with_blob] = motion.area[blobs[with_blob]]
    kind = np.concatenate([other.class_id, np.full(len(lone), len(names) - 1, np.int16)])
    counts = np.bincount(frame, minlength=motion.frame_count)
    return Detections(
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        box=np.concatenate([other.box, motion.box[lone]])[order],
        confidence=np.concatenate([other.confidence, motion.confidence[lone]])[order],
        class_id=kind[order].astype(np.int16),
        area=area,
        run_start=run_start,
        runs=runs,
        size=motion.size,
        class_names=names,
        look=_looks_of(motion, blobs),
    )


def take_rows(found: Detections, keep: NDArray[np.bool_]) -> Detections:
    """Only some of the rows, with their blobs."""
    if keep.all():
        return found
    rows = np.flatnonzero(keep)
    per_frame = np.bincount(rows_to_frames(found.frame_start)[rows], minlength=found.frame_count)
    run_start, runs = _runs_of(found, rows)
    return replace(
        found,
        frame_start=np.concatenate([[0], np.cumsum(per_frame)]).astype(np.int64),
        box=found.box[rows],
        confidence=found.confidence[rows],
        class_id=found.class_id[rows],
        area=found.area[rows],
        run_start=run_start,
        runs=runs,
        look=found.look[rows] if len(found.look) else found.look,
    )


def _looks_of(motion: Detections, blobs: NDArray[np.int64]) -> NDArray[np.uint8]:
    """Descriptors of some blobs; row -1 has none."""
    if not len(motion.look):
        return motion.look
    return np.where((blobs >= 0)[:, None], motion.look[np.maximum(blobs, 0)], 0).astype(np.uint8)


def _runs_of(found: Detections, rows: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int16]]:
    """Blobs of some rows one after the other; row -1 has none."""
    count = np.where(rows >= 0, np.diff(found.run_start)[np.maximum(rows, 0)] if len(found) else 0, 0)
    start = np.concatenate([[0], np.cumsum(count)]).astype(np.int64)
    first = found.run_start[np.maximum(rows, 0)] if len(found) else np.zeros(len(rows), np.int64)
    place = np.arange(start[-1]) - np.repeat(start[:-1], count) + np.repeat(first, count)
    return start, found.runs[place]


@njit(cache=True, nogil=True)
def pick_in_frames(
    frame_start: NDArray[np.int64],
    box: NDArray[np.float32],
    confidence: NDArray[np.float64],
    group: NDArray[np.int64],
    most: float,
    soft: bool,
    least: float,
) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:  # pragma: no cover
    """Overlap removal frame by frame: which rows stay, and how sure they are then."""
    keep = np.zeros(box.shape[0], np.bool_)
    sure = confidence.copy()
    for f in range(frame_start.shape[0] - 1):
        first, past = frame_start[f], frame_start[f + 1]
        order, kept = pick_boxes(box[first:past], confidence[first:past], group[first:past], most, soft, least)
        for k in range(order.shape[0]):
            keep[first + order[k]] = True
            sure[first + order[k]] = kept[k]
    return keep, sure


@njit(cache=True, nogil=True)
def best_partners(
    motion_start: NDArray[np.int64],
    other_start: NDArray[np.int64],
    motion: NDArray[np.float32],
    other: NDArray[np.float32],
    most: float,
) -> NDArray[np.int64]:  # pragma: no cover
    """For each blob the other box of its frame that it overlaps most and by more than ``most``; -1 where none."""
    out = np.full(motion.shape[0], -1, np.int64)
    for f in range(motion_start.shape[0] - 1):
        for k in range(motion_start[f], motion_start[f + 1]):
            best = most
            for j in range(other_start[f], other_start[f + 1]):
                overlap = pair_overlap(motion, k, other, j)
                if overlap > best:
                    best = overlap
                    out[k] = j
    return out
