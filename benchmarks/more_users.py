"""A load that is multiplied beside one that truly has so many users: how far p50, p95 and p99 of a fleet are off.

    python benchmarks/more_users.py [--seeds 5]

Each row is the mean of as many pairs: a trace is drawn for the few, multiplied (or sampled and multiplied back), and
replayed on the fleet that is 85 % busy with the many; beside it a trace is drawn for the many. Then the index of
dispersion of counts (variance over mean) around a known rate, at scales from a second on; and how long it takes.
"""

from __future__ import annotations

import argparse
import time
from dataclasses import replace
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from libramen import Plan, Service, Tier, Trace, replay, shaped
from libramen.trace.options import ReadOptions
from libramen.trace.read import whole_load
from libramen.trace.stretches import stretches_of

if TYPE_CHECKING:
    from collections.abc import Callable

    Rate = Callable[[np.ndarray], np.ndarray]

WORK_S = 0.05
CORES = 1


class Users(NamedTuple):
    """Requests of users who do not know each other, for a mean rate."""

    draw: Callable[[np.random.Generator, float], tuple[np.ndarray, np.ndarray | None]]
    span_s: float


def _poisson(
    rng: np.random.Generator, rate: Callable[[np.ndarray], np.ndarray], most: float, span_s: float
) -> np.ndarray:
    """Arrivals of a Poisson process with a rate that changes, by thinning (Lewis & Shedler 1979)."""
    at_s = np.sort(rng.uniform(0, span_s, rng.poisson(most * span_s)))
    kept: np.ndarray = at_s[rng.random(len(at_s)) * most < rate(at_s)]
    return kept


def steady(span_s: float) -> Users:
    return Users(lambda rng, rate: (_poisson(rng, lambda at_s: np.full(len(at_s), rate), rate, span_s), None), span_s)


def wave(at_s: np.ndarray) -> np.ndarray:
    """A day's: three times as much at its top as at its bottom, 1 at the top."""
    shape: np.ndarray = (2 + np.sin(2 * np.pi * at_s / 86400 - np.pi / 2)) / 3
    return shape


def daily() -> Users:
    return Users(lambda rng, rate: (_poisson(rng, lambda at_s: rate * wave(at_s), rate, 86400.0), None), 86400.0)


def visitors(known: bool) -> Users:
    """Each asks six times within 0.3 s."""

    def draw(rng: np.random.Generator, rate: float) -> tuple[np.ndarray, np.ndarray | None]:
        span_s = 7200.0
        begins = rng.uniform(0, span_s, rng.poisson(rate / 6 * span_s))
        at_s = (begins[:, None] + rng.uniform(0, 0.3, (len(begins), 6))).ravel()
        who = np.repeat(np.arange(len(begins)), 6)[at_s < span_s]
        at_s = at_s[at_s < span_s]
        order = np.argsort(at_s)
        return at_s[order], who[order].astype(np.int32) if known else None

    return Users(draw, 7200.0)


def bursts() -> Users:
    """Of all at once: in five seconds of every minute three times the rate."""

    def rate_of(rate: float, at_s: np.ndarray) -> np.ndarray:
        return np.where(at_s % 60 < 5, 3.0, 50 / 55 - 5 * 2 / 55 + 5 / 55) * rate

    return Users(lambda rng, rate: (_poisson(rng, lambda at_s: rate_of(rate, at_s), 3 * rate, 7200.0), None), 7200.0)


def trace_of(users: Users, rng: np.random.Generator, rate: float) -> Trace:
    at_s, visitor = users.draw(rng, rate)
    n = len(at_s)
    trace = Trace.from_arrays(at_s, rng.exponential(WORK_S, n), np.zeros(n), span_s=users.span_s)
    return trace if visitor is None else replace(trace, visitor=visitor)


def percentiles(trace: Trace, busy: float, rate: float, peak: bool) -> np.ndarray:
    """p50, p95 and p99 on a fleet whose cores are so busy at that rate."""
    replicas = max(1, round(rate * WORK_S / CORES / busy))
    speed = rate * WORK_S / CORES / busy / replicas
    sizes = {"s": {"cores": CORES, "per_hour": 1, "speed": speed}}
    plan = Plan(tier=Tier(billing="per_hour", sizes=sizes), size="s", replicas=replicas, balancer="shared_queue")
    outcome = replay(trace, Service(slots=CORES), plan, seed=1)
    rows = outcome.requests
    latency = rows["latency_s"].to_numpy()
    if peak:
        at_s = rows["at_s"].to_numpy()
        latency = latency[(at_s > 86400 * 0.42) & (at_s < 86400 * 0.58)]
    found: np.ndarray = np.quantile(latency, [0.5, 0.95, 0.99])
    return found


def off(
    name: str, users: Users, factor: float, sampled: float | None, busy: float, seeds: int, *, peak: bool = False
) -> None:
    """Print how far it is off: ratios of the means over some seeds."""
    rate = 80.0 * busy / 0.85
    found, true = np.zeros(3), np.zeros(3)
    for seed in range(seeds):
        rng = np.random.default_rng([seed, 7])
        if sampled is None:
            few = trace_of(users, rng, rate / factor)
            many = shaped(few, [{"scale": factor}], seed=seed)
        else:
            whole = trace_of(users, rng, rate)
            few = whole.take(np.flatnonzero(rng.random(len(whole)) < sampled))
            many = whole_load(few, ReadOptions(sampled=sampled, seed=seed))
        found += percentiles(many, busy, rate, peak)
        true += percentiles(trace_of(users, np.random.default_rng([seed, 8]), rate), busy, rate, peak)
    p50, p95, p99 = found / true - 1
    print(f"{name:42} p50 {p50:+7.1%}  p95 {p95:+7.1%}  p99 {p99:+7.1%}", flush=True)


def dispersion(name: str, users: Users, shape: Rate, factor: int, seeds: int) -> None:
    """Print variance over mean of counts around the known rate, and the excess that a copy's kept count explains."""
    scales = (1, 5, 20, 60, 180)
    index = np.zeros(len(scales))
    longest = 0.0
    for seed in range(seeds):
        few = trace_of(users, np.random.default_rng([seed, 9]), 5.0)
        many = shaped(few, [{"scale": factor}], seed=seed)
        cut = stretches_of(few)
        longest = float(np.median(cut.ends_s - cut.starts_s))
        for k, scale in enumerate(scales):
            edges = np.arange(0, users.span_s + scale / 2, scale)
            counts = np.histogram(many.at_s, edges)[0]
            wanted = shape((edges[1:] + edges[:-1]) / 2) * 5.0 * factor * scale
            index[k] += np.mean((counts - wanted) ** 2 / wanted) / seeds
    shown = ", ".join(f"{scale} s {value:.2f}" for scale, value in zip(scales, index, strict=True))
    print(f"{name:42} {shown}  (stretch {longest:.0f} s)", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seeds", type=int, default=5)
    n = parser.parse_args().seeds
    for factor in (1.4, 2.0, 3.0, 10.0):
        off(f"steady, {factor:g} times", steady(7200.0), factor, None, 0.85, n)
    for part in (2, 10, 50):
        off(f"steady, one in {part} sampled", steady(21600.0), 1.0, 1 / part, 0.85, n)
    off("a day's wave, twice, the whole day", daily(), 2.0, None, 0.85, n)
    off("a day's wave, twice, at its top, 93 %", daily(), 2.0, None, 0.93, n, peak=True)
    off("visitors who ask six times, known, twice", visitors(True), 2.0, None, 0.85, n)
    off("visitors who ask six times, known, 1.4", visitors(True), 1.4, None, 0.85, n)
    off("visitors who ask six times, unknown, twice", visitors(False), 2.0, None, 0.85, n)
    off("visitors who ask six times, unknown, 1.4", visitors(False), 1.4, None, 0.85, n)
    off("bursts of 5 s a minute, twice", bursts(), 2.0, None, 0.6, n)
    off("bursts of 5 s a minute, ten times", bursts(), 10.0, None, 0.6, n)
    off("bursts of 5 s a minute, one in 10 sampled", bursts(), 1.0, 0.1, 0.6, n)
    for factor in (2, 10):
        dispersion(
            f"dispersion, a steady day, {factor} times", steady(86400.0), lambda at_s: np.ones(len(at_s)), factor, 2 * n
        )
        dispersion(f"dispersion, a day's wave, {factor} times", daily(), wave, factor, 2 * n)
    trace = trace_of(steady(86400.0), np.random.default_rng(1), 11.6)
    began = time.perf_counter()
    many = shaped(trace, [{"scale": 10}])
    print(f"a day of {len(trace):,} requests, ten times: {time.perf_counter() - began:.2f} s for {len(many):,}")


if __name__ == "__main__":
    main()
