"""Counts and scores as tables on standard output."""

from __future__ import annotations

from rich import box
from rich.console import Console
from rich.table import Table

from drover.core.count.tallies import tally
from drover.core.score.scorer import Score
from drover.core.types import Crossings

__all__ = ["print_count_table", "print_score_table"]


def _table(title: str, *columns: str) -> Table:
    table = Table(title=title, box=box.SIMPLE_HEAD, title_justify="left", title_style="bold")
    table.add_column(columns[0])
    for name in columns[1:]:
        table.add_column(name, justify="right")
    return table


def print_count_table(crossings: Crossings, truth: Crossings | None, what: str = "objects") -> None:
    """Totals by line: each identity once a direction, beside the true totals where known."""
    columns = ["line", "direction", "identities", "passages"]
    table = _table(f"Counts of {what}", *columns, *(["true identities"] if truth is not None else []))
    for number, name in enumerate(crossings.line_names):
        counted = tally(crossings, number)
        true = None
        if truth is not None and name in truth.line_names:
            true = tally(truth, truth.line_names.index(name))
        rows = (("forward", counted.identities_forward, counted.forward, true and true.identities_forward),
                ("back", counted.identities_back, counted.back, true and true.identities_back))  # fmt: skip
        for direction, identities, passages, known in rows:
            extra = [] if truth is None else ["-" if known is None else str(known)]
            table.add_row(name, direction, str(identities), str(passages), *extra)
    Console(highlight=False, markup=False, emoji=False).print(table)


def print_score_table(score: Score) -> None:
    """Every measure, one a row."""
    table = _table("Score", "measure", "value")
    names = {"id_switches": "identity switches", "count_error": "count error", "true_total": "true total"}
    for key, value in score.as_dict().items():
        label = names.get(
            key,
            key.upper() if key in {"mota", "motp", "idf1", "idp", "idr", "hota"} else key.replace("_", " "),
        )
        table.add_row(label, f"{value:.3f}" if isinstance(value, float) else str(value))
    Console(highlight=False, markup=False, emoji=False).print(table)
