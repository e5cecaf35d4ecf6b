"""The hours of a log, and how far a replay is from each: what is chance, and what counts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from libramen.base.ranks import PERCENTILES, nearest_rank
from libramen.base.results import Result
from libramen.base.streams import stream
from libramen.engine import simulation
from libramen.load.exchange import shuffled_nearby
from libramen.load.totals import stretches_of
from libramen.study.study import Study
from libramen.study.system import System
from libramen.trace.trace import Trace
from libramen.trust.compared import FEW, JUDGED, hour_named, hours_of, off_by

_REPLAYS: Final = 20
_MANY: Final = 1000
_FAR: Final = 0.2
_SOME: Final = 0.1
_LATE: Final = 0.95


@dataclass(frozen=True)
class Hour(Result):
    """One hour of a log, and how far the replay is from it.

    Attributes:
        name: `hour Sun 12:00`.
        requests: that were answered in the log.
        weight: requests that were late or failed, in the log and in the replay.
        off: relative difference of p50, p95 or p99, whichever is farthest off; below 0: the replay is quicker.
        quantile: which of them that is.
        by_chance: whether replays with the work drawn anew lie on both sides of the log there.
    """

    name: str
    requests: int
    weight: int
    off: float
    quantile: str
    by_chance: bool

    @property
    def is_wrong(self) -> bool:
        """Whether so many requests are so far off, and not by chance, that a replay cannot be called close."""
        return self.requests >= _MANY and abs(self.off) > _FAR and not self.by_chance


def hours(
    study: Study,
    plan: str,
    trace: Trace,
    logged_s: np.ndarray,
    replayed_s: np.ndarray,
    seed: int,
    tell: Callable[[float], None] = lambda _share: None,
) -> tuple[Hour, ...]:
    """The hours of the clock in a log; none where it lies within one.

    Late is a request that took longer than the study's objective for latency allows (of several the strictest), or
    longer than the log's own p95 where it has none, or where nobody was late and nothing failed.

    Args:
        study: without shaping.
        plan: name of the recorded plan.
        trace: the log with its work.
        logged_s: float64 (n,), latency in the log [s], NaN: not answered.
        replayed_s: float64 (n,), in the replay.
        seed: random seed.
        tell: called with the share of what is done.
    """
    hour = hours_of(trace)
    numbers, counts = np.unique(hour, return_counts=True)
    if len(numbers) < 2:
        return ()
    limits = [float(goal.wanted) for goal in study.objectives.goals() if goal.is_latency and goal.service is None]
    weight = _late(logged_s, replayed_s, min(limits, default=np.inf))
    if not weight.any():
        weight = _late(logged_s, replayed_s, float(np.nanquantile(logged_s, _LATE)))
    found = []
    for number in numbers[counts >= FEW].tolist():
        rows = hour == number
        logged, replayed = _quantiles(logged_s[rows]), _quantiles(replayed_s[rows])
        if logged is not None and replayed is not None:
            offs = [off_by(one, other) for one, other in zip(logged, replayed, strict=True)]
            worst = int(np.argmax(np.abs(offs)))
            requests = int(np.count_nonzero(~np.isnan(logged_s[rows])))
            name = hour_named(trace, number)
            found.append((number, Hour(name, requests, int(weight[rows].sum()), offs[worst], JUDGED[worst], False)))
    if not any(one.is_wrong for _, one in found) and weighted_off([one for _, one in found]) <= _SOME:
        return tuple(one for _, one in found)
    low, high = _spread(study.system(plan), trace, [number for number, _ in found], seed, tell)
    return tuple(
        replace(one, by_chance=_within(logged_s[hour == number], JUDGED.index(one.quantile), low[number], high[number]))
        for number, one in found
    )


def weighted_off(found: list[Hour] | tuple[Hour, ...]) -> float:
    """How far hours are off on average, each by its late and failed requests; what is chance is not off."""
    total = sum(one.weight for one in found)
    return sum(one.weight * abs(one.off) for one in found if not one.by_chance) / total if total else 0.0


def _late(logged_s: np.ndarray, replayed_s: np.ndarray, limit_s: float) -> np.ndarray:
    """How often each request was late or failed, in the log and in the replay: int (n,)."""
    late = [(np.isnan(taken_s) | (taken_s > limit_s)).astype(np.int64) for taken_s in (logged_s, replayed_s)]
    twice: np.ndarray = np.sum(late, axis=0)
    return twice


def _quantiles(taken_s: np.ndarray) -> list[float] | None:
    some_s = np.sort(taken_s[~np.isnan(taken_s)])
    return [nearest_rank(some_s, PERCENTILES[name]) for name in JUDGED] if len(some_s) >= FEW else None


def _within(logged_s: np.ndarray, quantile: int, low: np.ndarray, high: np.ndarray) -> bool:
    logged = _quantiles(logged_s)
    return logged is not None and bool(low[quantile] <= logged[quantile] <= high[quantile])


def _spread(
    system: System, trace: Trace, numbers: list[int], seed: int, tell: Callable[[float], None]
) -> tuple[dict[int, np.ndarray], dict[int, np.ndarray]]:
    """The least and the greatest p50, p95 and p99 of each hour, in replays with the work of each stretch drawn anew."""
    assert trace.latency_s is not None
    hour, stretch = hours_of(trace), stretches_of(trace.at_s, trace.latency_s)
    low = {number: np.full(len(JUDGED), np.inf) for number in numbers}
    high = {number: np.full(len(JUDGED), -np.inf) for number in numbers}
    for again in range(_REPLAYS):
        rng = stream(seed, "backtest", 100 + again)
        taken = shuffled_nearby(np.arange(len(trace)), trace.route_codes, stretch, len(trace), rng)
        drawn = trace.with_demand(trace.cpu_s[taken], trace.wait_s[taken], demand="given", notes=())
        results = simulation.run(drawn, system, seed=seed + 1 + again).kept
        latency_s = np.where(results.ending == 0, results.latency_s, np.nan)
        for number in numbers:
            found = _quantiles(latency_s[hour == number])
            if found is not None:
                low[number], high[number] = np.minimum(low[number], found), np.maximum(high[number], found)
        tell((again + 1) / _REPLAYS)
    return low, high
