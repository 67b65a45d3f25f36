"""Count frame by frame, for footage that has no end: what holds is told once, and the memory stays bounded.

Rows of the living paths are kept, and every fifth of a second the whole-clip rules are run over them: a whole clip and
a live camera are judged by the same code. A crossing is told once nothing to come can change it: its path has left the
dead band, or has ended. A path is kept until its identity has been gone for a while; the older half of one that lasts
long is thinned, which moves a crossing by less than the path's own jitter.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from drover.core.count.alarms import LEAST_FAST, Alarm
from drover.core.count.lines import line_pixels
from drover.core.count.passages import line_distance
from drover.core.count.paths import KnownPaths, path_for
from drover.core.count.whole_clip import Counted, count_all
from drover.core.recipe import CountSettings, LineSettings
from drover.core.settings.count import REFERENCES
from drover.core.types import DEFAULT_CLASS, Crossings, Tracks

__all__ = ["LiveCount", "LiveCrossing", "LiveEvents", "LiveRows"]

EVERY = 0.2  # s between two looks at what holds
MOST_ROWS = 750  # of one path, from which its older half is thinned

Float = NDArray[np.float64]


@dataclass(frozen=True)
class LiveRows:
    """Believed tracks of one frame: ``identity``, ``box``, ``state``, ``class_id``, ``scene_box`` as in Tracks.

    ``is_object`` says which are objects so far: nothing is told of others. None where all are.
    """

    identity: NDArray[np.int32]
    box: NDArray[np.float32]
    state: NDArray[np.int8]
    class_id: NDArray[np.int16]
    scene_box: NDArray[np.float32] | None = None
    is_object: NDArray[np.bool_] | None = None

    def of(self, keep: NDArray[np.bool_]) -> LiveRows:
        """Some of the rows."""
        if keep.all():
            return self
        scene = None if self.scene_box is None else self.scene_box[keep]
        known = None if self.is_object is None else self.is_object[keep]
        return LiveRows(self.identity[keep], self.box[keep], self.state[keep], self.class_id[keep], scene, known)

    @property
    def lying(self) -> NDArray[np.float32]:
        """The boxes in the scene, where the ground stands still."""
        return self.box if self.scene_box is None else self.scene_box


class LiveCrossing(NamedTuple):
    """A crossing that holds: line number, identity, direction, time (s), class and place (px)."""

    line: int
    identity: int
    direction: int
    time: float
    class_id: int
    x: float
    y: float


@dataclass(frozen=True)
class LiveEvents:
    """What came to hold: crossings, stays as (zone number, identity, enter s, leave s), and alarms."""

    crossings: tuple[LiveCrossing, ...] = ()
    stays: tuple[tuple[int, int, float, float], ...] = ()
    alarms: tuple[Alarm, ...] = ()


_ROW = np.dtype([("frame", "<i8"), ("box", "<f4", 4), ("state", "i1"), ("class_id", "<i2"), ("lying", "<f4", 4)])


@dataclass
class _Path:
    """One living path, and what was told of it already; ``fresh`` rows join ``rows`` at the next look."""

    rows: NDArray[np.void] = field(default_factory=lambda: np.zeros(0, _ROW))
    fresh: list[tuple[int, NDArray[np.float32], int, int, NDArray[np.float32]]] = field(default_factory=list)
    seen: float = 0.0
    is_object: bool = True
    thinned: int = -1  # the frame from which no row is left out; -1 where none was
    told: set[tuple[object, ...]] = field(default_factory=set)
    crossed: dict[int, tuple[float, int]] = field(default_factory=dict)  # of each line, when and which way last
    left: dict[int, float] = field(default_factory=dict)  # of each zone, when last
    waiting: dict[tuple[object, ...], float] = field(default_factory=dict)  # since when a crossing has held

    def pack(self) -> None:
        """Take the fresh rows in, and thin the older half of a long path."""
        if self.fresh:
            self.rows = np.concatenate([self.rows, np.array(self.fresh, _ROW)])
            self.fresh = []
        if len(self.rows) > MOST_ROWS:
            half = len(self.rows) // 2
            self.thinned = int(self.rows["frame"][half])
            self.rows = np.concatenate([self.rows[:half:2], self.rows[half:]])


class LiveCount:
    """The Count stage's step.

    Parameters
    ----------
    settings : CountSettings
    size : (width, height) px
    forget_after : float, s
        How long after it was last seen an identity cannot come back any more.
    """

    def __init__(
        self,
        settings: CountSettings,
        size: tuple[int, int],
        *,
        forget_after: float = 12.0,
        class_names: tuple[str, ...] = (DEFAULT_CLASS,),
    ) -> None:
        self._settings, self._size, self._class_names = settings, size, class_names
        self._forget_after = forget_after
        self._bridge = max((zone.bridge for zone in settings.zone), default=0.0)
        self._lag = max(self._bridge, LEAST_FAST) + EVERY
        self._paths: dict[int, _Path] = {}
        self._times: dict[int, float] = {}
        self._frame, self._now, self._looked, self._alarms_until = -1, -np.inf, -np.inf, -np.inf

    @property
    def rows_kept(self) -> int:
        """Rows kept of all living paths."""
        return sum(len(path.rows) + len(path.fresh) for path in self._paths.values())

    def step(self, time: float, rows: LiveRows) -> LiveEvents:
        """Take in the tracks of a frame at ``time`` s; tells what has come to hold."""
        self._frame += 1
        self._now = max(self._now, time)
        self._times[self._frame] = self._now
        for who, box, state, kind, lying in zip(
            rows.identity.tolist(), rows.box, rows.state.tolist(), rows.class_id.tolist(), rows.lying, strict=True
        ):
            path = self._paths.setdefault(who, _Path())
            path.fresh.append((self._frame, box.copy(), state, kind, lying.copy()))
            path.seen = self._now
        if rows.is_object is not None:
            for who, known in zip(rows.identity.tolist(), rows.is_object.tolist(), strict=True):
                self._paths[who].is_object = known
        if self._now - self._looked < EVERY:
            return LiveEvents()
        self._looked = self._now
        return self._look(ended=False)

    def finish(self) -> LiveEvents:
        """What only the end of the footage settles."""
        return self._look(ended=True)

    # --- one look -----------------------------------------------------------------------------------------------

    def _look(self, *, ended: bool) -> LiveEvents:
        for path in self._paths.values():
            path.pack()
        gone = {w for w, path in self._paths.items() if ended or self._now - path.seen > self._forget_after}
        events = LiveEvents()
        if any(path.is_object for path in self._paths.values()):
            tracks, times = self._table()
            known: KnownPaths = {}
            counted = count_all(tracks, times, self._settings, paths=known)
            crossings = self._crossings(counted.crossings, tracks, times, known, gone)
            events = LiveEvents(crossings, self._stays(counted, gone), self._alarms(counted, crossings, ended=ended))
        for who in gone:
            del self._paths[who]
        self._tidy()
        return events

    def _table(self) -> tuple[Tracks, Float]:
        """The rows kept of objects as tracks, with a frame for each moment that some row is of."""
        paths = {who: path for who, path in self._paths.items() if path.is_object}
        rows = np.concatenate([path.rows for path in paths.values()])
        lengths = [len(path.rows) for path in paths.values()]
        identity = np.repeat(np.array(list(paths), np.int32), lengths)
        moments, place = np.unique(rows["frame"], return_inverse=True)
        order = np.lexsort((identity, place))
        counts, n = np.bincount(place, minlength=len(moments)), len(rows)
        return Tracks(
            frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
            identity=identity[order],
            box=np.ascontiguousarray(rows["box"][order]),
            state=np.ascontiguousarray(rows["state"][order]),
            detection=np.full(n, -1, np.int32),
            confidence=np.ones(n, np.float32),
            class_id=np.ascontiguousarray(rows["class_id"][order]),
            distance=np.full(n, np.nan, np.float32),
            nearest_refused=np.zeros(0, np.float32),
            size=self._size,
            class_names=self._class_names,
            scene_box=np.ascontiguousarray(rows["lying"][order]),
        ), np.array([self._times[frame] for frame in moments.tolist()])

    def _crossings(
        self, found: Crossings, tracks: Tracks, times: Float, known: KnownPaths, gone: set[int]
    ) -> tuple[LiveCrossing, ...]:
        """Crossings that hold by now and were not told before."""
        out = []
        clear: dict[tuple[int, int], float] = {}
        for one in map(
            LiveCrossing, found.line.tolist(), found.identity.tolist(), found.direction.tolist(), found.time.tolist(),
            found.class_id.tolist(), found.x.tolist(), found.y.tolist(),
        ):  # fmt: skip
            number, who, way, when = one[:4]
            path, line = self._paths[who], self._settings.line[number]
            key = (number, way, round(when, 6))
            last, last_way = path.crossed.get(number, (-np.inf, 0))
            if key in path.told or (self._is_old(path, when) and (when <= last or way == last_way)):
                continue
            if who not in gone:
                if (number, who) not in clear:
                    clear[number, who] = self._last_clear(line, who, tracks, times, known)
                if clear[number, who] < when:
                    continue  # still within the dead band: it may yet turn back
                since = path.waiting.setdefault(key, self._now)
                if (line.from_zone or line.to_zone) and self._now - since < self._lag:
                    continue
            path.waiting.pop(key, None)
            path.told.add(key)
            path.crossed[number] = max((when, way), (last, last_way))
            out.append(one)
        return tuple(sorted(out, key=lambda one: one.time))

    def _last_clear(self, line: LineSettings, who: int, tracks: Tracks, times: Float, known: KnownPaths) -> float:
        """The last moment at which a path was outside a line's dead band, s; for any two points, all of them."""
        corners, last = line_pixels(line, self._size), np.inf
        for reference in REFERENCES if line.reference == "two" else (line.reference,):
            paths = path_for(tracks, reference, known, line.fixed_to)
            place = int(np.searchsorted(tracks.paths.identity, who))
            rows = range(int(tracks.paths.start[place]), int(tracks.paths.start[place + 1]))
            mine = -np.inf
            for k in reversed(rows):
                if line_distance(paths.x[k], paths.y[k], corners) > line.dead_band * paths.size[k]:
                    mine = float(times[tracks.paths.frame[k]])
                    break
            last = min(last, mine)
        return last

    def _is_old(self, path: _Path, when: float) -> bool:
        """Whether a moment lies where a path was thinned: what is found there again has another moment than before."""
        return path.thinned >= 0 and when <= self._times[path.thinned]

    def _stays(self, counted: Counted, gone: set[int]) -> tuple[tuple[int, int, float, float], ...]:
        """Stays that are over for good."""
        visits, out = counted.visits, []
        for number, who, enter, leave, left in zip(
            visits.zone.tolist(), visits.identity.tolist(), visits.enter.tolist(), visits.leave.tolist(),
            visits.left.tolist(), strict=True,
        ):  # fmt: skip
            path, key = self._paths[who], ("stay", number, round(enter, 6))
            over = left and self._now - leave >= self._lag
            again = self._is_old(path, enter) and enter <= path.left.get(number, -np.inf)
            if key not in path.told and not again and (who in gone or over):
                path.told.add(key)
                path.left[number] = leave
                out.append((number, who, enter, leave))
        return tuple(sorted(out, key=lambda one: one[2]))

    def _alarms(self, counted: Counted, crossings: tuple[LiveCrossing, ...], *, ended: bool) -> tuple[Alarm, ...]:
        """Wrong ways as their crossings are told; all else once, as soon as what it rests on is sure."""
        until = np.inf if ended else self._now - self._lag
        told = {(one.identity, self._settings.line[one.line].name, one.time) for one in crossings}
        out = [
            alarm
            for alarm in counted.alarms
            if (
                (alarm.identity, alarm.place, alarm.time) in told
                if alarm.kind == "wrong way"
                else self._alarms_until < alarm.time <= until
            )
        ]
        self._alarms_until = max(self._alarms_until, until)
        return tuple(out)

    def _tidy(self) -> None:
        """Forget the times of moments that no row is of."""
        used = {self._frame}
        for path in self._paths.values():
            used.update(path.rows["frame"].tolist())
        self._times = {frame: self._times[frame] for frame in used}
