"""Detect with a camera that moves: each picture is laid on its station's canvas, where the ground lies still.

The detector is the same as for a camera that stands: it never learns of the motion. What the picture does not reach
shows the ground as it is known, so nothing is found there, and what is found is brought back into the picture.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.canvas import boxes_along, half_size, lay_on, runs_along, show_ground
from drover.core.camera.motion import CameraMotion, FrameState
from drover.core.camera.stations import Station
from drover.core.detect.blobs import Blobs
from drover.core.detect.detector import DetectedFrame, Detector, DetectorState, ShadowFacts, nothing_found
from drover.core.detect.other_size import runs_where
from drover.core.detect.where import Region
from drover.core.features.models import inverse
from drover.core.footage_types import Frame
from drover.core.recipe import DetectSettings, WhereSettings
from drover.core.survey.empty_scene import EmptyScene

__all__ = ["CanvasDetector", "SceneOf", "SteadyDetector"]

Float = NDArray[np.float64]
Grey = NDArray[np.uint8]
SceneOf = Callable[[Station], tuple[EmptyScene, NDArray[np.bool_]] | None]
LEAST_LEFT = 0.25  # of a blob's area that must lie in the picture
RIM = 2  # px along the rim in which a picture and the ground beside it run into each other
SLIVER = (
    0.012  # of the picture's height: what reaches in no farther over its rim is not told from the ground that comes in
)


class CanvasDetector:
    """A detector on a canvas: pictures are laid on it, and what is found is brought back into them.

    Parameters
    ----------
    settings : DetectSettings
        Nothing in them on auto.
    size, canvas : (width, height) px of the pictures and of the canvas
    """

    def __init__(self, settings: DetectSettings, size: tuple[int, int], canvas: tuple[int, int]) -> None:
        self.settings, self.size, self.canvas = settings, size, canvas
        self._inner = on_canvas(settings, size, canvas)
        self._region = Region(settings.where, size)
        self._back = np.eye(3)
        width, height = canvas
        self._grey = np.zeros((height, width), np.uint8)
        self._chroma = np.zeros((2, height // 2, width // 2), np.uint8)
        self.begin(None, None)

    def begin(self, empty: EmptyScene | None, known: NDArray[np.bool_] | None) -> None:
        """Begin with another ground: its empty scene and where on the canvas it is known, if it is at all."""
        self._detector = Detector(self._inner, self.canvas, empty)
        self._unknown = None if known is None or known.all() else ~known
        half = None if self._unknown is None else self._unknown[::2, ::2][: self.canvas[1] // 2]
        self._unknown_colour = None if half is None else np.ascontiguousarray(half[:, : self.canvas[0] // 2])

    @property
    def wants_colour(self) -> bool:
        """Whether the colour planes of a frame are looked at."""
        return self._detector.wants_colour

    def look(self, frame: Frame, back: Float) -> DetectedFrame:
        """Take in a frame whose place on the canvas is known; ``back`` (3, 3) is from there to its px."""
        self._back = back
        return self._in_picture(self._detector.step(self._laid(frame)))

    def take_ground(self, frame: Frame, back: Float, where: NDArray[np.bool_]) -> None:
        """Take what a frame shows at some px of the canvas (height, width) for the ground there, as it looks now."""
        self._back = back
        laid = self._laid(frame)
        self._detector.take_ground(runs_where(where), laid.grey, laid.chroma)

    def _laid(self, frame: Frame) -> Frame:
        """The frame on its canvas."""
        model = self._detector.model
        lay_on(frame.grey, self._back, model.background(), self._grey)
        grey = self._grey
        if self._unknown is not None:
            show_ground(self._unknown, model.background(), grey)
        chroma = frame.chroma if self.wants_colour else None
        if chroma is not None:
            chroma = self._laid_colour(chroma)
        return Frame(frame.index, frame.time, lambda: grey, frame.make_rgb, lambda: chroma, frame.own_size)

    def _laid_colour(self, chroma: Grey) -> Grey:
        ground = self._detector.ground_colour()
        back = half_size(self._back)
        for plane in range(2):
            lay_on(chroma[plane], back, ground[plane], self._chroma[plane])
            if self._unknown_colour is not None:
                show_ground(self._unknown_colour, ground[plane], self._chroma[plane])
        return self._chroma

    def _in_picture(self, found: DetectedFrame) -> DetectedFrame:
        """What was found on the canvas, where it is in the picture; what lies beyond its rim is cut off or left out."""
        width, height = self.size
        inner = (width - RIM, height - RIM)
        runs, counts = runs_along(found.runs, found.run_count, inverse(self._back), (RIM, RIM), inner)
        box = _cut_at_rim(boxes_along(found.box, self._back), runs, counts, inner)
        owner = np.repeat(np.arange(len(counts)), counts)
        area = np.bincount(owner, weights=(runs[:, 2] - runs[:, 1]).astype(np.float64), minlength=len(counts))
        zoom = abs(float(np.linalg.det(self._back[:2, :2])))
        box[:, 0::2], box[:, 1::2] = np.clip(box[:, 0::2], 0, width), np.clip(box[:, 1::2], 0, height)
        keeps = (counts > 0) & (area >= LEAST_LEFT * found.area * zoom)
        keeps &= self._reaches_in(box)
        blobs = Blobs(box, area.astype(np.float32), found.confidence, counts, runs)
        keeps &= self._region.fits(blobs)
        return replace(
            found, box=box[keeps], confidence=found.confidence[keeps], area=area[keeps].astype(np.float32),
            run_count=counts[keeps], runs=runs[keeps[owner]], look=found.look[keeps],
            rejected=boxes_along(found.rejected, self._back),
        )  # fmt: skip

    def _reaches_in(self, box: NDArray[np.float32]) -> NDArray[np.bool_]:
        """Which boxes (n, 4) are more than a sliver along the picture's rim."""
        width, height = self.size
        least = max(2.0, SLIVER * height)
        along = (box[:, 0] < least) & (box[:, 2] < 2 * least) | (box[:, 2] > width - least) & (
            box[:, 0] > width - 2 * least
        )
        down = (box[:, 1] < least) & (box[:, 3] < 2 * least) | (box[:, 3] > height - least) & (
            box[:, 1] > height - 2 * least
        )
        return ~(along | down) & (box[:, 2] - box[:, 0] > 1) & (box[:, 3] - box[:, 1] > 1)

    # --- pictures for the screen ----------------------------------------------------------------------------

    def background(self) -> Grey:
        """The empty scene as now believed, where it is in the picture, (height, width) uint8."""
        return self._seen(self._detector.background())

    def difference(self) -> Grey:
        """Difference of the last frame from the background, in the picture, (height, width) uint8."""
        return self._seen(self._detector.difference())

    def _seen(self, plane: Grey) -> Grey:
        out = np.zeros((self.size[1], self.size[0]), np.uint8)
        lay_on(np.ascontiguousarray(plane), inverse(self._back), np.zeros(out.shape, np.float32), out)
        return out

    def shadow_facts(self) -> ShadowFacts:
        """What shadows were judged by in the last frame, in the picture."""
        facts = self._detector.shadow_facts()
        forth = half_size(inverse(self._back))

        def seen(planes: NDArray, kind: type) -> NDArray:
            out = np.zeros((2, self.size[1] // 2, self.size[0] // 2), np.uint8)
            for plane in range(2):
                whole = np.ascontiguousarray(np.clip(np.rint(planes[plane]), 0, 255).astype(np.uint8))
                lay_on(whole, forth, np.full(out.shape[1:], 128, np.float32), out[plane])
            return out.astype(kind)

        return ShadowFacts(
            self._seen(facts.grey),
            self._seen(np.clip(np.rint(facts.background), 0, 255).astype(np.uint8)).astype(np.float32),
            None if facts.chroma is None else seen(facts.chroma, np.uint8),
            None if facts.colour is None else seen(facts.colour, np.float32),
        )


class SteadyDetector(CanvasDetector):
    """Finds what moves against the ground of a recorded clip; steps and states as :class:`Detector` has them.

    Parameters
    ----------
    settings : DetectSettings
        Nothing in them on auto.
    motion : where each picture lies
    stations : stretches of the clip with their canvases
    scene_of : what gives the empty scene of a station and where on its canvas it is known, if it is at all
    """

    def __init__(
        self, settings: DetectSettings, motion: CameraMotion, stations: tuple[Station, ...], scene_of: SceneOf
    ) -> None:
        self.motion, self._stations, self._scene_of = motion, stations, scene_of
        self._firsts = np.array([station.first for station in stations])
        self._number = -1
        super().__init__(settings, motion.size, stations[0].size)

    def station_of(self, frame: int) -> Station:
        """The station that a frame belongs to."""
        return self._stations[self._place_of(frame)]

    def step(self, frame: Frame) -> DetectedFrame:
        """Take in the next frame and say what moves in it against the ground, in px of the picture."""
        self._go_to(self._place_of(frame.index), None)
        back = inverse(self._stations[self._number].from_picture(self.motion, frame.index))
        if self.motion.state[frame.index] == FrameState.HELD:
            self._back = back
            return nothing_found(frame.index)  # where the picture lies is not known: all of it would seem to move
        cut = frame.index > 0 and self.motion.state[frame.index] == FrameState.NEW_VIEW
        return replace(self.look(frame, back), cut=bool(cut))

    def go_to(self, frame: int) -> None:
        """Be ready for a frame: begin its station, with all that is known of its ground."""
        self._go_to(self._place_of(frame), None)

    def _place_of(self, frame: int) -> int:
        return int(np.searchsorted(self._firsts, frame, side="right")) - 1

    def _go_to(self, number: int, state: DetectorState | None) -> None:
        """Begin with another station's ground; with a ``state`` of it none need be known."""
        if number != self._number:
            self._number = number
            scene = self._scene_of(self._stations[number])
            empty, known = (None, None) if scene is None else scene
            self.begin(None if state else empty, known)
        if state is not None:
            self._detector.restore(state)

    def state(self) -> DetectorState:
        """State to go back to with :meth:`restore`."""
        return self._detector.state()

    def restore(self, state: DetectorState, frame: int) -> None:
        """Go back to the state before a frame."""
        self._go_to(self._place_of(frame), state)


def _cut_at_rim(
    box: NDArray[np.float32], runs: NDArray[np.int16], counts: NDArray[np.int64], inner: tuple[int, int]
) -> NDArray[np.float32]:
    """Boxes (n, 4) that reach to the rim, as far as their blobs are in the picture; the others as they are."""
    start = np.concatenate([[0], np.cumsum(counts)])
    beyond = (box[:, :2] < RIM).any(axis=1) | (box[:, 2:] > inner).any(axis=1)
    for k in np.flatnonzero(beyond & (counts > 0)).tolist():
        own = runs[start[k] : start[k + 1]]
        box[k] = own[:, 1].min(), own[:, 0].min(), own[:, 2].max(), own[:, 0].max() + 1
    return box


def on_canvas(settings: DetectSettings, size: tuple[int, int], canvas: tuple[int, int]) -> DetectSettings:
    """The settings as a detector on a canvas is to have them: sizes hold for the picture, places are judged in it."""
    rule = settings.size
    wide = round(rule.for_width * canvas[0] / size[0])
    left, top = (canvas[0] - size[0]) / 2, (canvas[1] - size[1]) / 2

    def moved(box: tuple[float, float, float, float] | None) -> tuple[float, float, float, float] | None:
        if box is None:
            return None
        x1, x2 = ((side * size[0] + left) / canvas[0] for side in box[0::2])
        y1, y2 = ((side * size[1] + top) / canvas[1] for side in box[1::2])
        return x1, y1, x2, y2

    sizes = {"for_width": min(max(wide, 16), 16384), "near_box": moved(rule.near_box), "far_box": moved(rule.far_box)}
    return settings.model_copy(update={"size": rule.model_copy(update=sizes), "where": WhereSettings()})
