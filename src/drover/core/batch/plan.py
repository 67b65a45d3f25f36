"""What a batch is to do: which clips, and where the results of each go."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from drover.core.errors import FootageError
from drover.core.footage.images import footage_name
from drover.core.names import natural_order

__all__ = ["VIDEO_ENDINGS", "Job", "folder_name", "plan_jobs"]

VIDEO_ENDINGS = frozenset({
    ".mp4", ".m4v", ".mov", ".mkv", ".webm", ".avi", ".mpg", ".mpeg", ".ts", ".m2ts", ".mts", ".mxf", ".wmv", ".flv",
    ".3gp", ".ogv", ".h264", ".h265",
})  # fmt: skip


@dataclass(frozen=True)
class Job:
    """One clip, and the folder of its results."""

    clip: Path
    folder: Path

    @property
    def project(self) -> Path:
        """Where the clip's project is kept."""
        return self.folder / f"{self.folder.name}.drover"


def plan_jobs(given: Iterable[Path], out: Path) -> list[Job]:
    """A job for every clip given and for every video below a folder given, in the order a person would count them.

    A clip below a folder keeps its place there: ``FOLDER/monday/gate.mp4`` goes to ``OUT/monday/gate``.

    Raises
    ------
    FootageError
        When a folder holds no video.
    """
    jobs: list[Job] = []
    used: set[str] = set()
    for path in given:
        inside = [path]
        if path.is_dir():
            inside = _videos_below(path, out)
            if not inside:
                raise FootageError(f"{path}: holds no video; choose another folder")
        for clip in inside:
            place = clip.parent.relative_to(path) if path.is_dir() else Path()
            jobs.append(Job(clip, out / place / folder_name(clip, used, place)))
    return jobs


def _videos_below(folder: Path, out: Path) -> list[Path]:
    """Videos in a folder and those in it, without what lies hidden or among the results."""
    results = out.resolve()
    found = [
        path
        for path in folder.rglob("*")
        if path.suffix.lower() in VIDEO_ENDINGS
        and path.is_file()
        and not any(part.startswith(".") for part in path.relative_to(folder).parts)
        and (results == folder.resolve() or results not in path.resolve().parents)
    ]
    return sorted(found, key=lambda path: natural_order(str(path.relative_to(folder))))


def folder_name(clip: Path, used: set[str], place: Path = Path()) -> str:
    """The clip's name, numbered where two clips of one call share it."""
    stem = footage_name(clip)
    name, number = stem, 1
    while str(place / name) in used:
        number += 1
        name = f"{stem}-{number}"
    used.add(str(place / name))
    return name
