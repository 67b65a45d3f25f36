"""The window's wishes about things to follow: a box drawn round one, or a picture of it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QFileDialog

from drover.app.dials.follow_card import followed_as_lists
from drover.core.errors import DroverError
from drover.core.footage.images import IMAGE_ENDINGS
from drover.core.recipe import FollowedSettings, with_value

if TYPE_CHECKING:
    from drover.app.window import MainWindow

__all__ = ["Things"]


class Things:
    """Takes a box from the field or a picture, looks whether it can be followed, and makes it an edit."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        for half in (window.pair.left, window.pair.right):
            half.boxes.thing_marked = self.take_box
        window.session.engine.following.marked.connect(self._on_marked)

    def draw(self) -> None:
        """The next drag on the field is a box round a thing."""
        if self.window.session.clip is not None:
            self.window.strip.choose("track")
            self.window.start_box("thing")

    def ask_picture(self) -> None:
        """Choose a picture of a thing."""
        kinds = "Pictures (" + " ".join(f"*{ending}" for ending in sorted(IMAGE_ENDINGS)) + ")"
        chosen, _ = QFileDialog.getOpenFileName(self.window, "A picture of the thing", "", kinds)
        if chosen:
            self.take_picture(Path(chosen))

    def take_picture(self, path: Path) -> None:
        """Follow what a picture shows."""
        self._mark(FollowedSettings(name=self._free_name(path.stem[:50] or "Thing"), picture=str(path)))

    def take_box(self, box: list[float]) -> None:
        """Follow what is in a box (fractions) of the frame shown."""
        session = self.window.session
        if session.clip is None:
            return
        time = round(float(session.clip.times[session.frame]), 4)
        x1, y1, x2, y2 = box
        self._mark(FollowedSettings(name=self._free_name("Thing"), time=time, box=(x1, y1, x2, y2)))

    def _mark(self, settings: FollowedSettings) -> None:
        subject = self.window.session.engine.subject
        if subject is not None:
            self.window.session.engine.following.mark(subject, settings)

    def _on_marked(self, settings: FollowedSettings) -> None:
        session = self.window.session
        things = [*followed_as_lists(session), settings.model_dump(mode="json")]
        try:
            session.edit(with_value(session.recipe, "follow.thing", things), f"follow '{settings.name}'")
        except DroverError as error:
            session.message_raised.emit(str(error))

    def _free_name(self, stem: str) -> str:
        taken = {thing.name for thing in self.window.session.recipe.follow.thing}
        if stem not in taken and stem != "Thing":
            return stem
        return next(f"{stem} {k}" for k in range(1, 10_000) if f"{stem} {k}" not in taken)
