"""Of the blobs of one picture, what looks like shadow: which way it lies from the body that it belongs to."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["BEYOND", "WIDE", "Blob", "Part", "blobs_of", "parts_of"]

Pixels = NDArray[np.int64]
Box = tuple[int, int, int, int]  # first and last row, first and last column
WIDE = (0.3, 0.95)  # share of its light that a shadow may leave to the ground, before more is known
LEAST_PART, MOST_PART = 0.08, 0.92  # of a blob that may be shadow
LEAST_BLOB = 24  # px at half size
BEYOND = 0.05  # of the body's pixels may lie beyond what counts as its width


class Blob(NamedTuple):
    """Pixels of a blob, (n,) each: row and column, share of the ground's light, whether they have its colour, and how
    far that share differs from one px to those around it.
    """

    y: Pixels
    x: Pixels
    ratio: NDArray[np.float32]
    tinted: NDArray[np.bool_]
    step: NDArray[np.float32]

    @property
    def box(self) -> Box:
        """Where it lies."""
        return int(self.y.min()), int(self.y.max()), int(self.x.min()), int(self.x.max())

    def among(self, which: NDArray[np.bool_]) -> Blob:
        """Some of its pixels."""
        return Blob(*(one[which] for one in self))

    def like(self, between: tuple[float, float]) -> NDArray[np.bool_]:
        """Which pixels look like a shadow that leaves so much of the light, but for specks of them."""
        return self._solid(self.tinted & (self.ratio > between[0]) & (self.ratio < between[1]))

    def _solid(self, which: NDArray[np.bool_]) -> NDArray[np.bool_]:
        from scipy import ndimage  # here: a start without it is a fifth of a second shorter

        top, bottom, first, last = self.box
        mask = np.zeros((bottom - top + 1, last - first + 1), np.bool_)
        mask[self.y[which] - top, self.x[which] - first] = True
        return np.asarray(ndimage.binary_opening(mask), np.bool_)[self.y - top, self.x - first]

    def apart(self, between: tuple[float, float]) -> tuple[Blob, Blob]:
        """What of it looks like such a shadow and what is body; what is neither, as a rim is, is left out. A blob that
        might all be shadow has no body.
        """
        shadow = self.like(between)
        loose = float(self.like(WIDE).mean()) > MOST_PART
        return self.among(shadow), self.among(np.zeros_like(shadow) if loose else self._solid(~shadow))


class Part(NamedTuple):
    """A shadow-like part: its direction from the body (a unit vector, x and y), how much of it lies beyond the body to
    the right, less to the left; its pixels and the body's.
    """

    way: tuple[float, float]
    side: float
    shadow: Blob
    body: Blob


def blobs_of(
    moving: NDArray[np.bool_],
    ratio: NDArray[np.float32],
    tinted: NDArray[np.bool_],
    steps: Callable[[Pixels, Pixels], NDArray[np.float32]],
) -> list[Blob]:
    """Blobs of a mask (h, w) that are not tiny and do not touch its edge; of ``ratio`` and ``tinted``, of the same
    shape, they get their pixels, and of ``steps`` what it says of some rows and columns.
    """
    from scipy import ndimage

    label, _ = ndimage.label(ndimage.binary_opening(moving))  # type: ignore[misc]
    out: list[Blob] = []
    for number, place in enumerate(ndimage.find_objects(label), 1):
        if place is None or min(place[0].start, place[1].start) == 0:
            continue
        if place[0].stop == moving.shape[0] or place[1].stop == moving.shape[1]:
            continue
        y, x = np.nonzero(label[place] == number)
        if len(y) >= LEAST_BLOB:
            y, x = y + place[0].start, x + place[1].start
            out.append(Blob(y, x, ratio[y, x].astype(np.float32), tinted[y, x], steps(y, x)))
    return out


def parts_of(blobs: list[Blob], between: tuple[float, float] = WIDE) -> tuple[int, list[Part]]:
    """How many bodies the blobs of a picture are, and the parts of those that have one that looks like a shadow which
    leaves so much of the light.
    """
    bodies = _with_what_lies_loose([blob.apart(between) for blob in blobs])
    out: list[Part] = []
    for shadow, body in bodies:
        if not LEAST_PART <= _share(shadow, body) <= MOST_PART:
            continue
        dx, dy = float(shadow.x.mean() - body.x.mean()), float(shadow.y.mean() - body.y.mean())
        length = float(np.hypot(dx, dy))
        if length > 0.5:
            left, right = np.quantile(body.x, [BEYOND, 1 - BEYOND])
            side = float(np.mean(shadow.x > right) - np.mean(shadow.x < left))
            out.append(Part((dx / length, dy / length), side, shadow, body))
    return len(bodies), out


def _share(shadow: Blob, body: Blob) -> float:
    return len(shadow.y) / max(len(shadow.y) + len(body.y), 1)


def _with_what_lies_loose(pairs: list[tuple[Blob, Blob]]) -> list[tuple[Blob, Blob]]:
    """Shadow and body of each body: what is nothing but shadow is counted to the nearest other from which no more than
    its own size parts it; piece after piece, as a shadow lies that is broken.
    """
    pairs = [pair for pair in pairs if len(pair[0].y) or len(pair[1].y)]
    boxes = [_together(pair).box for pair in pairs]
    groups = {k: [k] for k, pair in enumerate(pairs) if _share(*pair) <= MOST_PART}
    loose = [k for k in range(len(pairs)) if k not in groups]
    while True:
        near = [(_gap(boxes[k], boxes[m]), k, owner) for k in loose for owner, of in groups.items() for m in of]
        near = [one for one in near if one[0] <= _size(boxes[one[1]])]
        if not near:
            break
        _, k, owner = min(near)
        groups[owner].append(k)
        loose.remove(k)
    joined = [(_together([pairs[k][0] for k in of]), _together([pairs[k][1] for k in of])) for of in groups.values()]
    return joined + [pairs[k] for k in loose]


def _gap(a: Box, b: Box) -> int:
    """Pixels between two boxes, the way that they are farther apart."""
    return max(a[0] - b[1], b[0] - a[1], a[2] - b[3], b[2] - a[3], 0)


def _size(box: Box) -> int:
    """Longer side, px."""
    return max(box[1] - box[0], box[3] - box[2]) + 1


def _together(blobs: Iterable[Blob]) -> Blob:
    return Blob(*(np.concatenate(pixels) for pixels in zip(*blobs, strict=True)))
