"""The plotting library in the program's colours; loaded with the first page that has a plot."""

from __future__ import annotations

import pyqtgraph as pg

from drover.app.theme import GROUND, MUTED, PAPER, RULE, colour, number_font

__all__ = ["PLAIN", "dress_plot", "pg", "small_plot"]

pg.setConfigOptions(antialias=True, background=PAPER, foreground=MUTED)
# The library's own menu would cost a fifth of a plot's making, and is no part of this program.
PLAIN = {"background": GROUND, "enableMenu": False}


def small_plot(*, letters: int = 10) -> pg.PlotWidget:
    """A plot that shows, and is neither moved nor asked; its numbers in letters of so many px."""
    plot = pg.PlotWidget(**PLAIN)
    dress_plot(plot, letters=letters)
    return plot


def dress_plot(plot: pg.PlotWidget, *, letters: int = 10) -> None:
    """The program's numbers and colours on a plot's axes, and none of the library's own handles."""
    plot.hideButtons()
    plot.setMouseEnabled(False, False)
    for side in ("left", "bottom"):
        axis = plot.getAxis(side)
        axis.setTickFont(number_font(letters))
        axis.setPen(colour(RULE))
        axis.setTextPen(MUTED)
