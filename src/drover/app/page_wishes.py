"""What is wished on the pages of the dials and carried out by the window."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from drover.app.window import MainWindow

__all__ = ["connect_page"]


def connect_page(window: MainWindow, name: str) -> None:
    """A page of the panel was built: what is wished there is carried out from now on."""
    dials = window.dials
    if name == "detect":
        dials.detect.boxes.wanted.connect(window.asking.boxes)
        dials.detect.box_wanted.connect(window.start_box)
        dials.detect.area_wanted.connect(window.start_area)
    elif name == "track":
        dials.track.exits.area_wanted.connect(window.start_area)
        dials.track.links_wanted.connect(window.hands.show_links)
        dials.track.filter_wanted.connect(window.hands.show_filter)
        dials.track.review_wanted.connect(window.hands.show_review)
        dials.track.follow.box_wanted.connect(window.start_box)
        dials.track.follow.picture_wanted.connect(window.things.ask_picture)
    elif name == "footage":
        dials.footage.camera.pair_wanted.connect(window.exports.ask_pair)
        dials.footage.camera.steady_wanted.connect(window.exports.ask_steady)
    elif name == "count":
        dials.count.new_line_wanted.connect(window.new_line)
        dials.count.new_zone_wanted.connect(window.new_zone)
        dials.count.over_time.table_wanted.connect(window.exports.ask_intervals)
        dials.count.ground.points_wanted.connect(window.start_area)
        window.field.areas.ground_picked = dials.count.ground.take_points
    elif name == "score":
        dials.score.truth_wanted.connect(window.asking.truth)
