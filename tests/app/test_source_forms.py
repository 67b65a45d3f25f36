"""Naming a source by hand: cameras of this machine and what they are asked for, images and their rate, addresses."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QPushButton

from drover.app.preferences import change_preferences
from drover.app.sources import devices as known_devices
from drover.app.sources import forms
from drover.app.sources.forms import CameraForm, FileForm, NetworkForm

LEFT = Qt.MouseButton.LeftButton


def shown(form, qtbot):
    qtbot.addWidget(form)
    form.show()
    return form


def test_a_camera_is_chosen_and_asked_for_a_size_and_a_rate(qtbot, monkeypatch):
    monkeypatch.setattr(forms, "devices", lambda: [("/dev/video0", "Gate"), ("/dev/video2", "Yard")])
    form = shown(CameraForm(), qtbot)
    assert [form.device.itemText(k) for k in range(2)] == ["Gate (/dev/video0)", "Yard (/dev/video2)"]
    assert (form.text(), form.wanted()) == ("/dev/video0", None)
    form.device.setFocus()
    with qtbot.waitSignal(form.changed):
        qtbot.keyClick(form.device, Qt.Key.Key_Down)
    assert form.text() == "/dev/video2"
    with qtbot.waitSignal(form.changed):
        form.size.setCurrentText("1280 × 720")
    with qtbot.waitSignal(form.changed):
        form.rate.setValue(30)
    assert form.wanted() == (1280, 720, 30.0)
    form.set_text("/dev/video0")
    assert form.text() == "/dev/video0"
    form.set_text("/dev/video9")
    assert form.text() == "/dev/video0", "one that is not there cannot be chosen"


def test_without_a_camera_that_is_said_and_nothing_can_be_opened(qtbot, monkeypatch):
    monkeypatch.setattr(forms, "devices", list)
    form = shown(CameraForm(), qtbot)
    assert form.device.currentText() == "no camera found on this machine" and form.text() == ""


def test_devices_are_named_as_the_machine_names_them_in_the_order_of_their_numbers(monkeypatch):
    paths = [Path(f"/dev/video{number}") for number in (10, 2, 0)]
    monkeypatch.setattr(Path, "glob", lambda self, pattern: paths if str(self) == "/dev" else [])
    own, names = Path.read_text, {"video0": "Gate\n", "video10": "Barn\x1b[0m" + "x" * 500}

    def read(self, **how):
        if not str(self).startswith("/sys/class/video4linux"):
            return own(self, **how)
        if self.parent.name not in names:
            raise FileNotFoundError(self)
        return names[self.parent.name]

    monkeypatch.setattr(Path, "read_text", read)
    found = known_devices.devices()
    assert [path for path, _ in found] == ["/dev/video0", "/dev/video2", "/dev/video10"]
    assert [name for _, name in found][:2] == ["Gate", "video2"]
    assert found[2][1].startswith("Barn [0mxx") and len(found[2][1]) <= 80


def test_a_folder_or_a_pattern_has_its_rate_with_it_and_a_video_has_none(qtbot, tmp_path):
    form = shown(FileForm(), qtbot)
    assert not form.rate.isVisible() and form.text() == ""
    qtbot.keyClicks(form.path.lineEdit(), str(tmp_path))
    assert form.rate.isVisible() and form.text() == f"{tmp_path}@25"
    form.rate.setValue(0.5)
    assert form.text() == f"{tmp_path}@0.5"
    form.set_text(str(tmp_path / "left*.png"))
    assert form.rate.isVisible() and form.text() == str(tmp_path / "left*.png@0.5")
    form.set_text(str(tmp_path / "clip.mp4"))
    assert not form.rate.isVisible() and form.text() == str(tmp_path / "clip.mp4")
    form.set_text(f"  {tmp_path}@7 ")
    assert not form.rate.isVisible() and form.text() == f"{tmp_path}@7", "a rate that is typed is not doubled"


@pytest.mark.parametrize("chosen", [True, False])
def test_files_and_folders_are_looked_for_and_not_choosing_leaves_what_was_typed(qtbot, tmp_path, monkeypatch, chosen):
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: ("/farm/gap.mp4" if chosen else "", ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tmp_path) if chosen else "")
    form = shown(FileForm(), qtbot)
    form.set_text("typed.mp4")
    file, folder = form.findChildren(QPushButton)
    qtbot.mouseClick(file, LEFT)
    assert form.text() == ("/farm/gap.mp4" if chosen else "typed.mp4")
    qtbot.mouseClick(folder, LEFT)
    assert form.text() == (f"{tmp_path}@25" if chosen else "typed.mp4")


def test_what_was_opened_before_is_offered_where_it_belongs(qtbot):
    recent = ["/farm/gap.mp4", "tcp://127.0.0.1:9000", "/dev/video0", "/farm/shots@5"]
    change_preferences(recent=tuple(recent))
    file, network = shown(FileForm(), qtbot), shown(NetworkForm(), qtbot)
    assert [file.path.itemText(k) for k in range(file.path.count())] == ["/farm/gap.mp4", "/farm/shots@5"]
    assert [network.address.itemText(k) for k in range(network.address.count())] == ["tcp://127.0.0.1:9000"]
    assert (file.text(), network.text()) == ("", ""), "nothing is chosen unasked"
    with qtbot.waitSignal(network.changed):
        qtbot.keyClicks(network.address.lineEdit(), " tcp://127.0.0.1:1 ")
    assert network.text() == "tcp://127.0.0.1:1"
