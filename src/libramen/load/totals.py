"""Each stretch of a log keeps as much work as it had.

Where work was exchanged among requests of the same kind, a stretch may end with a little more or less of it than it
had; in an overload, where what is left over waits, that little becomes minutes of queueing. So the work of each stretch
is made longer or shorter, all by one factor, until its requests take as long on average in a replay as in the log. In a
busy period the work that a fleet has done is known whoever had it, so the factor is well determined (work conservation:
Wolff, Stochastic Modeling and the Theory of Queues, 1989, ch. 11).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

import numpy as np

from libramen.load.exchange import error_of
from libramen.load.instants import in_system

STRETCH_S: Final = 900.0
_FEWEST: Final = 120
_ROUNDS: Final = 24
_NEAR: Final = 0.002
"""Of the mean latency: nearer than chance brings two replays to each other."""
_STEP: Final = 0.03
_LEAST_STEP, _MOST_STEP = 0.0005, 0.2
_SLOWER, _FASTER = 0.4, 1.3
_WELL: Final = 0.03
"""An error that is not worth further replays."""
_STEPS: Final = (0.02, 0.01, 0.005, 0.0025)


def stretches_of(at_s: np.ndarray, latency_s: np.ndarray) -> np.ndarray:
    """The number of the stretch of each request: int64 (n,), ascending.

    A stretch is about a quarter of an hour; it ends where few are in progress, so that hardly anybody waits from one to
    the next. One of fewer than 120 requests goes with the one before it.

    Args:
        at_s: float64 (n,), arrivals [s], ascending.
        latency_s: float64 (n,) [s].
    """
    present = in_system(at_s, latency_s)
    first_s, last_s = float(at_s[0]), float(at_s[-1])
    edges = [0]
    for nominal_s in np.arange(first_s + STRETCH_S, last_s, STRETCH_S).tolist():
        low, high = np.searchsorted(at_s, [nominal_s - STRETCH_S / 4, nominal_s + STRETCH_S / 4]).tolist()
        edge = low + int(np.argmin(present[low:high])) if high > low else low
        if edge - edges[-1] >= _FEWEST:
            edges.append(edge)
    if len(edges) > 1 and len(at_s) - edges[-1] < _FEWEST:
        edges.pop()
    number: np.ndarray = np.repeat(np.arange(len(edges)), np.diff([*edges, len(at_s)]))
    return number


def with_totals(
    work_s: np.ndarray,
    latency_s: np.ndarray,
    stretch: np.ndarray,
    fixed: np.ndarray,
    replayed: Callable[[np.ndarray], np.ndarray],
) -> tuple[np.ndarray, np.ndarray]:
    """The work with which each stretch takes as long in a replay as in the log, and the latencies that it then has.

    Args:
        work_s: float64 (n,) [s].
        latency_s: float64 (n,), logged [s].
        stretch: int (n,), ascending.
        fixed: bool, by stretch: what its requests took says nothing of their work.
        replayed: gives the latencies of requests with such work.
    """
    count, firsts = np.bincount(stretch), np.searchsorted(stretch, np.arange(1, int(stretch[-1]) + 1))
    parts = np.split(latency_s, firsts)
    logged_s = np.bincount(stretch, latency_s) / count

    def means(taken_s: np.ndarray) -> np.ndarray:
        mean_s = np.bincount(stretch, taken_s) / count
        off: np.ndarray = np.log(np.maximum(mean_s, 1e-9) / np.maximum(logged_s, 1e-9))
        off[fixed] = 0.0
        return off

    def error(taken_s: np.ndarray) -> float:
        errors = [error_of(some_s, mine_s) for some_s, mine_s in zip(np.split(taken_s, firsts), parts, strict=True)]
        return float(np.average(np.abs(means(taken_s)) + np.array(errors) / 2, weights=count))

    factor, step, was = np.ones(len(count)), np.full(len(count), _STEP), np.zeros(len(count))
    best, found = np.inf, (work_s, work_s)
    for _ in range(_ROUNDS):
        tried_s = factor[stretch] * work_s
        taken_s = replayed(tried_s)
        off = means(taken_s)
        if (far := error(taken_s)) < best:
            best, found = far, (tried_s, taken_s)
        if np.all(np.abs(off) <= _NEAR):
            break
        # Each stretch by itself, as each hands what is left over to the next: the sign of what is missing says whether
        # its factor was changed too far (resilient propagation: Riedmiller and Braun, 1993).
        sign = np.where(np.abs(off) > _NEAR, -np.sign(off), 0.0)
        step = np.clip(
            np.where(sign * was < 0, _SLOWER * step, np.where(sign * was > 0, _FASTER * step, step)),
            _LEAST_STEP,
            _MOST_STEP,
        )
        factor *= np.exp(sign * np.minimum(step, np.abs(off)))
        was = sign
    # Who came together by chance puts the latencies of a busy fleet off, too, and all of them alike.
    for step_of_all in _STEPS if best > _WELL else ():
        for trial in (1 + step_of_all, 1 - step_of_all):
            tried_s = trial * found[0]
            taken_s = replayed(tried_s)
            if (far := error(taken_s)) < best:
                best, found = far, (tried_s, taken_s)
                break
    return found
