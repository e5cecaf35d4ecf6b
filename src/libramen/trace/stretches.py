"""Stretches of a trace in which its rate is steady: what varies slowly is common to all, what varies quickly is not.

The trace is cut by a dyadic partition with the greatest penalised Poisson likelihood (Kolaczyk & Nowak, Multiscale
likelihood analysis and complexity penalized estimation, Annals of Statistics 32, 2004): every block of 2048 s is kept
whole or halved, and each half again, down to a second. A stretch with n requests in T seconds costs

    - sum over routes of n_r log(n_r / T) + phi log N,

N the requests of the trace and phi how much more than a Poisson process neighbouring seconds differ, at least 1, so
that a burst of one visitor is no stretch. The sum is over the eight routes with most requests and the rest.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final

import numpy as np

from libramen.trace.growing import blocks
from libramen.trace.trace import Trace

LEVELS: Final = 11
BLOCK_S: Final = 1 << LEVELS
"""The longest stretch: the greatest power of two that is not over an hour [s]."""
_ROUTES: Final = 8
_AT_ONCE: Final = 256
"""Blocks that are cut together: half a million seconds."""
MINUTE_S: Final = 60
_SIGNIFICANT: Final = 146.0
"""Of a chi-squared variable of 59 degrees of freedom: eight standard deviations above its mean."""
_KEPT: Final = 0.9
_OF_A_NORMAL: Final = 0.6232
"""Mean of a chi-squared variable of one degree of freedom without its greatest tenth."""


@dataclass(frozen=True)
class Stretches:
    """The stretches of a trace, in order; they cover it from 0 to its end.

    Attributes:
        starts_s: float64 (k,), where each begins: a whole second [s].
        ends_s: float64 (k,), where it ends: where the next begins, the last one with the trace [s].
        bounds: int64 (k + 1,), the first request of each, and the number of all.
        minute_pattern: whether some seconds of the minute have more requests than others, as where clients poll.
        dispersion: how much more counts of neighbouring seconds differ than those of a Poisson process, at least 1.
    """

    starts_s: np.ndarray
    ends_s: np.ndarray
    bounds: np.ndarray
    dispersion: float
    minute_pattern: bool

    def __len__(self) -> int:
        return len(self.starts_s)


def stretches_of(trace: Trace) -> Stretches:
    """Cut a trace where its rate changes.

    Example:
        >>> from libramen import make_trace
        >>> len(stretches_of(make_trace(span="1h", rate=5.0)))  # one rate: the two blocks that an hour has
        2
    """
    n_blocks = max(1, math.ceil(trace.span_s / BLOCK_S - 1e-12))
    channel = _channels(trace)
    phi = _common_dispersion(trace)
    penalty = phi * math.log(max(2, len(trace)))
    edges = np.searchsorted(trace.at_s, BLOCK_S * np.arange(n_blocks + 1.0)).astype(np.int64)
    edges[-1] = len(trace)
    starts: list[np.ndarray] = []
    # Halving a block gains log 2 a request at the most: with few requests it stays whole.
    busy = np.diff(edges) * math.log(2) > penalty
    for first in range(0, n_blocks, _AT_ONCE):
        some = np.arange(first, min(first + _AT_ONCE, n_blocks))
        cut = some[busy[some]]
        starts.append(some[~busy[some]] * float(BLOCK_S))
        if len(cut):
            starts.append(_cut(trace, channel, edges, cut, penalty))
    starts_s = np.sort(np.concatenate(starts))
    starts_s = starts_s[starts_s < trace.span_s] if trace.span_s > 0 else starts_s
    ends_s = np.append(starts_s[1:], trace.span_s)
    bounds = np.append(np.searchsorted(trace.at_s, starts_s), len(trace)).astype(np.int64)
    return Stretches(starts_s, ends_s, bounds, phi, _has_minute_pattern(trace, phi))


def _has_minute_pattern(trace: Trace, phi: float) -> bool:
    """Whether requests are spread unevenly over the minute: a chi-squared test of the counts of its 60 seconds.

    It finds bursts that come every minute, though each is too small to be told from chance. Long visits can make it
    say yes without a pattern; copies are then turned by whole minutes too, and stay independent.
    """
    if trace.span_s < 2 * MINUTE_S:
        return False
    counts = np.zeros(MINUTE_S)
    whole_s = trace.span_s - trace.span_s % MINUTE_S
    for rows in blocks(int(np.searchsorted(trace.at_s, whole_s))):
        second = (trace.at_s[rows] % MINUTE_S).astype(np.int64)
        counts += np.bincount(second, minlength=MINUTE_S)
    mean = float(counts.mean())
    return mean > 0 and float(np.square(counts - mean).sum()) / mean / phi > _SIGNIFICANT


def _channels(trace: Trace) -> np.ndarray:
    """Which of the sums each route belongs to: int64 (routes,)."""
    counts = np.zeros(len(trace.routes), np.int64)
    for rows in blocks(len(trace)):
        counts += np.bincount(trace.route_codes[rows], minlength=len(counts))
    channel = np.full(len(counts), _ROUTES, np.int64)
    most = np.argsort(-counts, kind="stable")[:_ROUTES]
    channel[most] = np.arange(len(most))
    return channel


def dispersion(trace: Trace) -> float:
    """Index of dispersion of the counts of seconds: variance over mean, 1 for a Poisson process.

    From differences of neighbouring seconds, so that what varies slowly does not count: the mean of (a - b)^2 over that
    of a + b.
    """
    squares, sums = 0.0, 0.0
    for square, both in _neighbours(trace):
        squares += float(square.sum(dtype=np.float64))
        sums += float(both.sum())
    return squares / sums if sums else 1.0


def _common_dispersion(trace: Trace) -> float:
    """The same where the rate does not jump, at least 1.

    A rate that jumps once a minute is no clumping, so the tenth of the seconds that differs most is left out and the
    rest is divided by what is left of a squared normal deviate in that way. Where counts are few that is too much, so
    the smaller of both is taken.
    """
    found = [square[both > 0] / both[both > 0] for square, both in _neighbours(trace)]
    ratio = np.concatenate(found) if found else np.zeros(0)
    if not len(ratio):
        return 1.0
    kept = max(1, int(len(ratio) * _KEPT))
    trimmed = float(np.partition(ratio, kept - 1)[:kept].mean(dtype=np.float64)) / _OF_A_NORMAL
    return max(1.0, min(dispersion(trace), trimmed))


def _neighbours(trace: Trace) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Of neighbouring seconds the squared difference of their counts, and their sum: float32 (m,) each."""
    edge_s = max(1, math.ceil(trace.span_s))
    step = BLOCK_S * _AT_ONCE
    for first in range(0, edge_s, step):
        last = min(edge_s, first + step + 1)  # one second of the next, so that no neighbours are missed
        low, high = np.searchsorted(trace.at_s, [first, last]).tolist()
        if low == high:
            continue
        second = np.minimum((trace.at_s[low:high] - first).astype(np.int64), last - first - 1)
        counts = np.bincount(second, minlength=last - first).astype(np.float32)
        yield np.square(np.diff(counts)), counts[1:] + counts[:-1]


def _cut(trace: Trace, channel: np.ndarray, edges: np.ndarray, cut: np.ndarray, penalty: float) -> np.ndarray:
    """Where stretches begin in some blocks: float64 (k,) [s]."""
    n_channels = int(channel.max()) + 1
    counts = np.zeros((len(cut), BLOCK_S, n_channels))
    for row, block in enumerate(cut.tolist()):
        rows = slice(int(edges[block]), int(edges[block + 1]))
        second = np.minimum((trace.at_s[rows] - BLOCK_S * block).astype(np.int64), BLOCK_S - 1)
        flat = second * n_channels + channel[trace.route_codes[rows]]
        counts[row] = np.bincount(flat, minlength=BLOCK_S * n_channels).reshape(BLOCK_S, n_channels)
    begin_s = BLOCK_S * cut[:, None] + np.arange(BLOCK_S)
    length_s = np.clip(trace.span_s - begin_s, 0.0, 1.0)  # what is beyond the trace is not there
    best = _cost(counts, length_s) + penalty
    halved: list[np.ndarray] = []
    for _ in range(LEVELS):
        counts = counts[:, 0::2] + counts[:, 1::2]
        length_s = length_s[:, 0::2] + length_s[:, 1::2]
        whole, apart = _cost(counts, length_s) + penalty, best[:, 0::2] + best[:, 1::2]
        halved.append(apart < whole)
        best = np.minimum(whole, apart)
    # From the top: what is not halved is a stretch.
    found = []
    which, place = np.arange(len(cut)), np.zeros(len(cut), np.int64)
    for level in range(LEVELS, 0, -1):
        is_halved = halved[level - 1][which, place]
        found.append(BLOCK_S * cut[which[~is_halved]] + (place[~is_halved] << level))
        which, place = which[is_halved], place[is_halved]
        which, place = np.concatenate([which, which]), np.concatenate([2 * place, 2 * place + 1])
    found.append(BLOCK_S * cut[which] + place)
    return np.concatenate(found).astype(np.float64)


def _cost(counts: np.ndarray, length_s: np.ndarray) -> np.ndarray:
    """- sum of n log(n / T): (blocks, m, channels), (blocks, m) -> (blocks, m)."""
    total = counts.sum(axis=2)
    logs = np.log(counts, out=np.zeros_like(counts), where=counts > 0)
    log_length = np.log(length_s, out=np.zeros_like(length_s), where=length_s > 0)
    cost: np.ndarray = total * log_length - np.einsum("ijk,ijk->ij", counts, logs)
    return cost
