"""Start of the ``drover`` program: quick, so that even the first key is heard."""

from __future__ import annotations

import gc
import os
import sys

from drover import __version__

__all__ = ["main"]


def main() -> None:
    """Run the program; a stop while it still starts is one plain line like any other."""
    from drover.cli.display import open_window, window_wanted
    from drover.cli.stopping import asked_to_stop, end_at_stops, hear_stops

    try:
        end_at_stops()
        gc.disable()  # what is loaded now stays: looking through it again and again takes a tenth of the start
        if sys.argv[1:] == ["--version"]:  # needs nothing loaded
            print(f"drover {__version__}")
            sys.exit(0)
        wanted = window_wanted(sys.argv[1:])
        if wanted is not None:
            sys.exit(open_window(wanted))
        from drover.cli.main import main as run

        gc.freeze()
        gc.enable()
        hear_stops()
        run()
    except KeyboardInterrupt:
        os.write(2, b"drover: stopped\n")
        sys.exit(1)
    except SystemExit as end:
        if not end.code and asked_to_stop():  # the interrupt was swallowed on the way, and the work came to its end
            os.write(2, b"drover: was asked to stop, but all was done by then\n")
            sys.exit(1)
        raise
