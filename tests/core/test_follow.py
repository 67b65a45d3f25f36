"""One thing followed by its look: against exact outlines, hidden and back, refused where there is nothing to know."""

from __future__ import annotations

import numpy as np
import pytest
from builders import tracks_of

from drover.core.errors import DroverError, FootageError, RecipeError
from drover.core.features.models import apply, fit_pairs
from drover.core.follow.follower import ThingFollower
from drover.core.follow.forecast import Forecast
from drover.core.follow.shape import shapely
from drover.core.follow.steps import FollowState
from drover.core.follow.table import FollowedThing, with_things, write_followed
from drover.core.follow.thing import thing_from_box, thing_from_picture
from drover.core.follow.why_lost import Looks, why_lost
from drover.core.follow_pass import follow_things
from drover.core.footage.reader import ClipReader
from drover.core.footage.writer import ClipWriter
from drover.core.graph import Call, Subject, run_stage
from drover.core.recipe import FollowedSettings, FollowSettings, Recipe, with_value
from drover.core.result_store import ResultStore
from drover.core.simulate.moving.paint import sign
from drover.core.types import TrackState
from moving import RATE, SIZE, ground, looking, seen

BOARD = sign((160, 100)).mean(axis=2)
FIELD = seen(ground(), looking(380, 230)).astype(np.float64)
POST = seen(ground(21), looking(300, 200))
HIDDEN = (40, 60)  # frames behind the post


def corners_at(frame: int) -> np.ndarray:
    """The board goes right, turns, slants and comes nearer."""
    t = frame / RATE
    zoom, turn = 0.55 + 0.17 * t, 0.25 * np.sin(1.5 * t)
    flat = np.array([[-80, -50], [80, -50], [80, 50], [-80, 50]]) * zoom
    flat = flat / (1 + flat[:, :1] * 0.0012 * np.sin(0.9 * t))
    c, s = np.cos(turn), np.sin(turn)
    return flat @ np.array([[c, s], [-s, c]]) + (120 + 45 * t, 135 + 12 * np.sin(2 * t))


def picture(frame: int) -> np.ndarray:
    out, there = FIELD.copy(), corners_at(frame)
    back = fit_pairs("projective", there, np.array([[0, 0], [160, 0], [160, 100], [0, 100]], np.float64))
    (left, top), (right, bottom) = np.clip([there.min(axis=0) - 1, there.max(axis=0) + 1], 0, SIZE).astype(int)
    y, x = np.mgrid[top:bottom, left:right] + 0.5
    own = apply(back, np.column_stack([x.ravel(), y.ravel()])).reshape(*x.shape, 2)
    inside = ((own > 0) & (own < (160, 100))).all(axis=2)
    cols, rows = np.clip(own[..., 0], 0, 159.99).astype(int), np.clip(own[..., 1], 0, 99.99).astype(int)
    out[top:bottom, left:right][inside] = BOARD[rows, cols][inside]
    if HIDDEN[0] <= frame < HIDDEN[1]:
        low, high = there.min(axis=0).astype(int) - 8, there.max(axis=0).astype(int) + 8
        part = np.s_[max(low[1], 0) : high[1], max(low[0], 0) : high[0]]
        out[part] = POST[part]
    noise = np.random.default_rng(frame).normal(0, 1.5, out.shape)
    return np.clip(out + noise, 0, 255).astype(np.uint8)


@pytest.fixture(scope="module")
def marked():
    """The thing as it is marked in the first picture, and where its outline lies in the box."""
    first, there = picture(0), corners_at(0)
    box = (*there.min(axis=0), *there.max(axis=0))
    thing = thing_from_box(first, box)
    pose = np.eye(3)
    pose[:2, 2] = box[:2] - thing.outline[0]
    return thing, pose, there - (np.array(box[:2]) - thing.outline[0])


def test_it_is_followed_hidden_and_found_again(marked):
    thing, pose, own = marked
    follower, off, states = ThingFollower(thing, SIZE, pose), [], []
    for frame in range(110):
        step = follower.step(picture(frame), frame / RATE)
        states.append(step.state)
        if step.state == FollowState.SEEN:
            assert step.outline is not None and step.sure > 0.2 and len(step.points) == len(step.agrees)
            moved = fit_pairs("projective", thing.outline, step.outline)
            off.append(np.hypot(*(apply(moved, own) - corners_at(frame)).T).max())
        elif step.state == FollowState.HIDDEN:
            assert step.outline is not None and step.reason and step.sure == 0
            assert np.hypot(*(step.outline.mean(axis=0) - corners_at(frame).mean(axis=0))) < 60
    assert np.median(off) <= 3.0 and np.quantile(off, 0.9) < 6.0
    assert all(state == FollowState.SEEN for state in states[:38])
    assert all(state != FollowState.SEEN for state in states[HIDDEN[0] + 2 : HIDDEN[1]])
    back = next(k for k in range(HIDDEN[1], 110) if states[k] == FollowState.SEEN)
    assert back - HIDDEN[1] <= 0.5 * RATE, "within half a second"
    assert sum(state == FollowState.SEEN for state in states[back:]) >= 0.9 * (110 - back)


def test_at_five_pictures_a_second_its_forecast_goes_as_fast_as_it_went(marked):
    thing, pose, _ = marked
    follower = ThingFollower(thing, SIZE, pose)
    for frame in range(0, 60, 5):
        step = follower.step(picture(frame), frame / RATE)
        if frame < HIDDEN[0]:
            assert step.state == FollowState.SEEN
        else:
            assert step.state == FollowState.HIDDEN and step.outline is not None
            assert np.hypot(*(step.outline.mean(axis=0) - corners_at(frame).mean(axis=0))) < 25


def test_from_a_picture_it_is_looked_for_everywhere():
    thing = thing_from_picture(np.clip(BOARD, 0, 255).astype(np.uint8))
    follower = ThingFollower(thing, SIZE)
    steps = [follower.step(picture(k), k / RATE) for k in range(24)]
    assert steps[0].state in (FollowState.LOST, FollowState.SEEN)
    found = [k for k, step in enumerate(steps) if step.state == FollowState.SEEN]
    assert found and found[0] <= 12
    last = steps[found[-1]].outline
    assert last is not None and np.hypot(*(last - corners_at(found[-1])).T).max() < 5
    nothing = ThingFollower(thing, SIZE)
    for k in range(12):
        step = nothing.step(np.clip(FIELD, 0, 255).astype(np.uint8), k / RATE)
    assert step.state == FollowState.LOST and step.outline is None and step.reason


@pytest.mark.parametrize(
    ("box", "words"),
    [
        ((200, 30, 290, 90), "patch of plain ground"), ((10, 10, 10, 10), "too small"), ((10, 10, 18, 60), "too small"),
        ((float("nan"), 0, 5, 5), "lies nowhere"), ((-90, -90, -20, -20), "too small"),
    ],
)  # fmt: skip
def test_a_box_that_shows_nothing_is_refused_with_the_reason(box, words):
    with pytest.raises(DroverError, match=words):
        thing_from_box(np.clip(FIELD, 0, 255).astype(np.uint8), box)


def test_plain_tiny_and_huge_pictures_are_refused():
    for grey, words in (
        (np.full((90, 90), 80, np.uint8), "plain"), (np.zeros((6, 300), np.uint8), "too small"),
        (np.zeros((5000, 40), np.uint8), "at most"),
    ):  # fmt: skip
        with pytest.raises(DroverError, match=words):
            thing_from_picture(grey)


def test_why_it_was_lost_is_told_from_how_it_was_and_is():
    square = np.array([[0, 0], [80, 0], [80, 60], [0, 60]], np.float64)
    well, there = Looks(120, 20), square + 100
    assert "left" in why_lost(square + np.array([2000, 0]), square, well, well, SIZE)
    assert "small" in why_lost(square * 0.2 + 100, square, well, well, SIZE)
    assert "turned" in why_lost(there * (0.12, 1) + (100, 0), square, well, well, SIZE)
    assert "light" in why_lost(there, square, well, Looks(40, 18), SIZE)
    assert "blurred" in why_lost(there, square, well, Looks(118, 5), SIZE)
    assert why_lost(there, square, well, Looks(118, 19), SIZE) == "hidden"


def test_a_forecast_goes_on_and_grows_unsure():
    forecast = Forecast(np.array([10.0, 20.0]), 40.0)
    for k in range(1, 40):
        forecast.predict(0.04)
        forecast.take(np.array([10.0 + 3 * k, 20.0 - k]), 40.0 * 1.01**k)
    sure = forecast.doubt
    middle, size = forecast.predict(0.2, unseen=True)
    assert np.allclose(middle, [127 + 15, -19 - 5], atol=3) and size > 40 * 1.01**39
    assert forecast.doubt > 3 * sure


# --- in the graph ------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def board_clip(tmp_path_factory):
    path = tmp_path_factory.mktemp("board") / "board.mp4"
    with ClipWriter(path, width=SIZE[0], height=SIZE[1], rate=RATE, quality=16, preset="fast") as writer:
        for frame in range(90):
            writer.add(np.repeat(picture(frame)[..., None], 3, axis=2))
    with ClipReader(path) as reader:
        return reader.info


def recipe_with(*things: FollowedSettings) -> Recipe:
    return with_value(Recipe(), "follow.thing", [thing.model_dump(mode="json") for thing in things])


def test_what_is_followed_becomes_an_identity_that_is_counted(board_clip, tmp_path):
    there = corners_at(20)
    low, high = there.min(axis=0) / SIZE, there.max(axis=0) / SIZE
    board = FollowedSettings(name="Board", time=20 / RATE, box=(low[0], low[1], high[0], high[1]))
    grass = FollowedSettings(name="Grass", time=0.0, box=(0.7, 0.1, 0.9, 0.3))
    recipe = recipe_with(board, grass)
    line = {"name": "Middle", "points": [[0.4, 1.0], [0.4, 0.0]], "reference": "centre"}
    recipe = with_value(recipe, "count.line", [line])
    store = ResultStore(tmp_path / "store")
    made = run_stage("count", Subject(board_clip), recipe, call=Call(store))
    thing, refused = made["follow"].value
    assert "plain ground" in refused.refused and not refused.seen.any()
    assert thing.seen[:38].mean() > 0.85, "before the box was drawn as well"
    assert thing.seen[70:].mean() > 0.9 and not thing.seen[HIDDEN[0] + 3 : HIDDEN[1]].any()
    tracks = made["edits"].value.tracks
    who = int(tracks.identity.max())
    rows = tracks.path_of(who)
    assert {tracks.class_names[k] for k in tracks.class_id[rows]} == {"Board"}
    assert (tracks.state[rows] == TrackState.COASTING).any() and (tracks.detection[rows] == -1).all()
    crossings = made["count"].value.crossings
    mine = crossings.direction[crossings.identity == who].tolist()
    assert mine == [1]
    overlapping = [i for i in np.unique(tracks.identity).tolist() if i != who and _beside(tracks, i, rows) > 0.5]
    assert not overlapping, "the same body is not there twice"
    kept = follow_things(board_clip, recipe.follow, key=made["follow"].key, store=store)
    assert np.array_equal(kept[0].outline, thing.outline, equal_nan=True) and kept[1].refused == refused.refused
    write_followed(tmp_path / "followed.csv", kept)
    table = (tmp_path / "followed.csv").read_text().splitlines()
    assert table[0].startswith("thing,frame,x1") and len(table) - 1 == int(np.isfinite(thing.outline[:, 0, 0]).sum())


def _beside(tracks, who: int, rows: np.ndarray) -> float:
    """In what share of its frames an identity lies on the boxes of some rows."""
    boxes = {int(tracks.frame[row]): tracks.box[row] for row in rows}
    own, hits = tracks.path_of(who), 0
    for row in own:
        other = boxes.get(int(tracks.frame[row]))
        if other is not None:
            low, high = np.maximum(other[:2], tracks.box[row][:2]), np.minimum(other[2:], tracks.box[row][2:])
            hits += np.maximum(high - low, 0).prod() > 0.5 * (other[2:] - other[:2]).prod()
    return hits / len(own)


def test_things_of_a_picture_file_and_names_that_clash(board_clip, tmp_path):
    missing = follow_things(board_clip, FollowSettings(thing=(FollowedSettings(name="x", picture="/no/such.png"),)))
    assert "is not there" in missing[0].refused
    (tmp_path / "bad.png").write_bytes(b"no picture")
    bad = FollowSettings(thing=(FollowedSettings(name="x", picture=str(tmp_path / "bad.png")),))
    assert follow_things(board_clip, bad)[0].refused
    with pytest.raises(FootageError):
        from drover.core.footage.images import read_grey

        read_grey(tmp_path / "none.png")
    with pytest.raises(RecipeError, match="two things are called"):
        recipe_with(FollowedSettings(name="a"), FollowedSettings(name="a"))
    assert follow_things(board_clip, FollowSettings()) == ()


def test_an_identity_that_is_the_thing_makes_room_for_it():
    frames, n = 10, np.full(10, 0.9, np.float32)
    outline = np.array([[[20 + k, 20], [40 + k, 20], [40 + k, 50], [20 + k, 50]] for k in range(frames)], np.float64)
    outline[7:] = np.nan
    state = np.where(np.arange(frames) < 6, FollowState.SEEN, FollowState.HIDDEN).astype(np.int8)
    thing = FollowedThing("Cart", outline, state, n, {6: "hidden"})
    same = [(k, 4, (21 + k, 21, 40 + k, 50)) for k in range(frames - 3)]
    other = [(k, 2, (60, 60, 80, 90)) for k in range(frames)]
    made = with_things(tracks_of(same + other, frames, size=(100, 100)), (thing,))
    assert np.unique(made.identity).tolist() == [2, 5] or np.unique(made.identity).tolist() == [2, 3]
    rows = made.path_of(int(made.identity.max()))
    assert made.frame[rows].tolist() == list(range(7))
    assert made.state[rows].tolist() == [TrackState.CONFIRMED] * 6 + [TrackState.COASTING]
    assert np.allclose(made.box[rows[3]], [23, 20, 43, 50]) and made.class_names == ("object", "Cart")


def test_an_outline_goes_round_as_the_thing_does_and_no_side_is_out_of_measure():
    own = np.array([[0, 0], [40, 0], [40, 20], [0, 20]], np.float64)
    assert shapely(own, own)
    assert shapely(3 * own + 7, own)
    assert not shapely(own[::-1], own)  # seen from behind
    assert not shapely(own[[0, 2, 1, 3]], own)  # sides that cross
    dented = own.copy()
    dented[2] = 10, 5
    assert not shapely(dented, own)
    flat = own * [1.0, 0.01]
    assert not shapely(flat, own)  # a hundredth as high: nobody could see it
    tilted = own + np.array([[0, 0], [0, 4], [0, -4], [0, 0]])
    assert shapely(tilted, own)
