"""Background, masks and blobs against plain NumPy and SciPy twins and pictures made by hand."""

from __future__ import annotations

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy import ndimage

from drover.core.detect.background import RunningAverage, make_model
from drover.core.detect.background_kernels import mark_moving
from drover.core.detect.bitmask import close_mask, open_mask, unpack, words_for
from drover.core.detect.blobs import Blobs, fill_holes, find_blobs
from drover.core.detect.detection_rows import DetectionRows
from drover.core.detect.detector import Detector
from drover.core.detect.growing import GrowingColumn
from drover.core.detect.light import LightFollower
from drover.core.detect.shadows import ShadowFinder
from drover.core.detect.size_rules import depth_factors, join_fragments, size_fits
from drover.core.detect.where import Region, fill_polygon
from drover.core.detect_pass import detect_clip
from drover.core.footage_types import Frame
from drover.core.geometry import overlap_matrix, trace_outlines
from drover.core.inspect import FrameProbe
from drover.core.recipe import (
    BackgroundSettings,
    DetectSettings,
    Recipe,
    ShadowSettings,
    SizeSettings,
    WhereSettings,
    with_value,
)
from drover.core.survey.resolve import resolve_detect

masks = st.tuples(st.integers(1, 12), st.integers(1, 150)).flatmap(
    lambda shape: arrays(np.uint8, shape, elements=st.integers(0, 1), fill=st.just(0))
)


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
    blobs = find_blobs(packed(mask), difference)
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
    runs = np.array([[2, 3, 5], [2, 8, 9], [3, 3, 4]], np.int16)  # two pixels, one below the first; one apart
    assert [outline.tolist() for outline in trace_outlines(runs)] == [
        [[3, 2], [5, 2], [5, 3], [4, 3], [4, 4], [3, 4]],
        [[8, 2], [9, 2], [9, 3], [8, 3]],
    ]


@given(masks)
def test_an_outline_encloses_the_area_of_a_blob_without_holes(mask):
    filled = ndimage.binary_fill_holes(mask).astype(np.uint8)
    blobs = find_blobs(packed(filled), filled)
    start = 0
    for area, runs in zip(blobs.area, blobs.run_count, strict=True):
        part = blobs.runs[start : start + runs]
        start += runs
        solid = np.zeros_like(filled)
        for y, x0, x1 in part:
            solid[y, x0:x1] = 1
        if ndimage.label(1 - np.pad(solid, 1))[1] > 1:
            continue  # a hole closed only at a corner
        (outline,) = trace_outlines(part)
        x, y = outline.T.astype(float)
        shoelace = abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))) / 2
        assert shoelace == pytest.approx(area)


def test_the_running_average_follows_its_formula():
    model = RunningAverage(
        BackgroundSettings(rate=1.0, busy_share=0.0, warm_up=0.0, threshold=50.0, threshold_in="levels"), (1, 2)
    )
    model.step(np.array([[100, 100]], np.uint8), 0.0)
    model.step(np.array([[110, 200]], np.uint8), 0.5)
    # 100 + (1 - exp(-1 * 0.5)) * 10 where little changed; unchanged where the difference passes the threshold.
    assert model.background()[0] == pytest.approx([100 + (1 - np.exp(-0.5)) * 10, 100.0], abs=1e-4)
    assert model.difference.tolist() == [[10, 100]]


def scene_frame(index: int, x: int | None, width: int = 90, height: int = 60) -> Frame:
    grey = np.full((height, width), 90, np.uint8)
    if x is not None:
        grey[20:40, x : x + 16] = 200
    return Frame(index, index / 25, lambda: grey, lambda: np.repeat(grey[..., None], 3, axis=2))


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
    rows._runs._limit = 12_000

    def run(first: int, past: int) -> int:
        for k in range(first, past):
            rows.add(detector.step(scene_frame(k, (3 * k) % 70)))
        return tracemalloc.get_traced_memory()[0]

    tracemalloc.start()
    early, late = run(0, 400), run(400, 1200)
    tracemalloc.stop()
    # The masks go to disk; what grows is a hundred bytes a frame of boxes.
    assert late - early < 800 * 250


def test_pictures_of_a_frame_are_the_same_by_replay_as_by_the_pass(short_run, short_clip):
    settings = short_run.recipe.detect
    probe = FrameProbe(str(short_clip), short_run.detect, settings)
    found = short_run.detect.detections
    for frame in (200, 60, 61, 140):
        pictures = probe.pictures(frame)
        expected = found.box[found.rows_of(frame)]
        assert pictures.blobs is not None
        # The checkpoint is rounded to whole levels and holds no ground colour: an edge may move, a speck come or go.
        assert abs(len(pictures.blobs.box) - len(expected)) <= 1
        overlap = overlap_matrix(np.ascontiguousarray(pictures.blobs.box), np.ascontiguousarray(expected))
        assert int((overlap.max(axis=0) > 0.75).sum()) >= len(expected) - 1
    probe.close()


def test_cancelling_keeps_what_was_found(short_info):
    asked = iter(range(10_000))
    result = detect_clip(short_info, DetectSettings(), cancelled=lambda: next(asked) >= 60)
    assert not result.finished
    assert result.detections.frame_count == result.frames_read == 60


MODELS = ("running-average", "running-median", "mixture", "frame-difference", "three-frame-difference")


def settings_with(**values) -> DetectSettings:
    """Default settings with some changed; a double underscore stands for a dot. Sizes hold for 90 px wide frames."""
    recipe = with_value(Recipe(), "detect.size.for_width", 90)
    for path, value in values.items():
        recipe = with_value(recipe, "detect." + path.replace("__", "."), value)
    return recipe.detect


def rule_with(**values) -> BackgroundSettings:
    """How a background is kept, with a threshold in levels and nothing known of the footage."""
    named = {f"background__{name}": value for name, value in values.items()}
    return resolve_detect(settings_with(background__threshold_in="levels", **named), None).background


def noisy(level: float, seed: int, shape=(60, 90), noise=2.0) -> np.ndarray:
    drawn = np.random.default_rng(seed).normal(level, noise, shape)
    return np.clip(np.rint(drawn), 0, 255).astype(np.uint8)


@pytest.mark.parametrize("name", MODELS)
def test_every_model_learns_the_empty_scene_and_sees_what_moves(name):
    """The contract: quiet while learning, a difference near the noise where nothing is, large where something is."""
    model = make_model(rule_with(model=name), (60, 90), 30.0)
    ready = [model.step(noisy(100, k), k / 25) for k in range(60)]
    assert not any(ready[:24])
    assert all(ready[27:])
    assert float(model.difference.mean()) < 6
    picture = noisy(100, 99)
    picture[20:40, 30:60] = 180
    model.step(picture, 60 / 25)
    assert model.difference[20:40, 30:60].min() > 60
    assert float(np.delete(model.difference, np.s_[30:60], axis=1).mean()) < 6
    assert model.background().shape == (60, 90)
    assert float(model.noise().mean()) == pytest.approx(2.0, abs=1.2)


@pytest.mark.parametrize("name", ["running-average", "running-median", "mixture"])
def test_a_model_can_be_told_to_absorb_and_to_go_back(name):
    model = make_model(rule_with(model=name), (60, 90), 30.0)
    for k in range(40):
        model.step(noisy(100, k), k / 25)
    state = model.state()
    picture = noisy(100, 5)
    picture[10:12, 20:50] = 200
    model.absorb(np.array([[10, 20, 50], [11, 20, 50]], np.int16), picture)
    model.step(picture, 41 / 25)
    assert model.difference[10:12, 20:50].max() < 8
    model.restore(state)
    model.step(picture, 41 / 25)
    assert model.difference[10:12, 20:50].min() > 80


def test_grass_with_two_faces_is_background_to_the_mixture_only():
    """Pixels that change between two levels every few frames."""
    share = {}
    for name in ("running-average", "mixture"):
        model = make_model(rule_with(model=name, rate=1.0), (60, 90), 30.0)
        for k in range(400):
            picture = noisy(100, k)
            picture[:, ::2] = noisy(130 if (k // 3) % 2 else 95, 1000 + k)[:, ::2]
            model.step(picture, k / 25)
        share[name] = float((model.difference[:, ::2] > 14).mean())
    assert share["mixture"] < 0.02 < 0.2 < share["running-average"]


def test_a_threshold_in_noise_is_fair_to_quiet_and_noisy_pixels():
    settings = settings_with(background__threshold_in="noise", background__noise_threshold=5.0).background
    model = make_model(settings, (60, 90), 30.0)
    for k in range(500):
        picture = noisy(100, k, noise=2.0)
        picture[:, 45:] = noisy(100, 5000 + k, noise=8.0)[:, 45:]
        model.step(picture, k / 25)
    sigma = model.difference / 8.0
    assert np.median(sigma[:, :45]) == pytest.approx(0.67, abs=0.2)  # median of |N(0, 1)|
    assert np.median(sigma[:, 45:]) == pytest.approx(0.67, abs=0.2)


@pytest.mark.parametrize("factor", [0.6, 0.8, 1.3])
def test_a_jump_of_the_light_is_told_and_does_not_flood_the_picture(factor):
    rng = np.random.default_rng(4)
    ground = np.clip(ndimage.gaussian_filter(rng.normal(110, 60, (180, 320)), 2), 30, 180)

    def frame(index: int) -> Frame:
        lit = ground * (factor if index >= 50 else 1.0) + rng.normal(0, 1.0, ground.shape)
        lit[80:110, 40 + index : 90 + index] = 215 if index >= 30 else lit[80:110, 40 + index : 90 + index]
        grey = np.clip(np.rint(lit), 0, 255).astype(np.uint8)
        return Frame(index, index / 25, lambda: grey, lambda: np.repeat(grey[..., None], 3, axis=2))

    detector, boxes, jumps = Detector(settings_with(size__for_width=320), (320, 180)), [], []
    for k in range(90):
        found = detector.step(frame(k))
        boxes.append(len(found.box))
        if found.jump is not None:
            jumps.append((k, found.jump))
    assert [at for at, _ in jumps] == [50]
    assert jumps[0][1] == pytest.approx(factor, rel=0.05)
    assert boxes[35:] == [1] * 55


def test_evening_out_gives_back_the_picture_before_a_smooth_change_of_light():
    rng = np.random.default_rng(1)
    ground = rng.uniform(60, 160, (180, 320)).astype(np.float32)
    gain = np.linspace(0.7, 1.2, 320)[None, :]
    grey = np.clip(np.rint(ground * gain), 0, 255).astype(np.uint8)
    evened, _ = LightFollower((320, 180), 0.05).even(grey, ground)
    assert np.abs(evened[:, 20:-20].astype(float) - ground[:, 20:-20]).mean() < 1.5


def test_a_shadow_is_told_from_a_dark_animal_by_its_colour():
    """Green ground: luma 120, colour differences -30 and -10. A shadow halves all three; a dark animal is grey."""
    finder = ShadowFinder(ShadowSettings(), (64, 32))
    ground, green = np.full((32, 64), 120, np.uint8), np.stack([np.full((16, 32), 98), np.full((16, 32), 118)])
    none = words_for(32, 64)
    for k in range(3):
        finder.learn(green.astype(np.uint8), none, k / 25, first=True)
    grey, chroma = ground.copy(), green.copy()
    grey[8:24, 8:24], chroma[:, 4:12, 4:12] = 60, np.array([113, 123])[:, None, None]  # shadow
    grey[8:24, 40:56], chroma[:, 4:12, 20:28] = 60, 128  # animal
    moving, shadow = packed((grey != 120).astype(np.uint8)), words_for(32, 64)
    finder.sort(grey, ground.astype(np.float32), chroma.astype(np.uint8), moving, shadow)
    assert unpack(shadow, 64)[9:23, 9:23].all()
    assert not unpack(shadow, 64)[:, 36:].any()
    assert unpack(moving, 64)[8:24, 40:56].all()


def test_trousers_of_the_ground_s_colour_are_told_from_a_soft_shadow_by_their_rim():
    """Grey ground of 120. Two legs 2 px wide leave half of the light; a shadow leaves as much and fades over 8 px."""
    ground = np.full((48, 64), 120.0, np.float32)
    share = np.ones((48, 64))
    share[8:32, 10:12] = share[8:32, 18:20] = 0.5
    fade = 1 - np.clip((12 - np.hypot(*(np.mgrid[:48, :64] - np.array([24, 46])[:, None, None]))) / 8, 0, 1) / 2
    share = np.minimum(share, fade)
    grey, chroma = np.rint(120 * share).astype(np.uint8), np.full((2, 24, 32), 128, np.uint8)
    for sharpest, legs in ((0.35, True), (1.0, False)):
        finder = ShadowFinder(ShadowSettings(darkest=0.45, lightest=0.97, sharpest=sharpest), (64, 48))
        finder.learn(chroma, words_for(48, 64), 0.0, first=True)
        moving, shadow = packed((grey < 110).astype(np.uint8)), words_for(48, 64)
        finder.sort(grey, ground, chroma, moving, shadow)
        assert unpack(moving, 64)[9:31, [10, 11, 18, 19]].all() == legs
        assert not unpack(moving, 64)[:, 30:].any()
        assert unpack(shadow, 64)[18:30, 40:52].all()


def run_frames(detector: Detector, pictures) -> list[int]:
    return [
        len(detector.step(Frame(k, k / 25, lambda grey=grey: grey, lambda: np.zeros((60, 90, 3), np.uint8))).box)
        for k, grey in enumerate(pictures)
    ]


def with_block(x: int | None) -> np.ndarray:
    grey = np.full((60, 90), 90, np.uint8)
    if x is not None:
        grey[20:40, x : x + 20] = 200
    return grey


def test_what_stops_stays_a_detection_for_as_long_as_it_is_told_to():
    for keep, last in ((2.0, 3.6), (8.0, 9.6)):
        detector = Detector(settings_with(still__keep_for=keep), (90, 60))
        found = run_frames(detector, [with_block(None)] * 30 + [with_block(min(2 * k, 30)) for k in range(270)])
        seen = [k / 25 for k, n in enumerate(found) if n]
        assert seen[-1] == pytest.approx(last, abs=0.7)


@pytest.mark.parametrize("name", ["running-average", "mixture"])
def test_a_camera_set_to_another_size_and_back_does_not_flood_the_picture(name):
    """A block goes over rough ground; from picture 100 to 120 the camera gives three quarters of its size."""
    background = {"model": name, "warm_up": 2.0}
    detector, found = Detector(DetectSettings.model_validate({"background": background}), (180, 120)), []
    y, x = np.mgrid[:120, :180]
    ground = np.random.default_rng(7).normal(110 + 30 * np.sin(x / 17) * np.cos(y / 23), 12)
    for k in range(150):
        grey = np.clip(ground + np.random.default_rng(k).normal(0, 1.5, ground.shape), 0, 255).astype(np.uint8)
        x, own = 2 * (k - 70), (134, 90) if 100 <= k < 120 else (180, 120)
        if x > 0:
            grey[40:72, x : x + 24] = 220
        grey = av.VideoFrame.from_ndarray(grey, format="gray").reformat(*own).reformat(180, 120).to_ndarray().copy()
        step = detector.step(
            Frame(k, k / 25, lambda grey=grey: grey, lambda: np.zeros((120, 180, 3), np.uint8), own_size=own)
        )
        found.append(len(step.box))
        for box in step.box[:1] if k > 70 else []:
            assert abs(box - [x, 40, x + 24, 72]).max() <= 5  # for some pictures the ground next to it is doubted
    assert found == [0] * 71 + [1] * 79


def test_the_ghost_of_a_parked_animal_is_dropped():
    """A block stands there from the start and leaves at frame 50: only the block itself is detected after that."""
    for drop, expected in ((True, 1), (False, 2)):
        detector = Detector(settings_with(still__drop_ghosts=drop, still__keep_for=30.0), (90, 60))
        found = run_frames(detector, [with_block(10)] * 50 + [with_block(min(10 + 2 * k, 60)) for k in range(60)])
        assert found[:50] == [0] * 50
        assert found[-1] == expected


@given(masks, st.integers(0, 40))
def test_only_small_closed_holes_are_filled(mask, most):
    """Twin: SciPy's labels of the gaps, joined by sides, that touch no edge."""
    filled = unpack(fill_holes(packed(mask), mask.shape[1], most), mask.shape[1])
    labels, count = ndimage.label(1 - mask)
    twin = mask.copy()
    for k in range(1, count + 1):
        part = labels == k
        edge = part[0].any() or part[-1].any() or part[:, 0].any() or part[:, -1].any()
        if not edge and part.sum() <= most:
            twin[part] = 1
    assert np.array_equal(filled, twin)


def blobs_of(*boxes: tuple[int, int, int, int]) -> Blobs:
    """Solid blobs filling the boxes given."""
    runs = [[y, x1, x2] for x1, y1, x2, y2 in boxes for y in range(y1, y2)]
    area = [(x2 - x1) * (y2 - y1) for x1, y1, x2, y2 in boxes]
    return Blobs(
        np.array(boxes, np.float32), np.array(area, np.float32), np.full(len(boxes), 50, np.float32),
        np.array([y2 - y1 for _, y1, _, y2 in boxes]), np.array(runs, np.int16),
    )  # fmt: skip


def test_a_fragment_joins_the_body_and_two_bodies_stay_two():
    head, body, other = (42, 10, 48, 16), (10, 10, 40, 30), (44, 10, 74, 30)
    joined = join_fragments(blobs_of(head, body), SizeSettings(join_within=6.0), (1280, 100))
    assert joined.box.tolist() == [[10, 10, 48, 30]]
    assert joined.area.tolist() == [636]
    assert joined.run_count.tolist() == [26]
    assert len(join_fragments(blobs_of(body, other), SizeSettings(join_within=6.0), (1280, 100)).box) == 2
    assert len(join_fragments(blobs_of(head, body), SizeSettings(join_within=1.0), (1280, 100)).box) == 2


def test_limits_follow_the_distance_between_the_two_boxes_drawn():
    """40 px tall with its foot at 80 of 100, 10 px tall at 20: half way, at 50, an animal is 25 px tall."""
    settings = SizeSettings(
        least_height=20.0, least_width=0.0, least_area=0.0, near_box=(0.1, 0.4, 0.3, 0.8), far_box=(0.1, 0.1, 0.2, 0.2)
    )
    assert depth_factors(np.array([80.0, 50.0, 20.0]), settings, (1280, 100)) == pytest.approx([1.0, 25 / 40, 10 / 40])
    blobs = blobs_of((0, 70, 10, 80), (20, 40, 30, 50), (40, 10, 50, 20), (60, 55, 70, 80))
    assert size_fits(blobs, settings, (1280, 100)).tolist() == [False, False, True, True]


def test_limits_grow_and_shrink_with_the_frame():
    """Half as wide a frame: an animal has half the width and height, and a quarter of the area."""
    settings = SizeSettings(least_width=10.0, least_height=10.0, least_area=200.0)
    large, half = blobs_of((0, 0, 20, 12), (30, 0, 38, 12)), blobs_of((0, 0, 10, 6), (15, 0, 19, 6))
    assert size_fits(large, settings, (1280, 720)).tolist() == [True, False]
    assert size_fits(half, settings, (640, 360)).tolist() == [True, False]
    assert size_fits(half, settings, (1280, 720)).tolist() == [False, False]


def test_most_sizes_and_shapes_are_kept_to():
    blobs = blobs_of((0, 0, 40, 10), (0, 20, 12, 40), (0, 50, 60, 90))
    settings = SizeSettings(most_width=50.0, most_aspect=2.0)
    assert size_fits(blobs, settings, (1280, 100)).tolist() == [False, True, False]


def test_a_polygon_fills_the_pixels_whose_middle_it_holds():
    """Twin: the crossing rule, pixel by pixel, for a five-pointed star (its middle is outside by even-odd)."""
    star = tuple((0.5 + 0.45 * np.sin(4 * np.pi * k / 5), 0.5 - 0.45 * np.cos(4 * np.pi * k / 5)) for k in range(5))
    filled = fill_polygon(star, (40, 30))
    for row in range(30):
        for column in range(40):
            x, y, inside = (column + 0.5) / 40, (row + 0.5) / 30, False
            for (x1, y1), (x2, y2) in zip(star, star[1:] + star[:1], strict=True):
                if (y1 <= y) != (y2 <= y) and x < x1 + (y - y1) / (y2 - y1) * (x2 - x1):
                    inside = not inside
            assert filled[row, column] == inside


@pytest.mark.parametrize(("by", "expected"), [("foot", [True, False, False]), ("area", [True, True, False])])
def test_detections_count_by_their_foot_or_by_their_area(by, expected):
    """Only the upper half counts, without its right quarter."""
    where = WhereSettings(
        include=(((0, 0), (1, 0), (1, 0.5), (0, 0.5)),), ignore=(((0.75, 0), (1, 0), (1, 1), (0.75, 1)),), by=by
    )
    blobs = blobs_of((10, 10, 30, 40), (40, 20, 60, 60), (80, 10, 95, 30))  # the second is three quarters in
    assert Region(where, (100, 100)).fits(blobs).tolist() == expected


def test_what_is_as_bright_as_the_ground_is_found_by_its_colour():
    rng = np.random.default_rng(8)

    def frame(index: int) -> Frame:
        grey = np.clip(np.rint(rng.normal(110, 1.0, (120, 200))), 0, 255).astype(np.uint8)
        chroma = np.clip(np.rint(rng.normal(128, 0.6, (2, 60, 100))), 0, 255).astype(np.uint8)
        if index >= 40:
            chroma[1, 20:35, index : index + 20] = 150
        return Frame(index, index / 25, lambda: grey, lambda: np.zeros((120, 200, 3), np.uint8), lambda: chroma)

    def found(look_at: str) -> list:
        detector = Detector(settings_with(background__look_at=look_at), (200, 120))
        return [detector.step(frame(k)).box for k in range(60)][-1]

    assert len(found("grey")) == 0
    box = found("colour")
    assert len(box) == 1
    assert box[0] == pytest.approx([118, 40, 158, 70], abs=4)  # full-size px: twice the colour planes


def test_the_colour_planes_come_back_with_a_saved_state():
    first, again = (Detector(settings_with(background__look_at="colour"), (200, 120)) for _ in range(2))
    grey = np.full((120, 200), 90, np.uint8)
    plain, red = np.full((2, 60, 100), 128, np.uint8), np.full((2, 60, 100), 128, np.uint8)
    red[1, 20:40, 30:60] = 170
    for k in range(40):
        first.step(Frame(k, k / 25, lambda: grey, lambda: grey, lambda: plain))
    state = first.state()
    assert state.colour is not None
    again.restore(state)
    one, two = (d.step(Frame(40, 1.6, lambda: grey, lambda: grey, lambda: red)) for d in (first, again))
    assert len(one.box) == 1
    assert np.array_equal(one.box, two.box)


def test_blobs_that_the_size_rules_drop_are_told_with_their_boxes():
    detector = Detector(settings_with(size__least_area=300.0, size__join_within=0.0, light__follow=False), (200, 120))
    for k in range(40):
        grey = np.full((120, 200), 90, np.uint8)
        if k >= 35:
            grey[20:60, 20:60] = 200
            grey[80:92, 100:112] = 200
        found = detector.step(Frame(k, k / 25, lambda grey=grey: grey, lambda: np.zeros((120, 200, 3), np.uint8)))
    assert found.box.tolist() == [[20, 20, 60, 60]]
    assert found.rejected.tolist() == [[100, 80, 112, 92]]
