"""Detect live with a camera that moves: the camera is followed picture by picture, and the ground kept on a canvas.

Nothing is known beforehand: the ground is learnt as it comes into view, and anew where the view leaves the canvas.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.canvas import lay_on
from drover.core.camera.follower import CameraFollower
from drover.core.camera.motion import FrameState
from drover.core.detect.detector import DetectedFrame, nothing_found
from drover.core.features.models import inverse, local_scale, mapped_corners
from drover.core.footage_types import Frame
from drover.core.recipe import CameraSettings, DetectSettings
from drover.core.steady_detect import CanvasDetector
from drover.core.survey.resolve import resolve_detect

__all__ = ["LiveSteady"]

Float = NDArray[np.float64]
MARGIN = 0.08  # of the picture's sides by which the canvas is larger, each way
ZOOMED = 1.25  # times that a view may be nearer or farther than the canvas


class LiveSteady:
    """Steps as a detector does; ``to_scene`` (3, 3) is where the picture stepped last lies in the scene."""

    def __init__(self, settings: DetectSettings, size: tuple[int, int], camera: CameraSettings) -> None:
        self.size = size
        self._follower = CameraFollower(size, camera.motion)
        width, height = (side + 2 * (2 * round(MARGIN * side / 2)) for side in size)
        self._room = np.array([(width - size[0]) // 2, (height - size[1]) // 2], np.float64)
        self._canvas = width // 2 * 2, height // 2 * 2
        self._detector = CanvasDetector(resolve_detect(settings, None, steadied=True), size, self._canvas)
        self._all = np.ones((size[1], size[0]), np.uint8)
        self.to_scene = np.eye(3)
        self._anchor(np.eye(3))

    def _anchor(self, to_scene: Float) -> None:
        """Begin a canvas round a view: nothing of it is known."""
        shift = np.eye(3)
        shift[:2, 2] = self._room
        self._to_canvas = shift @ inverse(to_scene)
        self._reached = np.zeros((self._canvas[1], self._canvas[0]), np.uint8)
        self._detector.begin(None, None)

    @property
    def wants_colour(self) -> bool:
        """Whether the colour planes of a frame are looked at."""
        return self._detector.wants_colour

    @property
    def settings(self) -> DetectSettings:
        """What holds, with what is on auto as it is where nobody has surveyed anything."""
        return self._detector.settings

    @property
    def said(self) -> tuple[str, ...]:
        """Nothing: the ground comes into view bit by bit."""
        return ()

    def close(self) -> None:
        """Nothing is left open."""

    def step(self, frame: Frame) -> DetectedFrame:
        """Take in the next frame and say what moves in it against the ground, in px of the picture."""
        step = self._follower.step(frame.grey, frame.time)
        self.to_scene = step.to_scene
        new = step.state == FrameState.NEW_VIEW and frame.index > 0
        if new or self._left_canvas():
            self._anchor(self.to_scene)
        if step.state == FrameState.HELD:
            return nothing_found(frame.index)
        back = inverse(self._to_canvas @ self.to_scene)
        self._learn_new(frame, back)
        found = self._detector.look(frame, back)
        return found if not new else nothing_found(frame.index, cut=True)

    def _left_canvas(self) -> bool:
        """Whether the picture lies beyond its canvas by more than half of its room, or much nearer or farther."""
        view = self._to_canvas @ self.to_scene
        corners = mapped_corners(view, self.size)
        beyond = np.maximum(-corners, corners - np.array(self._canvas)).max()
        zoom = float(local_scale(view, np.array([[self.size[0] / 2, self.size[1] / 2]]))[0])
        return bool(beyond > 0.5 * self._room.min() or not 1 / ZOOMED <= zoom <= ZOOMED)

    def _learn_new(self, frame: Frame, back: Float) -> None:
        """Ground that comes into view for the first time is taken as it looks now."""
        shown = np.zeros_like(self._reached)
        lay_on(self._all, back, np.zeros(shown.shape, np.float32), shown)
        new = (shown > 0) & (self._reached == 0)
        if new.any():
            self._reached |= shown
            self._detector.take_ground(frame, back, new)
