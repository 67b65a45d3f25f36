"""Two who stand one behind the other: the head that reaches higher than one at that foot could."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from drover.core.bodies.size_field import SizeField
from drover.core.bodies.stacked import behind_one, stacked_parts
from drover.core.types import Detections, Tracks, TrackState

# A body whose foot is at level y is y / 2 px tall and y / 5 wide.
FIELD = SizeField((0.0, 0.5), (0.0, 0.2), 0.05, 0.05)
HEIGHT, WIDTH = np.array(FIELD.height), np.array(FIELD.width)


def runs_of(*boxes: tuple[int, int, int, int]) -> np.ndarray:
    """Row, first and past column of each run of a mask of some boxes."""
    mask = np.zeros((240, 320), bool)
    for x1, y1, x2, y2 in boxes:
        mask[y1:y2, x1:x2] = True
    edges = np.diff(np.pad(mask.astype(np.int8), ((0, 0), (1, 1))), axis=1)
    (row, start), (_, past) = np.nonzero(edges == 1), np.nonzero(edges == -1)
    return np.column_stack([row, start, past]).astype(np.int16)


def alone(level: int, x: int = 100) -> tuple[int, int, int, int]:
    """The box of a body whose foot is at a level."""
    return x, level // 2, x + level // 5, level


@pytest.mark.parametrize("aside", [0, 10, -12])
def test_who_is_behind_has_his_foot_where_a_body_reaches_that_high(aside):
    """Feet at 200 and 140: from 100 and from 70 down. The blob is 130 px tall where one body is 100."""
    front, behind = alone(200), alone(140, 106 + aside)
    made = behind_one(runs_of(front, behind), HEIGHT, WIDTH)
    np.testing.assert_allclose(made[0], front, atol=2)
    np.testing.assert_allclose(made[1], behind, atol=2)


def test_one_body_is_one_and_an_arm_over_it_no_other():
    assert len(behind_one(runs_of(alone(200)), HEIGHT, WIDTH)) == 0
    assert len(behind_one(runs_of(alone(200), (115, 70, 120, 100)), HEIGHT, WIDTH)) == 0


def clip(blobs: list[list[tuple[int, int, int, int]]]) -> tuple[Detections, Tracks]:
    """One blob a frame, each of some boxes, and one identity that is linked to all of them."""
    runs = [runs_of(*blob) for blob in blobs]
    box = np.array([[r[:, 1].min(), r[:, 0].min(), r[:, 2].max(), r[:, 0].max() + 1] for r in runs], np.float32)
    count = len(blobs)
    found = Detections.from_boxes(np.arange(count), box, np.ones(count, np.float32), frame_count=count, size=(320, 240))
    starts = np.concatenate([[0], np.cumsum([len(r) for r in runs])])
    found = replace(found, run_start=starts, runs=np.concatenate(runs))
    plain = np.zeros(count, np.float32)
    tracks = Tracks(
        frame_start=np.arange(count + 1), identity=np.ones(count, np.int32), box=box,
        state=np.full(count, int(TrackState.CONFIRMED), np.int8), detection=np.arange(count, dtype=np.int32),
        confidence=plain, class_id=np.zeros(count, np.int16), distance=plain, nearest_refused=plain[:0],
        size=found.size,
    )  # fmt: skip
    return found, tracks


def test_only_blobs_taller_than_their_identity_is_alone_are_cut():
    two = [alone(200), alone(140, 106)]
    nobody = np.zeros(0, np.int64)
    found, tracks = clip([[alone(200)]] * 6 + [two] * 4)
    blob, box = stacked_parts(found, tracks, FIELD, nobody)
    assert blob.tolist() == [6, 6, 7, 7, 8, 8, 9, 9] and box.shape == (8, 4)
    assert stacked_parts(found, tracks, FIELD, np.array([7, 9]))[0].tolist() == [6, 6, 8, 8]
    always = stacked_parts(*clip([two] * 10), FIELD, nobody)
    assert len(always[0]) == 0, "who is so tall all the time is one"
    assert len(stacked_parts(found, tracks, None, nobody)[0]) == 0
    assert len(stacked_parts(found, tracks, SizeField((0.0, 0.5), (0.0, 0.4), 0.05, 0.05), nobody)[0]) == 0, "stout"
    assert len(stacked_parts(found, tracks, SizeField((0.0, 0.5), (0.0, 0.2), 0.5, 0.05), nobody)[0]) == 0
