"""Videos of the field: what is drawn is what the field shows; written whole or not at all."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QColor
from PySide6.QtWidgets import QApplication

from drover.app.field.scene import draw_scene
from drover.app.field.tracks_layer import TracksLayer
from drover.app.images import pixels_of, rgb_image
from drover.app.theme import identity_colour
from drover.app.video import VideoWish, can_be_drawn, write_video
from drover.app.video_dialog import VideoDialog
from drover.cli.video import export_result
from drover.core.errors import Cancelled, DroverError
from drover.core.examples import example
from drover.core.footage.reader import ClipReader
from drover.core.recipe import CountSettings, LineSettings, Recipe, read_recipe
from drover.core.types import Tracks
from windows import WAIT, up_to_date

SHORT = example("gap-short")
LEFT = Qt.MouseButton.LeftButton


def drawn(opened, frame: int, shown: set[str]) -> np.ndarray:
    """A frame as a video has it, before it is coded."""
    with ClipReader(SHORT.clip) as reader:
        image = rgb_image(reader.frame(frame).rgb)
    draw_scene(image, opened.field.scene(opened.session.clip), shown, frame, TracksLayer())
    return bytes_of(image)


def bytes_of(image) -> np.ndarray:
    """Blue, green and red of a 32-bit picture, (height, width, 3)."""
    return pixels_of(image).copy().view(np.uint8).reshape(image.height(), image.width(), 4)[:, :, :3]


def frames_of(path: Path) -> list[np.ndarray]:
    with ClipReader(path) as reader:
        return [frame.rgb[:, :, ::-1].copy() for frame in reader.frames()]


@pytest.mark.parametrize("shown", [{"Outlines", "Numbers", "Trails", "Forecast"}, {"Mask", "Detections", "Truth"}])
@pytest.mark.parametrize("frame", [60, 97, 203])
def test_what_is_drawn_is_pixel_by_pixel_what_the_field_shows(opened, qtbot, shown, frame):
    opened.session.select(None)
    opened.field.shown = set(shown)
    opened.session.set_frame(frame)
    qtbot.waitUntil(lambda: opened.field.drawn_frame == frame, timeout=WAIT)
    field = bytes_of(opened.field.picture())
    np.testing.assert_array_equal(drawn(opened, frame, shown), field)
    plain = drawn(opened, frame, set())
    assert (plain != field).any(axis=2).mean() > 0.001, "something was drawn"


def test_letters_can_be_larger_and_the_time_can_stand_in_a_corner(opened):
    scene, shown = opened.field.scene(opened.session.clip), {"Numbers", "Outlines"}
    with ClipReader(SHORT.clip) as reader:
        plain, usual, large, timed = (rgb_image(reader.frame(97).rgb) for _ in range(4))
    draw_scene(usual, scene, shown, 97, TracksLayer())
    draw_scene(large, scene, shown, 97, TracksLayer(), text=2.0)
    draw_scene(timed, scene, shown, 97, TracksLayer(), clock=True)
    touched = [(bytes_of(one) != bytes_of(plain)).any(axis=2) for one in (usual, large)]
    assert touched[1].sum() > 1.5 * touched[0].sum()
    rows, columns = np.nonzero((bytes_of(timed) != bytes_of(usual)).any(axis=2))
    assert rows.min() > 320 and columns.max() < 250, "nothing but the corner has changed"


def test_no_number_lies_under_the_counts_of_a_line(opened):
    scene, tracks = opened.field.scene(opened.session.clip), opened.session.tracks
    rows = tracks.rows_of(97)
    row = rows.start + int(np.abs(tracks.box[rows, 1] - 160).argmin())  # where there is room above and below
    at_the_rim = tracks.box.copy()
    at_the_rim[row, 3] = 358.0
    x1, top, x2, foot = tracks.box[row].tolist()
    tint = [QColor(identity_colour(int(tracks.identity[row]))).getRgb()[k] for k in (2, 1, 0)]

    def numbers(at: float, tracks: Tracks) -> list[int]:
        """Pixels of the number's colour above the head and below the feet, beside a line whose upper end is there."""
        line = LineSettings(points=((at / 640, top / 360), (at / 640 + 0.1, 0.99)), name="a")
        seen = replace(scene, count=CountSettings(line=(line,)), tracks=tracks)
        with ClipReader(SHORT.clip) as reader:
            image = rgb_image(reader.frame(97).rgb)
        draw_scene(image, seen, {"Numbers"}, 97, TracksLayer())
        same = (bytes_of(image) == tint).all(axis=2)[:, int(x1) : int(x2)]
        return [int(same[int(a) : int(b)].sum()) for a, b in ((top - 20, top - 3), (foot + 3, foot + 20))]

    above, below = numbers(x1 - 200 if x1 > 300 else x1 + 200, tracks)
    assert above > 30 and below == 0
    above, below = numbers((x1 + x2) / 2, tracks)
    assert above == 0 and below > 30
    above, _ = numbers((x1 + x2) / 2, replace(tracks, box=at_the_rim))
    assert above > 0, "half under a count it is better seen than below the picture"


def dialog_of(opened, qtbot) -> VideoDialog:
    """The dialog that the menu opens."""
    next(action for action in opened.findChildren(QAction) if "video" in action.text()).trigger()
    qtbot.waitUntil(lambda: any(isinstance(w, VideoDialog) for w in QApplication.topLevelWidgets()), timeout=WAIT)
    return next(w for w in QApplication.topLevelWidgets() if isinstance(w, VideoDialog) and w.isVisible())


@pytest.mark.own_window
def test_a_marked_part_is_saved_at_four_times_the_speed_from_the_menu(opened, qtbot, tmp_path):
    opened.session.set_span((50, 110))
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)  # what is written is what is shown then
    opened.field.shown = {"Outlines", "Numbers", "Difference"}
    dialog = dialog_of(opened, qtbot)
    assert "1:" not in dialog.length.text() and dialog.part.currentData() == (50, 110), "the marked part is offered"
    assert any(
        word in line.text() for line in dialog.findChildren(type(dialog.words)) for word in ("Not drawn: difference",)
    )
    dialog.name.setText(str(tmp_path / "short"))
    dialog.speed.setCurrentIndex(2)
    qtbot.mouseClick(dialog.save, LEFT)
    qtbot.waitUntil(lambda: dialog.written is not None, timeout=WAIT)
    assert dialog.written == tmp_path / "short.mp4" and "15 pictures" in dialog.words.text()
    assert not list(tmp_path.glob(".*")), "no draft is left"
    got = frames_of(dialog.written)
    assert len(got) == 15
    for place in (0, 7, 14):
        want = drawn(opened, 50 + 4 * place, {"Outlines", "Numbers"}).astype(float)
        bare = drawn(opened, 50 + 4 * place, set()).astype(float)
        off = np.abs(got[place].astype(float) - want).mean()
        assert off < 6.0 and off < np.abs(got[place].astype(float) - bare).mean(), "coding loses little"
    qtbot.mouseClick(dialog.leave, LEFT)


def test_a_video_that_is_stopped_leaves_what_was_there(opened, tmp_path):
    target = tmp_path / "kept.mp4"
    target.write_bytes(b"what was there before")
    scene, told = opened.field.scene(opened.session.clip), []
    wish = VideoWish(target, frozenset({"Outlines"}), 0, 250)
    with pytest.raises(Cancelled):
        write_video(scene, wish, on_progress=told.append, cancelled=lambda: len(told) > 1)
    assert target.read_bytes() == b"what was there before"
    assert not list(tmp_path.glob(".*")), "no draft is left"
    assert told[0].total == 250 and 0 < told[0].done < 250 and told[0].seconds_left > 0


@pytest.mark.parametrize(
    ("name", "span", "words"),
    [("a.avi", (0, 9), "ends in .mp4 or .webm"), ("a.mp4", (9, 9), "no picture in the span"),
     ("missing/a.mp4", (0, 9), "choose another"), ("a.mp4", (4000, 5000), "no picture of the span")],
)  # fmt: skip
def test_a_video_that_cannot_be_is_one_plain_line(opened, tmp_path, name, span, words):
    wish = VideoWish(tmp_path / name, frozenset(), *span)
    with pytest.raises(DroverError, match=words) as told:
        write_video(opened.field.scene(opened.session.clip), wish)
    assert "\n" not in str(told.value) and ".part" not in str(told.value)
    assert not [*tmp_path.glob("a.*"), *tmp_path.glob(".*")]


def test_a_fault_is_shown_in_the_dialog_and_it_can_be_tried_again(opened, qtbot, tmp_path):
    dialog = dialog_of(opened, qtbot)
    dialog.name.setText(str(tmp_path / "nowhere" / "a.mp4"))
    qtbot.mouseClick(dialog.save, LEFT)
    qtbot.waitUntil(lambda: not dialog.fault.isHidden(), timeout=WAIT)
    assert "choose another" in dialog.fault.text() and dialog.save.isEnabled() and not dialog.stop.isEnabled()
    dialog.close()


@pytest.mark.own_window
def test_a_window_that_closes_stops_its_video_and_leaves_no_draft(opened, qtbot, tmp_path):
    dialog = dialog_of(opened, qtbot)
    dialog.name.setText(str(tmp_path / "long.mp4"))
    qtbot.mouseClick(dialog.save, LEFT)
    qtbot.waitUntil(lambda: dialog.bar.value() > 0, timeout=WAIT)
    opened.close()
    assert not [*tmp_path.glob("long*"), *tmp_path.glob(".*")]


def test_layers_that_detect_would_have_to_make_anew_are_left_out():
    assert can_be_drawn({"Outlines", "Difference", "Raw mask", "Time spent"}) == {"Outlines", "Time spent"}


@pytest.mark.usefixtures("known_example", "qapp")
def test_the_command_works_a_clip_through_and_writes_webm(tmp_path):
    video = tmp_path / "out" / "short.webm"
    recipe = read_recipe(SHORT.recipe)
    usual = {"video": video, "out": None, "what": "", "show": "", "start": 0.0, "end": None, "speed": 1}
    span = {"start": 1.0, "end": 2.0, "speed": 5}
    written = export_result(SHORT.clip, recipe, **{**usual, **span, "show": "outlines, Numbers"})
    assert written == [f"{video}: 6 pictures"] and len(frames_of(video)) == 6
    wrongs = (
        ({"show": "legs"}, "no 'legs'"), ({"start": 99.0}, "no picture from 99 s"), ({"what": "x"}, "no 'x'"),
        ({"video": None}, "nothing is asked for"), ({"video": tmp_path / "a.avi"}, "ends in"),
    )  # fmt: skip
    for wrong, words in wrongs:
        with pytest.raises(DroverError, match=words):
            export_result(SHORT.clip, Recipe(), **{**usual, **wrong})
