"""Percentiles by nearest rank: never interpolated, never a mean of percentiles."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

if TYPE_CHECKING:
    import numpy as np

PERCENTILES: Final = {"p50": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99, "p999": 0.999}


def rank_of(n: int, share: float) -> int:
    """The rank (from 0) of a percentile among n values in ascending order."""
    return max(0, math.ceil(share * n - 1e-9) - 1)


def nearest_rank(ascending: np.ndarray, share: float) -> float:
    """The percentile by nearest rank: the smallest value with at least `share` of all at or below it."""
    return float(ascending[rank_of(len(ascending), share)])
