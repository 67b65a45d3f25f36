"""What is odd about the detections handed to Track, in plain lines a user should see."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.types import Detections, rows_to_frames

__all__ = ["input_notes"]

CROWD = 1000  # boxes in a frame that no scene has
HOLE = 5.0  # s between two frames after which nothing can go on


def input_notes(detections: Detections, times: NDArray[np.float64]) -> tuple[str, ...]:
    """Lines on missing, identical, empty and crowded boxes, holes and time stamps that go back; none when all is well.

    Frames are named as on screen, from 1; ``times`` s.
    """
    notes: list[str] = []
    if len(detections) == 0:
        return ("nothing was detected in any frame, so there is nothing to track; look at Detect first",)
    frame = rows_to_frames(detections.frame_start)
    counts = np.diff(detections.frame_start)
    if counts.max() > CROWD:
        at = int(counts.argmax())
        notes.append(
            f"{counts[at]} boxes in frame {at + 1}: far more than one scene has; raise the detection threshold"
        )
    sides = detections.box[:, 2:] - detections.box[:, :2]
    flat = (sides <= 0).any(axis=1)
    if flat.any():
        first = int(frame[int(np.argmax(flat))]) + 1
        notes.append(
            f"{int(flat.sum())} boxes have no width or height, the first in frame {first}; drop them in Detect"
        )
    same = len(detections) - len(np.unique(np.column_stack([frame, detections.box]), axis=0))
    if same:
        notes.append(f"{same} boxes lie exactly on another of their frame; overlap removal in Detect drops them")
    return (*notes, *_of_times(times))


def _of_times(times: NDArray[np.float64]) -> list[str]:
    step = np.diff(times)
    notes = []
    back = np.flatnonzero(~(step >= 0))
    if len(back):
        notes.append(f"time stamps go back {len(back)} times, first at frame {int(back[0]) + 2}; time is held there")
    holes = np.flatnonzero(step > HOLE)
    if len(holes):
        at = int(holes[np.argmax(step[holes])])
        longest = f"the longest {step[at]:.0f} s after frame {at + 1}"
        notes.append(f"{len(holes)} holes in the footage, {longest}; identities longer unseen than their gap end there")
    return notes
