"""The camera against exact motions: what sways, pans, is covered, cut or blank; and what follows for all else."""

from __future__ import annotations

import numpy as np
import pytest
from builders import tracks_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.camera import in_scene
from drover.core.camera.canvas import boxes_along, lay_on, runs_along
from drover.core.camera.follower import CameraFollower
from drover.core.camera.in_scene import detections_in_picture, detections_in_scene, tracks_in_picture, tracks_in_scene
from drover.core.camera.motion import CameraMotion, FrameState, identity_motion
from drover.core.camera.stations import make_stations
from drover.core.camera_pass import camera_of, look_over_clip
from drover.core.count.whole_clip import count_all
from drover.core.features.models import apply, inverse, mapped_corners
from drover.core.footage.reader import ClipReader
from drover.core.formats.motion_rows import read_motion, write_motion
from drover.core.graph import Call, Subject, run_stage
from drover.core.live import LiveRun
from drover.core.recipe import CameraSettings, CountSettings, LineSettings, Recipe, ZoneSettings, with_value
from drover.core.result_store import ResultStore
from drover.core.steady_detect import _cut_at_rim
from drover.core.steady_video import calmed_views, held_views, write_steadied
from drover.core.types import Detections
from moving import RATE, SIZE, ground, looking, moving_clip, passing, seen, swaying

LARGE = ground()
LINE = LineSettings(name="Middle", points=((0.5, 0.95), (0.5, 0.05)))


def motion_of(matrices: np.ndarray, state: np.ndarray | None = None) -> CameraMotion:
    n = len(matrices)
    none = np.zeros(n, np.float32)
    states = np.zeros(n, np.int8) if state is None else state
    return CameraMotion(np.asarray(matrices, np.float64), states, none + 1, none, none, {}, SIZE)


def off_by(found: np.ndarray, true: np.ndarray) -> float:
    return float(np.hypot(*(mapped_corners(found, SIZE) - mapped_corners(true, SIZE)).T).max())


@pytest.fixture(scope="module")
def swaying_clip(tmp_path_factory):
    path = tmp_path_factory.mktemp("sway") / "sway.mp4"
    boxes = moving_clip(path, swaying)
    with ClipReader(path) as reader:
        return reader.info, boxes


# --- the motion -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("view", [swaying, passing])
def test_the_camera_is_followed_to_a_fraction_of_a_pixel(view):
    follower, first = CameraFollower(SIZE), view(0.0)
    off = []
    for k in range(60):
        step = follower.step(seen(LARGE, view(k / RATE)), k / RATE)
        assert step.state == (FrameState.NEW_VIEW if k == 0 else FrameState.FOLLOWED)
        off.append(off_by(step.to_scene, first @ inverse(view(k / RATE))))
    assert np.median(off) < 0.3 and max(off) < 0.8


def test_what_passes_close_by_is_not_the_camera():
    follower, still = CameraFollower(SIZE), seen(LARGE, looking(380, 230))
    big = np.clip(ground(11, (330, 200)), 20, 235).astype(np.uint8)
    states = []
    for k in range(70):
        picture, left = still.copy(), -330 + 14 * k
        a, b = max(left, 0), min(left + 330, SIZE[0])
        if b > a:
            picture[40:240, a:b] = big[:, a - left : b - left]
        step = follower.step(picture, k / RATE)
        states.append(step.state)
        assert off_by(step.to_scene, np.eye(3)) < 1.0
    assert FrameState.COVERED in states[20:45] and states[-1] == FrameState.FOLLOWED
    assert FrameState.COVERED not in states[:8]


def test_what_cannot_be_told_is_said():
    still, rng = seen(LARGE, looking(380, 230)), np.random.default_rng(2)
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]]
    nothing = {
        "blank": np.full_like(still, 128),
        "dark": np.clip(rng.normal(3, 1, still.shape), 0, 255).astype(np.uint8),
        "repeating": (128 + 80 * np.sign(np.sin(x / 4) * np.sin(y / 4))).astype(np.uint8),
    }
    for name, picture in nothing.items():
        follower = CameraFollower(SIZE)
        steps = [follower.step(picture, k / RATE) for k in range(3)]
        assert all(step.reason for step in steps[1:]), f"{name}: {steps[1]}"
        assert all(step.state != FrameState.FOLLOWED for step in steps[1:])
    follower = CameraFollower(SIZE)
    for k in range(4):
        follower.step(still, k / RATE)
    blurred = np.full_like(still, int(still.mean()))
    lost = [follower.step(blurred, (4 + k) / RATE) for k in range(5)]
    assert all(step.state == FrameState.HELD and step.reason for step in lost)
    assert all(off_by(step.to_scene, np.eye(3)) < 1 for step in lost), "the last known motion is held"
    assert follower.step(still, 10 / RATE).state == FrameState.FOLLOWED


def test_a_cut_begins_anew_and_a_lost_view_is_found_again():
    follower, one, other = CameraFollower(SIZE), seen(LARGE, looking(380, 230)), seen(ground(77), looking(380, 230))
    for k in range(30):
        follower.step(one, k / RATE)
    cut = follower.step(other, 30 / RATE)
    assert cut.state == FrameState.NEW_VIEW and off_by(cut.to_scene, np.eye(3)) < 1e-9
    follower = CameraFollower(SIZE)
    follower.step(one, 0.0)
    grey = np.full_like(one, 120)
    for k in range(1, 30):  # more than a second of nothing, and then the view lies elsewhere
        follower.step(grey, k / RATE)
    moved = seen(LARGE, looking(440, 200))
    steps = [follower.step(moved, (30 + k) / RATE) for k in range(20)]
    found = [step for step in steps if step.state == FrameState.FOLLOWED]
    assert found and off_by(found[-1].to_scene, looking(380, 230) @ inverse(looking(440, 200))) < 1.5


def test_a_camera_that_stands_is_left_alone(short_info, swaying_clip):
    assert not look_over_clip(short_info).moves
    assert camera_of(short_info, CameraSettings()) is None
    assert look_over_clip(swaying_clip[0]).moves
    assert camera_of(swaying_clip[0], CameraSettings(mode="off")) is None


# --- canvases and the scene -------------------------------------------------------------------------------------------


def test_stations_hold_their_pictures_on_canvases_of_one_size():
    views = np.array([inverse(looking(200 + 4 * k, 230, 0.0, 1 + 0.002 * k)) for k in range(120)])
    motion = motion_of(inverse(views[0]) @ views)
    stations = make_stations(motion)
    assert len(stations) > 1 and len({station.size for station in stations}) == 1
    assert [s.first for s in stations[1:]] == [s.past for s in stations[:-1]] and stations[-1].past == 120
    for station in stations:
        assert station.size[0] <= 1.42 * SIZE[0] and station.size[0] % 2 == 0
        for frame in range(station.first, station.past, 7):
            corners = mapped_corners(station.from_picture(motion, frame), SIZE)
            assert (corners > -1).all() and (corners < np.array(station.size) + 1).all()
    assert len(make_stations(identity_motion(50, SIZE))) == 1
    state = np.zeros(120, np.int8)
    state[60] = FrameState.NEW_VIEW
    assert 60 in [s.first for s in make_stations(motion_of(inverse(views[0]) @ views, state))]


@pytest.mark.parametrize("tilt", [0.0, 1e-5])
def test_a_picture_is_laid_where_the_motion_says_and_the_ground_shows_beside_it(tilt):
    back = inverse(looking(250, 130, 0.04, 0.9))
    back[2, 0] = tilt
    back /= back[2, 2]
    picture, out = seen(LARGE, looking(380, 230)), np.zeros((300, 520), np.uint8)
    lay_on(picture, back, np.full(out.shape, 9, np.float32), out)
    rng = np.random.default_rng(0)
    for r, c in rng.integers((0, 0), out.shape, (300, 2)).tolist():
        x, y = apply(back, np.array([[c + 0.5, r + 0.5]]))[0] - 0.5
        if 2 < x < SIZE[0] - 3 and 2 < y < SIZE[1] - 3:
            x0, y0 = int(x), int(y)
            a, b = x - x0, y - y0
            four = picture[y0 : y0 + 2, x0 : x0 + 2].astype(float)
            assert abs(out[r, c] - np.array([1 - b, b]) @ four @ np.array([1 - a, a])) < 3.5
        elif not (-1 < x < SIZE[0] and -1 < y < SIZE[1]):
            assert out[r, c] == 9


@given(turn=st.floats(-0.5, 0.5), zoom=st.floats(0.5, 2), x=st.floats(-200, 400), y=st.floats(-200, 300))
def test_boxes_go_there_and_back(turn, zoom, x, y):
    view = looking(x, y, turn, zoom)
    box = np.array([[10, 20, 40, 90], [200.5, 100, 260, 130]], np.float32)
    there = boxes_along(box, view)
    assert np.allclose(boxes_along(there, inverse(view)), box, atol=0.02)
    sides = (there[:, 2:] - there[:, :2]) / (box[:, 2:] - box[:, :2])
    assert np.allclose(sides, zoom, rtol=1e-3)


def test_blobs_and_tables_go_into_the_scene_and_back():
    runs = np.array([[y, 40, 60] for y in range(30, 50)] + [[y, 470, 480] for y in range(100, 104)], np.int16)
    back = inverse(np.array([[1.5, 0, 10], [0, 1.5, 5], [0, 0, 1.0]]))
    drawn, counts = runs_along(runs, np.array([20, 4]), back, (0, 0), (720, 400))
    first = drawn[: counts[0]]
    assert (first[:, 2] - first[:, 1]).sum() == 30 * 30 and first[0].tolist() == [50, 70, 100]
    assert runs_along(runs, np.array([20, 4]), back, (0, 0), (600, 400))[1][1] == 0, "beyond the rim nothing is drawn"
    matrices = np.array([inverse(looking(240 + 5 * k, 135)) for k in range(4)])
    motion = motion_of(matrices)
    found = Detections(
        np.array([0, 1, 1, 2, 2]), np.array([[40, 30, 60, 50], [470, 100, 480, 104]], np.float32),
        np.ones(2, np.float32), np.zeros(2, np.int16), np.array([400, 40], np.float32), np.array([0, 20, 24]), runs,
        SIZE,
    )  # fmt: skip
    lying = detections_in_scene(found, motion)
    assert lying.view is not None and np.allclose(lying.view[2] - lying.view[0], [10, 0, 10, 0])
    again = detections_in_picture(lying, motion)
    assert np.allclose(again.box, found.box, atol=0.01) and np.array_equal(again.runs, found.runs)
    assert again.view is None and again.size == SIZE
    tracks = tracks_of([(k, 1, (100 - 5 * k, 50, 120 - 5 * k, 80)) for k in range(4)], 4, size=SIZE)
    scene = tracks_in_scene(tracks, motion)
    assert np.allclose(scene.box, scene.box[0]), "what stands on the ground stands in the scene"
    assert np.allclose(in_scene.boxes_in_scene(tracks.box, tracks.frame, motion), scene.box, atol=1e-3)
    for k in range(4):  # and is in each picture where that saw it
        assert np.allclose(in_scene.boxes_in_view(scene.box[:1], k, motion), tracks.box[k], atol=0.01)
    seen_again = tracks_in_picture(scene, motion)
    assert np.allclose(seen_again.box, tracks.box, atol=0.01) and seen_again.scene_box is not None


def test_lines_and_zones_stand_in_the_scene_or_in_the_picture():
    # The thing stands still at x = 300 of the scene; the camera pans past it: only a line in the picture is crossed.
    matrices = np.array([inverse(looking(240 + 6 * k, 135)) for k in range(40)])
    motion = motion_of(matrices)
    still = [(k, 1, (290 - 6 * k, 110, 310 - 6 * k, 130)) for k in range(40)]
    walks = [(k, 2, (90 - 6 * k + 8 * k, 60, 110 - 6 * k + 8 * k, 80)) for k in range(40)]
    tracks = tracks_of(still + walks, 40, size=SIZE)
    tracks = tracks_in_picture(tracks_in_scene(tracks, motion), motion)
    times = np.arange(40) / RATE
    x = 240 / SIZE[0]
    line = LineSettings(name="l", points=((x, 1.0), (x, 0.0)), dead_band=0.0)
    zone = ZoneSettings(name="z", points=((0.6, 0.3), (0.7, 0.3), (0.7, 0.6), (0.6, 0.6)), bridge=0.0)
    made = {}
    for fixed in ("scene", "picture"):
        change = {"fixed_to": fixed}
        settings = CountSettings(line=(line.model_copy(update=change),), zone=(zone.model_copy(update=change),))
        made[fixed] = count_all(tracks, times, settings)
    scene, picture = made["scene"], made["picture"]
    assert scene.crossings.identity.tolist() == [2] and scene.crossings.direction.tolist() == [1]
    k = int(scene.crossings.frame[0])
    assert abs(float(scene.crossings.x[0]) - (240 - 6 * k)) < 8, "its place is that in the picture"
    assert sorted(picture.crossings.identity.tolist()) == [1]
    assert picture.crossings.direction.tolist() == [-1]
    assert len(scene.visits.identity) == 1 and not scene.visits.left[0], "it stands in the zone from first to last"
    assert picture.visits.left.any()


# --- the whole way ----------------------------------------------------------------------------------------------------


def test_a_swaying_clip_is_counted_as_if_it_stood(swaying_clip, tmp_path, monkeypatch):
    info, boxes = swaying_clip
    into_scene = []

    def counted(*of):
        into_scene.append(of)
        return detections_in_scene(*of)

    monkeypatch.setattr(in_scene, "detections_in_scene", counted)
    store, subject = ResultStore(tmp_path / "store"), Subject(info)
    middle = apply(swaying(0.0), np.array([[380.0, 420.0], [380.0, 30.0]])) / SIZE
    line = LineSettings(name="Middle", points=tuple((float(x), float(y)) for x, y in middle.round(4)))
    recipe = Recipe(count=CountSettings(line=(line,)))
    made = run_stage("count", subject, recipe, call=Call(store))
    found = made["detect"].value
    motion = found.motion
    assert motion is not None and motion.steady and motion.cuts == ()
    true = np.array([swaying(0.0) @ inverse(swaying(k / RATE)) for k in range(info.frame_count)])
    assert np.median([off_by(a, b) for a, b in zip(motion.to_scene, true, strict=True)]) < 0.3
    hits, count = 0, len(found.detections)
    for frame, now in enumerate(boxes):
        own = found.detections.box[found.detections.rows_of(frame)]
        for box in now:
            middle_of = (np.array(box[:2]) + box[2:]) / 2
            near = np.abs((own[:, :2] + own[:, 2:]) / 2 - middle_of).max(axis=1) < 5 if len(own) else np.zeros(0)
            hits += bool(near.any())
    whole = 3 * info.frame_count
    assert hits > 0.93 * whole and count < 1.08 * whole, "what moves against the ground is found, and nothing else"
    assert len(into_scene) == 2, "once to gather bodies, and once for all that links them"
    crossings = made["count"].value.crossings
    assert sorted(crossings.direction.tolist()) == [-1, 1, 1]
    exact = sorted(t for t in (80 / 32, 115 / 30, 90 / 34))
    assert np.allclose(np.sort(crossings.time), exact, atol=0.2)
    again = run_stage("count", subject, recipe, call=Call(store))
    assert again["camera"].value is not None and again["detect"].value.motion is not None
    assert np.array_equal(again["detect"].value.motion.to_scene, motion.to_scene), "kept beside the detections"
    assert np.array_equal(again["count"].value.crossings.time, crossings.time)


def test_boxes_of_another_detector_are_linked_on_the_ground_too(swaying_clip, tmp_path):
    info, boxes = swaying_clip
    rows = np.array([(frame, *box) for frame, now in enumerate(boxes) for box in now])
    sure = np.full(len(rows), 0.9, np.float32)
    table = Detections.from_boxes(
        rows[:, 0].astype(np.int64), rows[:, 1:].astype(np.float32), sure, frame_count=info.frame_count, size=SIZE
    )
    recipe = with_value(Recipe(), "detect.sources", ["boxes"])
    made = run_stage("after", Subject(info, table), recipe, call=Call(ResultStore(tmp_path / "store")))
    assert made["detect"].value.motion is not None
    tracks = made["after"].value
    assert np.unique(tracks.identity).tolist() == [1, 2, 3]

    def bent(box: np.ndarray) -> float:
        middle, time = (box[:, :2] + box[:, 2:]) / 2, tracks.frame[tracks.identity == 1]
        return float(np.abs(middle - np.array([np.polyval(np.polyfit(time, m, 1), time) for m in middle.T]).T).max())

    own = tracks.identity == 1
    assert bent(tracks.scene_box[own]) < 2.0 and bent(tracks.box[own]) > 4.0
    off = run_stage("after", Subject(info, table), with_value(recipe, "camera.mode", "off"))
    assert "camera" not in off and off["after"].value.scene_box is None


def test_live_a_swaying_camera_counts_the_same(swaying_clip):
    info, _ = swaying_clip
    middle = apply(swaying(0.0), np.array([[380.0, 420.0], [380.0, 30.0]])) / SIZE
    line = LineSettings(name="Middle", points=tuple((float(x), float(y)) for x, y in middle.round(4)))
    recipe = with_value(Recipe(count=CountSettings(line=(line,))), "camera.mode", "steady")
    live, events = LiveRun(recipe, SIZE, RATE), []
    with ClipReader(info.path) as reader:
        for frame in reader.frames(0):
            step = live.step(frame)
            assert step.to_scene is not None
            events += step.events.crossings
    events += live.finish().crossings
    assert sorted(event.direction for event in events) == [-1, 1, 1]


def test_a_clip_is_written_steadied(swaying_clip, tmp_path):
    info, _ = swaying_clip
    motion = camera_of(info, CameraSettings())
    assert motion is not None
    out = tmp_path / "still.mp4"
    assert write_steadied(info, motion, out, reference=20) == info.frame_count
    with ClipReader(out) as reader:
        greys = [reader.frame(k).grey[40:-40, 40:-40].astype(float) for k in (5, 60, 110)]
    with ClipReader(info.path) as reader:
        before = [reader.frame(k).grey[40:-40, 40:-40].astype(float) for k in (5, 60, 110)]
    for k in (1, 2):
        assert np.abs(greys[k] - greys[0]).mean() < 0.55 * np.abs(before[k] - before[0]).mean()
    assert np.allclose(held_views(motion, 20)[20], np.eye(3))
    calm = calmed_views(motion, info.times)
    ways = [np.array([apply(m, np.array([[240.0, 135.0]]))[0] for m in motion.to_scene]),
            np.array([apply(s @ inverse(c), np.array([[240.0, 135.0]]))[0]
                      for s, c in zip(motion.to_scene, calm, strict=True)])]  # fmt: skip
    jerk = [np.abs(np.diff(way, n=2, axis=0)).mean() for way in ways]
    assert jerk[1] < 0.2 * jerk[0], "the camera's own way is smooth by then"
    table = tmp_path / "camera.csv"
    write_motion(table, motion.to_scene)
    assert np.allclose(read_motion(table), motion.to_scene, atol=1e-5)


def test_along_the_rim_nothing_of_the_ground_is_taken_for_a_blob():
    runs = np.array([[10, 0, 1], [11, 0, 1], [40, 60, 90], [41, 60, 90]], np.int16)
    box = np.array([[-3, 5, 90, 42], [50, 40, 90, 42]], np.float32)
    cut, counts = runs_along(runs, np.array([4, 0]), np.eye(3), (2, 2), (478, 268))
    assert counts.tolist() == [2, 0]
    assert _cut_at_rim(box, cut, counts, (478, 268)).tolist() == [[60, 40, 90, 42], [50, 40, 90, 42]]
    assert identity_motion(9, SIZE).words[0] == "The camera was followed, and stands still."


def test_the_camera_s_curves_are_those_of_its_motion():
    matrices = np.array([inverse(looking(240 + 4 * k, 135, 0.01 * k, 1 + 0.02 * k)) for k in range(20)])
    curves = motion_of(matrices).speeds(np.arange(20) / RATE)
    assert np.allclose(np.diff(curves["x"]), 4.0) and np.allclose(curves["y"], 135)
    assert np.allclose(curves["zoom"], 1 + 0.02 * np.arange(20))
    assert np.allclose(curves["turn"], np.degrees(0.01 * np.arange(20)))
    assert np.allclose(curves["speed"][1:], 4.0 * RATE)
