"""Files that the menu asks for or that are dropped: what they do, and what is said of those that will not do."""

from __future__ import annotations

import errno
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtWidgets import QAbstractButton, QFileDialog, QMessageBox

from drover.core.examples import example
from drover.core.recipe import dump_recipe, read_recipe, with_value
from windows import WAIT, up_to_date

SHORT = example("gap-short")


@pytest.fixture
def answer(monkeypatch):
    """What the next question for a file is answered with."""
    given = [""]
    for name in ("getOpenFileName", "getSaveFileName"):
        monkeypatch.setattr(QFileDialog, name, lambda *_, **__: (given[0], ""))

    def say(path: Path | str) -> None:
        given[0] = str(path)

    return say


def said(window) -> str:
    text = window.banner.label.text()
    window.banner.hide()
    return text


def test_truth_and_true_crossings_are_brought_in_and_taken_out_again(opened, qtbot, answer, tmp_path):
    session, truth, crossings = opened.session, opened.session.truth, opened.session.true_crossings
    rows = Path(SHORT.truth).read_text().splitlines()
    (tmp_path / "half.csv").write_text("\n".join([rows[0], *rows[1::2]]) + "\n")
    answer(tmp_path / "half.csv")
    opened.asking.truth()
    qtbot.waitUntil(lambda: session.truth is not truth and up_to_date(opened), timeout=WAIT)
    assert len(session.truth) == len(rows[1::2])
    assert session.true_crossings is crossings, "what there is stays: once it went away with the truth"
    rows = Path(SHORT.crossings).read_text().splitlines()
    (tmp_path / "fewer.csv").write_text("\n".join(rows[:-2]) + "\n")
    answer(tmp_path / "fewer.csv")
    opened.asking.true_crossings()
    qtbot.waitUntil(lambda: session.true_crossings is not crossings, timeout=WAIT)
    assert len(session.true_crossings) == len(crossings) - 2
    session.undo.undo()
    session.undo.undo()
    qtbot.waitUntil(lambda: session.truth is not None and len(session.truth) == len(truth), timeout=WAIT)
    assert np.array_equal(session.true_crossings.time, crossings.time)


@pytest.mark.parametrize("ask", ["truth", "true_crossings", "recipe", "boxes"])
def test_a_question_left_alone_changes_nothing_and_a_wrong_file_is_one_line(opened, qtbot, answer, tmp_path, ask):
    document = opened.session.document
    answer("")
    getattr(opened.asking, ask)()
    assert opened.session.document is document and not opened.banner.isVisible()
    (tmp_path / "wrong.csv").write_bytes(b"\x00\xff no rows at all \xfe")
    answer(tmp_path / "wrong.csv")
    getattr(opened.asking, ask)()
    qtbot.waitUntil(opened.banner.isVisible, timeout=WAIT)
    words = said(opened)
    assert "wrong.csv" in words and "\n" not in words
    assert opened.session.document is document


def test_a_recipe_is_loaded_dropped_and_written_as_it_is(opened, qtbot, answer, tmp_path):
    session = opened.session
    other = with_value(session.recipe, "track.match.gate", 5.5)
    (tmp_path / "other.toml").write_text("# mine\n" + dump_recipe(other))
    answer(tmp_path / "other.toml")
    opened.asking.recipe()
    assert session.recipe == other
    session.undo.undo()
    assert session.recipe != other
    opened.asking.dropped(tmp_path / "other.toml")
    assert session.recipe == other
    answer(tmp_path / "written.toml")
    opened.asking.write_recipe()
    assert read_recipe(tmp_path / "written.toml") == other
    answer(tmp_path / "nowhere" / "written.toml")
    opened.asking.write_recipe()
    words = said(opened)
    assert "No such file or directory; choose another place" in words and "\n" not in words
    qtbot.waitUntil(lambda: up_to_date(opened), timeout=WAIT)


def test_a_folder_that_cannot_be_looked_into_is_one_line(opened, monkeypatch, tmp_path):
    """It ended in a traceback."""
    real = Path.iterdir

    def closed(self):
        if self == tmp_path:
            raise PermissionError(errno.EACCES, "Permission denied", str(self))
        return real(self)

    monkeypatch.setattr(Path, "iterdir", closed)
    opened.asking.dropped(tmp_path)
    assert said(opened) == f"{tmp_path}: Permission denied; choose another place"


def test_a_file_that_is_there_is_replaced_only_when_it_is_said(opened, monkeypatch):
    asked = []

    def question(_, title, words, *more):
        asked.append((title, words))
        return answers.pop()

    monkeypatch.setattr(QMessageBox, "question", question)
    answers = [QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Yes]
    assert [opened.asking.may_replace(Path("/somewhere/a <b>.drover")) for _ in range(2)] == [True, False]
    assert asked[0] == ("Replace the file?", "a <b>.drover is there already. Replace it?")


@pytest.mark.parametrize(("button", "leaves"), [("Close and lose them", True), ("Keep the window open", False)])
def test_work_that_could_not_be_saved_is_left_only_when_it_is_said(opened, monkeypatch, button, leaves):
    def press(box):
        assert box.informativeText() == "the disk is full"
        next(one for one in box.findChildren(QAbstractButton) if one.text() == button).click()
        return 0

    monkeypatch.setattr(QMessageBox, "exec", press)
    assert opened.asking.may_leave("the disk is full") is leaves
    assert opened.asking.may_leave(""), "nothing is asked where nothing is lost"
