"""The Export dialog: what is ticked is written, and reads back as what was shown."""

from __future__ import annotations

import json

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QImage
from PySide6.QtWidgets import QApplication

from drover.app.export_dialog import ExportDialog
from drover.core.formats.box_import import read_box_file
from drover.core.formats.box_rows import read_tracks
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import read_recipe
from windows import WAIT

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def dialog(opened, qtbot, tmp_path):
    """As the menu opens it, with everything ticked."""
    next(action for action in opened.findChildren(QAction) if action.text() == "E&xport…").trigger()
    made = next(w for w in QApplication.topLevelWidgets() if isinstance(w, ExportDialog) and w.isVisible())
    made.folder.setText(str(tmp_path / "out"))
    for box in made.boxes.values():
        box.setChecked(True)
    yield made
    made.close()


def test_all_that_is_ticked_is_written_and_reads_back_as_it_was_shown(dialog, opened, qtbot, tmp_path):
    session, out = opened.session, tmp_path / "out"
    qtbot.mouseClick(dialog.save, LEFT)
    qtbot.waitUntil(lambda: dialog.words.text().startswith("written"), timeout=WAIT)
    tracks, clip = session.tracks, session.clip
    # Ten columns.
    back = read_tracks(out / "tracks.csv")
    assert np.array_equal(back.identity, tracks.identity)
    assert back.box == pytest.approx(tracks.box, abs=0.02)
    assert len(read_crossings(out / "crossings.csv")) == len(session.crossings)
    # COCO JSON, by our own reader, and its identities by hand.
    size = clip.width, clip.height
    for place in (out / "tracks.json", out / "boxes"):
        read = read_box_file(place, frame_count=clip.frame_count, size=size)
        assert not read.faults
        boxes = read.detections(frame_count=clip.frame_count, size=size)
        assert np.array_equal(boxes.frame_start, tracks.frame_start)
        assert np.sort(boxes.box, axis=0) == pytest.approx(np.sort(tracks.box, axis=0), abs=0.02)
    told = json.loads((out / "tracks.json").read_text())
    assert [one["track_id"] for one in told["annotations"]] == tracks.identity.tolist()
    assert len(told["images"]) == clip.frame_count
    assert len(list((out / "boxes").glob("*.txt"))) == clip.frame_count + 1
    assert read_recipe(out / "recipe.toml") == session.recipe
    pictures = {path.stem.rpartition("-")[2]: QImage(str(path)) for path in out.glob("*.png")}
    assert sorted(pictures) == ["heat", "picture", "proof"]
    assert {(one.width(), one.height()) for name, one in pictures.items() if name != "proof"} == {size}
    assert pictures["heat"] != pictures["picture"]


def test_a_folder_that_cannot_be_written_is_said_and_nothing_to_write_cannot_be_asked_for(dialog, qtbot, tmp_path):
    (tmp_path / "file").write_text("in the way")
    dialog.folder.setText(str(tmp_path / "file" / "out"))
    qtbot.mouseClick(dialog.save, LEFT)
    qtbot.waitUntil(dialog.fault.isVisible, timeout=WAIT)
    assert str(tmp_path / "file") in dialog.fault.text()
    for box in dialog.boxes.values():
        qtbot.mouseClick(box, LEFT, pos=box.rect().center() - box.rect().topLeft())
        box.setChecked(False)
    assert not dialog.save.isEnabled()
