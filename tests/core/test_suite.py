"""The suite itself: every file of tests is run by one of its processes, and one that fails is not lost."""

from __future__ import annotations

import importlib.util
import io
import subprocess
import sys
from pathlib import Path

import pytest

TESTS = Path(__file__).resolve().parent.parent


@pytest.fixture
def runner():
    spec = importlib.util.spec_from_file_location("run_tests", TESTS.parent / "tools" / "run_tests.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_every_file_of_tests_is_run_once(runner, monkeypatch):
    asked = []

    class Ended:
        def __init__(self, command, **_):
            self.stdout = io.StringIO()
            asked.append([Path(word) for word in command if word.endswith(".py")])

        def wait(self):
            return 0

    monkeypatch.setattr(runner.subprocess, "Popen", Ended)
    monkeypatch.setattr(sys, "argv", ["run_tests.py"])
    assert runner.main() == 0
    assert sorted(path for part in asked for path in part) == sorted(TESTS.rglob("test_*.py"))
    for part in asked:  # the core is tested without windows
        assert len({path.parent.name == "core" for path in part}) == 1


def test_what_failed_in_one_of_them_fails_the_whole_and_is_counted(runner, monkeypatch, capsys):
    monkeypatch.setattr(runner, "parts", lambda: [("one",), ("other",)])
    says = [("....\\n4 passed in 1.50s", 0), ("..F\\nE  assert 1 == 2\\n1 failed, 2 passed in 70.10s (0:01:10)", 1)]
    real = subprocess.Popen

    def fake(_, **more):
        words, code = says.pop()
        more.pop("env")
        return real([sys.executable, "-c", f"print('{words}'); raise SystemExit({code})"], **more)

    monkeypatch.setattr(runner.subprocess, "Popen", fake)
    monkeypatch.setattr(sys, "argv", ["run_tests.py"])
    assert runner.main() == 1
    told = capsys.readouterr().out.splitlines()
    assert told[-1].startswith("1 failed, 6 passed in ")
    assert "E  assert 1 == 2" in told and not any("4 passed" in line for line in told)
