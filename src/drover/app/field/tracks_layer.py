"""What is drawn of the tracks over the field; kept once it is asked for twice: a moving dial draws no trail again."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, QSize
from PySide6.QtGui import QImage, QPainter

from drover.app.field import overlays
from drover.app.field.view_transform import ViewTransform
from drover.app.field.ways import Ways
from drover.core.footage_types import ClipInfo
from drover.core.track.explain import LinkNote
from drover.core.types import Detections, Tracks

__all__ = ["NOBODY", "TracksLayer"]

NOBODY: dict[int, str] = {}  # has a name; always the same, so that what was drawn is known again


class TracksLayer:
    """Draws ways, trails, forecasts, gates, outlines and numbers.

    The first time straight onto the field, as while a clip plays, where every picture is another; from the second time
    on a picture of it is.
    """

    def __init__(self) -> None:
        self.ways = Ways()
        self._of: tuple[Any, ...] = ()
        self._where: tuple[Any, ...] = ()
        self._image: QImage | None = None

    def draw(
        self,
        painter: QPainter,
        view: ViewTransform,
        shown: set[str],
        tracks: Tracks,
        found: Detections,
        clip: ClipInfo,
        gates: tuple[LinkNote, ...],
        frame: int,
        chosen: int | None,
        to_scene: NDArray[np.float64] | None = None,
        names: dict[int, str] = NOBODY,
        taken: tuple[QRectF, ...] = (),
    ) -> None:
        """Draw those that are ``shown``, of one frame; ``to_scene`` is its place where the camera moves. No number goes
        to a place that is ``taken``.
        """

        def work(onto: QPainter) -> None:
            self.ways.draw(onto, view, shown, tracks, clip, chosen)
            if "Trails" in shown:
                overlays.draw_trails(onto, view, tracks, clip.times, frame, to_scene)
            if "Forecast" in shown:
                overlays.draw_forecasts(onto, view, tracks, frame)
            if "Gates" in shown:
                overlays.draw_gates(onto, view, gates, chosen)
            if "Outlines" in shown:
                overlays.draw_objects(onto, view, tracks, found, frame, chosen)
            if "Numbers" in shown:
                overlays.draw_numbers(onto, view, tracks, frame, chosen, names, taken)

        self._keep(painter, (tracks, found, clip, gates, names), (view, frozenset(shown), frame, chosen, taken), work)

    def _keep(
        self, painter: QPainter, of: tuple[Any, ...], where: tuple[Any, ...], work: Callable[[QPainter], None]
    ) -> None:
        """Draw, or show what was drawn for these very results in this very place."""
        same = len(of) == len(self._of) and all(a is b for a, b in zip(of, self._of, strict=True))
        if not same or where != self._where:
            self._of, self._where, self._image = of, where, None
            work(painter)
            return
        if self._image is None:
            self._image = _drawn(painter, work)
        painter.drawImage(0, 0, self._image)


def _drawn(painter: QPainter, work: Callable[[QPainter], None]) -> QImage:
    """The drawing alone, on nothing, as large as what the painter paints on."""
    device = painter.device()
    ratio = device.devicePixelRatioF()
    image = QImage(
        QSize(round(device.width() * ratio), round(device.height() * ratio)), QImage.Format.Format_ARGB32_Premultiplied
    )
    image.setDevicePixelRatio(ratio)
    image.fill(0)
    with QPainter(image) as own:
        own.setRenderHints(painter.renderHints())
        if painter.hasClipping():
            own.setClipRect(painter.clipBoundingRect())
        work(own)
    return image
