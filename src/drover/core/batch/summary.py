"""One table and one page over all clips of a batch."""

from __future__ import annotations

import csv
from collections.abc import Iterable
from html import escape
from pathlib import Path

from drover.core.batch.outcome import Outcome
from drover.core.errors import DroverError

__all__ = ["summary_columns", "summary_rows", "write_summary"]

TABLE, PAGE = "batch.csv", "batch.html"
WORDS = {"waiting": "not begun", "working": "not finished", "done": "done", "failed": "failed"}


def summary_columns(outcomes: Iterable[Outcome]) -> list[str]:
    """The columns of the table: facts of the clip, then passages forward and back of every line."""
    lines = list(dict.fromkeys(name for outcome in outcomes for name in outcome.counts))
    facts = ["clip", "state", "frames", "seconds", "identities"]
    return [*facts, *(f"{name} {way}" for name in lines for way in ("forward", "back")), "results", "reason"]


def summary_rows(outcomes: Iterable[Outcome]) -> list[dict[str, str | int]]:
    """A row for each clip; one that is not done has no figures."""
    rows = []
    for outcome in outcomes:
        row: dict[str, str | int] = {
            "clip": str(outcome.job.clip), "state": WORDS[outcome.state], "reason": outcome.reason,
            "results": str(outcome.job.folder),
        }  # fmt: skip
        if outcome.state == "done":
            row |= {"frames": outcome.frames, "seconds": f"{outcome.duration:.1f}", "identities": outcome.identities}
            for name, (forward, back) in outcome.counts.items():
                row |= {f"{name} forward": forward, f"{name} back": back}
        rows.append(row)
    return rows


def write_summary(outcomes: tuple[Outcome, ...], out: Path) -> list[Path]:
    """Write ``batch.csv`` and ``batch.html`` into a folder, whole or not at all.

    Raises
    ------
    DroverError
        When the folder cannot be written.
    """
    columns, rows = summary_columns(outcomes), summary_rows(outcomes)
    table, page = out / TABLE, out / PAGE
    try:
        draft = table.with_name(f".{TABLE}.draft")
        with draft.open("w", encoding="utf-8", newline="") as file:
            writer = csv.DictWriter(file, columns, restval="", lineterminator="\n")
            writer.writeheader()
            writer.writerows(rows)
        draft.replace(table)
        draft = page.with_name(f".{PAGE}.draft")
        draft.write_text(_page(outcomes, columns, rows), encoding="utf-8")
        draft.replace(page)
    except OSError as error:
        raise DroverError(f"{out}: cannot be written ({error.strerror}); free some space and run it again") from error
    return [table, page]


def _page(outcomes: tuple[Outcome, ...], columns: list[str], rows: list[dict[str, str | int]]) -> str:
    done = sum(outcome.state == "done" for outcome in outcomes)
    failed = sum(outcome.state == "failed" for outcome in outcomes)
    shown = [name for name in columns if name != "results"]
    head = "".join(f"<th>{escape(name)}</th>" for name in shown)
    body = "\n".join(
        f'<tr class="{"failed" if row["state"] == WORDS["failed"] else "done"}">'
        + "".join(f"<td>{escape(str(row.get(name, '')))}</td>" for name in shown)
        + "</tr>"
        for row in rows
    )
    return f"""<!doctype html>
<html lang="en"><meta charset="utf-8"><title>Batch of {len(outcomes)} clips</title>
<style>
body {{ font: 15px/1.45 Inter, sans-serif; background: #F7F5F0; color: #23302C; margin: 2rem; }}
table {{ border-collapse: collapse; }} th, td {{ padding: .25rem .8rem .25rem 0; text-align: left; }}
th {{ border-bottom: 1px solid #D5D1C6; font-weight: 600; }} tr.failed td {{ color: #B5482F; }}
svg text {{ font: 12px Inter, sans-serif; fill: #23302C; }}
</style>
<h1>Batch of {len(outcomes)} clips</h1>
<p>{done} done, {failed} failed, {len(outcomes) - done - failed} not finished.</p>
{_chart(outcomes)}
<table><thead><tr>{head}</tr></thead><tbody>
{body}
</tbody></table></html>
"""


def _chart(outcomes: tuple[Outcome, ...]) -> str:
    """Bars of what was counted in every clip, forward and back of all lines; of identities where there is no line."""
    done = [outcome for outcome in outcomes if outcome.state == "done"]
    if not done:
        return ""
    lines = any(outcome.counts for outcome in done)
    bars = [
        (outcome.job.folder.name, *(sum(ways[k] for ways in outcome.counts.values()) for k in (0, 1)))
        if lines
        else (outcome.job.folder.name, outcome.identities, 0)
        for outcome in done
    ]
    most, high, name_wide, wide = max(1, *(one + other for _, one, other in bars)), 18, 220, 560
    drawn = []
    for k, (name, one, other) in enumerate(bars):
        y, first = k * (high + 6), one * wide / most
        label = name if len(name) <= 30 else f"{name[:14]} … {name[-13:]}"
        said = f"{one} forward, {other} back" if lines else f"{one} identities"
        drawn.append(
            f'<text x="0" y="{y + 14}">{escape(label)}</text>'
            f'<rect x="{name_wide}" y="{y}" width="{first:.1f}" height="{high}" fill="#2F6B55"/>'
            f'<rect x="{name_wide + first:.1f}" y="{y}" width="{other * wide / most:.1f}" height="{high}" '
            f'fill="#C8862A"/><text x="{name_wide + (one + other) * wide / most + 8:.1f}" y="{y + 14}">{said}</text>'
        )
    tall = len(bars) * (high + 6)
    return (
        f'<svg width="{name_wide + wide + 200}" height="{tall}" role="img" '
        f'aria-label="What was counted in each clip">{"".join(drawn)}</svg>'
    )
