"""The same worlds at other sizes and rates: ``python -m drover.bench.variants`` prints the table and writes a page.

A clip taken at half or twice the size, or at another number of pictures a second, must give the same counts. Each
variant is drawn anew from the same world and kept in the cache folder.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from drover.bench.worlds import WorldFigures, measure_world, world_folder
from drover.core.simulate.worlds.casting import Options

__all__ = ["VARIANTS", "main"]

CHOSEN = ("lane", "yard-lamp", "dusty", "track-road")
VARIANTS = {
    "as it is": {},
    "half the size": {"width": 320},
    "twice the size": {"width": 1280},
    "12.5 pictures/s": {"rate": 12.5},
    "50 pictures/s": {"rate": 50.0},
}
ALLOWED = 0.02  # of the counts

HEAD = """# The same at other sizes and rates

Made by `.venv/bin/python -m drover.bench.variants --seed {seed}`: each world is drawn anew at another size or number of
pictures a second, and worked through with no dial touched. Counts must not differ by more than 2 % from those of the
world as it is.

| world | variant | F1 | IDF1 | counted | true | count errors |
| --- | --- | --- | --- | --- | --- | --- |
"""


def row_of(variant: str, one: WorldFigures) -> str:
    """A row of the table."""
    return (
        f"| {one.name} | {variant} | {one.f1:.3f} | {one.idf1:.3f} | {one.counted} | {one.true_total} | "
        f"{one.count_error} |"
    )


def main() -> None:
    """Print the table, say whether the promise holds, and write both to a page."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench.variants", description=main.__doc__)
    parser.add_argument("--seed", type=int, default=4, help="which of the worlds' seeds")
    parser.add_argument("--out", type=Path, default=Path("docs/variants.md"), help="page to write")
    given = parser.parse_args()
    rows, totals = [], dict.fromkeys(VARIANTS, 0)
    for name in CHOSEN:
        for variant, options in VARIANTS.items():
            one = measure_world(name, world_folder(name, Options(seed=given.seed, **options)))
            totals[variant] += one.counted
            rows.append(row_of(variant, one))
            print(rows[-1], flush=True)
    usual = totals["as it is"]
    told = []
    for variant, total in totals.items():
        apart = abs(total - usual) / max(1, usual)
        held = (
            ""
            if variant == "as it is"
            else f", {100 * apart:.0f} % apart: {'held' if apart <= ALLOWED else 'NOT HELD'}"
        )
        told.append(f"- {variant}: {total} counted{held}")
    tail = "\n" + "\n".join(told) + "\n"
    print(tail)
    given.out.write_text(HEAD.format(seed=given.seed) + "\n".join(rows) + "\n" + tail, encoding="utf-8")
    print(f"written to {given.out}")


if __name__ == "__main__":
    main()
