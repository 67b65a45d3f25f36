"""Settings of Track."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator

from drover.core.settings.base import AUTO, Points, Settings, checked_polygons, dial, polygons_from_lists

__all__ = ["AfterSettings", "BlobSettings", "LifeSettings", "MatchSettings", "MotionSettings", "TrackSettings"]


class MotionSettings(Settings):
    """The motion filter. Noises hold at 50 px of size and for frames of 1/25 s, whatever the footage's rate."""

    model: Literal["steady", "pushed", "turning"] = Field(
        default="steady",
        description="steady: keeps its speed; pushed: keeps its acceleration for a while; "
        "turning: goes straight or turns, whichever fits better.",
    )
    turn_rate: float = dial(
        60.0, 5.0, 720.0, "°/s", "How fast an object turns when it turns; used by the turning filter alone.", 5.0
    )
    jumpiness: float = dial(
        AUTO, 0.01, 50.0, "px/frame²",
        "How abruptly objects change speed. Higher turns faster and coasts less surely.", 0.05, auto=True,
    )  # fmt: skip
    box_noise: float = dial(
        AUTO, 0.1, 200.0, "px", "How much a detected box jitters. Higher smooths more and lags more.", 0.1, auto=True
    )
    size_noise: float = dial(1.0, 0.01, 50.0, "px/frame", "How fast a box may change its width and height.", 0.1)
    size_scaling: float = dial(
        0.5, 0.0, 1.0, "power", "How noises grow with the object's size: 0 not at all, 1 in proportion.", 0.1
    )
    size_doubt: float = dial(
        1.5,
        0.0,
        50.0,
        "×",
        "How much less a side is trusted that jumps, as when one is half hidden. 0 takes every box as it is.",
        0.5,
    )
    weak_doubt: float = dial(
        0.3, 0.0, 1.0, "fraction", "How much less a box is trusted that its detector is not sure of.", 0.05
    )
    fade: float = dial(
        1.0, 0.0, 60.0, "s", "How long an unseen object is taken to keep its speed before it slows. 0 keeps it.", 0.1
    )
    boxes: Literal["measured", "filtered"] = Field(
        default="measured",
        description="measured: an object seen alone has the box that was found; filtered: always that of its filter, "
        "which is smoother and lags behind limbs that swing.",
    )
    speeds_first: bool = Field(
        default=True,
        description="Where things move farther than half their size between pictures, measure before linking how fast "
        "each goes, over the picture before and the one after. A live camera cannot.",
    )


class MatchSettings(Settings):
    """Which detection may continue which track, and what it costs. The weights share out the cost."""

    gate: float = dial(
        AUTO, 0.5, 20.0, "σ", "Largest distance between forecast and detection, in standard deviations.", 0.1,
        auto=True,
    )  # fmt: skip
    farthest: float = dial(
        AUTO, 0.1, 50.0, "sizes", "Largest distance from the forecast in sizes of the object, however unsure it is.",
        0.1, auto=True,
    )  # fmt: skip
    distance_weight: float = dial(0.7, 0.0, 1.0, "weight", "Distance from the forecast, as a share of the gate.", 0.05)
    overlap_weight: float = dial(0.3, 0.0, 1.0, "weight", "Lack of overlap with the forecast's box.", 0.05)
    overlap: Literal["plain", "generalised"] = Field(
        default="plain",
        description="plain: boxes that do not touch are all alike; generalised: the nearer the better.",
    )
    direction_weight: float = dial(
        0.6, 0.0, 1.0, "weight", "Coming back from another way than it went, after being unseen.", 0.05
    )
    size_weight: float = dial(0.2, 0.0, 1.0, "weight", "A change of width and height.", 0.05)
    look_weight: float = dial(
        0.1, 0.0, 1.0, "weight", "Another look: colours, brightness and edges inside the outline.", 0.05
    )
    sure_from: float = dial(
        0.4, 0.0, 1.0, "fraction", "Detections at least this sure are matched first; weaker ones start no track.", 0.05
    )
    same_class: bool = Field(default=False, description="Only detections of its own class may continue a track.")
    assignment: Literal["optimal", "greedy"] = Field(
        default="optimal",
        description="optimal: least cost over all pairs; greedy: best pair first, for comparison.",
    )


class BlobSettings(Settings):
    """Blobs that several objects have melted into."""

    share: bool = Field(
        default=True, description="Objects expected in one blob keep their identities and share it out among them."
    )
    least_cover: float = dial(
        0.5,
        0.1,
        1.0,
        "fraction",
        "Share of a forecast that a blob must cover for the object to be in it.",
        0.05,
    )


class LifeSettings(Settings):
    """When a track is born, believed and given up."""

    hits_to_confirm: int = dial(
        int(AUTO), 1, 100, "frames",
        "Frames of 1/25 s that a new track must be seen for before it is believed; at least 3.", 1, auto=True,
    )  # fmt: skip
    longest_gap: float = dial(
        AUTO, 0.0, 60.0, "s", "Longest time an object may stay unseen and keep its identity.", 0.1, auto=True
    )
    return_within: float = dial(
        8.0, 0.0, 600.0, "s",
        "How long after it was last seen a lost identity may come back, if place and look fit. 0: never.", 1.0,
    )  # fmt: skip
    exits: tuple[Points, ...] = Field(
        default=(),
        description="Polygons where objects come and go inside the picture; corner points in fractions of the frame.",
    )

    @field_validator("exits", mode="before")
    @classmethod
    def _polygons_from_lists(cls, value: Any) -> Any:
        return polygons_from_lists(value)

    @field_validator("exits")
    @classmethod
    def _polygons_usable(cls, value: tuple[Points, ...]) -> tuple[Points, ...]:
        return checked_polygons(value)


class AfterSettings(Settings):
    """What is done once the whole clip is linked. Live only who is no object so far is left out."""

    join: bool = Field(default=True, description="Join broken tracks over the whole clip where motion and size agree.")
    join_within: float = dial(AUTO, 0.0, 60.0, "s", "Longest break that is joined.", 0.5, auto=True)
    least_travel: float = dial(
        1.0, 0.0, 50.0, "sizes", "One that never comes this far, in its own sizes, is no object. 0 keeps all.", 0.25
    )
    drop_flicker: bool = Field(
        default=True, description="Drop what flickers: seen now and then, faint, leaping about, as leaves and water do."
    )
    fill_gaps: bool = Field(
        default=True, description="Draw a bridged gap from where the object went to where it came back."
    )
    draw_within: float = dial(
        1.0,
        0.0,
        60.0,
        "s",
        "Longest time unseen that is drawn: beyond, where it was is a guess. It keeps its number.",
        0.25,
    )
    smooth: bool = Field(default=False, description="Smooth finished tracks with what came after, for analysis.")


class TrackSettings(Settings):
    """Track: detections linked into identities."""

    motion: MotionSettings = MotionSettings()
    match: MatchSettings = MatchSettings()
    blobs: BlobSettings = BlobSettings()
    life: LifeSettings = LifeSettings()
    after: AfterSettings = AfterSettings()
