"""Results kept on disk: damage is noticed, what was killed half way is cleared, what is replaced is whole."""

from __future__ import annotations

import os
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.result_store import ResultStore

ARRAYS = {"box": np.arange(40.0).reshape(-1, 4), "runs": np.arange(9, dtype=np.int16).reshape(-1, 3)}


@pytest.fixture
def store(tmp_path) -> ResultStore:
    made = ResultStore(tmp_path / "store")
    made.save("key", ARRAYS, {"seconds": 1.5})
    return made


def test_everything_comes_back(store):
    arrays, facts = store.load("key")
    assert all(np.array_equal(arrays[name], column) for name, column in ARRAYS.items())
    assert facts["seconds"] == 1.5
    assert store.load("other") is None


@given(st.integers(0, 10_000), st.integers(1, 255))
def test_one_changed_byte_anywhere_is_noticed(tmp_path_factory, place, flip):
    store = ResultStore(tmp_path_factory.mktemp("store"))
    store.save("key", ARRAYS, {})
    file = store.folder / "key" / "box.npy"
    data = bytearray(file.read_bytes())
    data[place % len(data)] ^= flip
    file.write_bytes(bytes(data))
    assert store.load("key") is None


def test_drafts_of_the_killed_are_cleared_and_those_of_the_living_stay(store):
    (store.folder / "draft-4194304000-abc").mkdir()
    mine = store.folder / f"draft-{os.getpid()}-abc"
    mine.mkdir()
    store.save("another", ARRAYS, {})
    assert sorted(p.name for p in store.folder.iterdir() if p.name.startswith("draft-")) == [mine.name]


def test_a_program_killed_while_it_keeps_a_result_leaves_the_one_before(store):
    code = (
        "import numpy as np, sys, pathlib, os\n"
        "from drover.core import result_store as r\n"
        "r.json.dumps = lambda *a, **k: os._exit(9)\n"
        "r.ResultStore(pathlib.Path(sys.argv[1])).save('key', {'box': np.zeros(5)}, {})\n"
    )
    assert subprocess.run([sys.executable, "-c", code, str(store.folder)], check=False).returncode == 9
    arrays, _ = store.load("key")
    assert np.array_equal(arrays["box"], ARRAYS["box"])
    store.save("next", ARRAYS, {})
    assert not list(store.folder.glob("draft-*"))
