"""How far doubts can be trusted: ``python -m drover.bench.doubt`` prints the tables and writes docs/doubt.md.

Scenes are drawn once and kept in the cache folder. With ``--fit`` the chances are fitted anew to the scenes that are
for that; the page holds the figures of others, which the fit never saw.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

from drover.bench.camera import moving_folder
from drover.bench.scenes import scene_folder
from drover.bench.worlds import world_folder
from drover.core.count.audit import Audit
from drover.core.doubt.bounds import all_bounds, crossing_doubts
from drover.core.doubt.chance import FARTHEST, chance_of
from drover.core.doubt.moments import EVIDENCE, Moments, evidence_of
from drover.core.doubt.true_errors import hits_of, true_errors
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import read_recipe
from drover.core.run import run_clip
from drover.core.score.crossing_match import match_crossings
from drover.core.simulate.farm import build_scene
from drover.core.simulate.worlds.casting import Options
from drover.core.simulate.worlds.scenes import WORLDS
from drover.core.types import Crossings

__all__ = ["main"]

FARM = ("crossing", "canopy", "ewe-and-lamb", "rest", "muster")
FIT_SEEDS, FIT_FARM, HELD_SEED = (1, 2, 3), 101, 5
CALM = 20.0  # weight of the squares of the weights: evidence that says little gets little
BINS = (0.0, 0.02, 0.05, 0.1, 0.2, 0.4, 0.6, 0.8, 1.0001)
WEIGHTS = Path(__file__).parents[1] / "data" / "doubt.json"

HEAD = """# Doubt: how far it can be trusted

Made by `.venv/bin/python -m drover.bench.doubt`. A moment's doubt is the chance that an identity is wrong there. It
was fitted (`--fit`) to worlds of seeds 1 to 3 and farm scenes of seed 101; all figures here are of scenes held
back: worlds of seed 5, the farm's own seeds, and the two scenes of moving cameras with seeds of their own and 41. An
error is a body that goes on under another number, a number that goes on on another body, or a number that lies on
nothing; what happens within a second to the same ones is one error.

"""


@dataclass(frozen=True)
class Held:
    """What a scene says: its moments with their evidence, which moment is about which error, and its crossings."""

    name: str
    moments: Moments
    evidence: NDArray[np.float64]
    hits: NDArray[np.bool_]
    times: NDArray[np.float64]
    crossings: Crossings
    true: Crossings

    @property
    def wrong(self) -> NDArray[np.bool_]:
        """(moments,) whether an error is there."""
        return self.hits.any(axis=1)


def _scenes(held: bool) -> Iterator[tuple[str, str, Path]]:
    """What a scene is called, its clip's name, its folder."""
    for name in WORLDS:
        for seed in (HELD_SEED,) if held else FIT_SEEDS:
            if not name.startswith("empty"):
                yield f"{name}, seed {seed}", name, world_folder(name, Options(seed=seed))
    for name in FARM:
        seed = None if held else FIT_FARM
        tag = name if seed is None else f"{name}-{seed}"
        yield f"{name}, {'own seed' if held else f'seed {seed}'}", tag, scene_folder(tag, _farm(name, seed))
    if held:
        for name, seed in (("sway", None), ("sway", 41), ("drone", None), ("drone", 41)):
            yield f"{name}, {'own seed' if seed is None else f'seed {seed}'}", name, moving_folder(name, seed)


def _farm(name: str, seed: int | None) -> Callable[[], object]:
    return lambda: build_scene(name, seed=seed)


def _look_at(name: str, folder: Path) -> Held:
    with ClipReader(next(folder.glob("*.mp4"))) as reader:
        clip = reader.info
    truth = read_truth(folder / "truth.csv", frame_count=clip.frame_count)
    run = run_clip(clip, read_recipe(folder / "recipe.toml"))
    moments, evidence = evidence_of(run.tracks, clip.times, run.crossings, look=run.detect.detections.look)
    errors = true_errors(run.tracks, truth, clip.times)
    hits = hits_of(moments, errors, clip.times)
    return Held(name, moments, evidence, hits, clip.times, run.crossings, read_crossings(folder / "crossings.csv"))


def _doubted(held: Held) -> Moments:
    m = held.moments
    return Moments(m.frames, m.kind, chance_of(held.evidence), m.identities, m.counted)


# --- the fit --------------------------------------------------------------------------------------------------


def fit(scenes: list[Held]) -> dict[str, object]:
    """The table of data/doubt.json: logistic regression with small weights, and how counts follow from doubts."""
    evidence, wrong = np.concatenate([s.evidence for s in scenes]), np.concatenate([s.wrong for s in scenes])
    middle, spread = evidence.mean(axis=0), evidence.std(axis=0) + 1e-3
    z = np.column_stack([np.clip((evidence - middle) / spread, -FARTHEST, FARTHEST), np.ones(len(evidence))])

    def cost(weights: NDArray[np.float64]) -> tuple[float, NDArray[np.float64]]:
        odds = z @ weights
        small = np.append(weights[:-1], 0.0)
        loss = (np.logaddexp(0, odds) - wrong * odds).sum() + CALM * (small**2).sum()
        return float(loss), z.T @ (1 / (1 + np.exp(-odds)) - wrong) + 2 * CALM * small

    weights = minimize(cost, np.zeros(z.shape[1]), jac=True, method="L-BFGS-B", options={"maxiter": 1000}).x
    chance = 1 / (1 + np.exp(-(z @ weights)))
    errors = sum(s.hits.shape[1] for s in scenes)
    false, squares, missed, crossings, at = 0, 0.0, 0, 0, 0
    for scene in scenes:
        m = scene.moments
        doubts = Moments(m.frames, m.kind, chance[at : at + len(m)], m.identities, m.counted)
        at += len(m)
        matched = match_crossings(scene.crossings, scene.true)
        missed += len(matched.of("missed"))
        false += len(matched.errors) - len(matched.of("missed"))
        open_ = np.zeros(len(m), np.int8)
        squares += float((crossing_doubts(scene.crossings, doubts, open_, scene.times) ** 2).sum())
        crossings += len(scene.crossings) + 2
    rows = zip(EVIDENCE, middle, spread, weights[:-1], strict=True)
    return {
        "evidence": {name: [round(float(v), 4) for v in of] for name, *of in rows},
        "nothing": round(float(weights[-1]), 4),
        "errors_per_doubt": round(errors / max(float(chance.sum()), 1e-9), 3),
        "false_by_doubt": round(false / max(squares, 1e-9), 3),
        "missed_per_crossing": round(missed / max(crossings, 1), 4),
    }


# --- the page -------------------------------------------------------------------------------------------------


def _reach_rows(scenes: list[Held]) -> tuple[list[str], str]:
    lines = ["| scene | errors | moments | looked at | errors met | by all |", "| --- | --- | --- | --- | --- | --- |"]
    met = of = 0
    for scene in scenes:
        errors = scene.hits.shape[1]
        first = max(10, 3 * errors)
        order = np.argsort(-chance_of(scene.evidence), kind="stable")
        here = int(scene.hits[order[:first]].any(axis=0).sum())
        met, of = met + here, of + errors
        lines.append(
            f"| {scene.name} | {errors} | {len(order)} | {min(first, len(order))} | {here} | "
            f"{int(scene.hits.any(axis=0).sum())} |"
        )
    share = met / max(of, 1)
    words = f"- {met} of {of} errors ({100 * share:.0f} %) within the first max(10, 3 x errors) moments, promised 80 %"
    return lines, f"{words}: {'held' if share >= 0.8 else 'NOT HELD'}"


def _reliability_rows(scenes: list[Held]) -> list[str]:
    doubt = np.concatenate([chance_of(s.evidence) for s in scenes])
    wrong = np.concatenate([s.wrong for s in scenes])
    lines = ["| doubt said | moments | mean doubt | truly wrong | |", "| --- | --- | --- | --- | --- |"]
    for low, high in zip(BINS, BINS[1:], strict=False):
        mine = (doubt >= low) & (doubt < high)
        if mine.any():
            said, true = float(doubt[mine].mean()), float(wrong[mine].mean())
            bar = "#" * round(40 * true)
            lines.append(
                f"| {100 * low:.0f} to {100 * min(high, 1):.0f} % | {int(mine.sum())} | {100 * said:.0f} % | "
                f"{100 * true:.0f} % | `{bar}` |"
            )
    brier, plain = float(((doubt - wrong) ** 2).mean()), float(wrong.mean() * (1 - wrong.mean()))
    return [*lines, "", f"Mean squared error of the doubt (Brier 1950) {brier:.3f}; of one number for all {plain:.3f}."]


def _bound_rows(scenes: list[Held]) -> tuple[list[str], str]:
    lines = ["| scene | counted | bounds | true | |", "| --- | --- | --- | --- | --- |"]
    held = 0
    for scene in scenes:
        moments, inside = _doubted(scene), True
        parts: list[tuple[str, str, str]] = []
        open_ = np.zeros(len(moments), np.int8)
        for (name, way), b in all_bounds(scene.crossings, moments, open_, scene.times, Audit()).items():
            names = scene.true.line_names
            line = names.index(name) if name in names else -1
            true = int(((scene.true.line == line) & (scene.true.direction == way)).sum())
            inside &= b.low <= true <= b.high
            parts.append((str(b.count), f"{b.low} to {b.high}", str(true)))
        held += inside
        cells = (", ".join(column) for column in zip(*parts, strict=True))
        lines.append(f"| {scene.name} | {' | '.join(cells)} | {'' if inside else 'outside'} |")
    share = held / max(len(scenes), 1)
    words = f"- bounds of nine in ten hold on {held} of {len(scenes)} scenes ({100 * share:.0f} %), promised 85 %"
    return lines, f"{words}: {'held' if share >= 0.85 else 'NOT HELD'}"


def main() -> None:
    """Print the tables and write them to a page; with ``--fit`` write the fitted chances first."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench.doubt", description=main.__doc__)
    parser.add_argument("--fit", action="store_true", help="fit the chances anew to the scenes that are for that")
    parser.add_argument("--out", type=Path, default=Path("docs/doubt.md"), help="page to write")
    given = parser.parse_args()
    if given.fit:
        table = fit([_look_at(name, folder) for name, _, folder in _scenes(held=False)])
        WEIGHTS.write_text(json.dumps(table, indent=1) + "\n", encoding="utf-8")
        print(f"written to {WEIGHTS}; run again without --fit for the page")
        return
    scenes = [_look_at(name, folder) for name, _, folder in _scenes(held=True)]
    (reach, first), (bounds, second) = _reach_rows(scenes), _bound_rows(scenes)
    lines = [
        "Errors met by whoever looks at the most doubtful moments only.", "", *reach, "",
        "Reliability: of moments with a doubt between two values, how many are truly wrong.", "",
        *_reliability_rows(scenes), "",
        "Counts and their bounds, forward and back; a scene holds where all its totals lie inside.", "", *bounds, "",
        first, second,
    ]  # fmt: skip
    print("\n".join(lines))
    given.out.write_text(HEAD + "\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
