"""What the stage tiles say, made from the session."""

from __future__ import annotations

from drover.app.session import Session
from drover.app.strip import TileFacts
from drover.core.count.tallies import tally
from drover.core.names import grouped
from drover.core.types import TrackState

__all__ = ["tile_facts"]


def tile_facts(session: Session, stage: str, progress: float | None) -> TileFacts:
    """Headline, detail, cost and state of one stage on the current frame."""
    state = session.state_of(stage)
    made = {"footage": _footage, "detect": _detect, "track": _track, "count": _count, "score": _score}[stage](session)
    headline, detail, cost = made
    return TileFacts(headline, detail, cost, state, progress if stage == "detect" else None)


def _ms(value: float) -> str:
    if value < 0.01:
        return "<0.01 ms"
    return f"{value:.2f} ms" if value < 1 else f"{value:.1f} ms"


def _footage(session: Session) -> tuple[str, str, str]:
    clip = session.clip
    if clip is None:
        return "no clip", "open one to start", ""
    return f"{clip.rate:.4g} fps", f"{clip.width} × {clip.height} px", ""


def _detect(session: Session) -> tuple[str, str, str]:
    detect, clip = session.detect, session.clip
    if detect is None or clip is None:
        return "-", "nothing found yet", ""
    rows = detect.detections.rows_of(session.frame)
    n = rows.stop - rows.start
    total = f"{grouped(len(detect.detections))} in the clip"
    return f"{n} box" if n == 1 else f"{n} boxes", total, _ms(detect.ms_per_frame)


def _track(session: Session) -> tuple[str, str, str]:
    tracks = session.tracks
    if tracks is None:
        return "-", "nothing linked yet", ""
    state = tracks.state[tracks.rows_of(session.frame)]
    coasting = int((state == TrackState.COASTING).sum())
    seen = len(state) - coasting
    headline = f"{seen} + {coasting} hidden" if coasting else f"{seen} seen"
    cost = _ms(1000 * session.engine.link_seconds / max(1, tracks.frame_count))
    return headline, f"{len(tracks.paths.identity)} identities", cost


def _count(session: Session) -> tuple[str, str, str]:
    crossings = session.crossings
    if not session.recipe.count.line:
        return "no line", "press L to draw one", ""
    if crossings is None or not len(crossings.line_names):
        return "-", "nothing counted yet", ""
    totals = [tally(crossings, n) for n in range(len(crossings.line_names))]
    forward, back = sum(t.identities_forward for t in totals), sum(t.identities_back for t in totals)
    passages = sum(t.passages for t in totals)
    name = totals[0].line if len(totals) == 1 else f"{len(totals)} lines"
    frames = session.tracks.frame_count if session.tracks else 1
    return (
        f"{forward} on, {back} back",
        f"{name} · {passages} passages",
        _ms(1000 * session.engine.count_seconds / max(1, frames)),
    )


def _score(session: Session) -> tuple[str, str, str]:
    score = session.score
    if session.truth is None:
        return "no truth", "load truth to score", ""
    if score is None:
        return "-", "not scored yet", ""
    switches = score.clear.id_switches
    words = f"{switches} switch" if switches == 1 else f"{switches} switches"
    detail = words if score.counts is None else f"error {score.counts.count_error} · {words}"
    cost = _ms(1000 * session.engine.scoring.seconds / max(1, session.clip.frame_count)) if session.clip else ""
    return f"IDF1 {100 * score.identity.idf1:.1f} %", detail, cost
