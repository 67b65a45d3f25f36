"""The camera followed picture by picture: points of a known view are found in each, and most of them say how it moved.

Every picture is held against a key view and not against the one before it, so that errors do not add up; a new key view
is taken, or an old one taken up again, where too little of the present one is left in the picture. The motion that is
expected from the last ones is tried first; another is believed only where points all over the picture share it, so that
a large thing passing by does not become the camera. What cannot be told is said, with its reason, and the last known
motion goes on.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.camera.key_view import KeyView, cells_of, found_again, overlap_of, take_view
from drover.core.camera.motion import FrameState
from drover.core.detect.cuts import CutWatch
from drover.core.features.flow import seek
from drover.core.features.models import Model, apply, inverse, local_scale, moved, slope_at
from drover.core.features.pyramid import Grey, halve, pyramid
from drover.core.features.robust import Fit, fit_motion, how_many

__all__ = ["CameraFollower", "CameraStep", "move_between"]

Float = NDArray[np.float64]
WORK_WIDTH = 960  # px: wider pictures are halved until they are not
LEVELS = 3
TOLERANCE = 1.2 / 640  # of the working width that a point may be off
MISFIT = 0.85  # of its own contrast that a patch may differ and still be the same place
USUAL_SHARE, USUAL_REACH = 0.15, 0.2  # of the points in view that must agree with the expected motion, of the cells
FREE_SHARE, FREE_REACH = 0.3, 0.45  # where the motion is not the expected one
COVERED = 0.35  # of the trusted cells in which nothing agrees, from which something large is in the way
STILL_PX, SURELY = 0.75, 0.5  # px from which a pair of pictures shows a move, and share of the points that must
EXPLAINS = 2.5  # times what is left over that points must have moved for a motion to explain it
LEAP = 0.3  # of the width by which the picture may lie elsewhere than expected
LEFT, ZOOMED = 0.6, 1.2  # share of a view's points still in the picture, and change of zoom, that ask for another
TAKE_UP = 0.8  # share from which an old view is taken up again
MOST_VIEWS = 40
CALM = 0.2  # s over which a motion that cannot be seen any more is believed to die away
LOST_AFTER = 1.0  # s held, after which the view is looked for by its look
LOOK_EVERY = 0.5  # s between such searches
SMALL = 4.0  # px of the working picture by which the last motion was not as expected
NOTHING = "too few points: the picture shows next to nothing"
NEW_AFTER = 3.0  # s held, after which it is another view


@dataclass(frozen=True)
class CameraStep:
    """What one picture said: ``to_scene`` (3, 3) full px, its state, and figures as in :class:`CameraMotion`.

    ``points`` (n, 2) px where points of the key view were found, ``came`` (n, 2) where they were in the picture before,
    ``agrees`` (n,) which of them moved with the camera.
    """

    to_scene: Float
    state: FrameState
    shared: float
    covered: float
    residual: float
    reason: str
    points: Float
    came: Float
    agrees: NDArray[np.bool_]


class CameraFollower:
    """Follows the camera; see the module.

    Parameters
    ----------
    size : (width, height) px
    model : what a motion may be
    seed : of the random samples
    """

    def __init__(self, size: tuple[int, int], model: Model = "similarity", seed: int = 0) -> None:
        self.size, self.seed = size, seed
        self.model: Model = model
        halvings = 0
        while size[0] / 2**halvings > WORK_WIDTH and min(size) / 2 ** (halvings + 1) >= 96:
            halvings += 1
        self._halvings, self._scale = halvings, 2.0**halvings
        self._work = size[0] // 2**halvings, size[1] // 2**halvings
        self._cuts = CutWatch()
        self._begin_anew()
        self._time: float | None = None

    def _begin_anew(self) -> None:
        self._views: list[KeyView] = []
        self._view: KeyView | None = None
        self._pose = np.eye(3)
        self._step = np.eye(3)  # from the px of a picture to those of the one before it
        self._held = 0.0
        self._searched = 0.0
        self._interval = 0.04
        self._surprise = float("inf")

    def step(self, grey: Grey, time: float) -> CameraStep:
        """Take in the next picture (height, width) uint8 at ``time`` s."""
        cut = self._cuts.is_cut(grey)
        pictures = self._pictures(grey)
        interval = 0.04 if self._time is None else max(time - self._time, 1e-3)
        fresh = self._time is None or cut
        self._time = time
        if fresh:
            return self._new_view(pictures)
        if self._view is None:
            return self._without_view(pictures, interval)
        expected = self._expected(interval)
        # Where the last motion was as expected, so is the next one mostly: a small way needs no small pictures.
        fit, rows, place = self._found(self._view, pictures, expected, 1 if self._surprise < SMALL else -1)
        if self._surprise < SMALL and (fit.reason or fit.share < 0.5):
            fit, rows, place = self._found(self._view, pictures, expected)
        if fit.reason:
            return self._hold(pictures, expected, interval, fit.reason, rows, place)
        return self._follow(pictures, fit, rows, place, interval)

    # --- the pieces of a step ---------------------------------------------------------------------------------

    def _pictures(self, grey: Grey) -> list[Grey]:
        for _ in range(self._halvings):
            grey = halve(grey)
        return pyramid(grey, LEVELS)

    def _new_view(self, pictures: list[Grey], view: KeyView | None = None) -> CameraStep:
        self._begin_anew()
        self._view = view or take_view(pictures, np.eye(3))
        if self._view is None:
            return self._said(FrameState.NEW_VIEW, NOTHING, 0.0)
        self._views = [self._view]
        return self._said(FrameState.NEW_VIEW, "")

    def _without_view(self, pictures: list[Grey], interval: float) -> CameraStep:
        """Nothing to hold a picture against: the first that shows something is taken."""
        self._held += interval
        view = take_view(pictures, np.eye(3))
        return self._said(FrameState.HELD, NOTHING, 0.0) if view is None else self._new_view(pictures, view)

    def _expected(self, interval: float) -> Float:
        """The pose that goes on as the last ones did; a motion that is not seen any more dies away."""
        share = (interval / max(self._interval, 1e-3)) * np.exp(-self._held / CALM)
        step = np.eye(3) + min(share, 2.0) * (self._step - np.eye(3))
        return self._pose @ step

    def _found(
        self, view: KeyView, pictures: list[Grey], pose: Float, coarse: int = -1
    ) -> tuple[Fit, NDArray[np.int64], Float]:
        """The motion from a view to a picture near ``pose``, the view's points that were sought, and where they are.

        ``coarse`` is the smallest size of the pictures that is looked at.
        """
        nothing = np.zeros(0, np.int64), np.zeros((0, 2))
        if view.repeats:
            return _no_fit("the picture repeats itself: a motion by one repeat looks like none"), *nothing
        guess = inverse(pose) @ view.pose
        place = apply(guess, view.patches.place)
        rows = np.flatnonzero(((place > 0) & (place < self._work)).all(axis=1))
        if len(rows) < 8:
            return _no_fit("too few points: hardly any of the known view is left in the picture"), *nothing
        slope = slope_at(guess, view.patches.place[rows].mean(axis=0))
        flow = seek(view.patches, pictures, place[rows], slope, rows=rows, coarse=coarse)
        good = flow.found & (flow.misfit <= MISFIT)
        seen, a, b = rows[good], view.patches.place[rows[good]], flow.place[good]
        fit = self._fit(view, a, b, seen, guess, len(rows), place[rows])
        agrees = np.zeros(len(rows), np.bool_)
        agrees[np.flatnonzero(good)[fit.inlier]] = True
        return Fit(fit.matrix, agrees, fit.residual, fit.coverage, fit.tried, fit.reason), rows, flow.place

    def _fit(
        self, view: KeyView, a: Float, b: Float, rows: NDArray[np.int64], guess: Float, sought: int, expected: Float
    ) -> Fit:
        """The motion that the points share: the expected one if enough agree with it, else one that all parts share."""
        tolerance = max(TOLERANCE * self._work[0], 0.5)
        weight = np.where(view.trusted[rows], 1.0, 0.1)
        in_view = how_many(cells_of(expected, self._work))
        fit = _no_fit("")
        for most, least_reach, least_share in ((0, USUAL_REACH, USUAL_SHARE), (200, FREE_REACH, FREE_SHARE)):
            fit = fit_motion(
                a, b, self.model, size=self._work, tolerance=tolerance, guess=guess, weight=weight, seed=self.seed,
                most=most,
            )  # fmt: skip
            if fit.matrix is None:
                continue
            if moved(inverse(guess) @ fit.matrix, self._work) > LEAP * self._work[0]:
                fit = Fit(None, fit.inlier, fit.residual, fit.coverage, fit.tried, "a leap that no camera makes")
                continue
            reach = how_many(cells_of(b[fit.inlier], self._work)) / max(in_view, 1)
            if reach >= least_reach and fit.inlier.sum() >= least_share * sought:
                return Fit(fit.matrix, fit.inlier, fit.residual, reach, fit.tried)
            reason = "something large fills the view: points all over the picture share no motion"
            fit = Fit(None, fit.inlier, fit.residual, reach, fit.tried, reason)
        return fit

    def _follow(
        self, pictures: list[Grey], fit: Fit, rows: NDArray[np.int64], place: Float, interval: float
    ) -> CameraStep:
        assert fit.matrix is not None and self._view is not None
        before, view = self._pose, self._view
        pose = view.pose @ inverse(fit.matrix)
        self._surprise = moved(inverse(pose) @ self._expected(interval), self._work)
        self._step = inverse(before) @ pose
        self._pose, self._held, self._interval = pose, 0.0, interval
        covered = self._covered(view, rows, fit.inlier, apply(fit.matrix, view.patches.place[rows]))
        if covered < COVERED:  # what is hidden for a while is no worse for it
            view.count(rows, fit.inlier)
            view.forget_old()
        came = apply(inverse(before) @ view.pose, view.patches.place[rows])
        state = FrameState.COVERED if covered >= COVERED else FrameState.FOLLOWED
        out = self._said(state, "", fit.share, covered, fit.residual, place, came, fit.inlier)
        self._renew(pictures, view, fit, covered)
        return out

    def _covered(self, view: KeyView, rows: NDArray[np.int64], agrees: NDArray[np.bool_], place: Float) -> float:
        """The share of the picture's cells with trusted points in which none agrees."""
        cells, trusted = cells_of(place, self._work), view.trusted[rows]
        return 1.0 - how_many(cells[trusted & agrees]) / max(how_many(cells[trusted]), 1)

    def _hold(
        self, pictures: list[Grey], expected: Float, interval: float, reason: str, rows: NDArray[np.int64], place: Float
    ) -> CameraStep:
        """No motion was found: the last one goes on and dies away; later the view is looked for by its look."""
        self._pose, self._held = expected, self._held + interval
        if self._held >= LOST_AFTER and self._held - self._searched >= LOOK_EVERY:
            self._searched = self._held
            if self._looked_for(pictures):
                return self._said(FrameState.FOLLOWED, "")
        if self._held >= NEW_AFTER:
            made = take_view(pictures, np.eye(3))
            if made is not None and not made.repeats:
                return self._new_view(pictures, made)
        none = np.zeros(len(rows), np.bool_)
        return self._said(FrameState.HELD, reason, 0.0, 0.0, 0.0, place, place, none)

    def _looked_for(self, pictures: list[Grey]) -> bool:
        """Find the present view again by descriptions, wherever it is in the picture; True if it was."""
        for view in self._views[::-1][:3]:
            pairs = found_again(view, pictures[0])
            if pairs is None:
                continue
            rough = fit_motion(*pairs, self.model, size=self._work, tolerance=0.01 * self._work[0], seed=self.seed)
            if rough.matrix is None:
                continue
            pose = view.pose @ inverse(rough.matrix)
            fit, _, _ = self._found(view, pictures, pose)
            if fit.matrix is not None:
                self._view, self._pose = view, view.pose @ inverse(fit.matrix)
                self._step, self._held, self._searched = np.eye(3), 0.0, 0.0
                return True
        return False

    def _renew(self, pictures: list[Grey], view: KeyView, fit: Fit, covered: float) -> None:
        """Go over to another view where too little of this one is left; not while something large is in the way."""
        assert fit.matrix is not None
        left = overlap_of(view, self._pose, self._work)
        zoom = float(local_scale(fit.matrix, np.array([[self._work[0] / 2, self._work[1] / 2]]))[0])
        worn = view.trusted.mean() < 0.4 and covered < COVERED
        if left >= LEFT and 1 / ZOOMED <= zoom <= ZOOMED and not worn:
            return
        if covered >= COVERED and left >= 0.3:
            return
        others = [other for other in self._views if other is not view and self._fits(other)]
        for other in sorted(others, key=lambda one: -overlap_of(one, self._pose, self._work))[:1]:
            again, _, _ = self._found(other, pictures, self._pose)
            if again.matrix is not None and again.share >= 0.4:
                self._view, self._pose = other, other.pose @ inverse(again.matrix)
                return
        made = take_view(pictures, self._pose)
        if made is not None and not made.repeats:
            self._view = made
            self._views = [*self._views, made][-MOST_VIEWS:]

    def _fits(self, view: KeyView) -> bool:
        """Whether an old view shows nearly what the picture shows."""
        middle = np.array([[self._work[0] / 2, self._work[1] / 2]])
        zoom = float(local_scale(inverse(self._pose) @ view.pose, middle)[0])
        near = 1 / (0.5 + 0.5 * ZOOMED) <= zoom <= 0.5 + 0.5 * ZOOMED
        return near and view.trusted.mean() >= 0.5 and overlap_of(view, self._pose, self._work) >= TAKE_UP

    def _said(
        self,
        state: FrameState,
        reason: str,
        shared: float = 1.0,
        covered: float = 0.0,
        residual: float = 0.0,
        points: Float | None = None,
        came: Float | None = None,
        agrees: NDArray[np.bool_] | None = None,
    ) -> CameraStep:
        up = np.diag([self._scale, self._scale, 1.0])
        none = np.zeros((0, 2))
        return CameraStep(
            up @ self._pose @ inverse(up), state, shared, covered, residual * self._scale, reason,
            none if points is None else points * self._scale, none if came is None else came * self._scale,
            np.zeros(0, np.bool_) if agrees is None else agrees,
        )  # fmt: skip


def _no_fit(reason: str) -> Fit:
    return Fit(None, np.zeros(0, np.bool_), float("inf"), 0.0, 0, reason)


def move_between(before: Grey, after: Grey, size: tuple[int, int]) -> float | None:
    """By how many px the corner of a picture goes that goes farthest; None where nothing can be told.

    What stands is asked first: as long as points all over the picture stay where they were, the camera stands, however
    much moves beside them.
    """
    follower = CameraFollower(size)
    first, second = follower.step(before, 0.0), follower.step(after, 0.04)
    if first.reason or second.reason or second.state not in (FrameState.FOLLOWED, FrameState.COVERED):
        return None
    move = moved(second.to_scene, size)
    if move < STILL_PX:
        return move
    # Points of mere noise lie a little off as well, but no motion explains by how much.
    off = np.hypot(*(second.points - second.came)[second.agrees].T)
    explained = float(np.sqrt((off**2).mean())) >= EXPLAINS * second.residual
    return move if explained and second.shared >= SURELY else None
