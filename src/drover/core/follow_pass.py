"""A pass over a clip that follows things by their look: each from the first picture in which it is found."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import DroverError
from drover.core.follow.follower import ThingFollower
from drover.core.follow.table import FollowedThing, ThingRows
from drover.core.follow.thing import Thing, thing_from_box, thing_from_picture
from drover.core.footage.images import read_grey
from drover.core.footage.opened import open_footage
from drover.core.footage_types import ClipInfo
from drover.core.gone_through import gone_through
from drover.core.progress import IsCancelled, OnProgress, never, quiet
from drover.core.recipe import FollowedSettings, FollowSettings
from drover.core.result_store import ResultStore

__all__ = ["follow_things", "mark_thing"]

Float = NDArray[np.float64]


def mark_thing(clip: ClipInfo, settings: FollowedSettings) -> tuple[Thing, int | None, Float | None]:
    """A thing as it was marked: the frame of its box and the motion (3, 3) from its own picture into that frame's.

    Both are None for a thing of which there is a picture.

    Raises
    ------
    DroverError
        When the box or the picture shows nothing that could be known again, with the reason.
    """
    if settings.picture:
        return thing_from_picture(read_grey(Path(settings.picture))), None, None
    frame = clip.frame_at(settings.time)
    with open_footage(clip.path, cache_bytes=0) as reader:
        grey = reader.frame(frame).grey
    x1, y1, x2, y2 = settings.box
    box = x1 * clip.width, y1 * clip.height, x2 * clip.width, y2 * clip.height
    thing = thing_from_box(grey, box)
    pose = np.eye(3)
    pose[:2, 2] = (min(max(min(x1, x2), 0), 1) * clip.width, min(max(min(y1, y2), 0), 1) * clip.height)
    pose[:2, 2] -= thing.outline[0]
    return thing, frame, pose


def follow_things(
    clip: ClipInfo,
    settings: FollowSettings,
    *,
    key: str = "",
    store: ResultStore | None = None,
    on_progress: OnProgress = quiet,
    cancelled: IsCancelled = never,
) -> tuple[FollowedThing, ...]:
    """Every thing over the whole clip, from the store where it is known there; one that cannot be says why.

    Raises
    ------
    FootageError
        When the clip cannot be read.
    Cancelled
        When told to stop on the way.
    """
    if not settings.thing:
        return ()
    kept = store.load(key) if store and key else None
    if kept is not None:
        return _from_store(*kept)
    made = _followed(clip, settings, on_progress, cancelled)
    if store and key:
        _keep(store, key, made)
    return made


class _Work:
    """One thing being followed."""

    def __init__(self, clip: ClipInfo, settings: FollowedSettings) -> None:
        self.rows = ThingRows(settings.name, clip.frame_count)
        self.refused, self._follower, self._marked, self._pose = "", None, None, None
        size = clip.width, clip.height
        try:
            thing, self._marked, self._pose = mark_thing(clip, settings)
        except DroverError as error:
            self.refused = str(error)
            return
        self._thing, self._size = thing, size
        self._follower = ThingFollower(thing, size)

    def step(self, frame: int, grey: NDArray[np.uint8], at: float) -> None:
        if self._follower is None:
            return
        if frame == self._marked:  # here it is known for certain
            self._follower = ThingFollower(self._thing, self._size, self._pose)
        self.rows.add(frame, self._follower.step(grey, at))

    def table(self) -> FollowedThing:
        made = self.rows.table()
        if not self.refused:
            return made
        return FollowedThing(made.name, made.outline, made.state, made.sure, {}, self.refused)


def _followed(
    clip: ClipInfo, settings: FollowSettings, on_progress: OnProgress, cancelled: IsCancelled
) -> tuple[FollowedThing, ...]:
    works = [_Work(clip, thing) for thing in settings.thing]
    if all(work.refused for work in works):
        return tuple(work.table() for work in works)
    with closing(gone_through(clip, "follow", on_progress, cancelled)) as frames:
        for frame in frames:
            for work in works:
                work.step(frame.index, frame.grey, frame.time)
    return tuple(work.table() for work in works)


def _keep(store: ResultStore, key: str, things: tuple[FollowedThing, ...]) -> None:
    arrays: dict[str, NDArray] = {}
    for k, thing in enumerate(things):
        arrays |= {f"outline_{k}": thing.outline, f"state_{k}": thing.state, f"sure_{k}": thing.sure}
    facts: dict[str, object] = {
        "things": [
            {"name": one.name, "refused": one.refused, "reason": {str(f): text for f, text in one.reason.items()}}
            for one in things
        ]
    }
    store.save(key, arrays, facts)


def _from_store(arrays: dict[str, NDArray], facts: dict[str, object]) -> tuple[FollowedThing, ...]:
    out = []
    for k, fact in enumerate(facts["things"]):  # type: ignore[arg-type, var-annotated]
        reason = {int(frame): str(text) for frame, text in fact["reason"].items()}
        outline, state, sure = (np.asarray(arrays[f"{name}_{k}"]) for name in ("outline", "state", "sure"))
        out.append(FollowedThing(str(fact["name"]), outline, state, sure, reason, str(fact["refused"])))
    return tuple(out)
