"""Fewer or more of the requests of a trace, each with its own work."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.errors import TraceError
from libramen.trace.trace import MOST_REQUESTS

if TYPE_CHECKING:
    from libramen.trace.trace import Trace

_NEIGHBOURS: Final = 5
"""A copy of a request comes between so many arrivals before it and after it."""
_AT_ONCE: Final = 1_000_000
"""Numbers that are drawn together."""


def multiplied(trace: Trace, factor: np.ndarray, rng: np.random.Generator) -> Trace:
    """Each request as often as its factor says on average, the more at times of their own. See `shape.Scale`.

    Args:
        trace: the requests.
        factor: float64 (n,), >= 0.
        rng: of all draws.

    Raises:
        TraceError: none would be left.
    """
    n, wanted = len(trace), float(np.sum(factor))
    if not wanted <= MOST_REQUESTS:
        raise TraceError(f"the trace would have {wanted:.3g} requests after shaping; allowed: up to {MOST_REQUESTS:,}")
    kept = rng.random(n) < factor
    more = np.maximum(0.0, factor - 1)
    extra = (np.floor(more) + (rng.random(n) < more - np.floor(more))).astype(np.int64)
    low = trace.at_s[np.maximum(np.arange(n) - _NEIGHBOURS, 0)]
    high = trace.at_s[np.minimum(np.arange(n) + _NEIGHBOURS, n - 1)]
    # The first copies of all requests draw their times, then the second ones, whether they are there or not: a copy
    # has the same time under a greater factor.
    rows, times_s = [], []
    copies, block = int(extra.max(initial=0)), max(1, _AT_ONCE // max(1, n))
    for first in range(0, copies, block):
        some = np.arange(first, min(first + block, copies))
        drawn = rng.random((len(some), n))
        copy, here = np.nonzero(extra > some[:, None])
        rows.append(here)
        times_s.append(low[here] + drawn[copy, here] * (high[here] - low[here]))
    own = np.flatnonzero(kept)
    all_rows = np.concatenate([own, *rows])
    if not len(all_rows):
        raise TraceError("shaping leaves no request of the trace")
    return trace.take(all_rows, np.concatenate([trace.at_s[own], *times_s]))
