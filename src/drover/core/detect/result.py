"""What a pass over a clip leaves: detections, and what the screen needs besides."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.motion import CameraMotion
from drover.core.detect.detector import DetectorState
from drover.core.recipe import DetectSettings
from drover.core.survey.view import SurveyView
from drover.core.types import Detections

__all__ = ["DetectResult"]


@dataclass(frozen=True)
class DetectResult:
    """Detections with what the screen needs besides: evidence, places to replay from, cost, and notes.

    ``histogram`` (256,) int64 counts sampled pixels by their difference from the background, over the clip.
    ``checkpoints`` are (frame, detector state before the next frame), evenly spread; ``jumps`` are (frame, factor)
    where the light of the whole picture changed at once. ``rejected`` (n, 5) float32 holds frame and box of blobs
    that the size rules dropped. ``span`` (first frame, one past the last) is set where only a part of the clip was
    looked at; ``first_read`` is the frame from which the background was learnt; ``taken`` are
    the settings with every "auto" as it was worked out, ``said`` what the survey says, in sentences; ``cuts`` are the
    frames at which another shot of an edited film begins; ``view`` what the survey measured, to be shown; ``motion``
    is the camera's, where it moves.
    """

    detections: Detections
    histogram: NDArray[np.int64]
    checkpoints: tuple[tuple[int, DetectorState], ...]
    seconds: float
    frames_read: int
    finished: bool = True
    notes: tuple[str, ...] = ()
    jumps: tuple[tuple[int, float], ...] = ()
    rejected: NDArray[np.float32] = field(default_factory=lambda: np.zeros((0, 5), np.float32))
    span: tuple[int, int] | None = None
    first_read: int = 0
    taken: DetectSettings | None = None
    said: tuple[str, ...] = ()
    cuts: tuple[int, ...] = ()
    view: SurveyView | None = None
    motion: CameraMotion | None = None
    recalled: bool = False  # found before, and kept

    @property
    def noise(self) -> float | None:
        """Noise of the middle pixel, one standard deviation in grey levels; None where it was not measured."""
        if not self.checkpoints:
            return None
        return float(np.median([np.median(state.noise[::8, ::8]) for _, state in self.checkpoints[-4:]])) / 16

    @property
    def ms_per_frame(self) -> float:
        """Cost of the stage, reading included, per frame."""
        return 1000 * self.seconds / max(1, self.frames_read)
