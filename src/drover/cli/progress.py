"""Progress with time left, on standard error, only where a person watches."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TaskProgressColumn, TextColumn, TimeRemainingColumn

__all__ = ["ShownProgress", "shown_progress"]


class ShownProgress:
    """One progress bar."""

    def __init__(self, bar: Progress, label: str) -> None:
        self._bar = bar
        self._task = bar.add_task(label, total=None)

    def update(self, done: int, total: int) -> None:
        """Show that ``done`` of ``total`` are done."""
        self._bar.update(self._task, completed=done, total=total)


@contextmanager
def shown_progress(label: str, *, counted: bool = True) -> Iterator[ShownProgress]:
    """A progress bar for the length of the block; ``counted`` shows how many are done, else only the share is."""
    console = Console(stderr=True)
    columns = (
        TextColumn("{task.description}", markup=False),
        BarColumn(),
        MofNCompleteColumn() if counted else TaskProgressColumn(),
        TextColumn("left"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=console, transient=True, disable=not console.is_terminal) as bar:
        yield ShownProgress(bar, label)
