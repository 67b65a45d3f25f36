"""Names that come from files: one line of plain text, never markup, never without end."""

from __future__ import annotations

__all__ = ["MOST_NAME", "plain_name"]

MOST_NAME = 80  # characters


def plain_name(value: object) -> str:
    """A name as it may be shown: without control characters, cut where it is far too long."""
    text = value if isinstance(value, str) else str(value)[: MOST_NAME + 1]
    return "".join(c if c.isprintable() else " " for c in text[:MOST_NAME]).strip()
