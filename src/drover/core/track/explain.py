"""Why this link: for one frame, every track's forecast and gate, and every detection near it with what it would cost.

Nothing of this is kept while linking; the tracker is run again up to the frame, which takes a fraction of a second.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.recipe import TrackSettings
from drover.core.track.candidates import TERMS, pair_terms, weights_of
from drover.core.track.filters import scale_of
from drover.core.track.look_ahead import LookAhead
from drover.core.track.whole_clip import begin
from drover.core.types import Detections, Tracks

__all__ = ["Candidate", "LinkNote", "explain_frame", "group_of"]

Float = NDArray[np.float64]
_BEYOND, _FAR = "beyond", "too far"  # how a refusal begins that keeps a pair out of the assignment
MOST_SHOWN = 4  # detections told for each track, the nearest first
REMEMBERED = 8  # links back by which a track is known that has no row in the frame: it may have ended before


@dataclass(frozen=True)
class Candidate:
    """A detection near a track.

    ``row`` in the detections; ``distance`` in standard deviations; ``terms`` of the cost by name, each 0..1; ``cost``;
    ``chosen`` whether the track was linked to it; ``refused`` why it could not be, empty where it could.
    """

    row: int
    distance: float
    terms: dict[str, float]
    cost: float
    chosen: bool
    refused: str = ""


@dataclass(frozen=True)
class LinkNote:
    """What a track expected in a frame and what it made of it.

    ``identity`` 0 where it is not believed, or nothing came of it; ``box`` the forecast px; ``gate`` half axes of the
    gate's ellipse px;
    ``margin`` by how much the link beats its runner-up, infinite without one; ``words`` say it in a line.
    """

    identity: int
    box: tuple[float, float, float, float]
    gate: tuple[float, float]
    candidates: tuple[Candidate, ...]
    margin: float
    words: str


def explain_frame(
    detections: Detections,
    tracks: Tracks,
    times: Float,
    rate: float,
    settings: TrackSettings,
    frame: int,
    *,
    on_way: Callable[[], None] = lambda: None,
) -> tuple[LinkNote, ...]:
    """Notes on every track alive at a frame, believed or not; ``on_way`` is called now and then and may raise."""
    stage, boxes_of = begin(detections, times, rate, settings)
    for index in range(min(frame, detections.frame_count)):
        if index % 64 == 0:
            on_way()
        stage.step(float(times[index]), boxes_of(index))
    view = stage.look_ahead(float(times[frame]), boxes_of(frame))
    return tuple(_notes(view, stage.links_of, detections, tracks, stage.settings, frame))


def group_of(note: LinkNote, notes: tuple[LinkNote, ...]) -> tuple[tuple[LinkNote, ...], tuple[int, ...]]:
    """All notes that compete with one for detections, however indirectly, and the detections that they compete for."""
    group, rows = [note], set(_reached(note))
    more = True
    while more:
        joining = [one for one in notes if not any(one is other for other in group) and rows & _reached(one)]
        more = bool(joining)
        group += joining
        rows |= {row for one in joining for row in _reached(one)}
    shown = rows | {candidate.row for candidate in note.candidates}
    return tuple(sorted(group, key=lambda one: (one is not note, one.identity))), tuple(sorted(shown))


def _reached(note: LinkNote) -> set[int]:
    """The detections within its gate."""
    return {one.row for one in note.candidates if not one.refused.startswith((_FAR, _BEYOND))}


def _notes(
    view: LookAhead,
    links_of: Callable[[int, int], NDArray[np.int32]],
    detections: Detections,
    tracks: Tracks,
    settings: TrackSettings,
    frame: int,
) -> list[LinkNote]:
    living, notes = view.living, []
    first = detections.rows_of(frame).start
    here = tracks.rows_of(frame)
    for k in range(view.count):
        noise = settings.motion.box_noise * scale_of(living.mean[k, 2], living.mean[k, 3], settings.motion.size_scaling)
        gate = settings.match.gate * np.sqrt(living.cov[k, [0, 6]] + noise * noise)
        told = _candidates(view, k, first, noise, settings)
        link = int(view.match[k]) + first if view.match[k] >= 0 else -1
        box = view.forecast[k]
        believed = bool(living.believed[k])
        identity = _identity(tracks, here, link, box, links_of(k, REMEMBERED)) if believed else 0
        corners = tuple(float(v) for v in box)
        notes.append(
            LinkNote(
                identity, corners, (float(gate[0]), float(gate[1])), told, float(view.margin[k]),  # type: ignore[arg-type]
                _words(_name_of(identity, believed=believed), told, float(view.margin[k])),
            )
        )  # fmt: skip
    return notes


def _candidates(view: LookAhead, k: int, first: int, noise: float, settings: TrackSettings) -> tuple[Candidate, ...]:
    living, found, match = view.living, view.found, settings.match
    middle = (found.box[:, :2] + found.box[:, 2:]) / 2
    near = np.argsort(np.linalg.norm(middle - living.mean[k, :2], axis=1), kind="stable")[:MOST_SHOWN]
    weights = weights_of(match, looks=len(found.look) > 0)
    cost_of = {(int(a), int(b)): float(c) for a, b, c in zip(view.track, view.detection, view.cost, strict=True)}
    out = []
    for d in near.tolist():
        terms = np.zeros(len(TERMS))
        apart = pair_terms(
            living.mean, living.cov, living.seen, k, view.forecast, found.box, d, view.unseen[k], noise, match.gate,
            match.overlap == "generalised", living.look, found.look, terms,
        )  # fmt: skip
        inside = (k, d) in cost_of
        cost = cost_of.get((k, d), float((weights * terms).sum() / max(weights.sum(), 1e-9)))
        chosen = int(view.match[k]) == d
        refused = "" if inside else _refusal(apart, match.gate)
        if inside and not chosen:
            taken = np.flatnonzero(view.match == d)
            refused = "went to another track" if len(taken) else "another was cheaper" if view.match[k] >= 0 else ""
        named = {str(name): float(value) for name, value in zip(TERMS, terms.round(3), strict=True)}
        out.append(Candidate(first + d, float(apart), named, cost, chosen, refused))
    return tuple(out)


def _refusal(apart: float, gate: float) -> str:
    if apart > gate:
        return f"{_BEYOND} the gate: {apart:.1f} σ of {gate:.1f}"
    return f"{_FAR} from where its speed could have led, or of another class"


def _identity(tracks: Tracks, here: slice, link: int, box: NDArray[np.float32], before: NDArray[np.int32]) -> int:
    """Identity of the row with this link, the nearest of several.

    Without one it is who coasts there of those that had its last links, ``before``: two in one blob had the same. Where
    none of them has a row any more, who had most of them.
    """
    rows = np.arange(here.start, here.stop)
    linked = rows[tracks.detection[rows] == link] if link >= 0 else rows[:0]
    if len(linked) == 0:
        known = tracks.identity[np.isin(tracks.detection, before)] if len(before) else before
        linked = rows[(tracks.detection[rows] < 0) & np.isin(tracks.identity[rows], known)]
        if len(linked) == 0:
            return int(np.bincount(known).argmax()) if len(known) else 0
    middle = (tracks.box[linked, :2] + tracks.box[linked, 2:]) / 2
    nearest = int(np.argmin(np.linalg.norm(middle - (box[:2] + box[2:]) / 2, axis=1)))
    return int(tracks.identity[linked[nearest]])


def _name_of(identity: int, *, believed: bool) -> str:
    if identity:
        return f"{identity}"
    return "a track of which nothing came" if believed else "a track not yet believed"


def _words(who: str, told: tuple[Candidate, ...], margin: float) -> str:
    chosen = next((c for c in told if c.chosen), None)
    if chosen is None:
        nearest = told[0].refused if told else "nothing was detected"
        return f"{who} found nothing: {nearest or 'left alone'}"
    rival = f", {margin:.2f} cheaper than the runner-up" if np.isfinite(margin) else ", without a rival"
    main = max(chosen.terms, key=lambda name: chosen.terms[name])
    return f"{who} took a box {chosen.distance:.1f} σ away at cost {chosen.cost:.2f}{rival}; most of it from {main}"
