"""Random numbers of a request's own: the same for every plan, in whatever order requests are met.

> Random numbers belong to an attempt: block (request, attempt) of a stream of the seed, so two plans get the same
> random numbers. Those of a call belong to the request, the place of the call in the tree of all calls that a
> request could make, and the attempts of all visits from the user down to it.

NumPy's `Philox` (Salmon, Moraes, Dror and Shaw, Parallel Random Numbers: As Easy as 1, 2, 3, 2011) gives
any block of its stream at once. Block (request, lineage, place) belongs to that attempt, so nothing is stored.
`plain` asks NumPy itself for it.
"""

from __future__ import annotations

import numpy as np

from libramen.engine.kernel import reach

_LOW = np.uint64(0xFFFFFFFF)
_HALF = np.uint64(32)
_ROUNDS = 10
_MULTIPLIERS = (np.uint64(0xD2E7470EE14C6C93), np.uint64(0xCA5A826395121157))
_BUMPS = (np.uint64(0x9E3779B97F4A7C15), np.uint64(0xBB67AE8584CAA73B))


@reach.seldom
def _high(a, b):
    """The upper 64 bits of the product of two numbers of 64 bits."""
    a_low, a_high = a & _LOW, a >> _HALF
    b_low, b_high = b & _LOW, b >> _HALF
    middle = a_high * b_low + ((a_low * b_low) >> _HALF)
    other = a_low * b_high + (middle & _LOW)
    return a_high * b_high + (middle >> _HALF) + (other >> _HALF)


@reach.apart
def uniforms(key, request, lineage, place):
    """The first two numbers of a visit's block, uniform in [0, 1)."""
    # NumPy counts up before it makes a block: its counter (0, request, lineage, place) makes this one.
    c0, c1, c2, c3 = np.uint64(1), np.uint64(request), np.uint64(lineage), np.uint64(place)
    k0, k1 = key[0], key[1]
    for _ in range(_ROUNDS):
        high0, low0 = _high(_MULTIPLIERS[0], c0), _MULTIPLIERS[0] * c0
        high1, low1 = _high(_MULTIPLIERS[1], c2), _MULTIPLIERS[1] * c2
        c0, c1, c2, c3 = high1 ^ c1 ^ k0, low1, high0 ^ c3 ^ k1, low0
        k0 += _BUMPS[0]
        k1 += _BUMPS[1]
    return _in_unit(c0), _in_unit(c1)


@reach.inner
def lineage_of(visit):
    """The attempt numbers of all visits on the path from the user down to this one, in one number."""
    return visit.lineage * np.int64(128) + visit.attempt


@reach.seldom
def _in_unit(word):
    return np.float64(word >> np.uint64(11)) * (1.0 / 9007199254740992.0)
