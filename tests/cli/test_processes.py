"""The program as a process of its own: it starts, is stopped at any moment, and ends well."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

from drover.cli.display import window_wanted
from drover.core.examples import example
from drover.core.project.file import read_project

SHORT = example("gap-short")
OPENS = """
import ctypes, os, sys
from drover.cli.entry import main
from drover.app.field.view import Field
paint = Field.paintEvent
def painted(self, event):
    paint(self, event)
    if self.pictures.frame is not None:
        getattr(ctypes.CDLL(None), "malloc_stats", int)()
        os._exit(8 if "typer" in sys.modules else 7)
Field.paintEvent = painted
sys.argv = ["drover", "open", sys.argv[1]]
main()
"""


def test_the_window_is_opened_without_what_other_commands_need(tmp_path, monkeypatch):
    assert window_wanted(["open"]) == []
    assert window_wanted(["open", str(SHORT.clip)]) == [str(SHORT.clip)]
    assert window_wanted(["demo"]) == ["--demo"]
    for other in (
        ["open", "--help"],
        ["open", "none.mp4"],
        ["open", "a", "b"],
        ["run", "a"],
        ["demo", "--headless"],
        [],
    ):
        assert window_wanted(other) is None, "the commands say what is wrong, or do it"
    monkeypatch.setenv("QT_QPA_PLATFORM", "offscreen")
    call = [sys.executable, "-c", OPENS, str(SHORT.clip)]
    ended = subprocess.run(call, capture_output=True, text=True, timeout=60, check=False)
    assert (ended.returncode, ended.stdout) == (7, "")
    assert ended.stderr.count("Arena ") <= 1, "its threads share a heap: what each kept of its own added up"


def test_the_installed_program_answers():
    program = Path(sys.executable).with_name("drover")
    done = subprocess.run([program, "--version"], capture_output=True, text=True, check=True)
    assert done.stdout.startswith("drover ")


def started(*arguments: object, **more) -> subprocess.Popen:
    program = [sys.executable, "-c", "from drover.cli.entry import main; main()", *map(str, arguments)]
    return subprocess.Popen(program, stderr=subprocess.PIPE, text=True, **more)


def test_a_stop_while_it_starts_is_one_line(tmp_path):
    for wait in (0.15, 0.6):
        with started("run", SHORT.clip, "--out", tmp_path, stdout=subprocess.DEVNULL) as program:
            time.sleep(wait)
            program.send_signal(signal.SIGINT)
            told = program.stderr.read()
        assert "Traceback" not in told or wait < 0.3  # before our first line runs, the interpreter has its own
        assert program.returncode != 0


def test_a_stop_that_falls_into_an_import_ends_the_program(tmp_path):
    """A compiled library that is being imported makes an error of its own of an interrupt, or none."""
    swallowed = (
        "import signal, sys\n"
        "class Importer:\n"
        "    def find_spec(self, name, path=None, target=None):\n"
        "        if name == 'numba':\n"
        "            try: signal.raise_signal(signal.SIGINT)\n"
        "            except BaseException: raise ImportError('failed to import') from None\n"
        "sys.meta_path.insert(0, Importer())\n"
        "from drover.cli.entry import main; main()"
    )
    call = [sys.executable, "-c", swallowed, "run", str(SHORT.clip), "--out", str(tmp_path)]
    ended = subprocess.run(call, capture_output=True, text=True, timeout=60, check=False)
    assert (ended.returncode, ended.stderr) == (1, "drover: stopped\n")


def test_a_stop_that_a_library_swallowed_is_obeyed_all_the_same(tmp_path):
    """The interrupt falls into a callback whose errors are ignored: the work ends at the next picture."""
    swallowed = "import signal, weakref\nfrom drover.core.detect.detector import Detector\nstep = Detector.step\n" + (
        "class Thing: pass\n"
        "def first(self, frame):\n"
        "    Detector.step = step\n"
        "    thing = Thing(); watch = weakref.ref(thing, lambda _: signal.raise_signal(signal.SIGINT)); del thing\n"
        "    return step(self, frame)\n"
        "Detector.step = first\n"
        "from drover.cli.entry import main; main()"
    )
    call = [sys.executable, "-c", swallowed, "run", str(SHORT.clip), "--anew", "--out", str(tmp_path)]
    ended = subprocess.run(call, capture_output=True, text=True, timeout=60, check=False)
    assert ended.returncode == 1 and "drover: the work was stopped" in ended.stderr.splitlines()[-1]
    assert not list(tmp_path.rglob("*.csv"))


def test_a_full_or_closed_output_is_one_line():
    with Path("/dev/full").open("w") as full, started("--help", stdout=full) as program:
        told = program.stderr.read()
    assert program.returncode == 1
    assert "Traceback" not in told and told.count("\n") <= 1
    with started("--help", stdout=subprocess.PIPE) as program:
        program.stdout.close()
        assert "Traceback" not in program.stderr.read()


def test_a_camera_is_counted_until_it_is_stopped_and_the_run_ends_well(tmp_path):
    program = str(Path(sys.executable).with_name("drover"))
    camera = subprocess.Popen(
        [program, "stand-in", str(SHORT.clip), "--fault", "cut@6+0.5"], stdout=subprocess.PIPE, text=True
    )
    assert camera.stdout is not None
    address = camera.stdout.readline().split()[-1]
    out = tmp_path / "out"
    run = subprocess.Popen(
        [program, "live", address, "--out", str(out), "--recipe", str(SHORT.recipe)],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert run.stdout is not None
    told = run.stdout.readline()  # the first crossing, told as it holds
    written = (out / "crossings.csv").read_text().splitlines()
    run.send_signal(signal.SIGINT)
    rest, err = run.communicate(timeout=60)
    camera.send_signal(signal.SIGINT)
    camera.communicate(timeout=60)
    assert " crossed " in told
    assert len(written) >= 2
    assert (run.returncode, err) == (0, "")
    assert "pictures" in rest
    assert f"written to {out}" in rest
    assert camera.returncode == 0
    facts = json.loads((out / "live.json").read_text())
    assert facts["connection"] == "ended"
    assert facts["frames"] > 25


REVIEWS = """
import sys, time
from pathlib import Path
from PySide6.QtWidgets import QApplication
from drover.app.window import MainWindow
app = QApplication([])
window = MainWindow()
window.show()
session, path = window.session, Path(sys.argv[2])
session.open_clip(Path(sys.argv[1]))
def wait(ready):
    while not ready():
        app.processEvents()
        time.sleep(0.002)
ranked = lambda: not window.watch.waiting and not window.watch.busy and len(window.watch.found)
wait(lambda: session.tracks is not None and session.engine.fresh("count") and ranked())
window.save_as(path)
wait(lambda: window.saving.path == path and not window.saving.busy)
for number in range(1, 100):
    window.reviewer.visit(1)
    window.reviewer.right()
    wait(lambda: len(session.edit_notes) == number and ranked())
    print(number, flush=True)
"""


def test_a_review_that_is_killed_loses_at_most_its_last_second(known_example, short_clip, tmp_path):
    path = tmp_path / "killed.drover"
    command = [sys.executable, "-c", REVIEWS, str(short_clip), str(path)]
    child = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
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
