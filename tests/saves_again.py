"""A process that saves a project over and over, and notes after each time that it is saved."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from drover.core.document import Document
from drover.core.project.file import ProjectFile
from drover.core.recipe import parse_recipe


def save_again(document: Document, path: Path, saved: Path) -> None:
    assert document.latest is not None
    file = ProjectFile(path)
    with saved.open("w") as told:
        for n in range(10_000):
            text = f"[track.match]\ngate = {5 + n % 10}.0\n"
            run = replace(document.latest, track_key=f"link {n // 3}")
            file.save(replace(document, recipe_text=text, recipe=parse_recipe(text), latest=run), {"n": str(n)})
            print(n, file=told, flush=True)
