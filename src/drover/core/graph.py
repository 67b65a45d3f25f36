"""The graph of stages: the one way that anything is run, in the window, on the command line, in a batch and live.

Footage -> Camera -> Detect (its sources, merged) -> Track -> after the pass -> Edits -> Count -> Score. A stage says
its version, its inputs, its slice of the settings and how it runs over a clip. Its key is the fingerprint of all that
its result depends on: a tracking setting never re-detects, a moved line never re-tracks, and a result is up to date
where its key is the one that the recipe asks for.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.bodies.movers import words_of_movers
from drover.core.bodies.settle import LookAgain, settle
from drover.core.bodies.size_field import SizeField
from drover.core.camera import in_scene
from drover.core.camera.motion import CameraMotion
from drover.core.count import lines
from drover.core.count.whole_clip import count_all
from drover.core.detect import detector
from drover.core.detect.cuts import shot_times
from drover.core.detect.result import DetectResult
from drover.core.detect.sources import BoxSource, merge
from drover.core.detect_pass import detect_clip
from drover.core.edits.apply import Edited, apply_edits
from drover.core.edits.edit import digest_of
from drover.core.errors import Cancelled
from drover.core.follow.table import FollowedThing, with_things
from drover.core.footage_types import ClipInfo
from drover.core.kept_detections import load_settled, save_settled
from drover.core.names import grouped
from drover.core.recipe import BoxSettings, Recipe, TrackSettings, settings_fingerprint
from drover.core.score import scorer
from drover.core.score.spans import score_boxes, score_result
from drover.core.stage import Call, Inputs, Linked, Result, Stage, Subject
from drover.core.track import tracker
from drover.core.track.finishing import finish
from drover.core.track.input_notes import input_notes
from drover.core.track.measured_pace import pace_of
from drover.core.track.pace import Pace, left_to_the_clip, with_pace
from drover.core.track.whole_clip import fold_tracks
from drover.core.types import Detections, Tracks

__all__ = ["STAGES", "Call", "Linked", "Result", "Stage", "Subject", "keys_of", "run_stage"]


def keys_of(subject: Subject, recipe: Recipe) -> dict[str, str]:
    """The key of every stage's result for a subject and a recipe."""
    keys: dict[str, str] = {}
    for name, stage in STAGES.items():
        own = (name, str(stage.version), settings_fingerprint(stage.settings(recipe)), *stage.facts(subject))
        parts = (*own, *(keys[other] for other in stage.inputs(recipe)))
        keys[name] = hashlib.sha256("|".join(parts).encode()).hexdigest()[:24]
    return keys


def run_stage(
    name: str,
    subject: Subject,
    recipe: Recipe,
    *,
    known: Mapping[str, Result] | None = None,
    call: Call | None = None,
) -> dict[str, Result]:
    """Results of a stage and of all that it builds on, those ``known`` by their key taken over.

    Raises
    ------
    DroverError
        When the footage cannot be read or a setting makes no sense; Cancelled when told to stop on the way.
    """
    keys, have = keys_of(subject, recipe), known or {}
    out: dict[str, Result] = {}
    _bring(name, subject, recipe, keys, have, call or Call(), out)
    return out


def _bring(
    name: str,
    subject: Subject,
    recipe: Recipe,
    keys: Mapping[str, str],
    known: Mapping[str, Result],
    call: Call,
    out: dict[str, Result],
) -> None:
    if name in out:
        return
    if keys[name] in known:
        out[name] = known[keys[name]]
        return
    stage = STAGES[name]
    for other in stage.inputs(recipe):
        _bring(other, subject, recipe, keys, known, call, out)
    inputs = {other: out[other].value for other in stage.inputs(recipe)} | {"key": keys[name]}
    start = time.perf_counter()
    value = stage.run(subject, recipe, inputs, call)
    if isinstance(value, DetectResult) and not value.finished:
        raise Cancelled("the work was stopped")
    out[name] = Result(name, keys[name], value, time.perf_counter() - start)


# --- the stages ------------------------------------------------------------------------------------------------


def _motion(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> DetectResult:
    return detect_clip(
        subject.clip, recipe.detect, key=inputs["key"], store=call.store, on_progress=call.on_progress,
        on_partial=call.on_partial, cancelled=call.cancelled, span=subject.span, motion=inputs["camera"],
    )  # fmt: skip


def _boxes(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> DetectResult:
    """Boxes of another detector; where the camera moves they are linked on the ground too."""
    del call
    found = BoxSource(subject.imported).found(recipe.detect)
    motion: CameraMotion | None = inputs.get("camera")
    return found if motion is None else replace(found, motion=motion, cuts=motion.cuts, said=motion.words)


def _followed(recipe: Recipe) -> tuple[str, ...]:
    return () if recipe.camera.mode == "off" else ("camera",)


def _bodies(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> DetectResult:
    found: DetectResult = inputs["motion"]
    if not found.finished:
        return found
    # A span's key is that of no other, and who drags one about would fill the store.
    store = call.store if found.span is None else None
    kept = load_settled(store, inputs["key"]) if store else None
    if kept is not None:
        return replace(found, detections=kept[0], said=kept[1])
    settled = _settled(found, subject.clip, recipe, call)
    if store:
        save_settled(store, inputs["key"], settled.detections, settled.said)
    return settled


def _settled(found: DetectResult, clip: ClipInfo, recipe: Recipe, call: Call) -> DetectResult:
    times = shot_times(clip.times, found.cuts)
    lying = _still(found)
    grown: list[int] = []
    words: list[str] = []
    settled = settle(
        lying, times, clip.rate, recipe.detect.bodies, look_again=_again(found, clip, times, call, grown),
        tell=words.append, cancelled=call.cancelled,
    )  # fmt: skip
    if found.motion is not None:
        settled = in_scene.detections_in_picture(settled, found.motion)
    went, of = len(found.detections) - len(settled), len(found.detections)
    gone = f"{grouped(went)} of {grouped(of)} detections went"
    drifts = ", or snow and the like" if words else ""
    word = f"{gone}: pieces of others, or sparks and specks that nothing follows{drifts}."
    said = (*found.said, *words, word) if went > 0 else found.said
    if sum(grown):
        whole = f"{grouped(sum(grown))} boxes were made whole by a second look"
        said = (*said, f"{whole}: only a part of those bodies is told from the ground.")
    return replace(found, detections=settled, said=(*said, *words_of_movers(settled, times)))


def _again(
    found: DetectResult, clip: ClipInfo, times: NDArray[np.float64], call: Call, grown: list[int]
) -> LookAgain | None:
    """A second look at the pictures, where they lie as taken; how many boxes each makes whole goes into ``grown``."""
    if found.motion is not None:
        return None
    from drover.core.second_look import look_again  # with what it needs: nobody waits for that at start

    def again(detections: Detections, tracks: Tracks, field: SizeField) -> Detections:
        whole = look_again(found, clip, detections, tracks, times, field, cancelled=call.cancelled)
        grown.append(int((whole.box != detections.box).any(axis=1).sum()))
        return whole

    return again


def _still(found: DetectResult) -> Detections:
    """The detections where they lie in the scene, in which what stands keeps its place however the camera moves."""
    return found.detections if found.motion is None else in_scene.detections_in_scene(found.detections, found.motion)


def _lying(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> Detections:
    """What is linked: made once for all that comes after Detect."""
    del subject, recipe, call
    return _still(inputs["detect"])


def _detect(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> DetectResult:
    del subject, call
    return merge(inputs.get("bodies"), inputs.get("boxes"), recipe.detect)


def _pace(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> Pace:
    """How abruptly things change their way and boxes jitter, for filters that are left to the clip."""
    del recipe, call
    found: DetectResult = inputs["detect"]
    times = shot_times(subject.clip.times, found.cuts)
    return pace_of(inputs["lying"], times, subject.clip.rate, whole=found.finished)


def _track(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> Linked:
    found: DetectResult = inputs["detect"]
    clip, times = subject.clip, shot_times(subject.clip.times, found.cuts)
    settings = _track_taken(recipe, inputs)
    tracks = fold_tracks(inputs["lying"], times, clip.rate, settings, cancelled=call.cancelled)
    if found.motion is not None:
        tracks = in_scene.tracks_in_picture(tracks, found.motion)
    notes = input_notes(found.detections, clip.times) if found.finished else ()
    return Linked(tracks, notes, settings)


def _track_taken(recipe: Recipe, inputs: Inputs) -> TrackSettings:
    return with_pace(recipe.track, inputs["pace"]) if "pace" in inputs else recipe.track


def _after(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> Tracks:
    del recipe, call
    found: DetectResult = inputs["detect"]
    linked: Linked = inputs["track"]
    times = shot_times(subject.clip.times, found.cuts)
    detections: Detections = inputs["lying"].frozen()
    if found.motion is None:
        return finish(linked.tracks, times, linked.taken, detections)
    lying = in_scene.tracks_in_scene(linked.tracks, found.motion)
    return in_scene.tracks_in_picture(finish(lying, times, linked.taken, detections), found.motion)


def _edits(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> Edited:
    """Things that are followed by their look join the tracks; then all is put right that was corrected by hand."""
    del recipe, call
    tracks: Tracks = inputs["after"]
    if "follow" in inputs:
        tracks = with_things(tracks, inputs["follow"])
    made = apply_edits(tracks, subject.clip.times, subject.edits)
    motion: CameraMotion | None = inputs["detect"].motion
    if motion is None or made.tracks is inputs["after"]:
        return made
    return replace(made, tracks=replace(made.tracks, scene_box=in_scene.scene_boxes(made.tracks, motion)))


def _follow(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> tuple[FollowedThing, ...]:
    """Things that were marked, found again by their look in every picture."""
    from drover.core.follow_pass import follow_things

    told = {"store": call.store, "on_progress": call.on_progress, "cancelled": call.cancelled}
    return follow_things(subject.clip, recipe.follow, key=inputs["key"], **told)


def _edited_from(recipe: Recipe) -> tuple[str, ...]:
    return ("after", "follow", "detect") if recipe.follow.thing else ("after", "detect")


def _count(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> Any:
    del call
    return count_all(inputs["edits"].tracks, subject.clip.times, recipe.count)


def _score(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> Any:
    del call
    if subject.truth is None:
        return None
    return score_result(
        inputs["edits"].tracks, subject.truth, recipe.score, crossings=inputs["count"].crossings,
        true_crossings=subject.true_crossings, span=subject.span,
    )  # fmt: skip


def _found_score(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> Any:
    del call
    found: DetectResult = inputs["detect"]
    if subject.truth is None:
        return None
    return score_boxes(found.detections, subject.truth, recipe.score, span=subject.span)


def _camera(subject: Subject, recipe: Recipe, inputs: Inputs, call: Call) -> CameraMotion | None:
    """Where each picture lies in the scene; nothing where the camera stands still."""
    from drover.core.camera_pass import camera_of  # with what it needs: nobody waits for that at start

    told = {"store": call.store, "on_progress": call.on_progress, "cancelled": call.cancelled}
    return camera_of(subject.clip, recipe.camera, key=inputs["key"], **told)


def _asked(recipe: Recipe) -> tuple[str, ...]:
    return tuple("bodies" if source == "motion" else source for source in recipe.detect.sources)


def _linked_from(recipe: Recipe) -> tuple[str, ...]:
    return ("detect", "lying", "pace") if left_to_the_clip(recipe.track) else ("detect", "lying")


def _clip(subject: Subject) -> tuple[str, ...]:
    return subject.clip.fingerprint, str(subject.clip.frame_count)


def _footage(subject: Subject) -> tuple[str, ...]:
    return *_clip(subject), str(subject.span)


def _truth(subject: Subject) -> tuple[str, ...]:
    tables = (subject.truth, subject.true_crossings)
    return (*("" if table is None else table.digest for table in tables), str(subject.span))


def _nothing(_: object) -> tuple[()]:
    return ()


def _always(*names: str) -> Callable[[Recipe], tuple[str, ...]]:
    return partial(_given, names)


def _given(names: tuple[str, ...], _: Recipe) -> tuple[str, ...]:
    return names


STAGES: dict[str, Stage] = {
    stage.name: stage
    for stage in (
        Stage("camera", 1, _nothing, lambda r: (r.camera,), _clip, _camera),
        Stage("motion", detector.VERSION, _always("camera"), lambda r: (r.detect.motion_only,), _footage, _motion,
              live=True),
        Stage("bodies", 22, _always("motion"), lambda r: (r.detect.bodies,), _nothing, _bodies),
        Stage(
            "boxes", 2, _followed, lambda r: (r.detect.boxes,),
            lambda s: ("" if s.imported is None else s.imported.digest, *_footage(s)), _boxes,
        ),
        Stage("detect", 1, _asked, lambda r: (r.detect.boxes if len(_asked(r)) > 1 else BoxSettings(),), _nothing,
              _detect, live=True),
        Stage("lying", 1, _always("detect"), _nothing, _nothing, _lying),
        Stage("pace", 6, _always("detect", "lying"), _nothing, _nothing, _pace),
        Stage("track", tracker.VERSION, _linked_from, lambda r: (r.track,), _nothing, _track, live=True),
        Stage("after", 6, _always("track", "detect", "lying"), lambda r: (r.track,), _nothing, _after),
        Stage("follow", 1, _nothing, lambda r: (r.follow,), _clip, _follow),
        Stage("edits", 3, _edited_from, _nothing, lambda s: (digest_of(s.edits),), _edits),
        Stage("count", lines.VERSION, _always("edits"), lambda r: (r.count,), _nothing, _count, live=True),
        Stage("score", scorer.VERSION, _always("edits", "count"), lambda r: (r.score,), _truth, _score),
        Stage("found", scorer.VERSION, _always("detect"), lambda r: (r.score,), _truth, _found_score),
    )
}  # fmt: skip
