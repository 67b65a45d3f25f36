"""The ground held still while the picture moves about: the field as a steadied video has it.

Everything is drawn as ever, and then laid where it is in the scene, so letters keep their size and what is drawn with
the mouse goes the same way back.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF
from PySide6.QtGui import QTransform

from drover.app.field.view_transform import ViewTransform
from drover.core.camera.motion import CameraMotion

__all__ = ["STILL", "laid_view", "moved_back", "scene_transform"]

STILL = "Steady"
Float = NDArray[np.float64]


def laid_view(view: ViewTransform, motion: CameraMotion | None) -> ViewTransform:
    """The view by which a picture is drawn before it is moved: so small that the whole scene has room in ``view``."""
    return view if motion is None else replace(view, zoom=view.zoom * _share(view, motion))


def scene_transform(view: ViewTransform, motion: CameraMotion | None, frame: int) -> QTransform:
    """From widget px by :func:`laid_view` to where the picture of that frame lies in the scene, within ``view``."""
    if motion is None or len(motion) == 0:
        return QTransform()
    shift, (wide, tall) = motion.place
    share = _share(view, motion)
    fit = np.diag([share, share, 1.0])
    fit[:2, 2] = (view.picture_width - share * wide) / 2, (view.picture_height - share * tall) / 2
    there = fit @ shift @ motion.to_scene[min(frame, len(motion) - 1)]
    m = _matrix(view) @ there @ np.linalg.inv(_matrix(laid_view(view, motion)))
    return QTransform(*(float(value) for value in m.T.ravel()))


def moved_back(transform: QTransform, point: QPointF) -> QPointF:
    """The place on the widget from which such a transform takes to ``point``."""
    back, there = transform.inverted()
    return back.map(point) if there else point


def _share(view: ViewTransform, motion: CameraMotion) -> float:
    """Of its own size that a picture has where the whole scene is as large as a picture."""
    _, (wide, tall) = motion.place
    return min(view.picture_width / max(wide, 1), view.picture_height / max(tall, 1))


def _matrix(view: ViewTransform) -> Float:
    """From picture px to widget px, (3, 3)."""
    at = view.to_widget(0.0, 0.0)
    return np.array([[view.scale, 0.0, at.x()], [0.0, view.scale, at.y()], [0.0, 0.0, 1.0]])
