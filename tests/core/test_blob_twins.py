"""What Detect does with masks and blobs, against the same said plainly: pixel by pixel, blob by blob."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import ndimage

from drover.core.detect.background import Mixture
from drover.core.detect.bitmask import words_for
from drover.core.detect.blobs import Blobs, find_blobs, set_runs
from drover.core.detect.light import LightFollower
from drover.core.detect.mixture_kernels import TURNS
from drover.core.detect.size_rules import join_fragments
from drover.core.recipe import BackgroundSettings, SizeSettings

SEEDS = st.integers(0, 10_000)


def mask_of(runs: np.ndarray, shape: tuple[int, int]) -> np.ndarray:
    out = np.zeros(shape, bool)
    for y, x1, x2 in runs:
        out[y, x1:x2] = True
    return out


def packed(mask: np.ndarray) -> np.ndarray:
    words = words_for(*mask.shape)
    runs = [(y, x, x + 1) for y, x in np.argwhere(mask)]
    set_runs(np.array(runs, np.int16).reshape(-1, 3), words)
    return words


@given(SEEDS, st.sampled_from([0.0, 3.0, 9.0]))
def test_blobs_are_those_that_labelling_finds_with_every_figure_of_theirs(seed, least):
    rng = np.random.default_rng(seed)
    mask = ndimage.binary_opening(rng.random((40, 90)) < 0.6) | (rng.random((40, 90)) < 0.02)
    difference = rng.integers(1, 256, mask.shape).astype(np.uint8)
    found = find_blobs(packed(mask), difference, least_area=least)
    label, count = ndimage.label(mask, np.ones((3, 3)))
    kept = [k for k in range(1, count + 1) if (label == k).sum() >= least]
    assert len(found.box) == len(kept) == len(found.area) == len(found.run_count)
    start = np.concatenate([[0], np.cumsum(found.run_count)])
    assert start[-1] == len(found.runs)
    seen = set()
    for k in range(len(kept)):
        runs = found.runs[start[k] : start[k + 1]]
        here = mask_of(runs, mask.shape)
        names = np.unique(label[here])
        assert len(names) == 1 and names[0] in kept, "one whole blob"
        seen.add(int(names[0]))
        np.testing.assert_array_equal(here, label == names[0])
        ys, xs = np.nonzero(here)
        assert found.box[k].tolist() == [xs.min(), ys.min(), xs.max() + 1, ys.max() + 1]
        assert found.area[k] == here.sum()
        assert found.contrast[k] == pytest.approx(difference[here].mean(), rel=1e-5)
        assert [tuple(run[:2]) for run in runs.tolist()] == sorted(tuple(run[:2]) for run in runs.tolist())
    assert len(seen) == len(kept)


def solid(boxes: list[tuple[int, int, int, int]], contrast: np.ndarray) -> Blobs:
    runs = [[y, x1, x2] for x1, y1, x2, y2 in boxes for y in range(y1, y2)]
    area = [(x2 - x1) * (y2 - y1) for x1, y1, x2, y2 in boxes]
    return Blobs(
        np.array(boxes, np.float32), np.array(area, np.float32), contrast.astype(np.float32),
        np.array([y2 - y1 for _, y1, _, y2 in boxes]), np.array(runs, np.int16),
    )  # fmt: skip


def owner_of(boxes: list[tuple[int, int, int, int]], area: list[int], k: int, reach: float) -> int:
    """The nearest blob at least twice as large within reach, or itself."""
    best, owner = np.inf, k
    for j, (x1, y1, x2, y2) in enumerate(boxes):
        a = boxes[k]
        apart = np.hypot(max(0, max(a[0], x1) - min(a[2], x2)), max(0, max(a[1], y1) - min(a[3], y2)))
        if area[k] <= 0.5 * area[j] and apart <= reach and apart < best:
            best, owner = apart, j
    return owner


@given(SEEDS, st.integers(2, 12), st.sampled_from([1.0, 6.0, 20.0]))
def test_fragments_go_to_the_nearest_larger_and_those_to_theirs(seed, count, reach):
    """Sums, boxes and runs of what became one, whoever joined whom on the way."""
    rng = np.random.default_rng(seed)
    at, side = rng.integers(0, 80, (count, 2)), rng.integers(2, 14, (count, 2))
    boxes = [(int(x), int(y), int(x + w), int(y + h)) for (x, y), (w, h) in zip(at, side, strict=True)]
    contrast = rng.uniform(10, 90, count)
    blobs = solid(boxes, contrast)
    area = [int(value) for value in blobs.area]
    owner = [owner_of(boxes, area, k, reach) for k in range(count)]
    last = []
    for k in range(count):
        while owner[k] != k:
            k = owner[k]
        last.append(k)
    joined = join_fragments(blobs, SizeSettings(join_within=reach, for_width=1280), (1280, 100))
    heads = sorted(set(last))
    assert len(joined.box) == len(heads)
    start = np.concatenate([[0], np.cumsum(joined.run_count)])
    for place, head in enumerate(heads):
        members = [k for k in range(count) if last[k] == head]
        own = np.array([boxes[k] for k in members])
        assert joined.box[place].tolist() == [*own[:, :2].min(axis=0), *own[:, 2:].max(axis=0)]
        total = sum(area[k] for k in members)
        assert joined.area[place] == total
        assert joined.contrast[place] == pytest.approx(sum(area[k] * contrast[k] for k in members) / total, rel=1e-4)
        runs = joined.runs[start[place] : start[place + 1]].tolist()
        assert sorted(runs) == sorted([y, b[0], b[2]] for b in own.tolist() for y in range(b[1], b[3]))
        assert [run[:2] for run in runs] == sorted(run[:2] for run in runs), "in order of row and column"


@pytest.mark.parametrize("rate", [5.0, 12.5, 25.0, 50.0])
def test_light_that_drifts_is_followed_alike_at_any_frame_rate(rate):
    """A quarter brighter within four seconds: never more than a level and a half off, at 5 pictures/s as at 50."""
    rng = np.random.default_rng(2)
    ground = ndimage.gaussian_filter(rng.normal(110, 50, (90, 160)), 3).clip(40, 180).astype(np.float32)
    follower = LightFollower((160, 90), jump=0.5)
    worst = 0.0
    for k in range(int(4 * rate)):
        now = k / rate
        picture = np.clip(np.rint(ground * (1 + 0.0625 * now)), 0, 255).astype(np.uint8)
        evened, _ = follower.even(picture, ground, now)
        worst = max(worst, float(np.abs(evened - ground).mean()))
    assert worst < 1.5


def test_a_mixture_that_learns_in_turns_learns_as_fast_as_one_that_always_does():
    """The ground turns ten levels lighter over two seconds: both follow, no pixel is left behind."""
    settings = BackgroundSettings(model="mixture", threshold_in="noise", noise_threshold=6.0, warm_up=0.4, rate=1.0)
    model = Mixture(settings, (16, 24))
    rng, mean, rate = np.random.default_rng(6), None, 1.0 - np.exp(-1.0 / 25)
    for k in range(150):
        level = 100 + 10 * min(max((k - 50) / 50, 0), 1)
        picture = np.clip(np.rint(rng.normal(level, 1.5, (16, 24))), 0, 255).astype(np.uint8)
        model.step(picture, k / 25)
        mean = float(picture.mean()) if mean is None or k < 10 else mean + rate * (picture.mean() - mean)
    assert TURNS > 1
    taken = [model.work_on(picture, 10.0 + gap)[1][-1] for gap in np.cumsum([0.04, 0.04, 0.1, 0.5])]
    assert taken[1:] == [TURNS, 2, 1], "pictures that come slowly are all learnt from"
    assert model.background().mean() == pytest.approx(mean, abs=0.4)
    assert float(np.abs(model.background() - mean).max()) < 3.0
