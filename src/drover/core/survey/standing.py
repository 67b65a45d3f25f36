"""What stood in the picture for so long that it passes for ground is told by its outline, and the ground put back.

Somebody who stands there from the first picture, or comes and stays, may be seen longer than the ground he hides. But
ground goes on where he ends: of the two pictures that a place shows, one before something happened there and one after,
the one that breaks off at the edge of the place is the thing, and the one that runs on into its surroundings is the
ground. Contrast is measured as steps across the outline from just inside to just outside (Erdem, Sankur and Tekalp
2004, "Performance measures for video object segmentation and tracking", section III A).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.core.survey.empty_scene import LEAST_COLOUR, LEAST_GREY, MOVES, EmptyScene
from drover.core.survey.samples import Samples

__all__ = ["put_ground_back"]

LEAST_RUN = 2  # pictures in a row, at the beginning or the end, that show another face
LEAST_PLACE = 24  # px at half size
RIM = 2  # px at half size, inside and outside an outline, that are held against each other
SMOOTHER = 0.6  # of the contrast along the outline that the other face may have, to be the ground
EDGE = 2.0  # standard deviations along the outline under which there is no edge to speak of
OF_PLACE = 0.6  # of a place that must look alike in a picture
ALIKE = 3.0  # standard deviations
CALM = 1.5  # times the noise usual in the picture that a place may have here
AROUND = 3  # px at half size beyond the outline that are put back as well: edges are soft

Float32 = NDArray[np.float32]
Mask = NDArray[np.bool_]
Place = tuple[slice, slice]


def put_ground_back(samples: Samples, empty: EmptyScene) -> tuple[EmptyScene, int]:
    """The empty scene without what only stood there, and how many places were put back; samples are in one light."""
    shots, ground, noise = _half_size(samples, empty)
    away = np.stack([_apart(shot, ground, noise) > MOVES**2 for shot in shots])
    new = _copied(empty)
    found = 0
    for order in (np.arange(len(shots)), np.arange(len(shots))[::-1]):
        for place, mine in _places(away[order]):
            other = _other_face(shots, order, away, place, mine)
            if not _is_ground(other, ground, noise, place, mine):
                continue
            showing = _pictures_with(shots, other, noise, place, mine)
            if len(showing) < LEAST_RUN:
                continue
            found += 1
            wide, grown = _grown(place, mine)
            twice = np.repeat(np.repeat(grown, 2, axis=0), 2, axis=1)
            large = (slice(2 * wide[0].start, 2 * wide[0].stop), slice(2 * wide[1].start, 2 * wide[1].stop))
            _put_back(samples.grey[showing], large, twice, new.grey, new.noise, LEAST_GREY)
            if samples.chroma is not None and new.chroma is not None and new.chroma_noise is not None:
                for c in range(2):
                    _put_back(samples.chroma[showing, c], wide, grown, new.chroma[c], new.chroma_noise[c], LEAST_COLOUR)
    return (new if found else empty), found


def _copied(empty: EmptyScene) -> EmptyScene:
    """The same, with planes of its own to write to."""
    colour = None if empty.chroma is None else empty.chroma.copy()
    spread = None if empty.chroma_noise is None else empty.chroma_noise.copy()
    return replace(empty, grey=empty.grey.copy(), noise=empty.noise.copy(), chroma=colour, chroma_noise=spread)


def _half_size(samples: Samples, empty: EmptyScene) -> tuple[Float32, Float32, Float32]:
    """Pictures (n, planes, rows, columns), ground and noise (planes, rows, columns): brightness, and colours if any."""
    shots = [samples.grey[:, ::2, ::2]]
    ground, noise = [empty.grey[::2, ::2]], [empty.noise[::2, ::2]]
    if samples.chroma is not None and empty.chroma is not None and empty.chroma_noise is not None:
        shots += [samples.chroma[:, 0], samples.chroma[:, 1]]
        ground, noise = [*ground, *empty.chroma], [*noise, *empty.chroma_noise]
    rows, columns = (min(plane.shape[axis] for plane in ground) for axis in (0, 1))
    seen = np.stack([plane[:, :rows, :columns] for plane in shots], axis=1).astype(np.float32)
    here, jitter = (np.stack([plane[:rows, :columns] for plane in planes]) for planes in (ground, noise))
    # Where something left, the place looks restless; of that nothing is known yet.
    return seen, here, np.minimum(jitter, CALM * np.median(jitter, axis=(1, 2), keepdims=True))


def _apart(one: Float32, other: Float32, noise: Float32) -> Float32:
    """Squared difference of two pictures (3, ...) in standard deviations, over brightness and colours."""
    return (((one - other) / noise) ** 2).sum(axis=0)


def _places(away: NDArray[np.bool_]) -> Iterator[tuple[Place, Mask]]:
    """Places that look other than the ground for some pictures on end from the first one on."""
    from scipy import ndimage  # here: a start without it is a fifth of a second shorter

    shape = away.shape[1:]
    on = ndimage.binary_closing(ndimage.binary_opening(away[:LEAST_RUN].all(axis=0)), iterations=2)  # type: ignore[misc]
    label, _ = ndimage.label(on, np.ones((3, 3)))  # type: ignore[misc]
    for number, place in enumerate(ndimage.find_objects(label), 1):
        mine = label[place] == number
        if mine.sum() >= LEAST_PLACE:
            room = tuple(
                slice(max(0, s.start - RIM), min(most, s.stop + RIM)) for s, most in zip(place, shape, strict=True)
            )
            yield room, label[room] == number  # type: ignore[misc]


def _other_face(shots: Float32, order: NDArray[np.int64], away: NDArray[np.bool_], place: Place, mine: Mask) -> Float32:
    """What the place looks like at that end of the clip, (3, rows, columns): for as long as most of it does."""
    share = away[order][:, *place][:, mine].mean(axis=1)
    some = np.flatnonzero(share < OF_PLACE)
    past = int(some[0]) if len(some) else len(order)
    return np.median(shots[order[: max(past, LEAST_RUN)]][:, :, *place], axis=0)


def _is_ground(other: Float32, ground: Float32, noise: Float32, place: Place, mine: Mask) -> bool:
    """Whether the other face of a place runs on into what surrounds it, and the one taken for ground breaks off."""
    here, spread = ground[:, *place], noise[:, *place]
    taken, instead = (_along_outline(face, here, spread, mine) for face in (here, other))
    return taken >= EDGE and instead <= SMOOTHER * taken


def _along_outline(face: Float32, around: Float32, noise: Float32, mine: Mask) -> float:
    """Median contrast across an outline, in standard deviations: ``face`` just inside against ``around`` just outside.

    Rows and columns that go across the outline are looked at; at the edge of the picture there is nothing to compare.
    """
    steps: list[Float32] = []
    for axis in (1, 2):
        for turned in (slice(None), slice(None, None, -1)):
            flip = (slice(None), turned) if axis == 1 else (slice(None), slice(None), turned)
            inside, outside, spread = face[flip], around[flip], noise[flip]
            place = mine[flip[1:]]
            gap = 2 * RIM - 1
            count = place.shape[axis - 1]
            if count <= gap:
                continue
            first = [slice(None)] * 2
            later = [slice(None)] * 2
            first[axis - 1], later[axis - 1] = slice(0, count - gap), slice(gap, count)
            middle = [slice(None)] * 2
            middle[axis - 1] = slice(RIM - 1, count - gap + RIM - 1)
            # Outside, then across the outline, then inside; pixels of the outline itself are mixed and left out.
            across = ~place[*first] & ~place[*middle] & place[*later]
            apart = np.sqrt(_apart(inside[:, *later], outside[:, *first], spread[:, *first]))
            steps.append(apart[across])
    each = np.concatenate(steps) if steps else np.zeros(0, np.float32)
    return float(np.median(each)) if len(each) else 0.0


def _pictures_with(shots: Float32, other: Float32, noise: Float32, place: Place, mine: Mask) -> NDArray[np.int64]:
    """Pictures in which most of the place has that face."""
    like = [_apart(shot[:, *place], other, noise[:, *place])[mine] <= ALIKE**2 * len(other) for shot in shots]
    return np.flatnonzero([one.mean() >= OF_PLACE for one in like])


def _grown(place: Place, mine: Mask) -> tuple[Place, Mask]:
    """The place with some pixels around it, for edges are soft."""
    from scipy import ndimage  # here: a start without it is a fifth of a second shorter

    padded = np.pad(mine, AROUND)
    grown = np.asarray(ndimage.binary_dilation(padded, iterations=AROUND), np.bool_)
    y, x = place[0].start - AROUND, place[1].start - AROUND
    top, left = max(0, -y), max(0, -x)
    return (slice(y + top, y + grown.shape[0]), slice(x + left, x + grown.shape[1])), grown[top:, left:]


def _put_back(
    shots: NDArray[np.uint8], place: Place, mine: Mask, ground: Float32, noise: Float32, least: float
) -> None:
    """One plane of the place as those pictures show it, no noisier than the rest of the plane; in place."""
    usual = max(float(np.median(noise)), least)
    part, spread = ground[place], noise[place]
    rows, columns = (min(a, b) for a, b in zip(part.shape, mine.shape, strict=True))
    mine = mine[:rows, :columns]
    seen = np.median(shots[:, *place], axis=0)[:rows, :columns]
    part[:rows, :columns][mine] = seen[mine]
    calm = spread[:rows, :columns]
    calm[mine] = np.minimum(calm[mine], usual)
