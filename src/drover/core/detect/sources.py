"""Where detections come from, and the one step that merges what several sources found.

A source gives detections of a whole clip. Which are used is a list in the recipe, ``detect.sources``: "motion" is
what moves against the background, "boxes" what another detector found. Where both are listed the boxes come first and
what moves fills in where they have none.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Protocol

import numpy as np

from drover.core.detect.box_choice import choose_boxes, unite
from drover.core.detect.result import DetectResult
from drover.core.errors import DroverError
from drover.core.recipe import DetectSettings
from drover.core.types import Detections

__all__ = ["BoxSource", "Source", "merge"]


class Source(Protocol):
    """Something that finds objects in a clip."""

    name: str

    def found(self, settings: DetectSettings) -> DetectResult:
        """Detections of the whole clip."""
        ...


class BoxSource:
    """Boxes of another detector, brought in once for the clip."""

    name = "boxes"

    def __init__(self, imported: Detections | None) -> None:
        self._imported = imported

    def found(self, settings: DetectSettings) -> DetectResult:
        """The boxes as the settings choose among them.

        Raises
        ------
        DroverError
            When none were brought in.
        """
        if self._imported is None:
            raise DroverError("there are no imported boxes to use; bring some in, or use what moves")
        chosen = choose_boxes(self._imported, settings.boxes)
        return DetectResult(chosen, np.zeros(256, np.int64), (), 0.0, chosen.frame_count)


def merge(motion: DetectResult | None, boxes: DetectResult | None, settings: DetectSettings) -> DetectResult:
    """The detections that are tracked, from those sources that were asked.

    Raises
    ------
    DroverError
        When there is none.
    """
    if motion is not None and boxes is not None:
        return replace(motion, detections=unite(motion.detections, boxes.detections, settings.boxes))
    one = boxes if motion is None else motion
    if one is None:
        raise DroverError("the recipe names no source of detections; put 'motion' or 'boxes' in detect.sources")
    return one
