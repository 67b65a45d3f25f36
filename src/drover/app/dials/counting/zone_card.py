"""One zone: who is inside now, its totals, and what raises an alarm."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton

from drover.app.dials.counting.item import ItemCard
from drover.app.dials.parts import Folded, muted
from drover.app.session import Session
from drover.core.count.zones import inside_now, zone_totals
from drover.core.recipe import ZoneSettings

__all__ = ["ZoneCard"]

BY = {
    "foot": "its foot is", "centre": "its centre is", "top": "its top is", "left": "its left side is",
    "right": "its right side is", "area": "enough of it is",
}  # fmt: skip


class ZoneCard(ItemCard):
    """Name, who is inside, figures, limits."""

    kind = "zone"
    model = ZoneSettings

    def __init__(self, session: Session, number: int) -> None:
        super().__init__(session, number, "Zone")
        self.add_text("name", "name")
        self.add_choice("inside when", "inside_by", lambda: BY)
        self.inside = QLabel("")
        self.inside.setWordWrap(True)
        self.inside.setAccessibleName("inside now")
        self.body.addWidget(self.inside)
        self.totals = muted("", wrap=True)
        self.totals.setAccessibleName("zone totals")
        self.body.addWidget(self.totals)
        more = Folded("rule and alarms")
        self.add_points(more.rows)
        self.add_number("share by area", "least_share", more.rows)
        self.add_text("classes", "classes", more.rows, "Classes that count, parted by commas; empty counts all.")
        stands = {"scene": "the scene", "picture": "the picture"}
        self.add_choice("stands in", "fixed_to", lambda: stands, more.rows)
        self.add_number("bridges", "bridge", more.rows)
        self.add_number("alarm after", "longest_stay", more.rows)
        self.add_number("alarm above", "most_inside", more.rows)
        self.add_number("alarm faster than", "top_speed", more.rows)
        self.body.addWidget(more)
        row = QHBoxLayout()
        self.double, self.drop = QPushButton("Copy"), QPushButton("Remove")
        self.double.clicked.connect(self.copy)
        self.drop.clicked.connect(self.remove)
        row.addWidget(self.double)
        row.addWidget(self.drop)
        row.addStretch(1)
        self.body.addLayout(row)
        self.refresh()

    def refresh(self) -> None:
        """Show the zone as it is now."""
        self.show_item()
        counted, clip = self.session.counted, self.session.clip
        if counted is None or clip is None or self.number >= len(counted.visits.zone_names):
            return
        t = zone_totals(counted.visits, self.number, clip.times)
        self.totals.setText(
            f"{t.entered} entered, {t.left} left, {t.identities} identities; most at once {t.most_inside} "
            f"at {t.most_at:.1f} s; inside for {t.mean_dwell:.1f} s on average, {t.longest_dwell:.1f} s at most"
        )
        self.show_inside()

    def show_inside(self) -> None:
        """Who is inside on the frame shown."""
        counted, clip = self.session.counted, self.session.clip
        if counted is None or clip is None or self.number >= len(counted.visits.zone_names):
            return
        now = inside_now(counted.visits, self.number, float(clip.times[self.session.frame]))
        self.note.setText(f"{len(now)} inside")
        who = ", ".join(map(str, now[:12])) + (" …" if len(now) > 12 else "")
        self.inside.setText(f"inside now: {who}" if now else "nobody inside now")
