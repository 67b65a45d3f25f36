"""Colours, type and style, in one place. Light or dark is chosen by the preferences as the program starts."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication, QToolTip, QWidget

from drover.app.preferences import preferences

__all__ = [
    "ALARM", "BASE", "CHOSEN_COLOURS", "CLAY", "DAY", "EDGE", "FAINT", "FIELD", "GROUND", "IDENTITY_COLOURS", "INK",
    "MOSS", "MUTED", "MUTED_TEXT", "NIGHT", "OCHRE", "ON_MOSS", "PAPER", "RULE", "SHADOW", "STONE", "TINT", "TROUGH",
    "apply_theme", "colour", "dress", "identity_colour", "number_font",
]  # fmt: skip

# One name, one use: what stands on what is legible in both (text on its ground at least 4.5 : 1).
_NAMES = ("STONE", "PAPER", "BASE", "INK", "MUTED", "MUTED_TEXT", "RULE", "EDGE", "FAINT", "TINT", "TROUGH", "GROUND",
          "MOSS", "CLAY", "OCHRE", "ALARM", "ON_MOSS")  # fmt: skip
_LIGHT = ("#ECEAE4", "#F7F5F0", "#FFFFFF", "#23302C", "#6E7B75", "#5A6761", "#D5D1C6", "#C5C1B5", "#A9AFAA", "#DDE7E1",
          "#DAD7CD", "#F1EEE7", "#2F6B55", "#B5482F", "#C8862A", "#F6E3DB", "#FFFFFF")  # fmt: skip
_DARK = ("#232B28", "#2B3431", "#1B2220", "#E9E6DD", "#8E9B95", "#AEB9B3", "#3B4642", "#4C5953", "#6B7771", "#35504A",
         "#3A4541", "#222A27", "#4C9A7D", "#E98B6C", "#D89A45", "#4A2E26", "#0F1A16")  # fmt: skip
_CHOSEN = dict(zip(_NAMES, _DARK if preferences().theme == "dark" else _LIGHT, strict=True))
STONE, PAPER, BASE, INK = (_CHOSEN[name] for name in ("STONE", "PAPER", "BASE", "INK"))
MUTED, MUTED_TEXT = _CHOSEN["MUTED"], _CHOSEN["MUTED_TEXT"]  # small text needs the second, farther from its ground
RULE, EDGE, FAINT, TINT = (_CHOSEN[name] for name in ("RULE", "EDGE", "FAINT", "TINT"))
TROUGH, GROUND = _CHOSEN["TROUGH"], _CHOSEN["GROUND"]  # under progress bars, under plots
MOSS, CLAY, OCHRE, ALARM, ON_MOSS = (_CHOSEN[name] for name in ("MOSS", "CLAY", "OCHRE", "ALARM", "ON_MOSS"))
# Over footage colours do not follow the theme: a picture is as bright as it is.
NIGHT, DAY, FIELD = "#23302C", "#F7F5F0", "#1F2623"
SHADOW = "#5B7FD0"  # pixels taken for a cast shadow

# Twelve that stay apart for colour-blind eyes by lightness as well as hue, and stand out on grass.
IDENTITY_COLOURS = (
    "#F0A63C", "#62B6E8", "#EC93B6", "#B7DB74", "#B39AF0", "#E8714A",
    "#49C9B1", "#F2E06A", "#7F97F2", "#DB7FD6", "#D9B48A", "#C4E6F2",
)  # fmt: skip


@lru_cache(maxsize=1024)
def colour(name: str, alpha: int = 255) -> QColor:
    """A colour with transparency 0..255; shared, and not to be changed."""
    out = QColor(name)
    out.setAlpha(alpha)
    return out


CHOSEN_COLOURS: dict[int, str] = {}  # by identity, those that somebody gave it; one window at a time has them


def identity_colour(identity: int) -> str:
    """The colour of an identity, the same wherever it is shown."""
    if identity in CHOSEN_COLOURS:
        return CHOSEN_COLOURS[identity]
    return IDENTITY_COLOURS[(identity - 1) % len(IDENTITY_COLOURS)]


@lru_cache(maxsize=64)
def number_font(size: int = 12, *, bold: bool = False) -> QFont:
    """A font whose digits all have one width, so that numbers do not dance; not to be changed by who asks for it."""
    font = QFont(QApplication.font())
    font.setPixelSize(size)
    font.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


def apply_theme(app: QApplication) -> None:
    """Load the fonts and set the style of the whole program."""
    for path in sorted((Path(__file__).parent / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(path))
    font = QFont("Inter")
    font.setPixelSize(12)
    app.setFont(font)
    number_font.cache_clear()
    app.setStyle("Fusion")
    app.setPalette(_palette())
    QToolTip.setPalette(_palette(tip=True))
    QToolTip.setFont(font)


def dress(window: QWidget) -> None:
    """Give a finished window its style: once, as every widget that joins a styled window is styled anew each time."""
    window.setStyleSheet(_SHEET)


def _palette(*, tip: bool = False) -> QPalette:
    """Plain colours, for all that needs no rule of its own."""
    role, out = QPalette.ColorRole, QPalette(QColor(STONE))
    text, ground = (DAY, NIGHT) if tip else (INK, STONE)
    for part, name in (
        (role.Window, ground), (role.WindowText, text), (role.Base, BASE), (role.AlternateBase, PAPER),
        (role.Text, INK), (role.Button, PAPER), (role.ButtonText, INK), (role.ToolTipBase, NIGHT),
        (role.ToolTipText, DAY), (role.Highlight, MOSS), (role.HighlightedText, ON_MOSS),
        (role.PlaceholderText, MUTED_TEXT),
    ):  # fmt: skip
        out.setColor(part, QColor(name))
    for part in (role.WindowText, role.Text, role.ButtonText):
        out.setColor(QPalette.ColorGroup.Disabled, part, QColor(FAINT))
    return out


_DOWN = (Path(__file__).parent / "signs" / "down.svg").as_posix()
_SHEET = f"""
QMainWindow, QDialog, QMessageBox {{ background: {STONE}; }}
QMenuBar {{ background: {PAPER}; padding: 1px 4px; }}
QMenuBar::item {{ padding: 4px 9px; border-radius: 4px; background: transparent; }}
QMenuBar::item:selected {{ background: {STONE}; }}
QMenu {{ background: {PAPER}; border: 1px solid {RULE}; padding: 4px; }}
QMenu::item {{ padding: 5px 26px 5px 14px; border-radius: 4px; }}
QMenu::item:selected {{ background: {TINT}; }}
QMenu::item:disabled {{ color: {FAINT}; }}
QMenu::separator {{ height: 1px; background: {RULE}; margin: 4px 8px; }}
QToolTip {{ background: {NIGHT}; color: {DAY}; border: 0; padding: 5px 7px; }}
QStatusBar {{ background: {STONE}; border-top: 1px solid {RULE}; }}
QStatusBar::item {{ border: 0; }}
QScrollArea, QScrollArea > QWidget > QWidget {{ background: {STONE}; border: 0; }}
QScrollBar:vertical {{ background: transparent; width: 10px; margin: 2px; }}
QScrollBar::handle:vertical {{ background: {EDGE}; border-radius: 3px; min-height: 28px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ background: none; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: none; height: 0; }}
QPushButton, QToolButton {{
    background: {PAPER}; border: 1px solid {EDGE}; border-radius: 5px; padding: 4px 10px; min-height: 16px;
}}
QPushButton:hover, QToolButton:hover {{ border-color: {MOSS}; }}
QPushButton:pressed, QToolButton:pressed {{ background: {TINT}; }}
QPushButton:focus, QToolButton:focus {{ border-color: {MOSS}; }}
QPushButton:disabled, QToolButton:disabled {{ color: {FAINT}; }}
QPushButton[primary="true"] {{ background: {MOSS}; color: {ON_MOSS}; border-color: {MOSS}; font-weight: 600; }}
QPushButton[primary="true"]:hover {{ background: #3A7D64; }}
QPushButton[primary="true"]:disabled {{ background: {FAINT}; border-color: {FAINT}; color: {PAPER}; }}
QPushButton[flat="true"] {{ background: transparent; border-color: transparent; color: {MUTED_TEXT}; }}
QPushButton[flat="true"]:hover {{ color: {INK}; border-color: {RULE}; }}
QComboBox, QDoubleSpinBox, QSpinBox, QLineEdit {{
    background: {BASE}; border: 1px solid {EDGE}; border-radius: 4px; padding: 2px 6px; min-height: 18px;
    selection-background-color: {MOSS}; selection-color: {ON_MOSS};
}}
QComboBox:focus, QDoubleSpinBox:focus, QSpinBox:focus, QLineEdit:focus {{ border-color: {MOSS}; }}
QComboBox::drop-down {{ border: 0; width: 18px; }}
QComboBox::down-arrow {{ image: url({_DOWN}); width: 10px; height: 10px; }}
QComboBox QAbstractItemView {{
    background: {BASE}; border: 1px solid {RULE}; selection-background-color: {TINT}; selection-color: {INK};
}}
QDoubleSpinBox::up-button, QDoubleSpinBox::down-button, QSpinBox::up-button, QSpinBox::down-button {{ width: 0; }}
QLabel[role="muted"] {{ color: {MUTED_TEXT}; }}
QLabel[role="title"] {{ font-weight: 600; }}
QFrame[role="card"] {{ background: {PAPER}; border: 1px solid {RULE}; border-radius: 6px; }}
QFrame[role="card"] QLabel {{ background: transparent; }}
QProgressBar {{ background: {TROUGH}; border: 0; border-radius: 3px; max-height: 6px; min-height: 6px; }}
QProgressBar::chunk {{ background: {MOSS}; border-radius: 3px; }}
QTableView {{ background: {BASE}; border: 1px solid {RULE}; selection-background-color: {TINT};
    selection-color: {INK}; }}
QTableView::item {{ padding: 0 8px; }}
QHeaderView::section {{
    background: {PAPER}; border: 0; border-bottom: 1px solid {RULE}; padding: 4px 8px; color: {MUTED_TEXT};
}}
QSplitter::handle {{ background: {RULE}; }}
"""
