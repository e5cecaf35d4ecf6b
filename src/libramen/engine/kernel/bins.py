"""The bins in which latencies are counted, and what is summed up: what `counting` and its readers agree on.

Nothing is compiled here, so that whoever only reads counts need not load the compiler.
"""

from __future__ import annotations

from typing import Final

import numpy as np

LEAST_S: Final = 1e-9
"""Latencies up to this count as 0 [s]."""


def _bins_up_to(most_s: float, shift: int) -> tuple[int, int]:
    """Bins by the leading bits of a float64, which are in the order of the numbers: the bits of bin 0, how many bins.

    Bin 0 is up to `LEAST_S`, the last is all above `most_s`.
    """
    base = int(np.float64(LEAST_S).view(np.int64) >> shift)
    return base, int(np.float64(most_s).view(np.int64) >> shift) - base + 2


SHIFT: Final = 45
BASE, BINS = _bins_up_to(1e9, SHIFT)
"""Seven bits of the mantissa: a bin is at most 1 / 128 wide, and its middle at most 0.39 % from anything in it."""

FINE_SHIFT: Final = 40
FINE_BASE, FINE_BINS = _bins_up_to(1e12, FINE_SHIFT)
"""Twelve bits: to find ranks exactly, by sorting only what is in the bins in which they lie."""

N_SUMS: Final = 10
LATENCY, MOST, RETRIED, QUEUED, CPU, SLOWED, CONNECTING, CALLED, WAITING, OVERHEAD = range(N_SUMS)
"""What is summed up over ok requests; MOST is the greatest latency."""
