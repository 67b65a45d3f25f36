"""Names and numbers as they are shown: names from files are one line of plain text, large numbers have gaps."""

from __future__ import annotations

__all__ = ["MOST_NAME", "grouped", "plain_name"]

MOST_NAME = 80  # characters


def plain_name(value: object) -> str:
    """A name as it may be shown: without control characters, cut where it is far too long."""
    text = value if isinstance(value, str) else str(value)[: MOST_NAME + 1]
    return "".join(c if c.isprintable() else " " for c in text[:MOST_NAME]).strip()


def grouped(number: int) -> str:
    """A whole number with a gap before every three digits."""
    return f"{number:,}".replace(",", " ")
