"""Compile every kernel once, on tiny inputs, so that nobody waits for it later.

Run as ``python -m drover.core.kernels``, which shares the work among two processes; the window does the same on a
thread of its own at start.
"""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace

import numpy as np

from drover.core.bodies.looks import cell_differences
from drover.core.bodies.necks import parts_of
from drover.core.bodies.packed import place_bodies
from drover.core.bodies.settle import settle
from drover.core.bodies.stacked import behind_one
from drover.core.camera.canvas import lay_on, runs_along, show_ground
from drover.core.camera.follower import CameraFollower
from drover.core.count.lines import count_crossings
from drover.core.count.zones import find_visits
from drover.core.detect.blobs import Blobs
from drover.core.detect.box_choice import choose_boxes, unite
from drover.core.detect.detector import Detector
from drover.core.detect.overlaps import remove_overlaps
from drover.core.detect.size_rules import join_fragments
from drover.core.detect.still import edge_strengths
from drover.core.doubt.futures import partner_of
from drover.core.doubt.moments import find_moments
from drover.core.features.binary import describe_binary
from drover.core.features.histograms import describe_gradients
from drover.core.features.matching import match
from drover.core.features.scales import DETECTORS, find_points
from drover.core.follow.follower import ThingFollower
from drover.core.follow.thing import thing_from_picture
from drover.core.footage.colours import fill_planes
from drover.core.footage.planes import expand_luma
from drover.core.footage_types import Frame
from drover.core.geometry import overlap_matrix, simplify_outline, trace_outlines
from drover.core.kernel_parts import read_only
from drover.core.live_warming import warm_live
from drover.core.recipe import (
    AfterSettings,
    BackgroundSettings,
    BodySettings,
    BoxSettings,
    CountSettings,
    DetectSettings,
    LineSettings,
    MatchSettings,
    MotionSettings,
    Recipe,
    ScoreSettings,
    SizeSettings,
    TrackSettings,
    ZoneSettings,
)
from drover.core.score.spans import score_boxes, score_result
from drover.core.simulate.farm import build_scene
from drover.core.simulate.render import Renderer
from drover.core.simulate.worlds.scenes import build_world
from drover.core.simulate.worlds.world import draw_world
from drover.core.steady_survey import borrow
from drover.core.strokes import draw_strokes
from drover.core.survey.samples import Samples
from drover.core.survey.survey import survey_of
from drover.core.track.carried_on import carry_on
from drover.core.track.explain import explain_frame
from drover.core.track.living import Living
from drover.core.track.lost import LostOnes
from drover.core.track.ride import forecast, measured_of, ride
from drover.core.track.smoothing import measured_boxes
from drover.core.track.travel import drop_flicker, drop_unmoved
from drover.core.track.usual_sizes import usual_sides
from drover.core.track.whole_clip import link_detections
from drover.core.track_rows import only_frames
from drover.core.types import LOOK, Detections, Tracks, TrackState, Truth

__all__ = ["warm_kernels"]


def warm_kernels() -> None:
    """Call every kernel once with the types it meets at work."""
    _warm_detect()
    _warm_camera()
    _warm_tables()
    _warm_track()
    _warm_live()


def _warm_detect() -> None:
    grey = np.zeros((4, 70), np.uint8)
    grey[1:3, 2:5] = 200
    out = np.zeros_like(grey)
    expand_luma(grey, out, False)
    frozen = np.frombuffer(grey.tobytes(), np.uint8).reshape(grey.shape)
    expand_luma(frozen, out, False)
    words = np.zeros((2, 2), np.uint32)
    one = np.array([[255, 0, 0, 0]])
    ends, width, broken = np.array([0, 2]), np.ones(1), np.zeros((1, 2))
    draw_strokes(words, np.array([0, 0, 2, 2]), np.zeros((2, 2), np.float32), ends, width, one, broken)
    fill_planes(words, 2, grey[:2].copy(), grey[:1].copy(), grey[:1].copy())
    runs = np.array([[1, 2, 5], [2, 2, 5]], np.int16)
    simplify_outline(trace_outlines(read_only(runs))[0], 0.5)
    simplify_outline(np.array([[0, 0], [4, 0], [4, 4], [2, 5], [0, 4]], np.float32), 0.5)
    edge_strengths(runs, grey, grey.astype(np.float32))
    large = np.array([[0, 0, 9, 9], [10, 0, 12, 2]], np.float32)
    area, count = np.array([81, 4], np.float32), np.array([1, 1], np.int64)
    join_fragments(Blobs(large, area, area, count, runs), SizeSettings(), (1280, 64))
    _warm_detector(BackgroundSettings(model="mixture", look_at="grey", threshold_in="levels", warm_up=0.08))
    _warm_detector(BackgroundSettings(look_at="colour", threshold_in="levels", warm_up=0.08))
    for look_at in ("grey", "colour"):
        _warm_detector(BackgroundSettings(look_at=look_at, warm_up=0.08), surveyed=True)
        _warm_detector(BackgroundSettings(model="mixture", look_at=look_at, warm_up=0.08))
    for model in ("running-median", "frame-difference"):
        _warm_detector(BackgroundSettings(model=model, look_at="grey", threshold_in="levels", warm_up=0.08))
    two = np.array([[0, 0, 4, 4], [0, 0, 4, 5]], np.float32)
    pair = Detections.from_boxes(np.zeros(2, np.int64), two, np.ones(2, np.float32), frame_count=1, size=(8, 8))
    unite(pair, choose_boxes(pair, BoxSettings(overlaps="drop")), BoxSettings())
    remove_overlaps(two, np.ones(2, np.float32), np.zeros(2, np.int16), most_overlap=0.5)


def _warm_detector(background: BackgroundSettings, *, surveyed: bool = False) -> None:
    """A few small frames with something in them: every kernel of Detect is called on the way."""
    chroma = np.full((2, 32, 48), 128, np.uint8)
    empty = None
    if surveyed:
        shots = np.full((9, 64, 96), 90, np.uint8)
        shots[::2, ::3] = 92
        empty = survey_of(Samples(shots, np.stack([chroma] * 9), np.arange(9) / 25)).empty
    detector = Detector(DetectSettings(background=background), (96, 64), empty)
    for index in range(8):
        grey = np.full((64, 96), 90, np.uint8)
        if index > 3:
            grey[20:50, 20:50] = 200 - index
            grey[30:34, 30:34] = 90
        detector.step(
            Frame(index, index / 25, lambda grey=grey: grey, lambda: np.zeros((64, 96, 3), np.uint8), lambda: chroma)
        )


def _warm_track() -> None:
    box = np.array([[0, 0, 4, 4]], np.float32)
    overlap_matrix(box, box)
    fixed = box.copy()
    fixed.flags.writeable = False
    overlap_matrix(box, fixed)
    overlap_matrix(fixed, box)
    for greedy in (False, True):
        _warm_tracker(TrackSettings(match=MatchSettings(assignment="greedy" if greedy else "optimal")))
    _warm_tracker(TrackSettings(motion=MotionSettings(model="turning"), after=AfterSettings(smooth=True)))


def _warm_ride(tracks: Tracks, found: Detections, times: np.ndarray) -> None:
    """The filter bench, with every filter that it may ride."""
    measured = measured_of(tracks, found, times, int(tracks.identity[0]))
    assert measured is not None
    for model in ("steady", "turning"):
        motion = MotionSettings(model=model, jumpiness=0.5, box_noise=1.5)
        forecast(measured, ride(measured, motion), motion, 0.5, int(measured.frame[0]), 2)


def _warm_drawing() -> None:
    """A picture of a farm scene and of a world: every kernel that draws. The window at start leaves this out."""
    Renderer(build_scene("gap", seconds=2.0)).draw(20)
    next(iter(draw_world(build_world("open-day"))))


def _warm_tracker(settings: TrackSettings) -> None:
    """Two that walk into each other: every kernel of Track is called on the way."""
    rows = []
    for frame in range(40):
        first, second = 20 + 2 * frame, 120 - 2 * frame
        apart = second - first > 24
        rows += [(frame, first, first + 20), (frame, second, second + 20)] if apart else [(frame, first, second + 20)]
    table = np.array(rows)
    box = np.column_stack([table[:, 1], np.full(len(table), 30), table[:, 2], np.full(len(table), 50)])
    found = Detections.from_boxes(
        table[:, 0].astype(np.int64), box.astype(np.float32), np.ones(len(table), np.float32), frame_count=40,
        size=(200, 100),
    )  # fmt: skip
    found = replace(found, look=np.full((len(table), LOOK), 9, np.uint8)).frozen()
    times = np.arange(40) / 25
    tracks = link_detections(found, times, 25.0, settings)
    drop_unmoved(drop_flicker(tracks, found, times), 1.0)
    carry_on(only_frames(tracks, (0, 30)), found, times)
    settle(found, 2 * times, 12.5, BodySettings())
    paths, seen = tracks.paths, tracks.state != TrackState.COASTING
    usual_sides(paths.start, paths.row, measured_boxes(tracks, found), seen)
    wide = read_only(np.array([(y, 0, 30) for y in range(20)], np.int16))
    place_bodies(wide, np.array([20.0, 0.0]), np.array([10.0, 0.0]), 1.0)
    behind_one(wide, np.array([20.0, 0.0]), np.array([10.0, 0.0]))
    parts_of(wide)
    grey = np.ones((9, 9), np.uint8)
    cell_differences(grey, grey, grey, np.arange(9.0), np.arange(9.0), (1.0, 1.0))
    explain_frame(found, tracks, times, 25.0, settings, 38)
    _warm_ride(tracks, found, times)
    lost = LostOnes(8.0, 0.1)
    living = Living()
    living.count = 1
    living.believed[0] = True
    lost.lose(living, np.ones(1, np.bool_))
    living.born_at[0] = 1.0
    lost.returned(living, 0, 2.0)
    living.keep(np.zeros(1, np.bool_))


def _warm_camera() -> None:
    """A picture that moves by some px, and a thing on it: every kernel of points, of the camera and of following."""
    rng = np.random.default_rng(1)
    small = rng.integers(0, 255, (60, 80)).astype(np.uint8)
    large = np.ascontiguousarray(np.kron(small, np.ones((4, 4), np.uint8)))
    after = np.ascontiguousarray(np.roll(large, 2, axis=1))
    follower = CameraFollower((320, 240))
    for time, grey in enumerate((large, after)):
        follower.step(grey, 0.04 * time)
    for name in DETECTORS:
        points = find_points(large, name, most=60, rungs=2)
        for describe in (describe_binary, describe_gradients):
            match(describe(large, points), describe(large, points))
    plane, tilt = large.copy(), np.array([[1.0, 0.0, 1.0], [0.0, 1.0, 1.0], [1e-6, 0.0, 1.0]])
    for back in (np.eye(3), tilt):
        lay_on(large, back, np.zeros(large.shape, np.float32), plane)
    show_ground(large > 200, np.zeros(large.shape, np.float32), plane)
    runs_along(np.array([[2, 1, 5]], np.int16), np.ones(1, np.int64), np.eye(3), (0, 0), (9, 9))
    borrow(np.zeros((2, 4, 4), np.uint8), np.eye(4, dtype=np.uint8)[None].repeat(2, 0))
    thing = ThingFollower(thing_from_picture(large), (320, 240), np.eye(3))
    for time, grey in enumerate((large, after)):
        thing.step(grey, 0.04 * time)


def _warm_tables() -> None:
    """Two walks across each other as a finished table: every kernel of Count, of Score and of the moments."""
    frames = 40
    left, right = 2.0 * np.arange(frames), 80.0 - 2.0 * np.arange(frames)
    x = np.column_stack([left, right]).ravel()
    rows = len(x)
    box = np.column_stack([x, np.full(rows, 30), x + 20, np.full(rows, 50)]).astype(np.float32)
    plain, numbers = np.ones(rows, np.float32), np.arange(rows, dtype=np.int32)
    tracks = Tracks(
        np.arange(frames + 1, dtype=np.int64) * 2, np.tile(np.array([1, 2], np.int32), frames), box,
        np.ones(rows, np.int8), numbers, plain, np.zeros(rows, np.int16), plain, np.zeros(0, np.float32), (120, 100),
        margin=plain, nis=plain,
    )  # fmt: skip
    times = np.arange(frames) / 25
    _warm_count(tracks, times)
    _warm_score(tracks)
    look = np.full((rows, LOOK), 9, np.uint8)
    find_moments(tracks, times, look=look)
    partner_of(tracks, times, look, "begin", 1, (1,))


def _warm_count(tracks: Tracks, times: np.ndarray) -> None:
    """A line crossed twice and a zone: every kernel of Count."""
    points = [(0.3, 0.0), (0.3, 1.0)]
    bent = LineSettings(name="a", points=(*points, (0.7, 1.0), (0.7, 0.0)))
    zone = ZoneSettings(name="z", points=((0.2, 0.0), (0.8, 0.0), (0.8, 1.0)))
    area = zone.model_copy(update={"name": "y", "inside_by": "area"})
    settings = CountSettings(line=(bent,), zone=(zone, area))
    count_crossings(tracks, times, settings)
    find_visits(tracks, times, settings)


def _warm_score(tracks: Tracks) -> None:
    """The tracks held against themselves."""
    rows, ones = len(tracks), np.ones(len(tracks), np.float32)
    truth = Truth(
        tracks.frame_start, tracks.identity, tracks.box, np.ones(rows, np.bool_), np.zeros(rows, np.int16), ones
    )
    score_result(tracks, truth, ScoreSettings())
    frame = np.repeat(np.arange(tracks.frame_count), np.diff(tracks.frame_start))
    found = Detections.from_boxes(frame, tracks.box, ones, frame_count=tracks.frame_count, size=tracks.size)
    for boxes in (found, found.frozen()):
        score_boxes(boxes, truth, ScoreSettings())


def _warm_live() -> None:
    warm_live(Recipe(count=CountSettings(line=(LineSettings(name="Line", points=((0.5, 0.9), (0.5, 0.1))),))))


def _compile_in_two() -> None:
    """Both halves at once, each in a process of its own: compiling keeps one core busy for minutes."""
    with ProcessPoolExecutor(2) as pool:
        for half in [
            pool.submit(work) for work in (_warm_track, _warm_detect, _warm_camera, _warm_tables, _warm_drawing)
        ]:
            half.result()
    _warm_live()  # little that the halves have not compiled


if __name__ == "__main__":
    _compile_in_two()
