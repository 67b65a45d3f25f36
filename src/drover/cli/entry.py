"""Start of the ``drover`` program: quick, so that even the first key is heard."""

from __future__ import annotations

import os
import sys

__all__ = ["main"]


def main() -> None:
    """Run the program; a stop while it still starts is one plain line like any other."""
    try:
        from drover.cli.main import main as run

        run()
    except KeyboardInterrupt:
        os.write(2, b"drover: stopped\n")
        sys.exit(1)
