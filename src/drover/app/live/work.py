"""A live run on a thread of its own; the window gets the newest picture, as often as it can show one."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from drover.app.field.scene import Scene
from drover.app.images import rgb_image
from drover.app.live.recent import Recent
from drover.core.errors import DroverError
from drover.core.footage.stream import Source
from drover.core.footage_types import Frame
from drover.core.live import LiveStep
from drover.core.live_session.courier import Delivery
from drover.core.live_session.facts import LiveFacts
from drover.core.live_session.session import LiveSession
from drover.core.recipe import Recipe
from drover.core.run_files import ready_folder

__all__ = ["LivePicture", "LiveWish", "LiveWork"]

SHOW_EVERY = 0.06  # s between two pictures that are shown: the rest of the time belongs to the counting
WAIT = 20.0  # s that closing waits for the run to end


@dataclass(frozen=True)
class LiveWish:
    """What to count on, how, and where the results go; ``wanted`` is asked of a device."""

    source: Source
    recipe: Recipe
    folder: Path
    record: bool = False
    wanted: tuple[int, int, float] | None = None


@dataclass(frozen=True)
class LivePicture:
    """The newest picture with what was found in it, and the totals by line."""

    image: QImage
    scene: Scene
    totals: dict[str, tuple[int, int]]


class LiveWork(QObject):
    """One live run. ``pictured`` says that ``newest`` is a new picture; older ones that were not shown are gone."""

    pictured = Signal()
    told = Signal(object)
    ended = Signal(str)

    def __init__(self, wish: LiveWish, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.wish = wish
        self.newest: LivePicture | None = None
        self.totals: dict[str, tuple[int, int]] = {}
        self.deliveries: list[Delivery] = []
        self._stop, self._shown = threading.Event(), threading.Event()
        self._shown.set()
        self._last, self._told = 0.0, 0.0
        self._recent = Recent(wish.recipe.count)
        self._thread = threading.Thread(target=self._work, name="drover-live", daemon=True)

    def start(self) -> None:
        """Connect and count."""
        self._thread.start()

    def stop(self) -> None:
        """End; what was counted is written by the time that ``ended`` comes."""
        self._stop.set()

    def close(self) -> None:
        """End and wait for it."""
        self.stop()
        if self._thread.is_alive():
            self._thread.join(WAIT)

    @property
    def running(self) -> bool:
        """Whether it has begun and not ended."""
        return self._thread.is_alive()

    def take(self) -> LivePicture | None:
        """The newest picture; from now on the next one may be made."""
        picture = self.newest
        self._shown.set()
        return picture

    def _work(self) -> None:
        fault, wish = "", self.wish
        try:
            ready_folder(wish.folder)
            session = LiveSession(wish.source, wish.recipe, wish.folder, record=wish.record, wanted=wish.wanted)
            session.run(stopped=self._stopped(session), on_step=self._on_step(session))
            self.totals, self.deliveries = session.totals, session.deliveries
            self.told.emit(session.facts)
        except DroverError as error:
            fault = str(error)
        except Exception as error:  # noqa: BLE001 - the window must outlive any fault, and say it
            fault = f"something went wrong inside Drover ({type(error).__name__}: {error}); please report it"
        self.ended.emit(fault)

    def _stopped(self, session: LiveSession) -> Callable[[], bool]:
        def asked() -> bool:
            if time.monotonic() - self._told > 0.5:  # also while no picture comes
                self._told = time.monotonic()
                self.totals, self.deliveries = session.totals, session.deliveries
                self.told.emit(session.facts)
            return self._stop.is_set()

        return asked

    def _on_step(self, session: LiveSession) -> Callable[[Frame, LiveStep, LiveFacts], None]:
        def show(frame: Frame, step: LiveStep, _: LiveFacts) -> None:
            self._recent.add(frame.time, step.rows, step.to_scene)
            now = time.monotonic()
            if not self._shown.is_set() or now - self._last < SHOW_EVERY:
                return
            self._last = now
            self._shown.clear()
            image = rgb_image(frame.rgb)
            scene = self._recent.scene((image.width(), image.height()))
            self.newest = LivePicture(image, scene, session.totals)
            self.pictured.emit()

        return show
