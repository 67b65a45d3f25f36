"""Stage results kept on disk by fingerprint: bounded, safe to delete, never executed.

Each result is a folder of ``.npy`` columns below the XDG cache folder. Large columns are mapped, not read.
"""

from __future__ import annotations

import json
import os
import shutil
import tempfile
import zlib
from contextlib import suppress
from pathlib import Path

import numpy as np
import platformdirs
from numpy.typing import NDArray

__all__ = ["ResultStore", "default_cache_folder"]

MOST_BYTES = 2 << 30
MAPPED_FROM = 8 << 20
DRAFT = "draft-"


def default_cache_folder() -> Path:
    """Where results are kept: ``drover/results`` below the user's cache folder."""
    return Path(platformdirs.user_cache_dir("drover")) / "results"


class ResultStore:
    """Named sets of arrays on disk; the least recently used go first when ``most_bytes`` is passed."""

    def __init__(self, folder: Path | None = None, *, most_bytes: int = MOST_BYTES) -> None:
        self.folder = folder or default_cache_folder()
        self.most_bytes = most_bytes

    def load(self, key: str) -> tuple[dict[str, NDArray], dict[str, object]] | None:
        """Arrays and facts kept under a key, or None when there are none or they are damaged."""
        place = self.folder / key
        try:
            facts = json.loads((place / "facts.json").read_text(encoding="utf-8"))
            arrays = {}
            for name in facts["columns"]:
                path = place / f"{name}.npy"
                if _checksum(path) != facts["checksums"][name]:
                    return None
                mapped = "r" if path.stat().st_size > MAPPED_FROM else None
                arrays[name] = np.load(path, mmap_mode=mapped, allow_pickle=False)
            os.utime(place / "facts.json")
        except (OSError, ValueError, KeyError, TypeError, EOFError):
            return None
        return arrays, facts

    def save(self, key: str, arrays: dict[str, NDArray], facts: dict[str, object]) -> None:
        """Keep arrays and facts; a full disk or a read-only folder only means that nothing is kept."""
        draft: Path | None = None
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            self._clear_drafts()
            draft = Path(tempfile.mkdtemp(prefix=f"{DRAFT}{os.getpid()}-", dir=self.folder))
            for name, column in arrays.items():
                np.save(draft / f"{name}.npy", column, allow_pickle=False)
            sums = {name: _checksum(draft / f"{name}.npy") for name in arrays}
            (draft / "facts.json").write_text(
                json.dumps({**facts, "columns": list(arrays), "checksums": sums}), encoding="utf-8"
            )
            shutil.rmtree(self.folder / key, ignore_errors=True)
            draft.rename(self.folder / key)
            self._trim(key)
        except OSError:
            if draft is not None:
                shutil.rmtree(draft, ignore_errors=True)

    def _clear_drafts(self) -> None:
        """Drop what programs that were killed left half written."""
        for place in self.folder.glob(f"{DRAFT}*"):
            owner = place.name.removeprefix(DRAFT).split("-")[0]
            if not (owner.isdigit() and Path(f"/proc/{owner}").exists()):
                shutil.rmtree(place, ignore_errors=True)

    def size(self) -> int:
        """Bytes that are kept."""
        return sum(size for _, size, _ in self._sizes())

    def clear(self) -> None:
        """Keep nothing; what is needed again is made again."""
        for _, _, place in self._sizes():
            shutil.rmtree(place, ignore_errors=True)

    def _sizes(self) -> list[tuple[float, int, Path]]:
        """When each result was used last, its bytes, and its folder."""
        sizes = []
        for place in self.folder.iterdir() if self.folder.is_dir() else ():
            with suppress(OSError):  # another program may take it away meanwhile
                if place.is_dir():
                    size = sum(file.stat().st_size for file in place.iterdir())
                    stamp = place / "facts.json"
                    sizes.append((stamp.stat().st_mtime if stamp.exists() else 0.0, size, place))
        return sizes

    def _trim(self, keep: str) -> None:
        sizes = self._sizes()
        total = sum(size for _, size, _ in sizes)
        for _, size, place in sorted(sizes, key=lambda item: item[0]):
            if total <= self.most_bytes:
                break
            if place.name != keep:
                shutil.rmtree(place, ignore_errors=True)
                total -= size


def _checksum(path: Path) -> int:
    """CRC-32 of a file: tells damage, which a mapped column would show as wrong numbers."""
    total = 0
    with path.open("rb") as file:
        while part := file.read(1 << 22):
            total = zlib.crc32(part, total)
    return total
