"""The steady command: a clip written anew with its camera's motion taken out."""

from __future__ import annotations

from pathlib import Path

from drover.cli.parts import open_clip
from drover.cli.progress import shown_progress
from drover.core.camera_pass import follow_clip
from drover.core.errors import DroverError
from drover.core.footage.writer import KINDS
from drover.core.recipe import Recipe
from drover.core.run_files import ready_folder
from drover.core.steady_video import STEADY_WAYS, write_steadied

__all__ = ["steady_clip"]


def steady_clip(clip: Path, out: Path, way: str, reference: int, recipe: Recipe) -> str:
    """Follow the camera of a clip and write it steadied; what was done, in a line.

    Raises
    ------
    DroverError
    """
    if way not in STEADY_WAYS:
        raise DroverError(f"--way {way}: choose one of: {', '.join(STEADY_WAYS)}")
    if out.suffix.lower() not in KINDS:
        raise DroverError(f"{out}: give the video a name that ends in {' or '.join(KINDS)}")
    ready_folder(out.parent)
    info = open_clip(clip)
    with shown_progress("follow the camera") as show:
        motion = follow_clip(info, recipe.camera, on_progress=lambda p: show.update(p.done, p.total))
    with shown_progress("write") as show:
        done = write_steadied(
            info,
            motion,
            out,
            way=next(one for one in STEADY_WAYS if one == way),
            reference=reference,
            on_progress=lambda p: show.update(p.done, p.total),
        )
    return f"{out}: {done} pictures. {' '.join(motion.words) if motion.moves else 'The camera stands still.'}"
