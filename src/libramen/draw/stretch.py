"""Which stretch of a replay a picture shows, and in windows of which width."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from libramen.base import units
from libramen.base.errors import ReplayError
from libramen.draw.style import times_of
from libramen.outcome.outcome import Outcome
from libramen.outcome.stretch import StretchFigures
from libramen.outcome.windows import window_for, worst_stretch
from libramen.report.prose import clock

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
    first, last, what = worst_stretch(outcome)
    name = f"{what}: {clock(outcome, first, seconds=False)} to {clock(outcome, last, seconds=False)}"
    return [whole, _stretch(outcome, first, last, name)]


def _stretch(outcome: Outcome, from_s: float, to_s: float, name: str) -> Stretch:
    width_s = window_for(outcome.trace, from_s, to_s)
    return Stretch(outcome.in_windows(width_s), from_s, to_s, width_s, name)
