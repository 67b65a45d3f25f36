"""Settings of Detect."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator

from drover.core.settings.base import AUTO, Points, Settings, as_float, checked_polygons, dial, polygons_from_lists

__all__ = [
    "BackgroundSettings",
    "BodySettings",
    "BoxSettings",
    "ClassLimit",
    "CleanupSettings",
    "DetectSettings",
    "LightSettings",
    "ShadowSettings",
    "SizeSettings",
    "StillSettings",
    "WhereSettings",
]


class BackgroundSettings(Settings):
    """The picture of the empty scene, and how far from it a pixel must be to count as moving."""

    model: Literal["running-average", "running-median", "mixture", "frame-difference", "three-frame-difference"] = (
        Field(
            default="running-average",
            description="How the picture of the empty scene is kept: running-average, running-median, mixture, "
            "frame-difference or three-frame-difference.",
        )
    )
    look_at: Literal["auto", "grey", "colour"] = Field(
        default="auto",
        description="grey: brightness alone; colour: colour as well, which finds what is as bright as the ground and "
        "costs time; auto: colour where the clip has any.",
    )
    colour_weight: float = dial(
        2.0, 0.1, 10.0, "×", "How much a difference in colour counts against one in brightness.", 0.1
    )
    components: int = dial(
        3, 1, 5, "most", "Mixture: how many faces a pixel may have, as swaying grass has. More costs time.", 1
    )
    rate: float = dial(
        0.8,
        0.0,
        10.0,
        "1/s",
        "How fast the background takes on the new picture. Higher follows light faster.",
        0.05,
    )
    busy_share: float = dial(
        0.02,
        0.0,
        1.0,
        "× rate",
        "Share of the rate where something moves. Lower keeps an object that stands still for longer.",
        0.01,
    )
    known_start: bool = Field(
        default=True,
        description="The empty scene is worked out before the first picture (live after 7 s): nothing to learn.",
    )
    warm_up: float = dial(
        AUTO, 0.0, 60.0, "s", "Time spent learning the empty scene before anything is detected.", 0.1, auto=True
    )
    threshold: float = dial(16.0, 1.0, 255.0, "levels", "Difference from the background that counts as moving.", 1.0)
    threshold_in: Literal["levels", "noise"] = Field(
        default="noise", description="Whether the threshold is in grey levels or in multiples of each pixel's noise."
    )
    weak_share: float = dial(
        AUTO, 0.05, 1.0, "×",
        "Over this share of the threshold counts what touches something over it. 1: nothing does.", 0.05, auto=True,
    )  # fmt: skip
    noise_threshold: float = dial(
        AUTO, 1.0, 30.0, "σ", "Difference that counts as moving, in multiples of the pixel's own noise.", 0.25,
        auto=True,
    )  # fmt: skip


class LightSettings(Settings):
    """Light that changes over the whole picture or drifts across it."""

    follow: bool = Field(default=True, description="Bring each picture to the background's light before comparing.")
    jump: float = dial(
        0.05, 0.01, 1.0, "fraction", "Change of the whole picture's brightness within a frame that is reported.", 0.01
    )


class ShadowSettings(Settings):
    """Shadows that objects cast."""

    mode: Literal["auto", "off", "drop", "keep"] = Field(
        default="auto",
        description="auto: as the clip shows; off: not looked for; drop: cut from the mask; keep: marked only.",
    )
    darkest: float = dial(0.5, 0.05, 1.0, "fraction", "A shadow leaves at least this share of the light.", 0.01)
    lightest: float = dial(0.9, 0.1, 1.0, "fraction", "A shadow leaves at most this share of the light.", 0.01)
    sharpest: float = dial(
        0.6, 0.05, 2.0, "fraction", "What changes more of the light from px to px is cloth or limbs, not shadow.", 0.01
    )
    colour_change: float = dial(
        4.0, 0.5, 100.0, "levels", "How far a shadow may shift the ground's colour. Higher finds more shadow.", 0.5
    )


class StillSettings(Settings):
    """Things that stop."""

    keep_for: float = dial(
        30.0, 0.5, 3600.0, "s", "How long a thing that stands stays a detection before it joins the background.", 1.0
    )
    drop_ghosts: bool = Field(
        default=True, description="Drop the ghost that stays behind when a thing leaves that was there at the start."
    )


class CleanupSettings(Settings):
    """Repair of the moving mask before blobs are cut from it."""

    opening: int = dial(
        int(AUTO), 0, 31, "px", "Removes specks thinner than this. 0 leaves the mask as it is.", 1, auto=True
    )
    closing: int = dial(
        int(AUTO), 0, 61, "px", "Bridges cracks narrower than this. Too much joins neighbours.", 1, auto=True
    )
    fill_holes: int = dial(
        int(AUTO), 0, 100000, "px", "Holes in a blob up to this many pixels are filled.", 20, auto=True
    )


class SizeSettings(Settings):
    """The sizes of blobs that are kept, and the joining of fragments.

    With a near and a far box of one object all limits follow the distance between them; the numbers then hold
    at the near box.
    """

    least_width: float = dial(5.0, 0.0, 4000.0, "px", "Blobs narrower than this are dropped.", 1.0)
    least_height: float = dial(5.0, 0.0, 4000.0, "px", "Blobs lower than this are dropped.", 1.0)
    least_area: float = dial(40.0, 0.0, 1e7, "px", "Blobs with fewer pixels than this are dropped.", 10.0)
    most_width: float = dial(4000.0, 1.0, 1e5, "px", "Blobs wider than this are dropped.", 1.0)
    most_height: float = dial(4000.0, 1.0, 1e5, "px", "Blobs taller than this are dropped.", 1.0)
    most_area: float = dial(1e7, 1.0, 1e9, "px", "Blobs with more pixels than this are dropped.", 10.0)
    least_aspect: float = dial(0.0, 0.0, 100.0, "w/h", "Blobs narrower for their height than this are dropped.", 0.1)
    most_aspect: float = dial(100.0, 0.01, 100.0, "w/h", "Blobs wider for their height than this are dropped.", 0.1)
    join_within: float = dial(
        4.0, 0.0, 500.0, "px", "A fragment is joined to a larger blob within this distance. 0 joins nothing.", 1.0
    )
    for_width: int = dial(
        1280, 16, 16384, "px", "Width of the frame that these sizes hold for; on other footage they scale with it.", 16
    )
    near_box: tuple[float, float, float, float] | None = Field(
        default=None, description="One object near the camera: x1, y1, x2, y2 in fractions of the frame."
    )
    far_box: tuple[float, float, float, float] | None = Field(
        default=None, description="One object of the same size far away: x1, y1, x2, y2 in fractions of the frame."
    )

    @field_validator("near_box", "far_box", mode="before")
    @classmethod
    def _box_from_list(cls, value: Any) -> Any:
        return tuple(as_float(v) for v in value) if isinstance(value, (list, tuple)) else value

    @field_validator("near_box", "far_box")
    @classmethod
    def _box_usable(cls, value: tuple[float, float, float, float] | None) -> tuple[float, float, float, float] | None:
        if value is not None and not (0 <= value[0] < value[2] <= 1 and 0 <= value[1] < value[3] <= 1):
            raise ValueError("a box is x1, y1, x2, y2 in fractions, with x1 < x2 and y1 < y2, in 0..1")
        return value


class WhereSettings(Settings):
    """Where detections count. Polygons are corner points in fractions of the frame."""

    include: tuple[Points, ...] = Field(
        default=(), description="Polygons in which detections count; none means the whole frame."
    )
    ignore: tuple[Points, ...] = Field(default=(), description="Polygons in which detections do not count.")
    by: Literal["foot", "area"] = Field(
        default="foot", description="Whether a detection lies where its foot is, or where enough of its area is."
    )
    least_share: float = dial(
        0.5, 0.01, 1.0, "fraction", "By area: share of a detection that must lie inside to count.", 0.05
    )

    @field_validator("include", "ignore", mode="before")
    @classmethod
    def _polygons_from_lists(cls, value: Any) -> Any:
        return polygons_from_lists(value)

    @field_validator("include", "ignore")
    @classmethod
    def _polygons_usable(cls, value: tuple[Points, ...]) -> tuple[Points, ...]:
        return checked_polygons(value)


class ClassLimit(Settings):
    """What is taken of one class of imported boxes."""

    name: str = Field(min_length=1, max_length=80, description="The class as the imported boxes name it.")
    keep: bool = Field(default=True, description="Whether boxes of this class are taken at all.")
    least_confidence: float = dial(
        0.0, 0.0, 1.0, "fraction", "Boxes of this class that are less sure are left out.", 0.01
    )


class BoxSettings(Settings):
    """Boxes that another detector found: which of them are taken."""

    least_confidence: float = dial(
        0.0, 0.0, 1.0, "fraction", "Imported boxes that are less sure are left out, unless their class says so.", 0.01
    )
    class_limit: tuple[ClassLimit, ...] = Field(default=(), description="Limits for single classes.")
    overlaps: Literal["leave", "drop", "weaken"] = Field(
        default="leave",
        description="Imported boxes that overlap too much: leave them, drop the less sure one, or make it less sure.",
    )
    most_overlap: float = dial(
        0.5, 0.05, 1.0, "fraction", "Boxes that overlap more than this are one thing reported twice.", 0.05
    )
    across_classes: bool = Field(
        default=False, description="Overlap is judged between classes too: one thing reported under two names is one."
    )

    @field_validator("class_limit")
    @classmethod
    def _classes_differ(cls, value: tuple[ClassLimit, ...]) -> tuple[ClassLimit, ...]:
        names = [limit.name for limit in value]
        double = sorted({name for name in names if names.count(name) > 1})
        if double:
            raise ValueError(f"class '{double[0]}' has two limits; leave one")
        return value

    def limit_of(self, name: str) -> float:
        """Least confidence for a class; above 1 where it is not taken at all."""
        for limit in self.class_limit:
            if limit.name == name:
                return limit.least_confidence if limit.keep else 2.0
        return self.least_confidence


class BodySettings(Settings):
    """What a recorded clip shows over time puts single pictures right; a live camera never does it."""

    gather: bool = Field(
        default=True,
        description="Unite pieces of one body: near each other, no larger than one body at that place, and together "
        "for as long as they are seen. Blobs that several share for a while are cut between them.",
    )
    drop_sparks: bool = Field(
        default=True,
        description="Drop what belongs to nothing that is followed for a while: leaves, water, noise.",
    )
    drop_weather: bool = Field(
        default=True,
        description="Drop what drifts through the whole picture in great number, all one way and far smaller than "
        "whatever else moves: snow, bubbles.",
    )


class DetectSettings(Settings):
    """Detect: moving things found in each frame."""

    sources: tuple[Literal["motion", "boxes"], ...] = Field(
        default=("motion",),
        min_length=1,
        description="Where detections come from: motion is what moves, boxes what another detector found; with both, "
        "what moves fills in where there are no boxes.",
    )
    background: BackgroundSettings = BackgroundSettings()
    light: LightSettings = LightSettings()
    shadow: ShadowSettings = ShadowSettings()
    still: StillSettings = StillSettings()
    cleanup: CleanupSettings = CleanupSettings()
    size: SizeSettings = SizeSettings()
    where: WhereSettings = WhereSettings()
    bodies: BodySettings = BodySettings()
    boxes: BoxSettings = BoxSettings()

    @field_validator("sources")
    @classmethod
    def _sources_differ(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        if len(set(value)) < len(value):
            raise ValueError("each source may stand once")
        return value

    @property
    def motion_only(self) -> DetectSettings:
        """These settings without those of imported boxes and of bodies: what the pass over the footage depends on."""
        return self.model_copy(update={"boxes": BoxSettings(), "bodies": BodySettings(), "sources": ("motion",)})
