"""A camera's motion as columns and facts that can be kept beside other results."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.motion import CameraMotion

__all__ = ["motion_arrays", "motion_facts", "motion_from"]


def motion_arrays(motion: CameraMotion) -> dict[str, NDArray]:
    """The columns of a motion, to be kept."""
    return {name: np.asarray(getattr(motion, name)) for name in ("to_scene", "state", "shared", "covered", "residual")}


def motion_facts(motion: CameraMotion) -> dict[str, Any]:
    """What else is to be kept of it."""
    return {
        "camera_size": list(motion.size), "steady": motion.steady, "camera_seconds": motion.seconds,
        "reason": {str(frame): text for frame, text in motion.reason.items()},
    }  # fmt: skip


def motion_from(arrays: dict[str, NDArray], facts: dict[str, Any]) -> CameraMotion:
    """A motion as it was kept."""
    width, height = facts["camera_size"]
    reason = {int(frame): str(text) for frame, text in facts["reason"].items()}
    return CameraMotion(
        arrays["to_scene"], arrays["state"], arrays["shared"], arrays["covered"], arrays["residual"], reason,
        (int(width), int(height)), bool(facts["steady"]), float(facts["camera_seconds"]),
    )  # fmt: skip
