"""Boxes of another detector: what is taken of them and how they join what moves. Truth is worked by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drover.core.detect.box_choice import choose_boxes, unite
from drover.core.detect.sources import BoxSource, merge
from drover.core.errors import DroverError
from drover.core.footage_types import ClipInfo
from drover.core.graph import Subject, keys_of
from drover.core.recipe import BoxSettings, ClassLimit, DetectSettings, Recipe, dump_recipe, parse_recipe
from drover.core.types import Detections

SIZE = (200, 100)


def boxes(rows, *, frames=3, names=("ewe", "lamb")) -> Detections:
    """Detections from rows of frame, x1, y1, x2, y2, confidence, class."""
    table = np.asarray(rows, float).reshape(-1, 7)
    return Detections.from_boxes(
        table[:, 0].astype(np.int64), table[:, 1:5].astype(np.float32), table[:, 5].astype(np.float32),
        frame_count=frames, size=SIZE, class_id=table[:, 6].astype(np.int16), class_names=names,
    )  # fmt: skip


TWO_NAMES = boxes([(0, 10, 10, 30, 30, 0.9, 0), (0, 11, 10, 31, 30, 0.6, 1), (1, 50, 50, 60, 60, 0.3, 1)])


def test_each_class_has_its_own_least_confidence_and_may_be_left_out():
    limits = (ClassLimit(name="lamb", least_confidence=0.5), ClassLimit(name="ewe", keep=False))
    chosen = choose_boxes(TWO_NAMES, BoxSettings(class_limit=limits))
    assert chosen.confidence.tolist() == pytest.approx([0.6])
    assert np.diff(chosen.frame_start).tolist() == [1, 0, 0]
    assert len(choose_boxes(TWO_NAMES, BoxSettings(least_confidence=0.61))) == 1


def test_one_thing_under_two_names_is_one_only_when_classes_are_judged_together():
    within = choose_boxes(TWO_NAMES, BoxSettings(overlaps="drop"))
    across = choose_boxes(TWO_NAMES, BoxSettings(overlaps="drop", across_classes=True))
    assert len(within) == 3
    assert across.confidence.tolist() == pytest.approx([0.9, 0.3])


def test_a_weakened_box_loses_the_overlap_and_falls_under_its_limit():
    # Overlap 19 x 20 over 400 + 400 - 380 = 0.905: 0.6 becomes 0.057.
    soft = BoxSettings(overlaps="weaken", across_classes=True)
    assert choose_boxes(TWO_NAMES, soft).confidence.tolist() == pytest.approx([0.9, 0.6 * (1 - 380 / 420), 0.3])
    assert len(choose_boxes(TWO_NAMES, soft.model_copy(update={"least_confidence": 0.1}))) == 2


def moving(rows, frames=3) -> Detections:
    """Blobs that fill their boxes, with a run a row."""
    table = np.asarray(rows, np.int64).reshape(-1, 5)
    plain = boxes([(*row, 0.5, 0) for row in table.tolist()], frames=frames, names=("animal",))
    runs = [[(y, x1, x2) for y in range(y1, y2)] for _, x1, y1, x2, y2 in table.tolist()]
    starts = np.concatenate([[0], np.cumsum([len(part) for part in runs])]).astype(np.int64)
    flat = np.array([run for part in runs for run in part], np.int16).reshape(-1, 3)
    return Detections(**{**vars(plain), "run_start": starts, "runs": flat})


def test_a_blob_with_a_box_gives_it_its_outline_and_one_without_stays():
    blobs = moving([(0, 10, 10, 30, 32), (0, 100, 50, 120, 70), (1, 0, 0, 10, 10)])
    both = unite(blobs, TWO_NAMES, BoxSettings())
    assert np.diff(both.frame_start).tolist() == [3, 2, 0]
    assert both.class_names == ("ewe", "lamb", "moving")
    names = [both.class_names[k] for k in both.class_id.tolist()]
    assert names == ["ewe", "lamb", "moving", "lamb", "moving"]
    assert both.runs_of(0)[:, 0].tolist() == list(range(10, 32))  # the ewe's box overlaps the blob most
    assert len(both.runs_of(1)) == 0
    assert both.runs_of(2)[0].tolist() == [50, 100, 120]
    assert both.area[0] == 20 * 22


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(st.integers(0, 2), st.integers(0, 150), st.integers(0, 80), st.integers(1, 40), st.integers(1, 15),
                  st.floats(0, 1), st.integers(0, 1)),
        max_size=25,
    ),
    st.floats(0.05, 1.0),
)  # fmt: skip
def test_dropping_leaves_no_pair_that_overlaps_too_much_and_never_the_surest(rows, most):
    found = boxes([(f, x, y, x + w, y + h, c, k) for f, x, y, w, h, c, k in rows])
    chosen = choose_boxes(found, BoxSettings(overlaps="drop", most_overlap=most, across_classes=True))
    for frame in range(3):
        here = chosen.box[chosen.rows_of(frame)].astype(float)
        for a in range(len(here)):
            for b in range(a):
                width = min(here[a, 2], here[b, 2]) - max(here[a, 0], here[b, 0])
                height = min(here[a, 3], here[b, 3]) - max(here[a, 1], here[b, 1])
                shared = max(0.0, width) * max(0.0, height)
                areas = sum((box[2] - box[0]) * (box[3] - box[1]) for box in (here[a], here[b]))
                assert shared <= (most + 1e-6) * (areas - shared)
        before = found.confidence[found.rows_of(frame)]
        if len(before):
            assert chosen.confidence[chosen.rows_of(frame)].max() == before.max()


def test_what_is_tracked_has_its_own_fingerprint_and_the_pass_keeps_its():
    clip = ClipInfo("a.mp4", *SIZE, 25.0, np.arange(3) / 25, "abc")
    other = boxes([(0, 10, 10, 30, 30, 0.9, 0)])

    def keys(sources, found=None):
        recipe = Recipe(detect=DetectSettings(sources=sources))
        return keys_of(Subject(clip, found), recipe)

    assert keys(("motion",))["motion"] == keys(("boxes", "motion"), TWO_NAMES)["motion"]
    assert keys(("motion",), TWO_NAMES)["detect"] == keys(("motion",))["detect"]
    assert len({keys(("boxes",), found)["detect"] for found in (None, TWO_NAMES, other)}) == 3
    with pytest.raises(DroverError, match="no imported boxes to use"):
        BoxSource(None).found(DetectSettings(sources=("boxes",)))
    with pytest.raises(DroverError, match="names no source"):
        merge(None, None, DetectSettings())


def test_what_earlier_recipes_said_of_sources_is_understood():
    assert parse_recipe('[detect.boxes]\nuse = "both"\n').detect.sources == ("boxes", "motion")
    assert parse_recipe('[detect.boxes]\nuse = "imported"\n').detect.sources == ("boxes",)
    with pytest.raises(DroverError, match="each source may stand once"):
        parse_recipe('[detect]\nsources = ["motion", "motion"]\n')


def test_a_threshold_of_earlier_recipes_is_still_in_grey_levels():
    assert parse_recipe("[detect.background]\nthreshold = 20.0\n").detect.background.threshold_in == "levels"
    assert parse_recipe("[detect.background]\nnoise_threshold = 5.0\n").detect.background.threshold_in == "noise"
    assert parse_recipe("").detect.background.threshold_in == "noise"


def test_class_limits_survive_a_save_of_the_recipe_with_their_comments():
    text = '[[detect.boxes.class_limit]]\nname = "ewe"  # the big ones\nleast_confidence = 0\n'
    recipe = parse_recipe(text)
    assert recipe.detect.boxes.limit_of("ewe") == 0.0
    again = dump_recipe(recipe, text)
    assert "# the big ones" in again
    assert parse_recipe(again) == recipe
    with pytest.raises(DroverError, match="class 'ewe' has two limits"):
        parse_recipe(text + text)
    assert Recipe().detect.motion_only == Recipe().detect
