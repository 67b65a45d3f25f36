"""Background, masks and blobs against plain NumPy and SciPy twins and pictures made by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy import ndimage

from drover.core.detect.background import RunningAverage, mark_moving
from drover.core.detect.bitmask import close_mask, open_mask, unpack, words_for
from drover.core.detect.blobs import find_blobs
from drover.core.detect.detector import DetectionRows, Detector
from drover.core.detect.growing import GrowingColumn
from drover.core.geometry import trace_outline
from drover.core.inspect import FrameProbe
from drover.core.pipeline import detect_clip
from drover.core.recipe import BackgroundSettings, DetectSettings, SizeSettings
from drover.core.types import Frame

masks = st.tuples(st.integers(1, 12), st.integers(1, 150)).flatmap(
    lambda shape: arrays(np.uint8, shape, elements=st.integers(0, 1), fill=st.just(0))
)
ANY_SIZE = SizeSettings(least_width=0.0, least_height=0.0, least_area=0.0)


def packed(mask: np.ndarray) -> np.ndarray:
    words = words_for(*mask.shape)
    mark_moving(mask * np.uint8(255), 100, words)
    return words


@given(masks)
def test_packing_keeps_every_pixel(mask):
    assert np.array_equal(unpack(packed(mask), mask.shape[1]), mask)


@given(masks, st.integers(2, 9))
def test_opening_and_closing_equal_the_textbook_ones(mask, size):
    """Twin: SciPy's, on a picture padded with set pixels for opening and clear ones for closing.

    Even boxes lean to one side in SciPy's way, so for those only the order of sets is asked for.
    """
    box = np.ones((size, size), bool)
    opened = unpack(open_mask(packed(mask), size, mask.shape[1]), mask.shape[1])
    closed = unpack(close_mask(packed(mask), size, mask.shape[1]), mask.shape[1])
    if size % 2:
        twin = ndimage.binary_dilation(ndimage.binary_erosion(mask, box, border_value=1), box)
        assert np.array_equal(opened, twin)
        twin = ndimage.binary_closing(np.pad(mask, size), box)[size:-size, size:-size]
        assert np.array_equal(closed, twin)
    assert (opened <= mask).all()
    assert (closed >= mask).all()


@given(masks)
def test_blobs_equal_labelled_components(mask):
    """Twin: SciPy's labelling with 8 neighbours."""
    difference = (mask * 100).astype(np.uint8)
    blobs = find_blobs(packed(mask), difference, ANY_SIZE)
    labels, count = ndimage.label(mask, np.ones((3, 3)))
    expected = set()
    for k, (rows, columns) in enumerate(ndimage.find_objects(labels), 1):
        expected.add((columns.start, rows.start, columns.stop, rows.stop, int((labels == k).sum())))
    found = {(*map(int, box), int(area)) for box, area in zip(blobs.box, blobs.area, strict=True)}
    assert len(blobs.box) == count
    assert found == expected
    rebuilt = np.zeros_like(mask)
    for y, x0, x1 in blobs.runs:
        rebuilt[y, x0:x1] = 1
    assert np.array_equal(rebuilt, mask)
    assert blobs.contrast == pytest.approx(np.full(count, 100.0))


def test_an_outline_runs_round_the_blob_along_pixel_edges():
    runs = np.array([[2, 3, 5], [3, 3, 4]], np.int16)  # two pixels, and one below the first
    assert trace_outline(runs).tolist() == [[3, 2], [5, 2], [5, 3], [4, 3], [4, 4], [3, 4]]


@given(masks)
def test_an_outline_encloses_the_area_of_a_blob_without_holes(mask):
    filled = ndimage.binary_fill_holes(mask).astype(np.uint8)
    blobs = find_blobs(packed(filled), filled, ANY_SIZE)
    start = 0
    for area, runs in zip(blobs.area, blobs.run_count, strict=True):
        part = blobs.runs[start : start + runs]
        start += runs
        solid = np.zeros_like(filled)
        for y, x0, x1 in part:
            solid[y, x0:x1] = 1
        if ndimage.label(1 - np.pad(solid, 1))[1] > 1:
            continue  # a hole closed only at a corner
        x, y = trace_outline(part).T.astype(float)
        shoelace = abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))) / 2
        assert shoelace == pytest.approx(area)


def test_the_running_average_follows_its_formula():
    model = RunningAverage(BackgroundSettings(rate=1.0, busy_share=0.0, warm_up=0.0, threshold=50.0), (1, 2))
    model.step(np.array([[100, 100]], np.uint8), 0.0)
    model.step(np.array([[110, 200]], np.uint8), 0.5)
    # 100 + (1 - exp(-1 * 0.5)) * 10 where little changed; unchanged where the difference passes the threshold.
    assert model.background[0] == pytest.approx([100 + (1 - np.exp(-0.5)) * 10, 100.0], abs=1e-4)
    assert model.difference.tolist() == [[10, 100]]


def scene_frame(index: int, x: int | None, width: int = 90, height: int = 60) -> Frame:
    grey = np.full((height, width), 90, np.uint8)
    if x is not None:
        grey[20:40, x : x + 16] = 200
    return Frame(index, index / 25, grey, lambda: np.repeat(grey[..., None], 3, axis=2))


def test_a_block_that_moves_is_found_where_it_is_and_nothing_else():
    detector = Detector(DetectSettings(), (90, 60))
    rows = DetectionRows((90, 60))
    for k in range(60):
        rows.add(detector.step(scene_frame(k, None if k < 30 else 2 * (k - 30))))
    found = rows.snapshot()
    assert np.diff(found.frame_start).tolist() == [0] * 30 + [1] * 30
    for frame in range(30, 60):
        assert found.box[found.rows_of(frame)][0].tolist() == [2 * (frame - 30), 20, 2 * (frame - 30) + 16, 40]


def test_a_column_past_its_limit_goes_to_disk_and_earlier_views_stay():
    column = GrowingColumn(np.int16, 3, limit=600)
    early = None
    for k in range(50):
        column.append(np.full((4, 3), k, np.int16))
        if k == 10:
            early = column.view().copy(), column.view()
    view = column.view()
    assert isinstance(view, np.memmap)
    assert view.shape == (200, 3)
    assert view[:, 0].tolist() == [k for k in range(50) for _ in range(4)]
    assert early is not None
    assert np.array_equal(*early)


def test_memory_of_the_detector_does_not_grow_with_the_clip():
    import tracemalloc

    detector, rows = Detector(DetectSettings(), (90, 60)), DetectionRows((90, 60))
    rows._runs._limit = 50_000

    def run(first: int, past: int) -> int:
        for k in range(first, past):
            rows.add(detector.step(scene_frame(k, (3 * k) % 70)))
        return tracemalloc.get_traced_memory()[0]

    tracemalloc.start()
    early, late = run(0, 1500), run(1500, 6000)
    tracemalloc.stop()
    # The masks go to disk; what grows is a hundred bytes a frame of boxes.
    assert late - early < 4500 * 250


def test_pictures_of_a_frame_are_the_same_by_replay_as_by_the_pass(short_run, short_clip):
    settings = short_run.recipe.detect
    probe = FrameProbe(str(short_clip), short_run.detect, settings)
    found = short_run.detect.detections
    for frame in (200, 60, 61, 140):
        pictures = probe.pictures(frame)
        expected = found.box[found.rows_of(frame)]
        assert pictures.blobs is not None
        # The checkpoint is rounded to whole levels, so an edge may move by a pixel or two.
        assert pictures.blobs.box.shape == expected.shape
        assert np.abs(pictures.blobs.box - expected).max() <= 4
    probe.close()


def test_cancelling_keeps_what_was_found(short_info):
    seen = []
    result = detect_clip(short_info, DetectSettings(), on_partial=seen.append, cancelled=lambda: len(seen) > 0)
    assert not result.finished or not seen
    assert result.detections.frame_count <= short_info.frame_count
