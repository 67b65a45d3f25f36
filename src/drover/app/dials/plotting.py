"""The plotting library in the program's colours; loaded with the first page that has a plot."""

from __future__ import annotations

import pyqtgraph as pg

from drover.app.theme import MUTED, PAPER

__all__ = ["pg"]

pg.setConfigOptions(antialias=True, background=PAPER, foreground=MUTED)
