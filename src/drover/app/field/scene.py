"""A result as it is drawn over a picture: one painter for the field and for the videos that are saved."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QImage, QPainter

from drover.app.field import overlays
from drover.app.field.line_drawing import count_places, draw_lines
from drover.app.field.things_layer import draw_things
from drover.app.field.tracks_layer import TracksLayer
from drover.app.field.view_transform import ViewTransform
from drover.app.field.zone_drawing import draw_zones
from drover.core.camera.motion import CameraMotion
from drover.core.count.whole_clip import Counted
from drover.core.follow.table import FollowedThing
from drover.core.footage_types import ClipInfo
from drover.core.recipe import CountSettings
from drover.core.score.detection import DetectionScore
from drover.core.track.explain import LinkNote
from drover.core.types import Crossings, Detections, Tracks, Truth

__all__ = ["DRAWN", "HINTS", "Scene", "draw_results", "draw_scene"]

# Overlays that can be drawn of a result alone; the others need Detect to go through the footage again.
DRAWN = ("Outlines", "Numbers", "Trails", "Forecast", "Detections", "Mask", "Truth", "Errors")
HINTS = QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform


@dataclass(frozen=True)
class Scene:
    """What can be drawn of one clip; None where there is nothing of it."""

    clip: ClipInfo
    count: CountSettings
    found: Detections | None = None
    tracks: Tracks | None = None
    crossings: Crossings | None = None
    counted: Counted | None = None
    truth: Truth | None = None
    errors: DetectionScore | None = None
    motion: CameraMotion | None = None
    things: tuple[FollowedThing, ...] = ()
    names: dict[int, str] = field(default_factory=dict)  # what identities are called

    def to_scene(self, frame: int) -> NDArray[np.float64] | None:
        """From the px of a picture to those of the scene, (3, 3); None where the camera stands."""
        return None if self.motion is None else self.motion.to_scene[min(frame, len(self.motion) - 1)]


def draw_results(
    painter: QPainter,
    view: ViewTransform,
    scene: Scene,
    shown: set[str],
    frame: int,
    layer: TracksLayer,
    *,
    gates: tuple[LinkNote, ...] = (),
    chosen: int | None = None,
) -> None:
    """What was found in a frame, as far as it is ``shown``: detections, tracks, truth, errors."""
    if scene.found is not None and "Detections" in shown:
        overlays.draw_detections(painter, view, scene.found, frame)
    if scene.tracks is not None and scene.found is not None:
        there = scene.to_scene(frame)
        layer.draw(
            painter, view, shown, scene.tracks, scene.found, scene.clip, gates, frame, chosen, there,
            scene.names, count_places(view, scene.count.line, there),
        )  # fmt: skip
    if "Outlines" in shown:
        draw_things(painter, view, scene.things, frame)
    if "Truth" in shown and scene.truth is not None:
        overlays.draw_truth(painter, view, scene.truth, frame)
    if "Errors" in shown and scene.errors is not None:
        overlays.draw_errors(painter, view, scene.errors, frame)


def draw_scene(
    picture: QImage,
    scene: Scene,
    shown: set[str],
    frame: int,
    layer: TracksLayer,
    *,
    text: float = 1.0,
    clock: bool = False,
) -> None:
    """A 32-bit picture of the clip, with all that is ``shown`` drawn onto it, at the footage's own size.

    ``text`` makes letters and lines so many times as large; with ``clock`` the time stands in a corner.
    """
    clip = scene.clip
    width, height = float(clip.width), float(clip.height)
    view = ViewTransform(width, height, width / text, height / text, margin=0.0)
    picture.setDevicePixelRatio(text)
    with QPainter(picture) as painter:
        painter.setRenderHints(HINTS)
        painter.setClipRect(view.picture_rect())
        if "Mask" in shown and scene.found is not None:
            overlays.draw_mask(painter, view, scene.found, frame)
        draw_results(painter, view, scene, shown, frame, layer)
        painter.setClipping(False)
        now = float(clip.times[frame])
        there = scene.to_scene(frame)
        draw_zones(painter, view, scene.count.zone, scene.counted, now, to_scene=there)
        draw_lines(painter, view, scene.count.line, scene.crossings, now, to_scene=there)
        if clock:
            overlays.draw_clock(painter, height / text, now, frame)
    picture.setDevicePixelRatio(1.0)
