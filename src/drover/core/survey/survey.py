"""What a recorded clip says of itself before anything is detected."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from drover.core.both_cores import at_once
from drover.core.survey.blocks import BLOCK, block_strength
from drover.core.survey.camera import CameraLook, look_at_camera
from drover.core.survey.empty_scene import EmptyScene, find_empty_scene, in_one_light, light_of
from drover.core.survey.movers import what_moves
from drover.core.survey.samples import Samples
from drover.core.survey.shadows import ShadowEvidence, find_shadows
from drover.core.survey.standing import put_ground_back
from drover.core.survey.view import SurveyView, view_of

__all__ = ["Survey", "survey_of"]

STILL_CAMERA = CameraLook(0.0, 0.0, 0.0, False)
COLOURLESS = 2.5  # levels from grey under which footage has no colour
DARK = 45.0  # levels of the middle pixel under which it is night
LIGHT_CHANGES = 0.08  # share from which a change of light is told
BLOCKY = 0.15  # share from which blocks of the coding are told
LOOKED_AT_FOR_BLOCKS = 4  # pictures
UNEVEN, LEAST_TOLD = (
    1.8,
    0.5,
)  # times that noise must differ to be told of, and levels under which it is as good as none
LEAST_SHOWN = 0.05  # levels, less than which would be told as 0.0
RESTLESS = 1.5  # levels more than the sensor's noise from which a place is restless


@dataclass(frozen=True)
class Survey:
    """The empty scene; whether the footage is grey; whether bodies cast shadows; the share of the ground that is
    restless; by how many standard deviations what moves differs from the ground; and in how many places something stood
    for so long that it passed for ground. ``camera`` says whether it stands still, ``light`` by what share the light of
    the whole picture changes, darkest to lightest, ``blocks`` by what share steps between blocks of the coding are
    larger than inside, ``moving_size`` px how large the blobs are that half of what moves lies in (0: unknown), and
    ``view`` holds the pictures and curves to be shown.
    """

    empty: EmptyScene
    grey: bool
    shadows: ShadowEvidence
    restless: float
    contrast: float
    stood: int = 0
    camera: CameraLook = STILL_CAMERA
    light: float = 0.0
    blocks: float = 0.0
    view: SurveyView | None = None
    moving_size: float = 0.0

    @property
    def facts(self) -> dict[str, float | bool]:
        """The figures: noise and colour noise in levels, contrast in standard deviations, shares 0..1."""
        colour = self.empty.chroma_noise
        return {
            "noise": round(float(np.median(self.empty.noise)), 3),
            "colour_noise": round(0.0 if colour is None else float(np.median(colour)), 3),
            "grey": self.grey,
            "restless": round(self.restless, 4),
            "contrast": round(min(self.contrast, 1e6), 2),
            "shadow_evidence": round(self.shadows.strength, 3),
            "shadows_cast": self.shadows.cast,
            "moving_size": round(self.moving_size, 1),
            "stood": self.stood,
            "camera_moves": self.camera.moves,
            "camera_shift": round(self.camera.shift, 2),
            "light_changes": round(self.light, 3),
            "blocks": round(self.blocks, 3),
        }

    @property
    def words(self) -> tuple[str, ...]:
        """What follows, in plain sentences."""
        noise, level = float(np.median(self.empty.noise)), float(np.median(self.empty.grey))
        out = [self.camera.words] if self.camera.moves else []
        if level < DARK:
            out.append(f"It is dark: the ground is at level {level:.0f} of 255, and noise hides more than by day.")
        quiet = noise if self.view is None or len(self.view.noise) == 0 else float(np.median(self.view.noise[:, 1]))
        # Coding copies what hardly changes: then a quiet place is the same in one picture after the other.
        jitter = "do not jitter" if quiet < LEAST_SHOWN else f"jitter by {quiet:.1f} levels"
        out.append(f"Quiet places {jitter}; with what stirs, thresholds are multiples of {noise:.1f} levels.")
        out += self._brightness_words()
        if self.blocks >= BLOCKY:
            out.append(f"Coding shows as blocks of {BLOCK} px: outlines are no sharper than that.")
        if self.light >= LIGHT_CHANGES:
            out.append(f"The light changes by {100 * self.light:.0f} %; each picture is brought back to one light.")
        out.append("The footage is grey." if self.grey else "The footage has colour.")
        if np.isfinite(self.contrast):
            size = f", and half of it is {self.moving_size:.0f} px large or more" if self.moving_size else ""
            out.append(f"What moves differs by {self.contrast:.0f} times the noise{size}.")
        if self.restless > 0.02:
            out.append(f"{100 * self.restless:.0f} % of the ground is restless; it must differ more to count there.")
        if self.stood:
            places = "one place" if self.stood == 1 else f"{self.stood} places"
            out.append(f"In {places} something stands at the start or the end that is not ground.")
        if self.shadows.cast:
            out.append(
                "Bodies cast shadows, all to one side."
                if self.shadows.to_one_side
                else "Bodies cast short shadows: the sun is high."
            )
        return tuple(out)

    def _brightness_words(self) -> list[str]:
        """What follows from noise that differs with brightness."""
        curve = None if self.view is None else self.view.noise
        if curve is None or len(curve) < 2:
            return []
        least, most = curve[curve[:, 1].argmin()], curve[curve[:, 1].argmax()]
        # A sensor is noisier in the light; where the dark is, leaves stir in the shade.
        if most[0] < least[0] or most[1] < UNEVEN * max(float(least[1]), LEAST_TOLD):
            return []
        return [
            f"Noise differs with brightness: {least[1]:.1f} levels at {least[0]:.0f}, {most[1]:.1f} at {most[0]:.0f}; "
            "each place has a threshold of its own."
        ]


def survey_of(samples: Samples) -> Survey:
    """What some pictures say."""
    gain, blocks = light_of(samples), block_strength(samples.grey[:: max(1, len(samples) // LOOKED_AT_FOR_BLOCKS)])
    light = float(gain.max() / gain.min() - 1.0)
    camera, samples = at_once(lambda: look_at_camera(samples), lambda: in_one_light(samples))
    empty, stood = find_empty_scene(samples), 0
    if not camera.moves:  # else there is no place that anything could stand in
        empty, stood = put_ground_back(samples, empty)
    colour = 0.0 if empty.chroma is None else float(np.quantile(np.abs(empty.chroma - 128.0), 0.9))
    grey = colour < COLOURLESS
    shadows = ShadowEvidence(0.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0) if grey else find_shadows(samples, empty)
    restless = float((empty.restless > RESTLESS).mean())
    view = view_of(samples, empty, gain)
    movers = what_moves(samples, empty)
    return Survey(empty, grey, shadows, restless, movers.contrast, stood, camera, light, blocks, view, movers.size)
