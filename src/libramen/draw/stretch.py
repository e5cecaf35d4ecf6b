"""Which stretch of a replay a picture shows, and in windows of which width."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from libramen.base import units
from libramen.base.errors import ReplayError
from libramen.draw.style import times_of
from libramen.outcome.outcome import Outcome
from libramen.outcome.stretch import StretchFigures
from libramen.report.prose import clock

_WIDTHS_S: Final = (1.0, 2.0, 5.0, 10.0, 15.0, 30.0, 60.0, 120.0, 300.0, 600.0, 900.0, 1800.0, 3600.0)
_ENOUGH: Final = 40
"""Requests in nine of ten windows, so that a percentile is not that of single requests."""
_MOST_WINDOWS: Final = 1500
_LONG_S: Final = 3 * 3600.0
"""From so long a trace on, its worst stretch is shown beside it."""


class Stretch(NamedTuple):
    """A stretch of a replay as it is drawn.

    Attributes:
        outcome: the replay, in windows of the right width.
        from_s, to_s: the stretch [s].
        width_s: of the windows [s].
        name: what it is called; "": it is the whole.
        asked: what came of it, where it alone is shown, since somebody asked for it.
    """

    outcome: Outcome
    from_s: float
    to_s: float
    width_s: float
    name: str = ""
    asked: StretchFigures | None = None

    def inside(self, series: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        """The windows of a series that are in it."""
        at_s = series["at_s"]
        kept = (at_s > self.from_s - self.width_s) & (at_s < self.to_s)
        return {name: values[kept] for name, values in series.items()}

    def limit(self, axes: Any) -> None:
        """Show nothing beside it."""
        if self.name:
            low, high = times_of(self.outcome.start, np.array([self.from_s, self.to_s]))
            axes.set_xlim(float(low), float(high))


def stretches(outcome: Outcome, from_s: float | None, to_s: float | None) -> list[Stretch]:
    """The whole of a replay and, of a long one, its worst stretch; or the one that is asked for.

    Raises:
        ReplayError: what is asked for is not in the replay, or the requests of a replay were not kept.
    """
    span_s = outcome.span_s
    if from_s is not None or to_s is not None:
        first, last = 0.0 if from_s is None else float(from_s), span_s if to_s is None else float(to_s)
        if not 0 <= first < last <= span_s:
            raise ReplayError(
                f"from_s, to_s: found {first:g} s to {last:g} s; allowed: a stretch of the trace, of "
                f"{units.show_duration(span_s)}"
            )
        if not outcome.can_be_replayed:
            raise ReplayError("from_s, to_s: the requests of this replay were not kept, so only the whole can be drawn")
        found = _stretch(outcome, first, last, f"{clock(outcome, first)} to {clock(outcome, last)}")
        return [found._replace(asked=found.outcome.stretch(first, last))]
    if not outcome.can_be_replayed:
        return [Stretch(outcome, 0.0, span_s, float(np.diff(outcome.run.edges_s)[0]))]
    whole = _stretch(outcome, 0.0, span_s, "")
    if span_s < _LONG_S:
        return [whole]
    first, last, what = _worst(outcome)
    name = f"{what}: {clock(outcome, first, seconds=False)} to {clock(outcome, last, seconds=False)}"
    return [whole, _stretch(outcome, first, last, name)]


def _stretch(outcome: Outcome, from_s: float, to_s: float, name: str) -> Stretch:
    width_s = window_for(outcome, from_s, to_s)
    return Stretch(outcome.in_windows(width_s), from_s, to_s, width_s, name)


def window_for(outcome: Outcome, from_s: float, to_s: float) -> float:
    """Windows as narrow as nine of ten of them hold requests enough, and as there is room for in a picture [s]."""
    at_s = outcome.trace.at_s
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


def _worst(outcome: Outcome) -> tuple[float, float, str]:
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
