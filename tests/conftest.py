"""Shared fixtures: caches and state go to temporary folders, the short example is worked through once."""

from __future__ import annotations

import gc
import os
import shutil
from collections.abc import Iterator

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

import worked_example
from drover.core.examples import example
from drover.core.footage_types import ClipInfo
from drover.core.result_store import ResultStore, default_cache_folder
from drover.core.run import ClipRun
from drover.core.types import Truth
from memory import end_fork_server, give_memory_back, give_some_back

settings.register_profile(
    "drover", deadline=None, max_examples=25, derandomize=True, suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("drover")


@pytest.fixture(autouse=True)
def own_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Keep the user's cache and state out of it."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))


@pytest.fixture(scope="session", autouse=True)
def what_is_loaded_stays() -> None:
    """Modules and tests are there for good: none of them need be looked through again and again."""
    gc.collect()
    gc.freeze()


@pytest.fixture(scope="module", autouse=True)
def module_swept() -> Iterator[None]:
    """Before each module all that the one before held is given back: its last test holds what it was given till then.

    Swept when that module ended, its last window stayed while the next one opened its own: 100 MB.
    """
    give_memory_back()
    yield
    end_fork_server()


@pytest.fixture(autouse=True)
def test_swept() -> Iterator[None]:
    """After each test what it freed is given back, where there is much of it."""
    yield
    give_some_back()


@pytest.fixture(scope="session")
def short_clip() -> Path:
    return example("gap-short").clip


@pytest.fixture(scope="session")
def short_info() -> ClipInfo:
    return worked_example.short_info()


@pytest.fixture(scope="session")
def short_run() -> ClipRun:
    return worked_example.short_work()[0]


@pytest.fixture(scope="session")
def filled_store(tmp_path_factory: pytest.TempPathFactory) -> ResultStore:
    return worked_example.filled_store(tmp_path_factory.mktemp("store"))


@pytest.fixture
def known_example(own_folders: None, filled_store: ResultStore) -> None:
    """What there is in the short example is known to the user's own store: for tests of what comes after that."""
    del own_folders
    shutil.copytree(filled_store.folder, default_cache_folder())


@pytest.fixture(scope="session")
def short_truth() -> Truth:
    return worked_example.short_truth()
