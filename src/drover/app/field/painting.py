"""The picture of the field and what is laid over it, as the chips say."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtGui import QColor, QPainter

from drover.app.field import overlays
from drover.app.field.futures_layer import draw_ahead, draw_futures
from drover.app.field.scene import draw_results
from drover.app.images import grey_image, mask_image
from drover.app.theme import OCHRE, SHADOW

if TYPE_CHECKING:
    from drover.app.field.view import Field

__all__ = ["draw_overlays", "draw_picture"]


def draw_picture(painter: QPainter, field: Field) -> None:
    """The footage, or what Detect makes of it where that is switched on."""
    rect = field.laid.picture_rect()
    picture, detect = field.pictures.frame, field.layers.detect
    if "Background" in field.shown and detect is not None:
        painter.drawImage(rect, grey_image(detect.background))
    elif "Difference" in field.shown and detect is not None:
        painter.drawImage(rect, grey_image(detect.difference))
    elif picture is not None:
        painter.drawImage(rect, picture.image)
    else:
        painter.fillRect(rect, QColor("#2B3331"))


def draw_overlays(painter: QPainter, field: Field) -> None:
    """Masks, results, the futures of a moment and a forecast ahead."""
    session, view, frame = field.results, field.laid, field.drawn_frame
    painter.setClipRect(view.picture_rect())
    if session.detect is not None:
        if "Mask" in field.shown:
            _draw_mask(painter, field, frame)
        pictures = field.layers.detect
        if "Raw mask" in field.shown and pictures is not None and pictures.frame == frame:
            painter.drawImage(view.picture_rect(), mask_image(pictures.raw, OCHRE, 170))
        if "Shadow" in field.shown and pictures is not None and pictures.frame == frame:
            painter.drawImage(view.picture_rect(), mask_image(pictures.shadow, SHADOW, 170))
    clip, own = field.session.clip, session is field.session
    if clip is not None:
        gates = field.notes.notes if field.notes.frame == frame and own else ()
        chosen = field.session.selected
        draw_results(painter, view, field.scene(clip), field.shown, frame, field.layer, gates=gates, chosen=chosen)
        if field.moment is not None and own and field.session.tracks is not None:
            draw_futures(painter, view, field.session.tracks, clip.times, field.moment, field.moment_partner)
        if field.ahead is not None and own:
            draw_ahead(painter, view, field.ahead)
    painter.setClipping(False)


def _draw_mask(painter: QPainter, field: Field, frame: int) -> None:
    """The cleaned mask: as a dial would have it now where that is known, else as it was found."""
    detect, session = field.layers.detect, field.results
    if detect is not None and detect.frame == frame and session.recipe.detect != session.detect_settings:
        painter.drawImage(field.laid.picture_rect(), mask_image(detect.clean, OCHRE, 150))
        return
    assert session.detect is not None
    overlays.draw_mask(painter, field.laid, session.detect.detections, frame)
