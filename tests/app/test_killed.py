"""A window that is killed in the middle of work."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time

import pytest

from drover.core.project.file import read_project
from windows import WAIT

CHILD = """
import sys, time
from pathlib import Path
from PySide6.QtWidgets import QApplication
from drover.app.window import MainWindow
from drover.core.result_store import ResultStore
from drover.app.session import Session
app = QApplication([])
window = MainWindow(Session(ResultStore(Path(sys.argv[2]))))
window.show()
window.open_path(Path(sys.argv[1]))
session = window.session
def wait(ready):
    while not ready():
        app.processEvents()
        time.sleep(0.002)
ranked = lambda: not window.watch.waiting and not window.watch.busy and len(window.watch.found)
wait(lambda: session.tracks is not None and session.engine.fresh("edits") and ranked())
for number in range(1, 100):
    window.reviewer.visit(1)
    window.reviewer.right()
    wait(lambda: len(session.edit_notes) == number and ranked())
    print(number, flush=True)
"""


@pytest.mark.own_window
def test_a_review_that_is_killed_loses_at_most_its_last_second(opened, qtbot, tmp_path, filled_store):
    path = tmp_path / "killed.drover"
    opened.save_as(path)
    qtbot.waitUntil(lambda: opened.saving.path == path and not opened.saving.busy, timeout=WAIT)
    opened.close()
    command = [sys.executable, "-c", CHILD, str(path), str(filled_store.folder)]
    child = subprocess.Popen(
        command, stdout=subprocess.PIPE, text=True, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    )
    said = []  # when each answer was given
    try:
        for line in child.stdout:
            said.append((int(line), time.monotonic()))
            if len(said) == 8:
                break
    finally:
        os.kill(child.pid, signal.SIGKILL)
        killed = time.monotonic()
        child.wait()
        child.stdout.close()
    due = max((number for number, when in said if when < killed - 1.0), default=0)
    assert len(read_project(path)[0].edits) >= due
    assert len(said) == 8
