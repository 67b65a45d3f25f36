"""Names and numbers as they are shown: names from files are one line of plain text, large numbers have gaps."""

from __future__ import annotations

import re

__all__ = ["MOST_NAME", "grouped", "natural_order", "plain_name"]

MOST_NAME = 80  # characters


def plain_name(value: object) -> str:
    """A name as it may be shown: without control characters, cut where it is far too long."""
    text = value if isinstance(value, str) else str(value)[: MOST_NAME + 1]
    return "".join(c if c.isprintable() else " " for c in text[:MOST_NAME]).strip()


def grouped(number: int) -> str:
    """A whole number with a gap before every three digits."""
    return f"{number:,}".replace(",", " ")


def natural_order(name: str) -> list[tuple[int, int, str]]:
    """Key by which names sort as a person would count them: clip 2 comes before clip 10."""
    parts = re.split(r"(\d+)", name.casefold())
    return [(1, int(part[:18]), part) if part.isdecimal() and part.isascii() else (0, 0, part) for part in parts]
