"""What a batch's processes share: loaded once, kernels included, before the first of them is forked.

Nothing here is called by anybody. It is named to the process from which they are forked, which imports it and then
waits; each of them would need a second or two for that otherwise, and memory of its own.
"""

from __future__ import annotations

from drover.core.batch import worker
from drover.core.live_warming import warm_live
from drover.core.recipe import Recipe

__all__ = ["worker"]

warm_live(Recipe())
