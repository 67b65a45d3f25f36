"""A blob that several share, cut between them: each was followed alone before or after, and is about where expected.

Which way each goes and how large it is tells where it is within the blob; whoever covers the blob by himself has it.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.bodies.packed import packed_parts
from drover.core.bodies.size_field import SizeField
from drover.core.bodies.stacked import stacked_parts
from drover.core.geometry import box_area
from drover.core.kernel_parts import longer, read_only
from drover.core.types import Detections, Tracks, rows_to_frames

__all__ = ["cut_into", "explain", "split_shared"]

Int = NDArray[np.int64]
Float32 = NDArray[np.float32]
LEAST_ALONE = 0.8  # s that each must have been followed with a blob of his own
ALL_OF_IT = 0.8  # overlap of one with the blob from which it is his alone
TOGETHER = 0.6  # overlap with the blob of the box around all of them, under which they do not explain it
LEAST_SIDE = 2.0  # px
TINY = 0.15  # of a blob's area, a head
MOSTLY = 0.5  # of its life that a rider is on blobs of others


def split_shared(
    found: Detections, tracks: Tracks, times: NDArray[np.float64], field: SizeField | None = None
) -> Detections:
    """Detections with every blob cut that several identities share, or that is several bodies; ``times`` s of frames.

    ``tracks`` were linked from ``found``. Each part has the box where its identity was expected to be within the blob,
    its outer sides as seen, the pixels of the blob that are nearest to it, and the look it had when last seen alone.
    With a ``field`` of sizes, blobs far larger than one body are cut as well.
    """
    blob, box, look = _shared_parts(found, tracks, times)
    # Whoever links knows better where those are that he already sees share a blob.
    held = tracks.detection[tracks.detection >= 0]
    known = np.flatnonzero(np.bincount(held, minlength=len(found)) > 1)
    packed, boxes = packed_parts(found, tracks, field, known)
    behind, more = stacked_parts(found, tracks, field, np.concatenate([known, packed]))
    packed, boxes = np.concatenate([packed, behind]), np.concatenate([boxes, more])
    if len(packed):
        order = np.argsort(np.concatenate([blob, packed]), kind="stable")
        if len(found.look):
            look = np.concatenate([look, found.look[packed]])[order]
        blob, box = np.concatenate([blob, packed])[order], np.ascontiguousarray(np.concatenate([box, boxes])[order])
    return cut_into(found, blob, box, look) if len(blob) else found


def _shared_parts(
    found: Detections, tracks: Tracks, times: NDArray[np.float64]
) -> tuple[Int, Float32, NDArray[np.uint8]]:
    """Which blob (parts,), rising, each part belongs to, its box (parts, 4) px and its look."""
    none = np.zeros(0, np.int64), np.zeros((0, 4), np.float32), found.look[:0]
    held = np.flatnonzero(tracks.detection >= 0)
    of = tracks.detection[held]
    count = np.bincount(of, minlength=len(found))
    if len(held) == 0 or count.max() < 2:
        return none
    alone = np.bincount(tracks.identity[held], count[of] == 1) * float(np.median(np.diff(times)))
    bodies = (alone >= LEAST_ALONE) & ~_riders(tracks.identity[held], tracks.box[held], found.box[of], count[of] > 1)
    rows = held[(count[of] > 1) & bodies[tracks.identity[held]]]
    rows = rows[np.argsort(tracks.detection[rows], kind="stable")]
    blob = tracks.detection[rows].astype(np.int64)
    box = tracks.box[rows].copy()
    taken = explain(blob, box, found.frozen().box)
    rows, blob, box = rows[taken], blob[taken], box[taken]
    if len(rows) == 0:
        return none
    return blob, box, _looks_alone(found, tracks, held[count[of] == 1], rows, blob)


def _riders(identity: NDArray[np.int32], box: Float32, blob: Float32, shared: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Of each identity whether it is no body: mostly on blobs of others, and a tiny part of them.

    A mark on the ground that somebody walked over is taken along as his head. ``box`` (rows, 4) px is where each is
    expected, ``blob`` what it is on.
    """
    share = box_area(box) / np.maximum(box_area(blob), 1.0)
    on_others = np.bincount(identity, shared)
    tiny = np.bincount(identity, shared & (share <= TINY))
    return (on_others >= MOSTLY * np.bincount(identity)) & (tiny > 0.5 * on_others)


@njit(cache=True, nogil=True, inline="always")
def _overlap(a: Float32, b: Float32) -> float:  # pragma: no cover
    wide, tall = min(a[2], b[2]) - max(a[0], b[0]), min(a[3], b[3]) - max(a[1], b[1])
    if wide <= 0 or tall <= 0:
        return 0.0
    both = wide * tall
    return both / ((a[2] - a[0]) * (a[3] - a[1]) + (b[2] - b[0]) * (b[3] - b[1]) - both)


@njit(cache=True, nogil=True)
def explain(blob: Int, box: Float32, whole: Float32) -> NDArray[np.bool_]:  # pragma: no cover
    """Whether each of those who share a blob gets a part of it; ``blob`` rises, and ``box`` is cut to the blob's."""
    taken = np.zeros(blob.shape[0], np.bool_)
    first = 0
    while first < blob.shape[0]:
        past, b = first, whole[blob[first]]
        while past < blob.shape[0] and blob[past] == blob[first]:
            past += 1
        around, ok = np.array([1e9, 1e9, -1e9, -1e9], np.float32), past - first > 1
        for k in range(first, past):
            for axis in range(2):
                box[k, axis], box[k, axis + 2] = max(box[k, axis], b[axis]), min(box[k, axis + 2], b[axis + 2])
                around[axis] = min(around[axis], box[k, axis])
                around[axis + 2] = max(around[axis + 2], box[k, axis + 2])
                ok &= box[k, axis + 2] - box[k, axis] >= LEAST_SIDE
            ok &= _overlap(box[k], b) < ALL_OF_IT
        if ok and _overlap(around, b) >= TOGETHER:
            taken[first:past] = True
        first = past
    return taken


def _looks_alone(found: Detections, tracks: Tracks, alone: Int, rows: Int, blob: Int) -> NDArray[np.uint8]:
    """The look of each row's identity when it was last seen by itself before, or first after."""
    if len(found.look) == 0:
        return found.look
    # Rows of tracks go frame by frame: in order of identity, then of row, the one before lies next to where it goes in.
    key = tracks.identity[alone].astype(np.int64) * (len(tracks) + 1) + alone
    order = np.argsort(key)
    at = np.searchsorted(key[order], tracks.identity[rows].astype(np.int64) * (len(tracks) + 1) + rows)
    before = alone[order[np.maximum(at - 1, 0)]]
    after = alone[order[np.minimum(at, len(order) - 1)]]
    same = tracks.identity[before] == tracks.identity[rows]
    source = np.where(same, before, after)
    known = tracks.identity[source] == tracks.identity[rows]
    return found.look[np.where(known, tracks.detection[source], blob)]


def cut_into(found: Detections, blob: Int, box: Float32, look: NDArray[np.uint8]) -> Detections:
    """The same rows with each blob in ``blob`` (rising) replaced by its parts, one for each entry."""
    found = found.frozen()  # one kind of arrays for the kernels, whoever calls
    many = np.maximum(np.bincount(blob, minlength=len(found)), 1)
    source = np.repeat(np.arange(len(found)), many)
    first = np.concatenate([[0], np.cumsum(many)])
    start_of = np.flatnonzero(np.diff(blob, prepend=-1))
    place = first[blob] + np.arange(len(blob)) - np.repeat(start_of, np.diff(np.append(start_of, len(blob))))
    boxes, looks, area = (
        found.box[source].copy(),
        found.look[source] if len(found.look) else found.look,
        found.area[source],
    )
    boxes[place] = box
    pieces: list[NDArray[np.int16]] = []
    lengths = np.diff(found.run_start)[source]
    done = 0
    for k, past in zip(start_of, np.append(start_of[1:], len(blob)), strict=True):
        b = int(blob[k])
        pieces.append(found.runs[found.run_start[done] : found.run_start[b]])
        runs, sizes, pixels = cut_runs(read_only(found.runs[found.run_start[b] : found.run_start[b + 1]]), box[k:past])
        pieces.append(runs)
        lengths[place[k:past]], area[place[k:past]] = sizes, pixels
        boxes[place[k:past]] = measured(box[k:past], runs, sizes)
        done = b + 1
    pieces.append(found.runs[found.run_start[done] :])
    if len(looks):
        looks = looks.copy()
        looks[place] = look
    counts = np.bincount(rows_to_frames(found.frame_start)[source], minlength=found.frame_count)
    return replace(
        found, frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), box=boxes,
        confidence=found.confidence[source], class_id=found.class_id[source], area=area,
        run_start=np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64), runs=np.concatenate(pieces), look=looks,
    )  # fmt: skip


@njit(cache=True, nogil=True)
def measured(box: Float32, runs: NDArray[np.int16], sizes: Int) -> Float32:  # pragma: no cover
    """The boxes with those sides put where the pixels end that no other part can hide: the outermost of the blob."""
    out, first = box.copy(), 0
    for p in range(box.shape[0]):
        mine = runs[first : first + sizes[p]]
        first += sizes[p]
        if len(mine) == 0:
            continue
        if box[p, 0] <= box[:, 0].min():
            out[p, 0] = mine[:, 1].min()
        if box[p, 1] <= box[:, 1].min():
            out[p, 1] = mine[:, 0].min()
        if box[p, 2] >= box[:, 2].max():
            out[p, 2] = mine[:, 2].max()
        if box[p, 3] >= box[:, 3].max():
            out[p, 3] = mine[:, 0].max() + 1
        for axis in range(2):  # a part that is hidden where it was expected has a few pixels elsewhere
            if out[p, axis + 2] - out[p, axis] < LEAST_SIDE:
                out[p] = box[p]
    return out


@njit(cache=True, nogil=True)
def cut_runs(
    runs: NDArray[np.int16], box: Float32
) -> tuple[NDArray[np.int16], Int, NDArray[np.float32]]:  # pragma: no cover
    """Runs of one blob, one box after the other, each pixel at the box whose middle is nearest in sizes of that box.

    Also how many runs and how many pixels each box has.
    """
    parts = box.shape[0]
    room, n = 2 * runs.shape[0] + 16, 0
    out = np.empty((room, 3), np.int16)
    sizes, pixels = np.zeros(parts, np.int64), np.zeros(parts, np.float32)
    for p in range(parts):
        for r in range(runs.shape[0]):
            y, inside = runs[r, 0], False
            for x in range(runs[r, 1], runs[r, 2]):
                best, nearest = 0, 1e18
                for q in range(parts):
                    across = abs(x + 0.5 - 0.5 * (box[q, 0] + box[q, 2])) / (box[q, 2] - box[q, 0])
                    down = abs(y + 0.5 - 0.5 * (box[q, 1] + box[q, 3])) / (box[q, 3] - box[q, 1])
                    if max(across, down) < nearest:
                        best, nearest = q, max(across, down)
                if best != p:
                    inside = False
                    continue
                if not inside:
                    if n == room:
                        room *= 2
                        out = longer(out, room)
                    out[n, 0], out[n, 1], inside = y, x, True
                    sizes[p] += 1
                    n += 1
                out[n - 1, 2] = x + 1
                pixels[p] += 1
    return out[:n].copy(), sizes, pixels
