"""Dials of Detect: the threshold on the differences it cuts, then clean-up and size."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton

from drover.app.dials.boxes import BoxCard
from drover.app.dials.parts import Card, Folded, muted
from drover.app.dials.settings import SettingsPage
from drover.app.dials.sizes import SizePlot
from drover.app.dials.span import SpanCard
from drover.app.pictures import Pictures
from drover.app.session import Session
from drover.app.wording import worded
from drover.core.detect.background import NOISE_STEPS
from drover.core.names import grouped
from drover.core.recipe import Recipe, with_value

__all__ = ["DetectDials"]

SHOWN_LEVELS = 130
BIN = 2
MODELS = {
    "running-average": "running average",
    "running-median": "running median",
    "mixture": "mixture of faces",
    "frame-difference": "last frame",
    "three-frame-difference": "last two frames",
}


class DetectDials(SettingsPage):
    """A span to try on, threshold, size, background, light, clean-up, where to look, boxes from elsewhere."""

    area_wanted = Signal(str)
    box_wanted = Signal(str)

    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__(session)
        self.pictures = pictures
        background = "detect.background."
        self._add_threshold(background)
        self.span = SpanCard(session)
        self.column.addWidget(self.span)
        self._add_sizes()
        self._add_background(background)
        self._add_light_and_shadow()
        self._add_clean_up()
        self._add_where()
        self.boxes = BoxCard(session)
        self.column.addWidget(self.boxes)
        session.detections_changed.connect(self._show_evidence)
        session.recipe_changed.connect(self._show_evidence)
        pictures.detect_ready.connect(self._show_evidence)
        self._show_evidence()

    def _add_threshold(self, background: str) -> None:
        self.threshold_card = Card("What counts as moving")
        self.threshold = self.evidence(background + "threshold", keep_below=False, log_counts=True)
        self.noise = self.evidence(background + "noise_threshold", keep_below=False, log_counts=True)
        self.threshold_card.body.addWidget(self.threshold)
        self.threshold_card.body.addWidget(self.noise)
        words = "Pixels by their difference from the background, log scale. Bars: the clip. Line: this frame."
        self.threshold_card.body.addWidget(muted(words, wrap=True))
        self.levels_row = self.row("threshold", background + "threshold")
        self.noise_row = self.row("threshold", background + "noise_threshold")
        self.threshold_card.body.addWidget(self.levels_row)
        self.threshold_card.body.addWidget(self.noise_row)
        self.threshold_card.body.addWidget(self.row("what touches it", background + "weak_share"))
        measured = {"levels": "grey levels", "noise": "the pixel's own noise"}
        self.threshold_card.body.addWidget(self.choice("measured in", background + "threshold_in", measured))
        self.column.addWidget(self.threshold_card)

    def _add_background(self, background: str) -> None:
        card = Card("Background")
        card.body.addWidget(self.choice("kept as", background + "model", MODELS))
        looks = {"auto": "what the clip has", "grey": "brightness", "colour": "brightness and colour"}
        card.body.addWidget(self.choice("compared by", background + "look_at", looks))
        card.body.addWidget(self.row("rate", background + "rate"))
        start = {"True": "known at once", "False": "learnt on the way"}
        card.body.addWidget(self.choice("empty scene", background + "known_start", start))
        card.body.addWidget(self.row("learning at the start", background + "warm_up"))
        card.body.addWidget(self.row("what stands is kept", "detect.still.keep_for"))
        more = Folded("more")
        more.rows.addWidget(self.row("rate where it moves", background + "busy_share"))
        more.rows.addWidget(self.row("faces of a pixel", background + "components"))
        more.rows.addWidget(self.row("weight of colour", background + "colour_weight"))
        more.rows.addWidget(self.choice("ghosts", "detect.still.drop_ghosts", {"True": "drop", "False": "leave"}))
        card.body.addWidget(more)
        self.column.addWidget(card)

    def _add_light_and_shadow(self) -> None:
        card = Card("Light and shadow")
        card.body.addWidget(self.choice("changing light", "detect.light.follow", {"True": "follow", "False": "ignore"}))
        shadow = {"auto": "as the clip shows", "drop": "cut away", "keep": "mark only", "off": "not looked for"}
        card.body.addWidget(self.choice("cast shadows", "detect.shadow.mode", shadow))
        more = Folded("what is a shadow")
        more.rows.addWidget(self.row("darkest", "detect.shadow.darkest"))
        more.rows.addWidget(self.row("lightest", "detect.shadow.lightest"))
        more.rows.addWidget(self.row("sharpest rim", "detect.shadow.sharpest"))
        more.rows.addWidget(self.row("change of colour", "detect.shadow.colour_change"))
        more.rows.addWidget(self.row("report jumps from", "detect.light.jump"))
        card.body.addWidget(more)
        self.light_words = muted("", wrap=True)
        card.body.addWidget(self.light_words)
        self.column.addWidget(card)

    def _add_clean_up(self) -> None:
        card = Card("Clean-up")
        card.body.addWidget(self.row("drop specks under", "detect.cleanup.opening"))
        card.body.addWidget(self.row("close cracks under", "detect.cleanup.closing"))
        card.body.addWidget(self.row("fill holes up to", "detect.cleanup.fill_holes"))
        card.body.addWidget(self.row("join fragments within", "detect.size.join_within"))
        gather, dropped = {"True": "united", "False": "left"}, {"True": "dropped", "False": "kept"}
        card.body.addWidget(self.choice("pieces of a body", "detect.bodies.gather", gather))
        card.body.addWidget(self.choice("sparks", "detect.bodies.drop_sparks", dropped))
        card.body.addWidget(self.choice("snow, bubbles", "detect.bodies.drop_weather", dropped))
        self.column.addWidget(card)

    def _add_sizes(self) -> None:
        self.size_card = Card("")
        worded(self.session, self.size_card.heading.setText, "Size of {an} {one}")
        self.sizes = SizePlot()
        self.sizes.changing.connect(lambda *limits: self.session.preview(self._limited(limits)))
        self.sizes.changed.connect(lambda *limits: self.session.edit(self._limited(limits), "set size limits"))
        self.sizes.frame_wanted.connect(self.session.set_frame)
        self.size_card.body.addWidget(self.sizes)
        row = QHBoxLayout()
        for kind in ("near", "far"):
            button = QPushButton(f"Draw {kind} one")
            tip = f"Drag a box round one {{one}} {kind}; with near and far, limits follow the distance."
            worded(self.session, button.setToolTip, tip)
            button.clicked.connect(lambda _=False, kind=kind: self.box_wanted.emit(kind))
            row.addWidget(button)
        self.forget = QPushButton("Forget")
        self.forget.setToolTip("The same limits everywhere again.")
        self.forget.clicked.connect(self._forget_boxes)
        row.addWidget(self.forget)
        row.addStretch(1)
        self.size_card.body.addLayout(row)
        self.size_card.body.addWidget(self.row("least area", "detect.size.least_area"))
        self.size_card.body.addWidget(self.row("most area", "detect.size.most_area"))
        self.size_card.body.addWidget(self.row("for frames this wide", "detect.size.for_width"))
        more = Folded("width, height and shape")
        for label, name in (
            ("least width", "least_width"), ("most width", "most_width"), ("least height", "least_height"),
            ("most height", "most_height"), ("least width / height", "least_aspect"),
            ("most width / height", "most_aspect"),
        ):  # fmt: skip
            more.rows.addWidget(self.row(label, f"detect.size.{name}"))
        self.size_card.body.addWidget(more)
        self.column.addWidget(self.size_card)

    def _limited(self, limits: tuple[float, ...]) -> Recipe:
        """The recipe with the four limits of the size plot."""
        recipe = self.session.recipe
        for name, value in zip(("least_width", "least_height", "most_width", "most_height"), limits, strict=True):
            recipe = with_value(recipe, f"detect.size.{name}", value)
        return recipe

    def _forget_boxes(self) -> None:
        recipe = with_value(self.session.recipe, "detect.size.near_box", None)
        self.session.edit(with_value(recipe, "detect.size.far_box", None), "forget near and far")

    def _add_where(self) -> None:
        card = Card("Where to look")
        row = QHBoxLayout()
        for text, kind in (("Ignore an area", "ignore"), ("Only inside", "include")):
            button = QPushButton(text)
            button.setToolTip("Click its corners on the field; Enter or a click on the first corner closes it.")
            button.clicked.connect(lambda _=False, kind=kind: self.area_wanted.emit(kind))
            row.addWidget(button)
        row.addStretch(1)
        card.body.addLayout(row)
        card.body.addWidget(
            self.choice("a detection lies", "detect.where.by", {"foot": "where its foot is", "area": "by area"})
        )
        self.column.addWidget(card)

    _sizes_shown: tuple[object, ...] = (None, None, None, None)

    def _show_evidence(self) -> None:
        detect, now = self.session.detect, self.pictures.detect
        in_noise = self.session.recipe.detect.background.threshold_in == "noise"
        for widget, shown in ((self.threshold, not in_noise), (self.levels_row, not in_noise),
                              (self.noise, in_noise), (self.noise_row, in_noise)):  # fmt: skip
            widget.setVisible(shown)
        edges = np.arange(1, SHOWN_LEVELS + 1, BIN).astype(float)
        clip = _binned(detect.histogram) if detect is not None else np.zeros(len(edges) - 1)
        frame = _binned(now.histogram) if now is not None and now.ready else None
        if in_noise:
            self.noise.show_evidence(edges / NOISE_STEPS, clip, frame)
        else:
            self.threshold.show_evidence(edges, clip, frame)
        noise = detect.noise if detect is not None else None
        self.threshold.show_marker(noise, f"noise {noise:.1f}" if noise is not None else "")
        self.noise.show_marker(1.0 if noise is not None else None, "noise")
        size = self.session.recipe.detect.size
        self.sizes.show_limits(size)
        self.forget.setEnabled(size.near_box is not None or size.far_box is not None)
        if detect is not None and self.session.clip is not None:
            stamp = (detect.detections, size.near_box, size.far_box, size.for_width)
            if any(a is not b and a != b for a, b in zip(stamp[1:], self._sizes_shown[1:], strict=True)) or (
                stamp[0] is not self._sizes_shown[0]
            ):
                self._sizes_shown = stamp
                clip = self.session.clip
                self.sizes.show_blobs(detect, self.session.recipe.detect, (clip.width, clip.height))
        if detect is not None:
            self.threshold_card.note.setText(f"{grouped(len(detect.detections))} boxes")
            self.light_words.setText(f"{self._jumps()} {self._shadows()}".strip())
            self.show_taken("detect", detect.taken)

    def _shadows(self) -> str:
        """What was taken for shadow where that was left to the clip, in words."""
        detect = self.session.detect
        if detect is None or detect.taken is None or self.session.recipe.detect.shadow.mode != "auto":
            return ""
        rule = detect.taken.shadow
        if rule.mode == "off":
            return "The footage is grey: nothing is taken for shadow."
        kept = f"{100 * rule.darkest:.0f} to {100 * rule.lightest:.0f} % of the light"
        rim = "" if rule.sharpest >= 1 else f", with no rim sharper than {100 * rule.sharpest:.0f} %"
        return f"Taken for shadow: what keeps {kept}{rim}."

    def _jumps(self) -> str:
        """When the light of the whole picture jumped, in words."""
        detect, clip = self.session.detect, self.session.clip
        if detect is None or clip is None or not self.session.recipe.detect.light.follow:
            return ""
        if not detect.jumps:
            return "The light never jumped."
        first = [f"{clip.times[at]:.1f} s ({100 * (by - 1):+.0f} %)" for at, by in detect.jumps[:4]]
        more = f" and {len(detect.jumps) - 4} more" if len(detect.jumps) > 4 else ""
        return f"The light jumped and was evened out at {', '.join(first)}{more}."


def _binned(histogram: np.ndarray) -> np.ndarray:
    """Level 0 is left out: most pixels have it and it says nothing."""
    kept = histogram[1:SHOWN_LEVELS].astype(float)
    return kept[: len(kept) // BIN * BIN].reshape(-1, BIN).sum(axis=1)
