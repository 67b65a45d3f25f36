"""What must not matter: mirrored, shifted, turned upside down, later, in another order, the result is the same."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drover.core.count.lines import count_crossings
from drover.core.detect.detector import DetectedFrame, Detector
from drover.core.doubt.moments import find_moments
from drover.core.footage_types import Frame
from drover.core.recipe import (
    CountSettings,
    DetectSettings,
    LineSettings,
    Recipe,
    ScoreSettings,
    TrackSettings,
    with_value,
)
from drover.core.score.scorer import score_tracks
from drover.core.simulate.boxes import FRAME_SIZE, simulate_boxes
from drover.core.track.pace import USUAL, with_pace
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections, Tracks, Truth, rows_to_frames

RATE = 25.0
WIDTH, HEIGHT = FRAME_SIZE


@pytest.fixture(scope="module")
def walk() -> tuple[Detections, Truth]:
    """Twenty that walk and meet, with noise, misses and false alarms."""
    return simulate_boxes(20, 150, seed=5)


def linked(found: Detections, *, times: np.ndarray | None = None, recipe: TrackSettings | None = None) -> Tracks:
    times = np.arange(found.frame_count) / RATE if times is None else times
    return link_detections(found, times, RATE, Recipe().track if recipe is None else recipe)


def with_boxes(found: Detections, box: np.ndarray, **changes) -> Detections:
    return Detections.from_boxes(
        rows_to_frames(found.frame_start), box.astype(np.float32), found.confidence,
        frame_count=found.frame_count, size=changes.get("size", found.size),
    )  # fmt: skip


def members(tracks: Tracks) -> set[frozenset[tuple[int, int]]]:
    """Each identity as the set of (frame, detection) it is made of: names of identities do not matter."""
    seen = tracks.detection >= 0
    out: dict[int, set[tuple[int, int]]] = {}
    for who, frame, row in zip(
        tracks.identity[seen].tolist(), tracks.frame[seen].tolist(), tracks.detection[seen].tolist(), strict=True
    ):
        out.setdefault(who, set()).add((frame, row))
    return {frozenset(rows) for rows in out.values()}


def agreement(one: set[frozenset], other: set[frozenset]) -> float:
    """Share of the links that both have in an identity of the same members."""
    same = sum(len(rows) for rows in one & other)
    return same / max(sum(len(rows) for rows in one), 1)


# --- linking --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("way", ["left and right", "up and down", "both"])
def test_a_mirrored_world_is_linked_alike(walk, way):
    found, _ = walk
    box = found.box.astype(np.float64)
    if way != "up and down":
        box[:, [0, 2]] = WIDTH - box[:, [2, 0]]
    if way != "left and right":
        box[:, [1, 3]] = HEIGHT - box[:, [3, 1]]
    assert agreement(members(linked(found)), members(linked(with_boxes(found, box)))) > 0.995


def test_on_its_side_the_world_is_linked_alike(walk):
    found, _ = walk
    turned = with_boxes(found, found.box[:, [1, 0, 3, 2]], size=(HEIGHT, WIDTH))
    assert agreement(members(linked(found)), members(linked(turned))) > 0.995


@pytest.mark.parametrize("late", [0.04, 3600.0, 86400.0])
def test_it_does_not_matter_when_the_clip_was_taken(walk, late):
    found, _ = walk
    times = np.arange(found.frame_count) / RATE
    assert agreement(members(linked(found, times=times)), members(linked(found, times=times + late))) > 0.995


def test_the_order_of_boxes_within_a_frame_does_not_matter(walk):
    found, _ = walk
    rng = np.random.default_rng(1)
    frame = rows_to_frames(found.frame_start)
    order = np.lexsort((rng.random(len(frame)), frame))
    mixed = Detections.from_boxes(
        frame[order], found.box[order], found.confidence[order], frame_count=found.frame_count, size=found.size
    )
    there = {frozenset((f, int(order[row])) for f, row in rows) for rows in members(linked(mixed))}
    assert agreement(members(linked(found)), there) > 0.99


def test_empty_frames_before_and_after_change_no_link(walk):
    found, _ = walk
    pad = np.zeros(40, np.int64)
    start = np.concatenate([pad, found.frame_start, pad + found.frame_start[-1]])
    longer = replace(found, frame_start=start)
    moved = {frozenset((f - 40, row) for f, row in rows) for rows in members(linked(longer))}
    assert agreement(members(linked(found)), moved) > 0.99


def test_far_away_company_changes_nobodys_identity():
    """Two herds that never come near each other: together they are linked as each is alone."""
    here, _ = simulate_boxes(6, 100, seed=2)
    box = here.box.copy()
    box[:, [0, 2]] += 10_000
    frame = rows_to_frames(here.frame_start)
    both = Detections.from_boxes(
        np.concatenate([frame, frame]), np.concatenate([here.box, box]), np.concatenate([here.confidence] * 2),
        frame_count=100, size=(20_000, HEIGHT),
    )  # fmt: skip
    alone = Detections.from_boxes(frame, here.box, here.confidence, frame_count=100, size=(20_000, HEIGHT))
    order = np.argsort(np.concatenate([frame, frame]), kind="stable")
    place = {int(row): int(new) for new, row in enumerate(order)}
    first = {frozenset((f, place[row]) for f, row in rows) for rows in members(linked(alone))}
    assert first <= members(linked(both))


def test_twice_the_picture_is_linked_alike(walk):
    """Everything twice as large, the noises with it: a world filmed with twice the pixels."""
    found, _ = walk
    usual = with_pace(Recipe().track, USUAL)
    motion, recipe = usual.motion, Recipe()
    # Noises grow with the size by themselves to the power of the scaling; the rest is made up for here.
    more = 2.0 ** (1.0 - motion.size_scaling)
    for name in ("box_noise", "jumpiness", "size_noise"):
        recipe = with_value(recipe, f"track.motion.{name}", more * getattr(motion, name))
    large = with_boxes(found, found.box.astype(np.float64) * 2, size=(2 * WIDTH, 2 * HEIGHT))
    assert agreement(members(linked(found, recipe=usual)), members(linked(large, recipe=recipe.track))) > 0.9


def test_more_noise_never_makes_a_better_score():
    """Not a law for every clip, but over seeds the mean falls as boxes get worse: the score is not blind."""
    means = []
    for noise, missed in ((0.5, 0.0), (3.0, 0.15), (7.0, 0.4)):
        scores = []
        for seed in range(3):
            found, truth = simulate_boxes(15, 100, seed=seed, noise=noise, missed=missed)
            scores.append(score_tracks(linked(found), truth, ScoreSettings()).identity.idf1)
        means.append(float(np.mean(scores)))
    assert means == sorted(means, reverse=True)
    assert means[0] > 0.97


@pytest.mark.parametrize("model", ["steady", "pushed", "turning"])
def test_every_filter_keeps_identities_of_plain_walks(model):
    recipe = with_value(Recipe(), "track.motion.model", model)
    found, truth = simulate_boxes(12, 120, seed=7, false_alarms=0.0, missed=0.02)
    score = score_tracks(linked(found, recipe=recipe.track), truth, ScoreSettings())
    assert score.identity.idf1 > 0.97
    assert score.clear.id_switches <= 1


# --- moments --------------------------------------------------------------------------------------------------


def test_moments_are_the_same_whatever_identities_are_called(walk):
    found, _ = walk
    tracks, times = linked(found), np.arange(found.frame_count) / RATE
    names = np.random.default_rng(4).permutation(int(tracks.identity.max())) + 1
    renamed = replace(tracks, identity=names[tracks.identity - 1].astype(np.int32))
    order = np.lexsort((renamed.identity, renamed.frame))
    columns = ("identity", "box", "state", "detection", "confidence", "class_id", "distance", "margin", "nis")
    renamed = replace(renamed, **{name: getattr(renamed, name)[order] for name in columns})

    def told(moments, name) -> list[tuple]:
        return sorted((m.kind, round(m.doubt, 5), tuple(sorted(name(i) for i in m.identities))) for m in moments)

    one, other = find_moments(tracks, times), find_moments(renamed, times)
    # Of moments equally doubtful and close together either may stand for both.
    same = set(told(one, lambda i: int(names[i - 1]))) & set(told(other, int))
    assert len(same) >= 0.9 * len(one)
    assert len(one) == pytest.approx(len(other), rel=0.05)


def test_a_table_of_moments_is_a_sequence_and_the_most_doubtful_come_first(walk):
    found, _ = walk
    moments = find_moments(linked(found), np.arange(found.frame_count) / RATE)
    assert len(moments) > 10
    scores = [moment.doubt for moment in moments]
    assert scores == sorted(scores, reverse=True)
    assert [m.frame for m in moments[:5]] == [moments[k].frame for k in range(5)]
    assert moments[-1].doubt == min(scores)
    with pytest.raises(IndexError):
        moments[len(moments)]


# --- detecting ------------------------------------------------------------------------------------------------


def shots(seed: int, count: int = 60) -> list[np.ndarray]:
    """A noisy textured ground over which two blocks go, one bright, one dark."""
    rng = np.random.default_rng(seed)
    ground = np.kron(rng.uniform(80, 130, (12, 16)), np.ones((10, 10)))
    out = []
    for k in range(count):
        picture = ground + rng.normal(0, 1.5, ground.shape)
        if k >= 30:
            x = 3 * (k - 30)
            picture[30:50, x : x + 18] = 220
            picture[80:100, 140 - x : 158 - x] = 15
        out.append(np.clip(np.rint(picture), 0, 255).astype(np.uint8))
    return out


def detected(pictures: list[np.ndarray], settings: DetectSettings | None = None) -> list[DetectedFrame]:
    height, width = pictures[0].shape
    detector = Detector(settings or DetectSettings(), (width, height))
    return [
        detector.step(Frame(k, k / RATE, lambda grey=grey: grey, lambda grey=grey: np.dstack([grey] * 3)))
        for k, grey in enumerate(pictures)
    ]


@settings(max_examples=12)
@given(st.integers(0, 50))
def test_mirrored_pictures_give_mirrored_boxes(seed):
    """Word edges, blocks of the light field and sweeps lie elsewhere then; what is found must not."""
    plain, flipped = shots(seed), [picture[:, ::-1].copy() for picture in shots(seed)]
    width = plain[0].shape[1]
    for one, other in zip(detected(plain)[32:], detected(flipped)[32:], strict=True):
        box = other.box.copy()
        box[:, [0, 2]] = width - box[:, [2, 0]]
        assert len(one.box) == len(box)
        order = np.argsort(box[:, 1], kind="stable")
        mine = one.box[np.argsort(one.box[:, 1], kind="stable")]
        np.testing.assert_allclose(mine, box[order], atol=2.0)


@settings(max_examples=12)
@given(st.integers(0, 50))
def test_a_negative_shows_the_same_things(seed):
    """What is dark on light and what is light on dark are found alike."""
    plain_recipe = with_value(with_value(Recipe(), "detect.light.follow", False), "detect.shadow.mode", "off").detect
    plain, negative = shots(seed), [255 - picture for picture in shots(seed)]
    for one, other in zip(detected(plain, plain_recipe)[32:], detected(negative, plain_recipe)[32:], strict=True):
        np.testing.assert_array_equal(one.box, other.box)


@pytest.mark.parametrize("gain", [0.85, 1.1])
def test_a_clip_taken_in_another_light_shows_the_same_things(gain):
    plain = shots(3)
    lit = [np.clip(np.rint(picture * gain), 0, 255).astype(np.uint8) for picture in plain]
    for one, other in zip(detected(plain)[34:], detected(lit)[34:], strict=True):
        assert len(one.box) == len(other.box)
        np.testing.assert_allclose(one.box, other.box, atol=3.0)


def test_a_still_clip_gives_nothing_whatever_its_ground():
    rng = np.random.default_rng(6)
    ground = rng.integers(20, 235, (90, 120))
    still = [np.clip(ground + rng.normal(0, 1.5, ground.shape), 0, 255).astype(np.uint8) for _ in range(70)]
    assert sum(len(found.box) for found in detected(still)) == 0


# --- counting -------------------------------------------------------------------------------------------------


def test_counts_mirror_with_the_line(walk):
    found, _ = walk
    tracks, times = linked(found), np.arange(found.frame_count) / RATE
    box = tracks.box.copy()
    box[:, [0, 2]] = WIDTH - box[:, [2, 0]]
    flipped = replace(tracks, box=box)

    def ways(of: Tracks, x: float) -> list[tuple[int, int]]:
        line = LineSettings(name="L", points=((x, 1.0), (x, 0.0)))
        found = count_crossings(of, times, CountSettings(line=(line,)))
        return sorted(zip(found.identity.tolist(), found.direction.tolist(), strict=True))

    there = ways(tracks, 0.3)
    assert there
    assert ways(flipped, 0.7) == sorted((who, -way) for who, way in there)
