"""Percentiles by nearest rank: never interpolated, never a mean of percentiles."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Final

import numpy as np

from libramen.base.errors import OutputError

PERCENTILES: Final = {"p50": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99, "p999": 0.999}


def percentile_of(name: str) -> str:
    """The name of a percentile, as it stands there.

    Raises:
        OutputError: there is none that is called so.
    """
    if name not in PERCENTILES:
        raise OutputError(f"percentile: found {name!r}; allowed: {', '.join(PERCENTILES)}")
    return name


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


def weighted_percentiles(
    values: np.ndarray, weights: np.ndarray, shares: Sequence[float], whole: float | None = None
) -> list[float | None]:
    """Percentiles of values that count more or less: the smallest whose summed weight is at least a share of all.

    Args:
        values: float64 (n,), 0 or more.
        weights: float64 (n,), 0 or more.
        shares: which percentiles.
        whole: the weight of which the share is, where some of it has no value and comes last. Default: the sum.

    Returns:
        for each share the value, None: so much has none.

    Example:
        >>> weighted_percentiles(np.array([1.0, 2.0, 9.0]), np.array([1.0, 1.0, 8.0]), [0.1, 0.5])
        [1.0, 9.0]
    """
    there = weights > 0
    values, weights = values[there], weights[there]
    total = float(weights.sum()) if whole is None else whole
    wanted = np.array([max(0.0, share - _TOLERANCE) * total for share in shares])
    # The leading bits of a float64 are in the order of the numbers: only what shares them with a percentile is sorted.
    bins = values.view(np.int64) >> _SHIFT
    low = int(bins.min(initial=0))
    sums = np.cumsum(np.bincount(bins - low, weights=weights)) if len(values) else np.zeros(0)
    found: list[float | None] = []
    for target in wanted.tolist():
        place = int(np.searchsorted(sums, target))
        if place >= len(sums):
            # The last sum may fall short of the whole by its rounding.
            is_last = bool(len(values)) and target <= float(weights.sum()) * (1 + _TOLERANCE)
            found.append(float(values.max()) if is_last else None)
            continue
        inside = np.flatnonzero(bins == place + low)
        order = inside[np.argsort(values[inside], kind="stable")]
        before = float(sums[place - 1]) if place else 0.0
        at = int(np.searchsorted(before + np.cumsum(weights[order]), target))
        found.append(float(values[order[min(at, len(order) - 1)]]))
    return found


_TOLERANCE: Final = 1e-9
_SHIFT: Final = 44
