"""A batch from the window: clips chosen, tried, worked through, and one opened to be checked."""

from __future__ import annotations

import csv

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog, QMessageBox

from drawn import draw_clip
from drover.app.batch.dialog import BatchDialog
from drover.core.examples import example
from drover.core.recipe import read_recipe
from windows import WAIT

SHORT = example("gap-short")
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def folder(tmp_path):
    place = tmp_path / "clips"
    place.mkdir()
    for name in ("clip 2.mp4", "clip 10.mp4"):
        draw_clip(place / name)
    (place / "clip 11.mp4").write_bytes(b"broken")
    return place


def rows(dialog) -> list[dict[str, str]]:
    """The table as it is read on screen."""
    model = dialog.view.model()
    columns = [model.headerData(k, Qt.Orientation.Horizontal) for k in range(model.columnCount())]
    return [
        {name: model.index(row, k).data() for k, name in enumerate(columns)} for row in range(model.rowCount())
    ]  # fmt: skip


def test_clips_are_tried_then_worked_through_then_opened(folder, qtbot, monkeypatch):
    monkeypatch.setattr(QMessageBox, "question", lambda *_: QMessageBox.StandardButton.Ok)
    dialog = BatchDialog(read_recipe(SHORT.recipe))
    qtbot.addWidget(dialog)
    dialog.show()
    assert not dialog.start.isEnabled()
    dialog.workers.setValue(1)  # two are tested without windows, which need their memory
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(folder))
    next(b for b in dialog.findChildren(type(dialog.start)) if b.text() == "Folder…").click()
    assert [row["clip"] for row in rows(dialog)] == ["clip 2.mp4", "clip 10.mp4", "clip 11.mp4"]
    qtbot.mouseClick(dialog.try_some, LEFT)
    qtbot.waitUntil(lambda: dialog.start.isEnabled(), timeout=WAIT)
    tried = rows(dialog)
    assert [row["state"] for row in tried] == ["tried"] * 3
    assert "is not a video" in tried[2]["note"]
    assert not (folder.parent / "clips-results").exists(), "a try writes nothing"
    qtbot.mouseClick(dialog.start, LEFT)
    qtbot.waitUntil(dialog.start.isEnabled, timeout=WAIT)
    assert "2 done, 1 failed" in dialog.words.text()
    done = rows(dialog)
    assert [row["state"] for row in done] == ["done", "done", "failed"]
    with (folder.parent / "clips-results" / "batch.csv").open() as file:
        written = list(csv.DictReader(file))
    for shown, row in zip(done, written, strict=True):
        assert [shown[f"Gap {way}"] for way in ("forward", "back")] == [
            row[f"Gap {way}"] for way in ("forward", "back")
        ]
    assert done[0]["Gap forward"] == tried[0]["Gap forward"] != ""
    dialog.view.selectRow(2)
    assert not dialog.open.isEnabled(), "a clip that failed has no project"
    dialog.view.selectRow(1)
    with qtbot.waitSignal(dialog.project_wanted) as wanted:
        qtbot.mouseClick(dialog.open, LEFT)
    assert wanted.args[0].exists()
    # Once more: nothing is done again.
    qtbot.mouseClick(dialog.start, LEFT)
    qtbot.waitUntil(dialog.start.isEnabled, timeout=WAIT)
    assert [row["state"] for row in rows(dialog)] == ["done before", "done before", "failed"]
    dialog.close()


def test_the_menu_opens_it_with_the_recipe_of_the_window_and_a_folder_without_videos_is_said(opened, qtbot, tmp_path):
    next(action for action in opened.findChildren(QAction) if "many clips" in action.text()).trigger()
    dialog = opened.asking.batch_dialog
    assert dialog.recipe == opened.session.recipe
    dialog.take([tmp_path])
    assert "holds no video" in dialog.fault.text()
    assert not dialog.start.isEnabled()
    dialog.close()
