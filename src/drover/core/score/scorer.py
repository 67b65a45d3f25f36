"""The Score stage: all measures of one result."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.recipe import ScoreSettings
from drover.core.score.clear import ClearScore, clear_score
from drover.core.score.counts import CountScore, count_score
from drover.core.score.hota import HotaScore, hota_score
from drover.core.score.identity import IdentityScore, identity_score
from drover.core.score.pairs import find_pairs
from drover.core.types import Crossings, LabelledRows, Truth

__all__ = ["VERSION", "Score", "score_tracks"]

VERSION = 2


@dataclass(frozen=True)
class Score:
    """Every measure of one result against its truth.

    ``switch_frames`` (n,) int64 and ``switch_identities`` (n,) int64 tell where true identities changed hands.
    """

    clear: ClearScore
    identity: IdentityScore
    hota: HotaScore
    counts: CountScore | None
    switch_frames: NDArray[np.int64]

    def as_dict(self) -> dict[str, float | int]:
        """The keys and kinds of ``score.json``."""
        clear, identity, hota = self.clear, self.identity, self.hota
        out: dict[str, float | int] = {
            "hota": hota.hota, "deta": hota.deta, "assa": hota.assa, "loca": hota.loca,
            "mota": clear.mota, "motp": clear.motp,
            "idf1": identity.idf1, "idp": identity.idp, "idr": identity.idr,
            "precision": clear.precision, "recall": clear.recall,
            "tp": clear.tp, "fp": clear.fp, "fn": clear.fn,
            "id_switches": clear.id_switches, "fragmentations": clear.fragmentations,
            "mostly_tracked": clear.mostly_tracked, "partly_tracked": clear.partly_tracked,
            "mostly_lost": clear.mostly_lost,
        }  # fmt: skip
        out = {key: round(value, 6) if isinstance(value, float) else value for key, value in out.items()}
        if self.counts is not None:
            out |= {"count_error": self.counts.count_error, "true_total": self.counts.true_total}
        return out


def score_tracks(
    tracks: LabelledRows,
    truth: Truth,
    settings: ScoreSettings,
    *,
    crossings: Crossings | None = None,
    true_crossings: Crossings | None = None,
) -> Score:
    """Score tracks against truth, and counts where true crossings are known."""
    pairs = find_pairs(truth, tracks, least_overlap=settings.least_overlap)
    clear = clear_score(pairs, settings.least_overlap)
    counts = None
    if crossings is not None and true_crossings is not None:
        counts = count_score(crossings, true_crossings)
    return Score(
        clear=clear,
        identity=identity_score(pairs, settings.least_overlap),
        hota=hota_score(pairs),
        counts=counts,
        switch_frames=np.sort(pairs.truth_frame[clear.switch_rows]),
    )
