"""A thing followed through pictures: by its points while seen, by a forecast while hidden, looked for when lost.

Patches of a key view of the thing are sought where the last motion puts them and fitted with a projective motion. A new
key view is taken when it has turned or zoomed too far from the last one, and from time to time the thing's own picture
is laid over it, so that errors do not add up. When it is not seen, descriptions of that picture are matched.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.features.binary import describe_binary
from drover.core.features.flow import Patches, seek, take_patches
from drover.core.features.matching import match
from drover.core.features.models import Model, apply, inverse, local_scale, slope_at
from drover.core.features.points import spread
from drover.core.features.pyramid import Grey, pyramid
from drover.core.features.robust import Fit, fit_motion
from drover.core.features.scales import find_points
from drover.core.follow.forecast import Forecast
from drover.core.follow.shape import shapely
from drover.core.follow.steps import FollowState, FollowStep
from drover.core.follow.thing import Thing
from drover.core.follow.why_lost import Looks, looks_of, why_lost

__all__ = ["ThingFollower"]

Float = NDArray[np.float64]
LEVELS = 3
MOST_PATCHES = 120
FEW = 10  # patches under which no key view can be made
MISFIT = 0.8  # of its contrast that a patch may differ
TOLERANCE = 0.02  # of the thing's size that a point may be off, but
LEAST_TOLERANCE = 0.9  # px at least
LEAST_AGREE, LEAST_SHARE = 9, 0.3  # points that must fit for it to be seen, and share of those sought
ZOOMED, TURNED = 1.2, 0.3  # zoom, and turn in rad, from the key view that ask for another
RENEW_EVERY = 0.4  # s between looks at the first picture
HIDDEN_FOR = 1.5  # s that a forecast is believed
LOOK_EVERY = 0.12  # s between searches
NEAR_FOR = 6.0  # s for which it is looked for near where it should be as well
SEARCHED = 1600  # points of a picture that is searched, half of them where only a part of it is
RUNGS = 7
USUAL = 0.04  # s between two pictures
MOST_LEAP = 0.35  # sizes by which the outline may differ from what was expected, after so long


@dataclass
class _Key:
    """A view of the thing: patches, where their points are in the first picture, and the motion from there to here."""

    patches: Patches
    own: Float
    pose: Float


class ThingFollower:
    """Follows one thing; see the module.

    Parameters
    ----------
    thing : what is followed
    size : (width, height) px of the pictures
    pose : (3, 3) from the thing's own picture to the first that is given, where that is known
    """

    def __init__(self, thing: Thing, size: tuple[int, int], pose: Float | None = None, seed: int = 0) -> None:
        self.thing, self.size, self.seed = thing, size, seed
        self._pose = pose
        self._before = pose  # of the picture before
        self._key: _Key | None = None
        self._forecast: Forecast | None = None
        self._state = FollowState.LOST if pose is None else FollowState.SEEN
        self._time: float | None = None
        self._interval = USUAL
        self._unseen = self._since_search = 0.0
        self._since_renewal = 0.0
        self._reason = "not found yet" if pose is None else ""
        self._looks: Looks | None = None
        self._turn = False
        self._own_keys: dict[int, _Key | None] = {}

    def step(self, grey: Grey, time: float) -> FollowStep:
        """Take in the next picture (height, width) uint8 at ``time`` s."""
        interval = self._interval = USUAL if self._time is None else max(time - self._time, 1e-3)
        self._time = time
        pictures = pyramid(grey, LEVELS)
        self._since_renewal += interval
        self._since_search += interval
        if self._key is None and self._pose is not None and self._state == FollowState.SEEN:
            self._take_key(pictures, self._pose)
        if self._state == FollowState.SEEN:
            found = self._followed(pictures)
            if found is not None:
                return self._seen(pictures, *found)
            self._lose(grey)
        return self._unseen_step(pictures, interval)

    # --- while it is seen -------------------------------------------------------------------------------------

    def _followed(self, pictures: list[Grey]) -> tuple[Float, Fit, Float] | None:
        """The pose, the fit and the places of the points, by the key view; None where it is not there."""
        key, pose = self._key, self._expected()
        if key is None or pose is None:
            return None
        found = self._fitted(key, pictures, pose)
        if found is None and self._pose is not None:
            found = self._fitted(key, pictures, self._pose)
        if found is None:
            return None
        return found if self._plausible(found[0], pose) else None

    def _expected(self) -> Float | None:
        """The pose that goes on as the last two did."""
        if self._pose is None or self._before is None:
            return self._pose
        step = self._pose @ inverse(self._before)
        return np.asarray(step / step[2, 2] @ self._pose, np.float64)

    def _fitted(self, key: _Key, pictures: list[Grey], pose: Float, halved: int = 0) -> tuple[Float, Fit, Float] | None:
        """The fit of a key view near a pose; this picture is looked at ``halved`` so many times."""
        there = apply(pose, key.own)
        inside = ((there > 0) & (there < self.size)).all(axis=1)
        rows = np.flatnonzero(inside)
        if len(rows) < FEW:
            return None
        from_key = pose @ inverse(key.pose)
        slope = slope_at(from_key, key.patches.place[rows].mean(axis=0))
        if not np.isfinite(slope).all() or not 0.2 < abs(np.linalg.det(slope)) ** 0.5 < 5.0:
            return None
        small = 0.5**halved
        flow = seek(key.patches, pictures[halved:], there[rows] * small, slope * small, rows=rows)
        place = flow.place / small
        good = flow.found & (flow.misfit <= MISFIT)
        fit = self._fit(key.own[rows[good]], place[good], pose)
        if fit is None or fit.inlier.sum() < max(LEAST_AGREE, LEAST_SHARE * len(rows)):
            return None
        agrees = np.zeros(len(rows), np.bool_)
        agrees[np.flatnonzero(good)[fit.inlier]] = True
        assert fit.matrix is not None
        whole = Fit(fit.matrix, agrees, fit.residual, fit.coverage, fit.tried)
        return fit.matrix, whole, place

    def _fit(self, own: Float, place: Float, pose: Float) -> Fit | None:
        """From the thing's own picture to this one; a similarity where few points are left to fix more."""
        side = self.thing.side * float(local_scale(pose, self.thing.outline.mean(axis=0)[None])[0])
        tolerance = max(LEAST_TOLERANCE, TOLERANCE * side)
        models: tuple[Model, ...] = (
            ("projective", "affine", "similarity") if len(own) >= 24 else ("affine", "similarity")
        )
        for model in models:
            fit = fit_motion(
                own, place, model, size=self.size, tolerance=tolerance, guess=pose if model == "projective" else None,
                seed=self.seed, most=300, spread_over=self.thing.outline,
            )  # fmt: skip
            if fit.matrix is not None and shapely(apply(fit.matrix, self.thing.outline), self.thing.outline):
                return fit
        return None

    def _plausible(self, pose: Float, expected: Float) -> bool:
        """Whether the outline lies about where it was expected."""
        now, then = apply(pose, self.thing.outline), apply(expected, self.thing.outline)
        side = self.thing.side * float(local_scale(expected, self.thing.outline.mean(axis=0)[None])[0])
        return float(np.median(np.hypot(*(now - then).T))) <= MOST_LEAP * max(1.0, self._interval / USUAL) * max(
            side, 20.0
        )

    def _seen(self, pictures: list[Grey], pose: Float, fit: Fit, place: Float) -> FollowStep:
        self._before, self._pose = self._pose, pose
        outline = apply(pose, self.thing.outline)
        middle, side = outline.mean(axis=0), self._side(pose)
        if self._forecast is None:
            self._forecast = Forecast(middle, side)
        else:
            self._forecast.predict(self._interval)
            self._forecast.take(middle, side)
        self._unseen = 0.0
        self._looks = looks_of(pictures[0], outline)
        key = self._key
        assert key is not None
        rows = np.flatnonzero(fit.inlier)
        sure = fit.share * min(1.0, len(rows) / (2 * LEAST_AGREE))
        if self._wants_anchor(key, fit):
            self._since_renewal = 0.0
            exact = self._anchored(pictures)
            if exact is not None:
                self._pose, outline = exact, apply(exact, self.thing.outline)
            if exact is not None or fit.share >= 0.5:  # half hidden, its place would not be sure enough to begin from
                self._take_key(pictures, self._pose)
        zoom = float(local_scale(pose, self.thing.outline.mean(axis=0)[None])[0])
        return FollowStep(
            outline, FollowState.SEEN, sure, "", place, fit.inlier, np.full(len(place), 15.0 * max(zoom, 0.2))
        )

    def _side(self, pose: Float) -> float:
        return self.thing.side * float(local_scale(pose, self.thing.outline.mean(axis=0)[None])[0])

    def _wants_anchor(self, key: _Key, fit: Fit) -> bool:
        """Whether it is time to look at the thing's own picture and take another key view: turned, zoomed, or late."""
        assert self._pose is not None
        middle = apply(key.pose, self.thing.outline.mean(axis=0)[None])[0]
        relative = slope_at(self._pose @ inverse(key.pose), middle)
        zoom = abs(np.linalg.det(relative)) ** 0.5
        turn = abs(np.arctan2(relative[1, 0] - relative[0, 1], relative[0, 0] + relative[1, 1]))
        slant = np.linalg.svd(relative, compute_uv=False)
        like = 1 / ZOOMED <= zoom <= ZOOMED and turn <= TURNED and slant[0] / max(slant[1], 1e-6) <= ZOOMED
        return not like or fit.inlier.sum() < 2 * LEAST_AGREE or self._since_renewal >= RENEW_EVERY

    def _take_key(self, pictures: list[Grey], pose: Float) -> bool:
        """Make a key view of this picture; False where there is too little of the thing in it."""
        outline = apply(pose, self.thing.outline)
        low = np.maximum(np.floor(outline.min(axis=0)) - 12, 0).astype(int)
        high = np.minimum(np.ceil(outline.max(axis=0)) + 12, self.size).astype(int)
        if (high - low < 24).any():
            return False
        part = np.ascontiguousarray(pictures[0][low[1] : high[1], low[0] : high[0]])
        found = find_points(part, "segment", most=3 * MOST_PATCHES)
        place = found.place + low
        own = apply(inverse(pose), place)
        edge_low, edge_high = self.thing.outline.min(axis=0), self.thing.outline.max(axis=0)
        on_it = ((own > edge_low) & (own < edge_high)).all(axis=1)
        chosen = spread(found.take(on_it), (part.shape[1], part.shape[0]), MOST_PATCHES, (8, 6))
        patches = take_patches(pictures, chosen.place + low)
        firm = np.flatnonzero(patches.firm[0])
        if len(firm) < FEW:
            return False
        patches = patches.take(firm)
        self._key = _Key(patches, apply(inverse(pose), patches.place), pose)
        return True

    def _anchored(self, pictures: list[Grey]) -> Float | None:
        """The pose by the thing's own picture, so that errors do not add up; None where it cannot be laid over it."""
        assert self._pose is not None
        zoom = self._side(self._pose) / self.thing.side
        halvings = int(np.clip(round(np.log2(max(zoom, 1e-3))), -2, LEVELS - 1))
        key = self._own_key(max(-halvings, 0))
        if key is None:
            return None
        found = self._fitted(key, pictures, self._pose, halved=max(halvings, 0))
        if found is None or found[1].inlier.sum() < 1.5 * LEAST_AGREE:
            return None
        return found[0] if self._plausible(found[0], self._pose) else None

    def _own_key(self, halvings: int) -> _Key | None:
        """The thing's own picture, halved so many times, as a key view."""
        if halvings not in self._own_keys:
            pictures = pyramid(self.thing.grey, LEVELS + 2)[halvings:]
            made = None
            if pictures:
                place = np.unique((self.thing.points.place / 2**halvings).round(0), axis=0)
                place = place[:: max(1, len(place) // (2 * MOST_PATCHES))]
                patches = take_patches(pictures[:LEVELS], place)
                firm = np.flatnonzero(patches.firm[0])
                down = np.diag([0.5**halvings, 0.5**halvings, 1.0])
                if len(firm) >= FEW:
                    made = _Key(patches.take(firm), place[firm] * 2**halvings, down)
            self._own_keys[halvings] = made
        return self._own_keys[halvings]

    # --- while it is not ----------------------------------------------------------------------------------------

    def _lose(self, grey: Grey) -> None:
        """It is not seen any more: say why, as far as the pictures tell."""
        assert self._pose is not None
        outline = apply(self._pose, self.thing.outline)
        before = self._looks or looks_of(grey, outline)
        self._reason = why_lost(outline, self.thing.outline, before, looks_of(grey, outline), self.size)
        self._state, self._unseen, self._since_search = FollowState.HIDDEN, 0.0, LOOK_EVERY

    def _unseen_step(self, pictures: list[Grey], interval: float) -> FollowStep:
        self._unseen += interval
        if self._forecast is not None:
            self._forecast.predict(interval, unseen=True)
        if self._since_search >= LOOK_EVERY:
            self._since_search = 0.0
            again = self._found_again(pictures)
            if again is not None:
                return again
        if self._unseen > HIDDEN_FOR:
            self._state = FollowState.LOST
        none = np.zeros((0, 2)), np.zeros(0, np.bool_), np.zeros(0)
        outline = self._forecast_outline() if self._state == FollowState.HIDDEN else None
        return FollowStep(outline, self._state, 0.0, self._reason, *none)

    def _forecast_outline(self) -> Float | None:
        """The last outline, moved to where the thing should be."""
        if self._pose is None or self._forecast is None:
            return None
        outline = apply(self._pose, self.thing.outline)
        zoom = self._forecast.size / max(self._side(self._pose), 1e-6)
        return (outline - outline.mean(axis=0)) * min(max(zoom, 0.5), 2.0) + self._forecast.middle

    def _found_again(self, pictures: list[Grey]) -> FollowStep | None:
        """Look for the thing where it should be, then all over the picture."""
        outline = self._forecast_outline() if self._unseen < NEAR_FOR else None
        self._turn = not self._turn  # near where it should be and all over the picture, in turn
        pose = self._matched(pictures[0], outline if self._turn else None)
        if pose is None:
            return None
        kept = self._key, self._pose, self._before
        self._pose = self._before = pose
        if not self._take_key(pictures, pose) or self._key is None:
            self._key, self._pose, self._before = kept
            return None
        exact = self._anchored(pictures)
        if exact is not None:
            self._pose = self._before = exact
            self._take_key(pictures, exact)
        found = self._fitted(self._key, pictures, self._pose)
        if found is None:
            self._key, self._pose, self._before = kept
            return None
        self._state, self._forecast, self._reason = FollowState.SEEN, None, ""
        return self._seen(pictures, *found)

    def _matched(self, grey: Grey, near: Float | None) -> Float | None:
        """The pose by descriptions, near an outline or anywhere; None where it is not found."""
        low, part = np.zeros(2), grey
        if near is not None:
            doubt = 0.6 + min(0.8 * self._unseen, 2.5)
            room = doubt * np.maximum(np.ptp(near, axis=0), 40.0)
            low = np.clip(np.floor(near.min(axis=0) - room), 0, np.array(self.size) - 64)
            high = np.minimum(np.maximum(near.max(axis=0) + room, low + 64), self.size)
            part = np.ascontiguousarray(grey[int(low[1]) : int(high[1]), int(low[0]) : int(high[0])])
        points = find_points(part, "segment", most=SEARCHED if near is None else SEARCHED // 2, rungs=RUNGS)
        pairs = match(self.thing.descriptions, describe_binary(part, points), ratio=0.9)
        if len(pairs) < LEAST_AGREE:
            return None
        own, there = self.thing.points.place[pairs[:, 0]], points.place[pairs[:, 1]] + low
        side = self.thing.side
        rough = fit_motion(
            own, there, "similarity", size=self.size, tolerance=max(3.0, 0.05 * side), seed=self.seed,
            least_share=0.12, spread_over=self.thing.outline,
        )  # fmt: skip
        if rough.matrix is None:
            return None
        side = self._side(rough.matrix)
        model: Model = "projective" if rough.inlier.sum() >= 20 else "affine"
        fine = fit_motion(
            own[rough.inlier], there[rough.inlier], model, size=self.size, tolerance=max(1.5, 0.03 * side),
            guess=rough.matrix, seed=self.seed, spread_over=self.thing.outline,
        )  # fmt: skip
        chosen = rough.matrix if fine.matrix is None else fine.matrix
        outline = apply(chosen, self.thing.outline)
        if not shapely(outline, self.thing.outline):
            chosen = rough.matrix
        return chosen if shapely(apply(chosen, self.thing.outline), self.thing.outline) else None
