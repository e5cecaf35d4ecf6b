"""What requests came to, hour by hour, and what that comes to in a month."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np

from libramen.base.ranks import PERCENTILES, weighted_percentiles
from libramen.base.results import Result
from libramen.bill.month import Weights
from libramen.bill.usage import Packed, PackedWhole
from libramen.engine.border.records import ENDINGS
from libramen.outcome.measures import LATENCIES, Measures, Within

_SHARES: Final = list(PERCENTILES.values())


class Latencies(NamedTuple):
    """Latencies of ok requests.

    Attributes:
        value_s: float64 (n,).
        hour: int64 (n,), of the clock since the start.
        number: float64 (n,), how many such there are; None: one each.
    """

    value_s: Packed
    hour: PackedWhole
    number: Packed | None = None


@dataclass(frozen=True, eq=False)
class Hourly(Result):
    """Counts of some requests by hour of the clock since the start.

    Attributes:
        endings: int64 (hours, 6), by ending.
        sums_s: float64 (hours,), latencies of ok ones added up.
        minutes: int64 (hours, 2), minutes with traffic that begin in the hour, and how many of them have not failed.
        within: of each limit, by the name of its objective, int64 (hours,), how many were answered ok within it.
        most_s: the greatest latency.
    """

    endings: Packed
    sums_s: Packed
    minutes: Packed
    within: dict[str, Packed]
    most_s: float


class WeightedCounts(NamedTuple):
    """What one replay counted, and how often each of its hours stands in the month."""

    weights: Weights
    hourly: Hourly
    latencies: Latencies | None


def of_month(parts: Sequence[WeightedCounts], whole: Measures) -> Measures:
    """The figures of a month.

    Args:
        parts: the replays that it is made of.
        whole: the figures of the first, of the trace: of what is not counted by hour these stand.

    Returns:
        as `whole`, numbers of requests as floats; times added up and bytes are those of the trace.
    """
    endings: np.ndarray = sum((part.weights.over(part.hourly.endings) for part in parts), np.zeros(len(ENDINGS)))
    n, n_ok = float(endings.sum()), float(endings[0])
    sums_s = math.fsum(float(part.weights.over(part.hourly.sums_s)) for part in parts)
    traffic, good = sum((part.weights.over(part.hourly.minutes) for part in parts), np.zeros(2)).tolist()
    within = {
        name: Within(
            math.fsum(float(part.weights.over(part.hourly.within[name])) for part in parts),  # type: ignore[arg-type]
            one.minutes_met,
            one.minutes,
        )
        for name, one in whole.within.items()
    }
    of_ok: dict[str, float | None] = dict.fromkeys(LATENCIES)
    of_all: dict[str, float | None] = dict.fromkeys(PERCENTILES)
    if n_ok > 0:
        most_s = max(part.hourly.most_s for part in parts)
        of_ok, of_all = whole.latency_s | {"mean": sums_s / n_ok, "max": most_s}, dict(whole.answered_s)
        if all(part.latencies is not None for part in parts):
            values, weights = _weighted(parts)
            low, high = (weighted_percentiles(values, weights, _SHARES, of) for of in (None, n))
            of_ok |= {name: _held(value, most_s) for name, value in zip(PERCENTILES, low, strict=True)}
            of_ok["max"] = _held(float(values[weights > 0].max()), most_s)
            of_all = {name: _held(value, most_s) for name, value in zip(PERCENTILES, high, strict=True)}
    return Measures(
        n_requests=n,  # type: ignore[arg-type]
        attempts=whole.attempts,
        endings=dict(zip(ENDINGS, endings.tolist(), strict=True)),
        latency_s=of_ok,
        answered_s=of_all,
        within=within,
        availability=n_ok / n if n else None,
        availability_minutes=good / traffic if traffic else None,
        time_s=whole.time_s,
        bytes_out=whole.bytes_out,
    )


def _held(value: float | None, most_s: float) -> float | None:
    """A middle of a bin may lie above the greatest value in it."""
    return None if value is None else min(value, most_s)


def _weighted(parts: Iterable[WeightedCounts]) -> tuple[np.ndarray, np.ndarray]:
    values, weights = [], []
    for part in parts:
        assert part.latencies is not None
        value_s, hour, number = part.latencies
        of_hour = part.weights.floats
        weight = of_hour[np.minimum(hour, len(of_hour) - 1)]
        values.append(value_s)
        weights.append(weight if number is None else weight * number)
    return np.concatenate(values), np.concatenate(weights)


# -- kept, so that other months can be made of it ------------------------------------------------------


@dataclass(frozen=True, eq=False)
class KeptCounts(Result):
    """One scope of a replay, by hour, small: latencies in bins.

    Attributes:
        hourly: its counts.
        latencies: in bins, at most 0.39 % from what was; None: not known by hour.
    """

    hourly: Hourly
    latencies: Latencies | None


def in_bins(latencies: Latencies | None) -> Latencies | None:
    """The same with latencies in bins, so that there are few."""
    if latencies is None or latencies.number is not None:
        return latencies
    from libramen.outcome.counts import MIDDLES_S, bin_of

    values, hours, counts = [], [], []
    for hour, rows in _by_hour(latencies.hour):
        n = np.bincount(bin_of(latencies.value_s[rows]))
        there = np.flatnonzero(n)
        values.append(MIDDLES_S[there])
        hours.append(np.full(len(there), hour))
        counts.append(n[there].astype(np.float64))
    if not values:
        return Latencies(np.zeros(0), np.zeros(0, np.int64), np.zeros(0))
    return Latencies(np.concatenate(values), np.concatenate(hours), np.concatenate(counts))


def _by_hour(hour: np.ndarray) -> Iterator[tuple[int, slice]]:
    """The rows of each hour, which are in order."""
    edges = np.flatnonzero(np.diff(hour)) + 1
    first = [0, *edges.tolist()]
    for begin, end in zip(first, [*edges.tolist(), len(hour)], strict=True):
        if end > begin:
            yield int(hour[begin]), slice(begin, end)
