"""What a run comes to: latencies, availability, utilisation, replicas over time. Arrays only."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.engine.plane import ENDINGS, EPSILON_S, Ending

if TYPE_CHECKING:
    from libramen.engine.fleet import Stage
    from libramen.engine.run import Run
    from libramen.study.plan import Plan

PERCENTILES: Final = {"p50": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99, "p999": 0.999}
LATENCIES: Final = ("mean", *PERCENTILES, "max")
FAILED_SHARE_OF_A_MINUTE: Final = 0.01


def nearest_rank(ascending: np.ndarray, share: float) -> float:
    """The percentile by nearest rank: the smallest value with at least `share` of all at or below it."""
    return float(ascending[max(0, math.ceil(share * len(ascending) - EPSILON_S) - 1)])


def latencies(latency_s: np.ndarray) -> dict[str, float | None]:
    """Mean, percentiles and maximum of some latencies [s]; all None where there is none."""
    if not len(latency_s):
        return dict.fromkeys(LATENCIES)
    ascending = np.sort(latency_s)
    return {
        "mean": float(np.mean(ascending)),
        **{name: nearest_rank(ascending, share) for name, share in PERCENTILES.items()},
        "max": float(ascending[-1]),
    }


@dataclass(frozen=True)
class Measures:
    """The figures of some requests: those of a run, or of one route of it."""

    requests: int
    attempts: int
    endings: dict[str, int]
    latency_s: dict[str, float | None]
    availability: float | None
    availability_minutes: float | None

    @classmethod
    def of(cls, run: Run, at_s: np.ndarray, rows: np.ndarray) -> Measures:
        """Measure the requests `rows` (an index or a mask) of a run."""
        ending, n = run.results.ending[rows], len(run.results.ending[rows])
        counts = np.bincount(ending, minlength=len(ENDINGS)).tolist()
        is_ok = ending == Ending.OK
        return cls(
            requests=n,
            attempts=int(run.results.attempts[rows].sum()),
            endings=dict(zip(ENDINGS, counts, strict=True)),
            latency_s=latencies(run.results.latency_s[rows][is_ok]),
            availability=counts[Ending.OK] / n if n else None,
            availability_minutes=_good_minutes(at_s[rows], is_ok),
        )


def _good_minutes(at_s: np.ndarray, is_ok: np.ndarray) -> float | None:
    """Share of the minutes with traffic in which few enough requests failed."""
    minute = (at_s // 60).astype(np.int64)
    arrivals = np.bincount(minute)
    failed = np.bincount(minute, weights=~is_ok)
    traffic = arrivals > 0
    if not traffic.any():
        return None
    return float(np.mean(failed[traffic] <= FAILED_SHARE_OF_A_MINUTE * arrivals[traffic] + EPSILON_S))


@dataclass(frozen=True)
class Steps:
    """A number that changes in steps: `count[i]` from `at_s[i]` to `at_s[i + 1]`, the last one for ever."""

    at_s: np.ndarray
    count: np.ndarray

    @classmethod
    def of(cls, from_s: list[float], to_s: list[float], end_s: float) -> Steps:
        """How many of some intervals there are at each time in [0, end_s]."""
        starts, ends = np.minimum(from_s, end_s), np.minimum(to_s, end_s)
        at_s = np.concatenate([[0.0], starts, ends, [end_s]])
        change = np.concatenate([[0], np.ones(len(starts), int), -np.ones(len(ends), int), [0]])
        order = np.argsort(at_s, kind="stable")
        return cls(at_s[order], np.cumsum(change[order]))

    def mean(self, edges_s: np.ndarray) -> np.ndarray:
        """The mean between each two edges."""
        area = np.concatenate([[0.0], np.cumsum(np.diff(self.at_s) * self.count[:-1])])
        up_to = np.interp(edges_s, self.at_s, area)
        width = np.diff(edges_s)
        mean: np.ndarray = np.divide(np.diff(up_to), width, out=np.zeros(len(width)), where=width > 0)
        return mean

    def extremes(self) -> tuple[int, int]:
        """Least and greatest number that lasted."""
        lasted = self.count[:-1][np.diff(self.at_s) > EPSILON_S]
        return (int(lasted.min()), int(lasted.max())) if lasted.size else (0, 0)


def stage_steps(run: Run, *stages: Stage) -> Steps:
    """Replicas that were in one of these stages over the time of the trace."""
    times = [time for replica in run.replicas for time in replica.times(*stages)]
    return Steps.of([from_s for from_s, _ in times], [to_s for _, to_s in times], run.span_s)


def paid_steps(run: Run, plan: Plan) -> Steps:
    """Replicas paid for over the time of the trace."""
    from libramen.bill.bill import paid_from

    lives = [
        (start, math.inf if r.gone_s is None else r.gone_s)
        for r in run.replicas
        if (start := paid_from(r, plan)) is not None
    ]
    return Steps.of([start for start, _ in lives], [end for _, end in lives], run.span_s)


def cold_starts(run: Run) -> int:
    """Replicas that were ordered and became ready within the trace; the first fleet left out."""
    return sum(
        replica.why != "start" and replica.ready_s is not None and replica.ready_s < run.span_s
        for replica in run.replicas
    )


def utilisation(run: Run, cores: float) -> float | None:
    """Cores in use over cores there, while replicas were ready or draining."""
    there = float(stage_steps(run, "ready", "draining").mean(np.array([0.0, run.span_s]))[0]) * run.span_s * cores
    return min(1.0, float(run.integrals[-1, 0]) / there) if there > 0 else None
