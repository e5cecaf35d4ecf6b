"""Counts per interval, as monitoring exports them: turned into single requests."""

from __future__ import annotations

from pathlib import Path
from statistics import NormalDist
from typing import Final

import numpy as np

from libramen.base.delays import Delay
from libramen.base.errors import TraceError
from libramen.base.streams import stream
from libramen.trace.arrays import MOST_REQUESTS

_SHARES: Final = {"p50_s": 0.5, "p90_s": 0.9, "p95_s": 0.95, "p99_s": 0.99}


def spread(
    path: Path, start_s: np.ndarray, requests: np.ndarray, *, evenly: bool, seed: int
) -> tuple[np.ndarray, np.ndarray, float]:
    """Requests with their instants, from counts per interval.

    Within an interval they are a Poisson process given their number: uniform draws. A count with a
    fraction (a mean) is rounded up with that chance. An interval lasts until the next begins; all
    are taken to be as long as the shortest step.

    Args:
        path: the file, for messages.
        start_s: float64 (k,), begin of each interval; equal where there is a row per route.
        requests: float64 (k,), how many.
        evenly: spaced evenly instead of drawn.
        seed: of the draws.

    Returns:
        float64 (n,) instants, int64 (n,) the interval (row) of each, and the length of an interval.

    Raises:
        TraceError: there is one instant only, or a count is not allowed.
    """
    distinct = np.unique(start_s)
    if len(distinct) < 2:
        raise TraceError(f"{path}: counts need at least two different times, to know how long an interval is")
    length_s = float(np.diff(distinct).min())
    bad = np.flatnonzero(~np.isfinite(requests) | (requests < 0))
    if bad.size:
        raise TraceError(f"{path}: row {bad[0] + 1}, column requests: found {requests[bad[0]]}; allowed: 0 or more")
    if (total := float(requests.sum())) > MOST_REQUESTS:
        raise TraceError(f"{path}: the counts add up to {total:.3g} requests; allowed: up to {MOST_REQUESTS:,}")
    rng = stream(seed, "counts")
    whole = np.floor(requests)
    count = (whole + (rng.random(len(requests)) < requests - whole)).astype(np.int64)
    row = np.repeat(np.arange(len(requests)), count)
    if evenly:
        place = (np.arange(len(row)) - np.repeat(np.cumsum(count) - count, count) + 0.5) / np.repeat(count, count)
    else:
        place = rng.random(len(row))
    return start_s[row] + place * length_s, row, length_s


def latencies(percentiles: dict[str, np.ndarray], row: np.ndarray, seed: int) -> np.ndarray:
    """A latency for each request, drawn from the percentiles of its interval [s].

    The logarithm of the latency is linear in the normal score between two percentiles and beyond
    them: a log-normal distribution if there are two. One percentile alone is the latency of all; a
    mean alone is that of an exponential distribution.
    """
    rng = stream(seed, "counts", 1)
    known = [name for name in _SHARES if name in percentiles]
    drawn_s: np.ndarray
    if not known:
        drawn_s = percentiles["mean_s"][row] * rng.exponential(1.0, len(row))
        return drawn_s
    if len(known) == 1:
        drawn_s = percentiles[known[0]][row]
        return drawn_s
    scores = np.array([NormalDist().inv_cdf(_SHARES[name]) for name in known])
    logs = np.log(np.maximum(np.maximum.accumulate(np.stack([percentiles[name] for name in known]), axis=0), 1e-6))[
        :, row
    ]
    drawn = rng.standard_normal(len(row))
    segment = np.clip(np.searchsorted(scores, drawn) - 1, 0, len(known) - 2)
    each = np.arange(len(row))
    low, high = logs[segment, each], logs[segment + 1, each]
    share = (drawn - scores[segment]) / (scores[segment + 1] - scores[segment])
    drawn_s = np.exp(low + share * (high - low))
    return drawn_s


def drawn(work: Delay, n: int, seed: int) -> np.ndarray:
    """What each of n requests takes, from two percentiles of it: float64 (n,) [s]."""
    drawn_s: np.ndarray = work.median_s * np.exp(work.sigma * stream(seed, "counts", 1).standard_normal(n))
    return drawn_s


def tail_of(percentiles: dict[str, np.ndarray]) -> str:
    """What a table of percentiles does not say of the slowest requests, and what is taken instead."""
    known = [name for name in _SHARES if name in percentiles]
    if not known:
        return "the counts give a mean only: latencies are taken as exponential"
    if len(known) == 1:
        return f"the counts give {known[0]} only: every request takes just that, so no tail is slower"
    return (
        f"the counts give {' and '.join((', '.join(known[:-1]), known[-1]))}: beyond {known[-1]} latencies go on as a "
        "log-normal would, which may lose or make up the slowest"
    )
