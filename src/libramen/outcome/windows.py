"""Windows of which width suit a stretch of a replay, and which stretch of it is the worst."""

from __future__ import annotations

from typing import Final

import numpy as np

from libramen.outcome.outcome import Outcome
from libramen.trace.trace import Trace

_WIDTHS_S: Final = (1.0, 2.0, 5.0, 10.0, 15.0, 30.0, 60.0, 120.0, 300.0, 600.0, 900.0, 1800.0, 3600.0)
_ENOUGH: Final = 40
"""Requests in nine of ten windows, so that a percentile is not that of single requests."""
_MOST_WINDOWS: Final = 1500


def window_for(trace: Trace, from_s: float, to_s: float) -> float:
    """Windows as narrow as nine of ten of them hold requests enough, and as there is room for in a picture [s]."""
    at_s = trace.at_s
    at_s = at_s[np.searchsorted(at_s, from_s) : np.searchsorted(at_s, to_s)] - from_s
    for width_s in _WIDTHS_S:
        n = (to_s - from_s) / width_s
        if n > _MOST_WINDOWS or (n > _MOST_WINDOWS / 4 and width_s < 60):
            continue
        counts = np.bincount((at_s / width_s).astype(np.int64), minlength=1)
        held = counts[counts > 0]
        if n <= 24 or (len(held) and np.quantile(held, 0.1) >= _ENOUGH):
            return width_s
    return _WIDTHS_S[-1]


def worst_stretch(outcome: Outcome) -> tuple[float, float, str]:
    """A stretch with the most requests that failed, or were late; else the busiest: from, to [s], and what it is."""
    length_s = min(3600.0, max(900.0, outcome.span_s // (24 * 300) * 300))
    results = outcome.run.kept
    bad = results.ending != 0
    what = "most failures"
    if not bad.any():
        limits = [float(goal.wanted) for goal in outcome.objectives if goal.is_latency and goal.name == goal.key]
        bad = results.latency_s > min(limits) if limits else bad
        what = "most late"
    if not bad.any():
        bad, what = np.ones(len(bad), bool), "busiest"
    minutes = np.bincount((outcome.trace.at_s[bad] / 60).astype(np.int64), minlength=int(outcome.span_s / 60) + 1)
    in_length = np.convolve(minutes, np.ones(int(length_s / 60)), mode="valid")
    # Of equals the one in the middle, so that what happened is not at an edge.
    best = np.flatnonzero(in_length >= in_length.max())
    first = 60.0 * float(best[len(best) // 2])
    return first, min(outcome.span_s, first + length_s), what
