"""More or fewer users: what independent users would do, stretch by stretch.

A copy of a request that is drawn beside it would be an echo: it makes a Poisson stream times c clumped c-fold, and a
busy fleet looks far worse than it would be. What varies slowly (the day, a sale) is common to all users, and grows with
them; what varies quickly is theirs alone. So each copy of a stretch in which the rate is steady (`stretches`) is that
stretch turned round by a lag of its own: what runs over its end comes back at its beginning. Patterns within are kept,
and copies are independent. Counts keep their index of dispersion (variance over mean) at scales well below a stretch's
length T; at scale s it is (c - 1) s / T too great, since a copy keeps the stretch's count. A burst of all users that is
too small to be told from chance is spread over its stretch, but for one that comes every minute: where the second of
the minute tells how many requests there are, copies are turned by whole minutes.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace
from typing import Any, Final, NamedTuple, Protocol

import numpy as np

from libramen.base.errors import TraceError
from libramen.base.streams import stream
from libramen.trace.arrays import MOST_REQUESTS
from libramen.trace.growing import Growing, blocks
from libramen.trace.stretches import BLOCK_S, MINUTE_S, Stretches, stretches_of
from libramen.trace.trace import Trace

_AT_ONCE: Final = 1 << 20
"""Requests that are made together."""
_MOST_COPIES: Final = 100_000
"""Drawing more would take minutes."""
_MOST_OF_A_STRETCH: Final = 0.01
_FEW: Final = 20
"""A visitor with at most this many requests in a stretch stays or goes as a whole, whatever its share is."""
_LEAST_MINUTES: Final = 8
"""A shorter stretch is turned by any lag, since too few whole minutes would be left to choose from."""
_STEPS: Final = np.array(
    [1]
    + [
        next(k for k in range(round(0.618 * n), n + 1) if math.gcd(k, n) == 1)
        for n in range(1, BLOCK_S // MINUTE_S + 1)
    ]
)
"""For a stretch of n minutes, by how many more each copy is turned: prime to n, so that n copies all differ."""
_LAG, _VISITOR, _REQUEST = range(3)
_COLUMNS: Final = ("cpu_s", "wait_s", "route_codes", "bytes_out", "latency_s", "status", "area")


class Factor(Protocol):
    """How many requests there are to be for each, at a time."""

    def __call__(self, rows: np.ndarray, at_s: np.ndarray) -> np.ndarray:
        """The factors of some requests at given times: int64 (k,), float64 (k,) [s] -> float64 (k,), >= 0."""


def multiplied(trace: Trace, factor: Factor, most: float, seed: int, number: int) -> Trace:
    """Each request as often as its factor says on average, the more from copies of its stretch.

    A greater factor has all requests of a smaller one, at the same times. Below 1, and of a copy that is wanted in
    part, visitors stay or go with all they ask where they are known, else requests.

    Args:
        trace: the requests.
        factor: how many there are to be for each; of a copy at its own time.
        most: the greatest that `factor` can give.
        seed: random seed.
        number: of the step of shaping, so that two steps draw differently.

    Raises:
        TraceError: none would be left, or too many would be there.
    """
    columns: dict[str, Growing] = {}
    n, expected = 0, expected_requests(trace, factor)
    if expected > MOST_REQUESTS:
        raise TraceError(_too_many(f"{expected:.3g}"))
    for rows, at_s, visitor in _pieces(trace, factor, most, seed, number):
        n += len(rows)
        if n > MOST_REQUESTS:
            raise TraceError(_too_many(f"{n:,}"))
        for name, values in _columns(trace, rows, at_s, visitor).items():
            columns.setdefault(name, Growing(values.dtype)).add(values)
    if not n:
        raise TraceError("shaping leaves no request of the trace")
    return _trace_of(trace, {name: column.take() for name, column in columns.items()})


def multiplied_in_chunks(trace: Trace, factor: Factor, most: float, seed: int, number: int) -> Iterator[Trace]:
    """The requests of `multiplied`, some stretches at a time, so that never all of them are in memory.

    Args:
        trace: the requests.
        factor: how many there are to be for each.
        most: the greatest that `factor` can give.
        seed: random seed.
        number: of the step of shaping.

    Yields:
        about a million requests at a time, in order of time, counted from the start of the trace.
    """
    for rows, at_s, visitor in _pieces(trace, factor, most, seed, number, slices=True):
        if len(rows):
            yield _trace_of(trace, _columns(trace, rows, at_s, visitor))


def expected_requests(trace: Trace, factor: Factor) -> float:
    """How many there will be on average."""
    return sum(float(factor(np.arange(some.start, some.stop), trace.at_s[some]).sum()) for some in blocks(len(trace)))


def another(trace: Trace, seed: int, number: int) -> Trace:
    """As many users who come independently: the same rates, and none of the same instants.

    Each stretch of the trace is turned round by a lag of its own, as a copy of it would be.

    Args:
        trace: the requests.
        seed: random seed.
        number: of the step of shaping.
    """
    draws, stretches = _Draws(seed, number, 2), stretches_of(trace)
    some = _Batch.of_stretches(trace, stretches, slice(0, len(stretches)))
    return trace.take(some.rows, draws.times(1, some))


def _too_many(n: str) -> str:
    return f"the trace would have {n} requests after shaping; allowed: up to {MOST_REQUESTS:,}"


def _columns(trace: Trace, rows: np.ndarray, at_s: np.ndarray, visitor: np.ndarray | None) -> dict[str, np.ndarray]:
    found = {"at_s": at_s}
    for name in _COLUMNS:
        if (array := getattr(trace, name)) is not None:
            found[name] = array[rows]
    found |= {f"in {name}": values[rows] for name, values in trace.in_s.items()}
    return found if visitor is None else found | {"visitor": visitor}


def _trace_of(trace: Trace, columns: dict[str, np.ndarray]) -> Trace:
    changed: dict[str, Any] = {name: values for name, values in columns.items() if not name.startswith("in ")}
    return replace(trace, in_s={name: columns[f"in {name}"] for name in trace.in_s}, **changed)


def _pieces(
    trace: Trace, factor: Factor, most: float, seed: int, number: int, *, slices: bool = False
) -> Iterator[tuple[np.ndarray, np.ndarray, np.ndarray | None]]:
    """The requests of some stretches at a time, in order of time; with `slices` a large stretch a part at a time.

    Yields:
        int64 (m,) which request of the trace each is, float64 (m,) when it comes [s], and int32 (m,) who sent it.
    """
    stretches = stretches_of(trace)
    if most > _MOST_COPIES:
        raise TraceError(f"requests would be multiplied by {most:.3g}; allowed: up to {_MOST_COPIES:,}")
    copies = max(1, math.ceil(most - 1e-12))
    if trace.visitor is not None and copies * trace.n_visitors > np.iinfo(np.int32).max:
        raise TraceError(f"{copies} times {trace.n_visitors:,} visitors are more than can be told apart")
    draws = _Draws(seed, number, copies)
    first = 0
    while first < len(stretches):
        last = int(np.searchsorted(stretches.bounds, stretches.bounds[first] + _AT_ONCE // copies, side="right")) - 1
        last = min(len(stretches), max(first + 1, last))
        some = _Batch.of_stretches(trace, stretches, slice(first, last))
        parts = -(-len(some.rows) * copies // _AT_ONCE) if slices else 1
        # Each part draws all of the batch again, which takes time and no memory.
        inner_s = np.linspace(some.starts_s[0], some.ends_s[-1], parts + 1)[1:-1]
        edges_s = [-math.inf, *inner_s.tolist(), math.inf]
        drawn = draws.states()
        for part in range(parts):
            draws.rewind(drawn)
            yield _piece(trace, factor, draws, some, (edges_s[part], edges_s[part + 1]))
        first = last


class _Visits(NamedTuple):
    """Who asked in which stretch.

    Attributes:
        of: int64 (m,), which visit each request belongs to: all that one visitor asks in one stretch.
        visits: how many there are.
        together: bool (m,), whether its visit stays or goes as a whole.
    """

    of: np.ndarray
    visits: int
    together: np.ndarray


class _Batch(NamedTuple):
    """Consecutive stretches that are worked on together.

    Attributes:
        starts_s, ends_s: float64 (k,) [s].
        of: int64 (m,), the stretch of each request.
        rows: int64 (m,), which request of the trace each is; at_s: float64 (m,), when it came [s].
        visits: None where nobody knows who asks.
        minute_pattern: see `Stretches`.
    """

    starts_s: np.ndarray
    ends_s: np.ndarray
    of: np.ndarray
    rows: np.ndarray
    at_s: np.ndarray
    visits: _Visits | None
    minute_pattern: bool

    @classmethod
    def of_stretches(cls, trace: Trace, stretches: Stretches, some: slice) -> _Batch:
        low, high = int(stretches.bounds[some.start]), int(stretches.bounds[some.stop])
        sizes = np.diff(stretches.bounds[some.start : some.stop + 1])
        of = np.repeat(np.arange(len(sizes)), sizes)
        visits = None
        if trace.visitor is not None:
            visitor = trace.visitor[low:high]
            key = of * (trace.n_visitors + 1) + visitor + 1
            _, visit, counts = np.unique(key, return_inverse=True, return_counts=True)
            each = counts[visit]
            # Whoever sends a large part of the load is no sample of many.
            together = (visitor >= 0) & ((each <= _FEW) | (each <= _MOST_OF_A_STRETCH * sizes[of]))
            visits = _Visits(visit, len(counts), together)
        rows = np.arange(low, high)
        starts_s, ends_s = stretches.starts_s[some], stretches.ends_s[some]
        return cls(starts_s, ends_s, of, rows, trace.at_s[low:high], visits, stretches.minute_pattern)


def _piece(
    trace: Trace, factor: Factor, draws: _Draws, some: _Batch, within: tuple[float, float]
) -> tuple[np.ndarray, np.ndarray, np.ndarray | None]:
    """The requests of a batch and its copies that come within some time [s]."""
    found_rows, found_s, found_copy = [], [], []
    for copy in range(draws.copies):
        came_s = draws.times(copy, some)
        kept = draws.kept(copy, some, factor(some.rows, came_s) - copy)
        kept &= (came_s >= within[0]) & (came_s < within[1])
        found_rows.append(some.rows[kept])
        found_s.append(came_s[kept])
        found_copy.append(np.full(len(found_rows[-1]), copy, np.int32))
    whole_s = np.concatenate(found_s)
    order = np.argsort(whole_s, kind="stable")
    whole_rows = np.concatenate(found_rows)[order]
    visitor = None
    if trace.visitor is not None:
        own = trace.visitor[whole_rows]
        # A visitor of a copy is another visitor.
        visitor = np.where(own < 0, -1, own + np.concatenate(found_copy)[order] * trace.n_visitors).astype(np.int32)
    return whole_rows, whole_s[order], visitor


class _Draws:
    """All that is drawn, stretch after stretch: each copy has streams of its own, which no factor changes."""

    def __init__(self, seed: int, number: int, copies: int) -> None:
        self.copies = copies
        self._streams = [
            [stream(seed, "shape", number, part=(copy, kind)) for kind in (_LAG, _VISITOR, _REQUEST)]
            for copy in range(copies)
        ]

    def states(self) -> list[Any]:
        """From where each stream goes on."""
        return [one.bit_generator.state for streams in self._streams for one in streams]

    def rewind(self, states: list[Any]) -> None:
        """Draw again what was drawn since then."""
        for one, state in zip((one for streams in self._streams for one in streams), states, strict=True):
            one.bit_generator.state = state

    def times(self, copy: int, some: _Batch) -> np.ndarray:
        """When the requests of a copy come [s]: the first is the trace itself, the others are turned round."""
        drawn = self._streams[copy][_LAG].random(len(some.starts_s))
        if not copy:
            return some.at_s
        start_s, length_s = some.starts_s[some.of], (some.ends_s - some.starts_s)[some.of]
        lag_s = drawn[some.of] * length_s
        if some.minute_pattern:
            # Whole minutes, each copy another number, and a part of a second: what is on the minute stays there. A
            # stretch that is no whole number of minutes turns as far as it is one, and the rest by itself.
            minutes = (length_s // MINUTE_S).astype(np.int64)
            turns, whole_s = minutes >= _LEAST_MINUTES, MINUTE_S * minutes
            is_rest = turns & (whole_s < length_s) & (some.at_s - start_s >= whole_s)
            place = copy * _STEPS[minutes] % np.maximum(1, minutes)
            start_s = np.where(is_rest, start_s + whole_s, start_s)
            length_s = np.where(is_rest, length_s - whole_s, np.where(turns, whole_s, length_s))
            lag_s = np.where(turns & ~is_rest, MINUTE_S * place + drawn[some.of], drawn[some.of] * length_s)
        turned_s = start_s + np.mod(some.at_s - start_s + lag_s, length_s)
        # Rounding must not carry any beyond its stretch.
        turned: np.ndarray = np.minimum(turned_s, np.nextafter(some.ends_s, 0.0)[some.of])
        return turned

    def kept(self, copy: int, some: _Batch, chance: np.ndarray) -> np.ndarray:
        """Which of them are there, each with its chance: bool (m,)."""
        drawn = self._streams[copy][_REQUEST].random(len(chance))
        if some.visits is not None:
            by_visitor = self._streams[copy][_VISITOR].random(some.visits.visits)
            drawn = np.where(some.visits.together, by_visitor[some.visits.of], drawn)
        there: np.ndarray = drawn < chance
        return there
