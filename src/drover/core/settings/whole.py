"""All settings together: one value, one TOML file."""

from __future__ import annotations

from drover.core.settings.base import Settings
from drover.core.settings.camera import CameraSettings
from drover.core.settings.count import CountSettings
from drover.core.settings.detect import (
    DetectSettings,
)
from drover.core.settings.follow import FollowSettings
from drover.core.settings.score import ScoreSettings
from drover.core.settings.send import SendSettings
from drover.core.settings.track import (
    TrackSettings,
)
from drover.core.settings.words import WordSettings

__all__ = ["Recipe"]


class Recipe(Settings):
    """All settings, one TOML file."""

    camera: CameraSettings = CameraSettings()
    detect: DetectSettings = DetectSettings()
    track: TrackSettings = TrackSettings()
    follow: FollowSettings = FollowSettings()
    count: CountSettings = CountSettings()
    score: ScoreSettings = ScoreSettings()
    words: WordSettings = WordSettings()
    send: SendSettings = SendSettings()
