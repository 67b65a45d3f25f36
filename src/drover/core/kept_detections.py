"""A pass over a clip, kept in the result store and brought back from it."""

from __future__ import annotations

from dataclasses import fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.kept import motion_arrays, motion_facts, motion_from
from drover.core.camera.motion import CameraMotion
from drover.core.detect.background import ModelState
from drover.core.detect.result import DetectResult
from drover.core.recipe import DetectSettings
from drover.core.result_store import ResultStore
from drover.core.survey.view import SurveyView
from drover.core.types import Detections

__all__ = ["load_detections", "load_settled", "save_detections", "save_settled"]

_STORED = ("frame_start", "box", "confidence", "class_id", "area", "run_start", "runs", "look")
_VIEW = tuple(part.name for part in fields(SurveyView))
_PLANES = (("", lambda state: state), ("colour_", lambda state: state.colour))


def save_detections(store: ResultStore, key: str, result: DetectResult) -> None:
    """Keep a finished pass under its fingerprint."""
    found = result.detections
    arrays: dict[str, NDArray] = {name: getattr(found, name) for name in _STORED}
    arrays["histogram"], arrays["rejected"] = result.histogram, result.rejected
    if result.view is not None:
        arrays |= {f"view_{name}": getattr(result.view, name) for name in _VIEW}
    states = [state for _, state in result.checkpoints]
    facts: dict[str, object] = {
        "size": list(found.size),
        "class_names": list(found.class_names),
        "seconds": result.seconds,
        "frames_read": result.frames_read,
        "notes": list(result.notes),
        "checkpoints": [[frame, s.seen, s.start, s.now] for frame, s in result.checkpoints],
        "taken": None if result.taken is None else result.taken.model_dump_json(),
        "said": list(result.said),
        "jumps": [list(jump) for jump in result.jumps],
        "cuts": list(result.cuts),
    }
    if result.motion is not None:
        arrays |= {f"camera_{name}": column for name, column in motion_arrays(result.motion).items()}
        facts |= motion_facts(result.motion)
    for prefix, of in _PLANES:
        planes = [of(state) for state in states]
        if planes and all(plane is not None for plane in planes):
            arrays[prefix + "pictures"] = np.stack([plane.picture for plane in planes])
            arrays[prefix + "noises"] = np.stack([plane.noise for plane in planes])
    store.save(key, arrays, facts)


def load_detections(store: ResultStore, key: str) -> DetectResult | None:
    """The pass kept under a fingerprint; None when there is none, or it is damaged."""
    kept = store.load(key)
    if kept is None:
        return None
    arrays, facts = kept
    try:
        return _result(arrays, facts)
    except (KeyError, TypeError, ValueError):
        return None


def save_settled(store: ResultStore, key: str, found: Detections, said: tuple[str, ...]) -> None:
    """Keep the bodies that pieces were brought together to, and what was said of them."""
    arrays: dict[str, NDArray] = {name: getattr(found, name) for name in _STORED}
    store.save(key, arrays, {"size": list(found.size), "class_names": list(found.class_names), "said": list(said)})


def load_settled(store: ResultStore, key: str) -> tuple[Detections, tuple[str, ...]] | None:
    """What ``save_settled`` kept under a fingerprint; None when there is nothing, or it is damaged."""
    kept = store.load(key)
    if kept is None:
        return None
    arrays, facts = kept
    try:
        return _detections(arrays, facts), tuple(facts["said"])  # type: ignore[arg-type]
    except (KeyError, TypeError, ValueError):
        return None


def _detections(arrays: dict[str, NDArray], facts: dict[str, Any]) -> Detections:
    width, height = facts["size"]
    return Detections(
        **{name: arrays[name] for name in _STORED},
        size=(int(width), int(height)),
        class_names=tuple(facts["class_names"]),
    )


def _result(arrays: dict[str, NDArray], facts: dict[str, Any]) -> DetectResult:
    return DetectResult(
        detections=_detections(arrays, facts),
        histogram=arrays["histogram"],
        checkpoints=_checkpoints(arrays, facts["checkpoints"]),
        seconds=float(facts["seconds"]),
        frames_read=int(facts["frames_read"]),
        notes=tuple(facts["notes"]),
        jumps=tuple((int(at), float(by)) for at, by in facts["jumps"]),
        rejected=arrays["rejected"],
        taken=None if facts["taken"] is None else DetectSettings.model_validate_json(facts["taken"]),
        said=tuple(facts["said"]),
        cuts=tuple(int(cut) for cut in facts["cuts"]),
        view=SurveyView(**{name: arrays[f"view_{name}"] for name in _VIEW}) if "view_empty" in arrays else None,
        motion=_motion(arrays, facts),
        recalled=True,
    )


def _motion(arrays: dict[str, NDArray], facts: dict[str, Any]) -> CameraMotion | None:
    if "camera_to_scene" not in arrays:
        return None
    return motion_from({name.removeprefix("camera_"): column for name, column in arrays.items()}, facts)


def _checkpoints(arrays: dict[str, NDArray], marks: list[list[float]]) -> tuple[tuple[int, ModelState], ...]:
    none = np.zeros((0, 1, 1), np.uint8)
    pictures, noises = arrays.get("pictures", none), arrays.get("noises", none)
    colours, colour_noises = arrays.get("colour_pictures"), arrays.get("colour_noises")
    out = []
    for place, ((frame, seen, start, now), picture, noise) in enumerate(zip(marks, pictures, noises, strict=True)):
        clock = int(seen), float(start), float(now)
        colour = None
        if colours is not None and colour_noises is not None:
            colour = ModelState(colours[place], colour_noises[place], *clock)
        out.append((int(frame), ModelState(picture, noise, *clock, colour=colour)))
    return tuple(out)
