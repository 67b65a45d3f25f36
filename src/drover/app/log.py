"""The log: what the program was told and what went wrong, in a file that the Help menu shows. It holds no secrets."""

from __future__ import annotations

import logging
import sys
import threading
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType

import platformdirs

from drover.core.run_files import versions

__all__ = ["begin_log", "log_path", "logger"]

MOST_BYTES, KEPT = 1 << 20, 3  # a file of a megabyte, and three before it
logger = logging.getLogger("drover")


def log_path() -> Path:
    """Where the log is."""
    return Path(platformdirs.user_log_dir("drover")) / "drover.log"


def begin_log() -> None:
    """Write to the log from now on, faults that nobody caught among it; where it cannot be written, do without."""
    path = log_path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(path, maxBytes=MOST_BYTES, backupCount=KEPT, encoding="utf-8", delay=False)
    except OSError:
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    logger.addHandler(handler)
    logger.setLevel(logging.INFO)
    logger.propagate = False
    logger.info("started: %s", ", ".join(f"{name} {number}" for name, number in versions().items()))
    before = sys.excepthook

    def on_fault(kind: type[BaseException], fault: BaseException, trace: TracebackType | None) -> None:
        logger.error("a fault that nobody caught", exc_info=(kind, fault, trace))
        before(kind, fault, trace)

    sys.excepthook = on_fault
    threading.excepthook = lambda told: logger.error(
        "a fault on thread %s", told.thread.name if told.thread else "?",
        exc_info=(told.exc_type, told.exc_value, told.exc_traceback) if told.exc_value else None,
    )  # fmt: skip
