"""What is compiled beforehand is all that a usual clip needs; what meets another kind of array compiles anew."""

from __future__ import annotations

import subprocess
import sys

SCRIPT = """
import gc
from numba.core.dispatcher import Dispatcher
from drover.core.doubt.moments import find_moments
from drover.core.examples import example
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_truth
from drover.core.kernels import warm_kernels
from drover.core.live import LiveRun
from drover.core.live_warming import warm_live
from drover.core.recipe import read_recipe
from drover.core.run import run_clip

def kinds():
    made = [one for one in gc.get_objects() if isinstance(one, Dispatcher)]
    return {(one.py_func.__name__, str(kind)) for one in made for kind in one.nopython_signatures}

chosen = example("gap-short")
recipe = read_recipe(chosen.recipe)
warm_live(recipe)
before = kinds()
with ClipReader(chosen.clip) as reader:
    clip, live = reader.info, LiveRun(recipe, (reader.info.width, reader.info.height), reader.info.rate)
    for index in range(0, 250, 2):
        live.step(reader.frame(index))
new = kinds() - before
compiled = {one.py_func.__name__ for one in gc.get_objects() if isinstance(one, Dispatcher) and one.stats.cache_misses}
print(len(before) > 40 and len(new) < 9 or sorted(new), compiled or "none compiled")
warm_kernels()
before = kinds()
run = run_clip(clip, recipe, truth=read_truth(chosen.truth, frame_count=clip.frame_count))
found = run.detect.detections
for look in (found.look.copy(), found.frozen().look):  # just made, and as it comes from the store
    assert len(find_moments(run.tracks, clip.times, run.crossings, look=look))
assert len(before) > 100
print(sorted({name for name, _ in kinds() - before}))
"""


def test_nothing_is_compiled_when_a_clip_is_worked_through_and_live_little_is_even_loaded():
    ended = subprocess.run([sys.executable, "-c", SCRIPT], capture_output=True, text=True, check=False)
    assert ended.stdout.split("\n")[:2] == ["True none compiled", "[]"], ended.stdout + ended.stderr
