"""The suite itself: every file of tests is run by one of its processes, and one that fails or dies is not lost."""

from __future__ import annotations

import importlib.util
import os
import signal
import sys
import time
from pathlib import Path

import pytest

from drover.core.both_cores import at_once

TESTS = Path(__file__).resolve().parent.parent


@pytest.fixture
def runner(monkeypatch):
    spec = importlib.util.spec_from_file_location("run_tests", TESTS.parent / "tools" / "run_tests.py")
    module = importlib.util.module_from_spec(spec)
    monkeypatch.setitem(sys.modules, "run_tests", module)
    spec.loader.exec_module(module)
    monkeypatch.setattr(module, "load", lambda: None)
    monkeypatch.setattr(sys, "argv", ["run_tests.py"])
    anew = []  # where it starts anew once all are begun; here it goes on listening with what it would be given

    def start_anew(program, words):
        anew[:] = words
        monkeypatch.setattr(sys, "argv", words[1:])
        raise _AnewError

    monkeypatch.setattr(module.os, "execv", start_anew)
    run = module.main

    def main():
        try:
            return run()
        except _AnewError:
            return run()

    module.main, module.anew = main, anew
    return module


class _AnewError(Exception):
    pass


def test_a_letter_that_comes_in_two_pieces_is_one_letter(runner, capsys):
    end, said = os.pipe()
    one = runner.Working(0, end, aside=False)
    for piece in ("5 σ apart\n".encode()[:3], "5 σ apart\n".encode()[3:]):
        os.write(said, piece)
        assert one.hear()
    os.close(said)
    assert not one.hear()
    os.close(end)
    assert capsys.readouterr().out == "5 σ apart\n"


@pytest.mark.parametrize("late", [0.0, 0.05])
def test_every_file_of_tests_is_run_once(runner, monkeypatch, tmp_path, capfd, late):
    """Also where all that are at work have ended by the time they are heard (``late``, s)."""
    select = runner.selectors.DefaultSelector.select
    monkeypatch.setattr(runner.selectors.DefaultSelector, "select", lambda self: (time.sleep(late), select(self))[1])

    def note(part):
        with (tmp_path / "asked").open("a") as file:
            file.write(" ".join(part) + "\n")
        return 0

    monkeypatch.setattr(runner, "test", note)
    assert runner.main() == 0
    asked = [line.split() for line in (tmp_path / "asked").read_text().splitlines()]
    assert sorted(TESTS / name for part in asked for name in part) == sorted(TESTS.rglob("test_*.py"))
    for part in asked:  # the core is tested without windows
        assert len({name.split("/")[0] == "core" for name in part}) == 1
    assert capfd.readouterr().out.startswith("no test ran in ")


def test_what_failed_in_one_of_them_fails_the_whole_and_is_counted(runner, monkeypatch, capfd):
    monkeypatch.setattr(runner, "parts", lambda: [("one",), ("other",), ("third",)])
    said = {"one": "....\n4 passed in 1.50s", "other": "..F\nE  assert 1 == 2\n1 failed, 2 passed in 70.10s (0:01:10)"}

    def run(part):
        sys.stdout.write(said.get(part[0], "cut off"))
        if part[0] == "third":
            sys.stdout.flush()
            os.kill(os.getpid(), signal.SIGKILL)
        return int(part[0] == "other")

    monkeypatch.setattr(runner, "test", run)
    assert runner.main() in (1, 9)
    assert runner.anew[2] == runner.GO_ON
    told = capfd.readouterr().out.splitlines()
    assert told[-1].startswith("1 failed, 6 passed in ")
    assert {"E  assert 1 == 2", "cut off"} <= set(told) and not any("4 passed" in line for line in told)
    monkeypatch.setattr(runner, "parts", lambda: [("one",), ("third",)])
    monkeypatch.setattr(sys, "argv", ["run_tests.py"])
    assert runner.main() == 9, "one that was killed is no success"


def test_a_process_that_is_forked_has_a_helper_of_its_own():
    """The parent's is a thread, which no child has: who asked it there waited for ever."""
    assert at_once(lambda: 1, lambda: 2) == (1, 2)
    process = os.fork()
    if process == 0:
        signal.alarm(20)
        os._exit(0 if at_once(lambda: 3, lambda: 4) == (3, 4) else 1)
    assert os.waitstatus_to_exitcode(os.waitpid(process, 0)[1]) == 0
