"""Of what moves in one picture, what looks like shadow: which way it lies from the body that it belongs to."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["BEYOND", "WIDE", "MovingPixels", "Part", "Place", "moving_pixels", "parts_of"]

Bool = NDArray[np.bool_]
Int = NDArray[np.int64]
Place = tuple[Int, Int]  # rows and columns of some pixels
WIDE = (0.3, 0.95)  # share of its light that a shadow may leave to the ground, before more is known
LEAST_PART, MOST_PART = 0.08, 0.92  # of a blob that may be shadow
LEAST_BLOB = 24  # px at half size
LEAST_APART = 0.5  # px between the middles of shadow and body, for there to be a direction
FAR = 1 << 30  # px: farther than anything
BEYOND = 0.05  # of the body's pixels may lie beyond what counts as its width


class MovingPixels(NamedTuple):
    """Of each pixel (h, w) the number of the blob that it belongs to, 0 for none, its share of the ground's light, and
    whether it has the ground's colour; ``box`` (blobs, 4) are their first and past rows and columns.
    """

    blob: NDArray[np.int32]
    ratio: NDArray[np.floating]
    tinted: Bool
    box: Int

    def like(self, between: tuple[float, float]) -> Bool:
        """Which pixels look like a shadow that leaves so much of the light, but for specks of them."""
        return _opened((self.blob > 0) & self.tinted & (self.ratio > between[0]) & (self.ratio < between[1]))

    def pixels(self, mask: Bool) -> Int:
        """How many pixels of a mask each blob has."""
        return np.bincount(self.blob[mask], minlength=len(self.box) + 1)[1:]


class Part(NamedTuple):
    """A shadow-like part: its direction from the body (a unit vector, x and y), how much of it lies beyond the body to
    the right, less to the left; where its pixels are and the body's, the share of light of its own, and how far that
    differs from one px to those around it, and by how many levels its colour is off, where this was looked at.
    """

    way: tuple[float, float]
    side: float
    shadow: Place
    body: Place
    ratio: NDArray[np.float32]
    step: NDArray[np.float32] = np.zeros(0, np.float32)
    off: NDArray[np.float32] = np.zeros(0, np.float32)


def moving_pixels(moving: Bool, ratio: NDArray[np.floating], tinted: Bool) -> MovingPixels:
    """The blobs of a mask that are not tiny and do not touch its edge, with what their pixels look like."""
    from scipy import ndimage  # here: a start without it is a fifth of a second shorter

    label = np.asarray(ndimage.label(_opened(moving))[0], np.int32)  # type: ignore[index]
    stays = np.bincount(label.ravel()) >= LEAST_BLOB
    for rim in (label[0], label[-1], label[:, 0], label[:, -1]):
        stays[rim] = False
    stays[0] = False
    number = np.where(stays, np.cumsum(stays), 0).astype(np.int32)
    blob = number[label]
    box = [(y.start, y.stop, x.start, x.stop) for y, x in ndimage.find_objects(blob)]  # type: ignore[misc]
    return MovingPixels(blob, ratio, tinted, np.array(box, np.int64).reshape(-1, 4))


def _opened(mask: Bool) -> Bool:
    """What is left of a mask where a cross of five pixels fits in (Serra 1982, opening).

    SciPy says the same in thirty times the time, and this is asked several times of every picture.
    """
    inner = mask.copy()
    inner[1:] &= mask[:-1]
    inner[:-1] &= mask[1:]
    inner[:, 1:] &= mask[:, :-1]
    inner[:, :-1] &= mask[:, 1:]
    inner[[0, -1]] = inner[:, [0, -1]] = False
    out = inner.copy()
    out[1:] |= inner[:-1]
    out[:-1] |= inner[1:]
    out[:, 1:] |= inner[:, :-1]
    out[:, :-1] |= inner[:, 1:]
    return out


def parts_of(seen: MovingPixels, between: tuple[float, float] = WIDE) -> tuple[int, list[Part]]:
    """How many bodies there are in a picture, and the parts of those that have one that looks like a shadow which
    leaves so much of the light. What is neither shadow nor body, as a rim is, is left out.
    """
    shadow = seen.like(between)
    body = _opened((seen.blob > 0) & ~shadow)
    all_shadow = seen.pixels(seen.like(WIDE)) > MOST_PART * seen.pixels(seen.blob > 0)
    body &= ~np.concatenate([[False], all_shadow])[seen.blob]
    dark, rest = seen.pixels(shadow), seen.pixels(body)
    there = dark + rest > 0
    owner = _owners(seen.box, there & (dark > MOST_PART * (dark + rest)))
    dark, rest = (np.bincount(owner, count, len(owner)) for count in (dark, rest))
    share = dark / np.maximum(dark + rest, 1)
    have = np.flatnonzero((share >= LEAST_PART) & (share <= MOST_PART))
    both = zip(*(_places(mask, owner[seen.blob[mask] - 1], have) for mask in (shadow, body)), strict=True)
    parts = [part for place, other in both if (part := _part(place, other, seen.ratio)) is not None]
    return len(np.unique(owner[there])), parts


def _places(mask: Bool, owner: Int, wanted: Int) -> list[Place]:
    """Where the pixels of a mask are that belong to each of the wanted, given whose each one is."""
    y, x = np.nonzero(mask)
    order = np.argsort(owner, kind="stable")
    first, past = (np.searchsorted(owner[order], wanted, side) for side in ("left", "right"))
    rows = [order[a:b] for a, b in zip(first, past, strict=True)]
    return [(y[row], x[row]) for row in rows]


def _part(shadow: Place, body: Place, ratio: NDArray[np.floating]) -> Part | None:
    """What a shadow says; none where it has no direction."""
    (y, x), (body_y, body_x) = shadow, body
    dx, dy = float(x.mean() - body_x.mean()), float(y.mean() - body_y.mean())
    length = float(np.hypot(dx, dy))
    if length <= LEAST_APART:
        return None
    left, right = np.quantile(body_x, [BEYOND, 1 - BEYOND])
    side = float(np.mean(x > right) - np.mean(x < left))
    return Part((dx / length, dy / length), side, shadow, body, ratio[shadow].astype(np.float32))


def _owners(box: Int, waiting: Bool) -> Int:
    """Whose each blob is: its own, or, of those that wait, that of the nearest from which no more than its own size
    parts it; piece after piece, as a shadow lies that is broken.
    """
    waiting, size = waiting.copy(), np.maximum(box[:, 1] - box[:, 0], box[:, 3] - box[:, 2])
    owner, gap = np.arange(len(box)), np.full(len(box), FAR)
    joined = np.flatnonzero(~waiting) if waiting.any() else []
    while len(joined):  # what is nearest first, then what lies near that, as a shortest tree grows (Prim 1957)
        for k in joined:
            apart = _gaps(box[k], box)
            nearer = waiting & (apart <= size) & (apart < gap)
            gap[nearer], owner[nearer] = apart[nearer], owner[k]
        nearest = int(np.argmin(np.where(waiting, gap, FAR)))
        joined = [nearest] if waiting[nearest] and gap[nearest] < FAR else []
        waiting[joined] = False
    return owner


def _gaps(one: Int, box: Int) -> Int:
    """Pixels between a box and others (n, 4), the way that they are farther apart."""
    below, beside = (np.maximum(one[k] - box[:, k + 1], box[:, k] - one[k + 1]) for k in (0, 2))
    return np.maximum(np.maximum(below, beside), 0)
