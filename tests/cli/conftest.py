"""What a command found in a clip is known to the commands of later tests, as it is to a user's."""

from __future__ import annotations

from pathlib import Path

import pytest


@pytest.fixture(scope="session")
def kept_cache(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("cache")


@pytest.fixture(autouse=True)
def shared_cache(own_folders: None, kept_cache: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(kept_cache))
