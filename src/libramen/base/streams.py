"""Random numbers: one independent stream per purpose, all from one seed.

Two plans replayed with one seed get the same random numbers, because a stream depends on the seed, the
purpose and a number (of a replica, say), and on nothing else.
"""

from __future__ import annotations

import operator
from typing import Final

import numpy as np

from libramen.base.errors import ReplayError

# A purpose keeps its number for ever: to change one changes the results of every study.
_PURPOSES: Final = {
    "stamps": 1,
    "demo": 2,
    "counts": 3,
    "shape": 4,
    "make": 5,
    "balancer": 6,
    "retry": 7,
    "provision": 8,
    "start": 9,
    "restart": 10,
    "demand": 11,
    "unqueue": 12,
    "backtest": 13,
    "share": 14,
    "call": 15,
    "visitors": 16,
    "error": 17,
    "stock": 18,
    "health": 19,
    "crash": 20,
    "reclaim": 21,
    "zone_loss": 22,
    "dependency": 23,
    "slow": 24,
    "days": 25,
    "bottleneck": 26,
    "no_stock": 27,
    "look": 28,
    "edge": 29,
    "area": 30,
    "region_loss": 31,
    "promote": 32,
}


def stream(
    seed: int, purpose: str, number: int = 0, service: int = 0, part: tuple[int, ...] = ()
) -> np.random.Generator:
    """The generator for one purpose.

    Args:
        seed: the user's seed, a whole number of 0 or more.
        purpose: `"stamps"` (seconds filled in within whole-second time stamps), `"counts"` (arrivals
            within intervals), `"shape"`, `"make"`, `"demo"`, `"balancer"` (its draws), `"retry"` (jitter),
            `"provision"` and `"start"` (how long a new replica takes), `"restart"` (one that has crashed),
            `"stock"` (whether an order fails), `"health"` (when a process is checked), `"error"` (which attempts fail
            by themselves), `"crash"`, `"reclaim"`, `"zone_loss"`, `"dependency"`, `"slow"`, `"no_stock"` (when faults
            come), `"share"` (which visits make a call) and `"call"` (its work), `"visitors"` (the salt of their names),
            `"demand"` (which quiet sample a request takes), `"unqueue"` (which work an unqueued one has) or
            `"backtest"` (which work a request has that is held back), `"days"` (of which other months are made).
        number: which of the purpose's streams.
        service: number of the service whose they are (from 0).
        part: which of several within that, such as a copy of a trace.

    Raises:
        ReplayError: the seed is none.
    """
    import numpy as np

    key: tuple[int, ...] = (_PURPOSES[purpose], number)
    if service or part:
        key = (*key, service, *part)
    return np.random.default_rng(np.random.SeedSequence(_checked(seed), spawn_key=key))


def _checked(seed: int) -> int:
    try:
        found = -1 if isinstance(seed, bool) else operator.index(seed)
    except TypeError:
        found = -1
    if found < 0:
        raise ReplayError(f"seed: found {seed!r}; allowed: a whole number of 0 or more")
    return found


def key(seed: int, purpose: str) -> np.ndarray:
    """The key of a NumPy `Philox` for a purpose in which every request has numbers of its own: uint64 (2,)."""
    import numpy as np

    return np.random.SeedSequence(_checked(seed), spawn_key=(_PURPOSES[purpose], 0)).generate_state(2, np.uint64)
