"""A clip written anew with the camera's motion taken out: held against one picture, or only its shaking calmed."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from drover.core.camera.canvas import lay_on
from drover.core.camera.motion import CameraMotion
from drover.core.errors import DroverError
from drover.core.features.models import apply, inverse, local_scale
from drover.core.footage.writer import ClipWriter
from drover.core.footage_types import ClipInfo
from drover.core.gone_through import gone_through
from drover.core.progress import IsCancelled, OnProgress, never, quiet

__all__ = ["STEADY_WAYS", "calmed_views", "held_views", "steadied_picture", "write_steadied"]

Float = NDArray[np.float64]
SteadyWay = Literal["hold", "calm"]
STEADY_WAYS: dict[SteadyWay, str] = {
    "hold": "held against one picture: the ground stands still",
    "calm": "the camera's own way stays, its shaking goes",
}
CALM_OVER = 0.8  # s, standard deviation, over which a camera's way is smoothed
RIM = 32.0  # level of what a picture does not reach


def held_views(motion: CameraMotion, reference: int) -> Float:
    """(frames, 3, 3): from each picture to the one of frame ``reference``; other shots to their own first one."""
    out = motion.to_scene.copy()
    same = motion.shot == motion.shot[reference]
    out[same] = inverse(motion.to_scene[reference]) @ out[same]
    return out


def calmed_views(motion: CameraMotion, times: Float) -> Float:
    """(frames, 3, 3): from each picture to where it would be had the camera gone its way without shaking.

    Place, turn and zoom are smoothed over time by a Gaussian, each shot for itself.
    """
    middle = np.array([[motion.size[0] / 2, motion.size[1] / 2]])
    out = np.empty_like(motion.to_scene)
    for shot in np.unique(motion.shot):
        rows = np.flatnonzero(motion.shot == shot)
        views = motion.to_scene[rows]
        place = apply(views, middle)[:, 0]
        zoom = np.log([local_scale(view, middle)[0] for view in views])
        turn = np.unwrap(np.arctan2(views[:, 1, 0], views[:, 0, 0]))
        span = float(np.median(np.diff(times[rows]))) if len(rows) > 1 else 1.0
        curves = np.column_stack([place, zoom, turn])
        smooth = ndimage.gaussian_filter1d(curves, max(CALM_OVER / max(span, 1e-3), 1e-3), axis=0, mode="nearest")
        for k, row in enumerate(rows.tolist()):
            c, s = np.exp(smooth[k, 2]) * np.cos(smooth[k, 3]), np.exp(smooth[k, 2]) * np.sin(smooth[k, 3])
            calm = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
            calm[:2, 2] = smooth[k, :2] - calm[:2, :2] @ middle[0]
            out[row] = inverse(calm) @ views[k]
    return out


def steadied_picture(rgb: NDArray[np.uint8], view: Float) -> NDArray[np.uint8]:
    """A picture (height, width, 3) taken along by ``view`` (3, 3); what it does not reach is dark."""
    back = inverse(view)
    planes = np.ascontiguousarray(np.moveaxis(rgb, -1, 0))
    ground, out = np.full(rgb.shape[:2], RIM, np.float32), np.empty_like(planes)
    for plane in range(3):
        lay_on(planes[plane], back, ground, out[plane])
    return np.ascontiguousarray(np.moveaxis(out, 0, -1))


def write_steadied(
    clip: ClipInfo,
    motion: CameraMotion,
    path: Path,
    *,
    way: SteadyWay = "hold",
    reference: int = 0,
    on_progress: OnProgress = quiet,
    cancelled: IsCancelled = never,
) -> int:
    """Write the clip steadied, to MP4 or WebM; how many pictures.

    Raises
    ------
    DroverError
        When there is no such picture to hold it against.
    FootageError
        When the clip cannot be read or the file not written.
    Cancelled
        When told to stop on the way; nothing is left then.
    """
    if not 0 <= reference < len(motion):
        raise DroverError(f"there is no picture {reference + 1} to hold the clip against; it has {len(motion)}")
    views = held_views(motion, reference) if way == "hold" else calmed_views(motion, clip.times)
    width, height = clip.width // 2 * 2, clip.height // 2 * 2
    draft = path.with_name(f".{path.stem}-draft{path.suffix}")
    done = 0
    try:
        with (
            closing(gone_through(clip, "write", on_progress, cancelled, rgb=True)) as frames,
            ClipWriter(draft, width=width, height=height, rate=clip.rate, quality=20, called=path) as writer,
        ):
            for frame in frames:
                if frame.index >= len(views):
                    break
                writer.add(np.ascontiguousarray(steadied_picture(frame.rgb, views[frame.index])[:height, :width]))
                done += 1
        draft.replace(path)
    finally:
        draft.unlink(missing_ok=True)
    return done
