"""Percentiles by nearest rank: never interpolated, never a mean of percentiles."""

from __future__ import annotations

import math
from typing import Final

import numpy as np

PERCENTILES: Final = {"p50": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99, "p999": 0.999}


def rank_of(n: int, share: float) -> int:
    """The rank (from 0) of a percentile among n values in ascending order."""
    return max(0, math.ceil(share * n - 1e-9) - 1)


def ranks_of(n: np.ndarray, share: float) -> np.ndarray:
    """The same for each of some numbers of values, counted from 1: int64."""
    return np.maximum(1, np.ceil(share * n - 1e-9)).astype(np.int64)


def nearest_rank(ascending: np.ndarray, share: float) -> float:
    """The percentile by nearest rank: the smallest value with at least `share` of all at or below it."""
    return float(ascending[rank_of(len(ascending), share)])


def by_group(values: np.ndarray, group: np.ndarray, n: int, *shares: float, least: int = 1) -> list[np.ndarray]:
    """Percentiles by nearest rank of the values of each of n groups.

    Args:
        values: float64 (k,).
        group: int (k,), to which group each belongs, from 0 to n - 1.
        n: how many groups there are.
        *shares: which percentiles.
        least: with fewer values a group has none.

    Returns:
        for each share float64 (n,), NaN: there are too few.

    Example:
        >>> by_group(np.array([3.0, 1.0, 2.0]), np.array([0, 0, 1]), 3, 0.5)
        [array([ 1.,  2., nan])]
    """
    ascending = values[np.lexsort((values, group))]
    count = np.bincount(group, minlength=n)
    first, there = np.cumsum(count) - count, count >= max(1, least)
    found = [np.full(n, np.nan) for _ in shares]
    for column, share in zip(found, shares, strict=True):
        column[there] = ascending[first[there] + ranks_of(count[there], share) - 1]
    return found
