"""Compile every kernel once, on tiny inputs, so that nobody waits for it later.

Run as ``python -m drover.core.kernels``; the window does the same on a thread of its own at start.
"""

from __future__ import annotations

import numpy as np

from drover.core.count.lines import find_passages
from drover.core.detect.background import mark_moving, update_average
from drover.core.detect.bitmask import slide_box
from drover.core.detect.blobs import find_runs, join_runs, measure
from drover.core.footage.reader import expand_luma
from drover.core.geometry import overlap_matrix, simplify_outline, trace_outline
from drover.core.track.matching import match_distances
from drover.core.track.motion import new_filters, predict, update

__all__ = ["warm_kernels"]


def warm_kernels() -> None:
    """Call every kernel once with the types it meets at work."""
    _warm_detect()
    _warm_track()


def _warm_detect() -> None:
    grey = np.zeros((4, 70), np.uint8)
    grey[1:3, 2:5] = 200
    out = np.zeros_like(grey)
    expand_luma(grey, out, False)
    frozen = np.frombuffer(grey.tobytes(), np.uint8).reshape(grey.shape)
    expand_luma(frozen, out, False)
    background = np.zeros(grey.shape, np.float32)
    rate = np.float32(0.1)
    update_average(grey, background, out, np.float32(20), rate, rate)
    words = np.zeros((4, 2), np.uint64)
    mark_moving(out, 20, words)
    for grow in (True, False):
        slide_box(words, 1, 1, 70, grow)
    runs = find_runs(words, 70)
    label, count = join_runs(runs)
    measure(runs, label, count, out)
    simplify_outline(trace_outline(runs.astype(np.int16)), 0.5)
    simplify_outline(np.array([[0, 0], [4, 0], [4, 4], [2, 5], [0, 4]], np.float32), 0.5)


def _warm_track() -> None:
    box = np.array([[0, 0, 4, 4]], np.float32)
    overlap_matrix(box, box)
    fixed = box.copy()
    fixed.flags.writeable = False
    overlap_matrix(box, fixed)
    overlap_matrix(fixed, box)
    measured = np.array([[2.0, 2.0, 4.0, 4.0]])
    mean, cov = new_filters(measured, 2.0)
    predict(mean, cov, 1.0, 0.5, 0.5)
    match_distances(mean, cov, measured, 2.0)
    update(mean, cov, np.zeros(1, np.int64), measured, 2.0, 1.0)
    line = np.array([0.0, 5.0])
    find_passages(line, line, np.ones(2, np.int32), np.array([[0.0, 4.0], [4.0, 0.0]]))


if __name__ == "__main__":
    warm_kernels()
