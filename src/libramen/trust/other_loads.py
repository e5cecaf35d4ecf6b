"""Loads that might have come instead: more and fewer users, another burst, other days."""

from __future__ import annotations

from typing import Final, NamedTuple

import numpy as np

from libramen.trace.growing import counted
from libramen.trace.multiply import another, multiplied
from libramen.trace.shape import shaped
from libramen.trace.steps import OF_A_DOUBT
from libramen.trace.trace import Trace

_LOADS: Final = {"20 % less": 0.8, "20 % more": 1.2}
_HEIGHTS: Final = {"half as high": 0.5, "twice as high": 2.0}
_DAY_S: Final = 86400.0
_BINS_S: Final = (300.0, 900.0, 3600.0)
_FEW: Final = 30
"""So many requests a bin are enough to see a burst."""
_BURST: Final = 2.0
"""A peak of at least so many times the median of its day is one."""
_ABOVE: Final = 1.5


class OtherLoads(NamedTuple):
    """One thing about the load that is not known: where its value came from, and traces at both ends of it."""

    parameter: str
    from_: str
    ends: tuple[tuple[str, Trace], tuple[str, Trace]]


def other_loads(trace: Trace, seed: int) -> list[OtherLoads]:
    """What else might come: 20 % fewer and more users, the burst of the busiest day half and twice as high, other days.

    Other days are those of the trace, its quietest and its busiest, each on all days; where it has but one, days on
    which as many users as at any time of this one come independently.

    Args:
        trace: what was replayed.
        seed: random seed.
    """
    low, high = ((name, shaped(trace, [{"scale": factor}], seed=seed)) for name, factor in _LOADS.items())
    found = [OtherLoads("load", "the trace", (low, high))]
    burst = _burst(trace)
    if burst is not None:
        half, twice = ((name, burst.made(trace, height, seed)) for name, height in _HEIGHTS.items())
        found.append(OtherLoads("burst", burst.when(trace), (half, twice)))
    days = int(trace.span_s // _DAY_S)
    if days >= 2:
        per_day = counted(trace.at_s, _DAY_S, days)[:days]
        ends = [(_day_named(trace, int(day)), _always(trace, int(day))) for day in (per_day.argmin(), per_day.argmax())]
        found.append(OtherLoads("arrivals", "these days", (ends[0], ends[1])))
    else:
        one, other = ((name, another(trace, seed, OF_A_DOUBT + k)) for k, name in enumerate(("another", "yet another")))
        found.append(OtherLoads("arrivals", "this very day", (one, other)))
    return found


class _Burst(NamedTuple):
    """A burst, in bins of so many seconds.

    Attributes:
        from_s: its begin.
        width_s: of a bin.
        counts: requests in each of its bins.
        usual: requests in a bin of its day, the median.
    """

    from_s: float
    width_s: float
    counts: np.ndarray
    usual: float

    @property
    def to_s(self) -> float:
        """Its end [s]."""
        return self.from_s + self.width_s * len(self.counts)

    def made(self, trace: Trace, height: float, seed: int) -> Trace:
        """The trace with so many times what the burst has above the usual."""
        factors = (self.usual + height * (self.counts - self.usual)) / self.counts

        def factor(rows: np.ndarray, at_s: np.ndarray) -> np.ndarray:  # noqa: ARG001  (it is the same for all)
            place = ((at_s - self.from_s) // self.width_s).astype(np.int64)
            inside = (place >= 0) & (place < len(factors))
            return np.where(inside, factors[np.clip(place, 0, len(factors) - 1)], 1.0)

        return multiplied(trace, factor, max(1.0, float(factors.max())), seed, OF_A_DOUBT)

    def when(self, trace: Trace) -> str:
        """`Thu 17:45 to 18:30`."""
        begin, end = trace.local_time(self.from_s), trace.local_time(self.to_s)
        if begin is None or end is None:
            return f"{self.from_s / 60:.0f} to {self.to_s / 60:.0f} min after the start"
        return f"{begin:%a %H:%M} to {end:%H:%M}"


def _burst(trace: Trace) -> _Burst | None:
    """The burst of the busiest day; None: it has none."""
    width_s = next((width for width in _BINS_S if len(trace) * width >= _FEW * trace.span_s), _BINS_S[-1])
    counts = counted(trace.at_s, width_s)
    a_day = int(_DAY_S / width_s)
    days = [counts[first : first + a_day] for first in range(0, len(counts), a_day)]
    number = max(range(len(days)), key=lambda day: int(days[day].sum()))
    day = days[number]
    usual, peak = float(np.median(day)), int(day.argmax())
    if usual <= 0 or day[peak] < _BURST * usual:
        return None
    first, last = peak, peak + 1
    while first > 0 and day[first - 1] > _ABOVE * usual:
        first -= 1
    while last < len(day) and day[last] > _ABOVE * usual:
        last += 1
    return _Burst((number * a_day + first) * width_s, width_s, day[first:last], usual)


def _day_named(trace: Trace, day: int) -> str:
    middle = trace.local_time((day + 0.5) * _DAY_S)
    return f"all as day {day + 1}" if middle is None else f"all as {middle:%a %d %b}"


def _always(trace: Trace, day: int) -> Trace:
    """The trace with the requests of one day on each of its days."""
    first, last = np.searchsorted(trace.at_s, [day * _DAY_S, (day + 1) * _DAY_S])
    rows, n = np.arange(first, last), int(np.ceil(trace.span_s / _DAY_S))
    at_s = (trace.at_s[rows] - day * _DAY_S + _DAY_S * np.arange(n)[:, None]).ravel()
    kept = at_s < trace.span_s
    return trace.take(np.tile(rows, n)[kept], at_s[kept])
