"""Small live pictures of what each stage puts out on the current frame."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from drover.app.session import Session
from drover.app.strip import StageTile
from drover.app.theme import FIELD, MOSS, OCHRE, colour, identity_colour
from drover.core.types import TrackState

__all__ = ["count_thumbnail", "detect_thumbnail", "refresh", "score_thumbnail", "small_picture", "track_thumbnail"]

WIDTH, HEIGHT = 184, 108


def small_picture(picture: QImage | None) -> QImage:
    """The frame itself, small."""
    if picture is None or picture.isNull():
        return _blank()
    return picture.scaled(
        WIDTH, HEIGHT, Qt.AspectRatioMode.IgnoreAspectRatio, Qt.TransformationMode.SmoothTransformation
    ).convertToFormat(QImage.Format.Format_RGB32)


def _blank() -> QImage:
    image = QImage(WIDTH, HEIGHT, QImage.Format.Format_RGB32)
    image.fill(QColor(FIELD))
    return image


def _scale(session: Session) -> tuple[float, float]:
    clip = session.clip
    return (WIDTH / clip.width, HEIGHT / clip.height) if clip else (1.0, 1.0)


def detect_thumbnail(session: Session, frame: int) -> QImage:
    """Blobs in white on black."""
    image = _blank()
    if session.detect is None:
        return image
    image.fill(QColor("#0E1311"))
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    sx, sy = _scale(session)
    found = session.detect.detections
    rows = found.rows_of(frame)
    for row in range(rows.start, rows.stop):
        runs = found.runs_of(row)
        if len(runs) == 0:
            x1, y1, x2, y2 = map(float, found.box[row])
            painter.setPen(QColor("#FFFFFF"))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(x1 * sx, y1 * sy, (x2 - x1) * sx, (y2 - y1) * sy))
            continue
        for y, x0, x1 in runs.tolist():
            painter.fillRect(QRectF(x0 * sx, y * sy, max(1.0, (x1 - x0) * sx), max(sy, 0.35)), QColor("#F2F1EC"))
    painter.end()
    return image


def track_thumbnail(session: Session, frame: int, picture: QImage) -> QImage:
    """The dimmed frame with each identity in its colour."""
    image = picture.copy()
    painter = QPainter(image)
    painter.fillRect(image.rect(), colour(FIELD, 120))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    sx, sy = _scale(session)
    tracks = session.tracks
    if tracks is not None:
        rows = tracks.rows_of(frame)
        for row in range(rows.start, rows.stop):
            x1, y1, x2, y2 = map(float, tracks.box[row])
            tint = QColor(identity_colour(int(tracks.identity[row])))
            coasting = tracks.state[row] == TrackState.COASTING
            painter.setPen(QPen(tint, 1.5, Qt.PenStyle.DashLine if coasting else Qt.PenStyle.SolidLine))
            painter.setBrush(Qt.BrushStyle.NoBrush if coasting else tint)
            painter.drawEllipse(QRectF(x1 * sx, y1 * sy, (x2 - x1) * sx, (y2 - y1) * sy))
    painter.end()
    return image


def count_thumbnail(session: Session, picture: QImage) -> QImage:
    """The frame with its lines, and a dot for every crossing so far."""
    image = picture.copy()
    painter = QPainter(image)
    painter.fillRect(image.rect(), colour(FIELD, 90))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    sx, sy = _scale(session)
    for line in session.recipe.count.line:
        points = QPolygonF([QPointF(x * WIDTH, y * HEIGHT) for x, y in line.points])
        painter.setPen(QPen(QColor("#FFFFFF"), 2.5))
        painter.drawPolyline(points)
    crossings, clip = session.crossings, session.clip
    if crossings is not None and clip is not None:
        past = crossings.time <= clip.times[session.frame]
        painter.setPen(Qt.PenStyle.NoPen)
        for k in np.flatnonzero(past).tolist():
            painter.setBrush(QColor(identity_colour(int(crossings.identity[k]))))
            painter.drawEllipse(QPointF(float(crossings.x[k]) * sx, float(crossings.y[k]) * sy), 3, 3)
    painter.end()
    return image


def score_thumbnail(session: Session) -> QImage:
    """Tracked against true objects along the clip, with a mark at each identity switch."""
    image = _blank()
    tracks, truth = session.tracks, session.truth
    if tracks is None or truth is None or truth.frame_count == 0:
        return image
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    true = np.bincount(_frames(truth.frame_start)[truth.consider], minlength=truth.frame_count).astype(float)
    counted = np.diff(tracks.frame_start).astype(float)
    top = max(1.0, true.max(initial=1), counted.max(initial=1)) * 1.15
    for values, tint, width in ((true, MOSS, 5.0), (counted, OCHRE, 2.2)):
        painter.setPen(QPen(QColor("#5FA287" if tint == MOSS else "#E0A550"), width))
        painter.drawPolyline(_curve(values, truth.frame_count, top))
    if session.score is not None:
        painter.setPen(QPen(QColor("#E8714A"), 2))
        for at in session.score.switch_frames.tolist():
            x = at / truth.frame_count * WIDTH
            painter.drawLine(QPointF(x, HEIGHT - 12), QPointF(x, HEIGHT - 2))
    painter.end()
    return image


def _frames(start: np.ndarray) -> np.ndarray:
    return np.repeat(np.arange(len(start) - 1), np.diff(start))


def _curve(values: np.ndarray, frames: int, top: float) -> QPolygonF:
    bins = np.array_split(values, min(60, max(1, len(values))))
    width = len(values) / max(1, frames) * WIDTH
    means = [float(part.mean()) if len(part) else 0.0 for part in bins]
    last = max(1, len(means) - 1)
    return QPolygonF([QPointF(k / last * width, HEIGHT - 4 - m / top * (HEIGHT - 10)) for k, m in enumerate(means)])


def refresh(tiles: dict[str, StageTile], session: Session, frame: int, picture: QImage | None) -> None:
    """Show on every tile what its stage puts out on this frame."""
    if session.clip is None:
        return
    small = small_picture(picture)
    tiles["footage"].thumbnail = small
    tiles["detect"].thumbnail = detect_thumbnail(session, frame)
    tiles["track"].thumbnail = track_thumbnail(session, frame, small)
    tiles["count"].thumbnail = count_thumbnail(session, small)
    tiles["score"].thumbnail = score_thumbnail(session)
    for tile in tiles.values():
        tile.update()
