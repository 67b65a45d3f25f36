"""Settings of the camera's own motion."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from drover.core.settings.base import Settings

__all__ = ["CameraSettings"]


class CameraSettings(Settings):
    """Whether the camera's motion is followed and taken out."""

    mode: Literal["auto", "off", "steady", "free"] = Field(
        default="auto",
        description="auto: followed where the clip shows that it moves; off: it stands; steady: it sways about one "
        "view; free: it pans, zooms or drives, and the ground is known view by view.",
    )
    motion: Literal["shift", "rigid", "similarity", "affine", "projective"] = Field(
        default="similarity",
        description="What one picture may be to another: shift; rigid: and a turn; similarity: and a zoom; affine: and "
        "a slant; projective: and a tilt, as of a flat ground seen at an angle.",
    )
