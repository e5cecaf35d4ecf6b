"""Routes: many paths folded to a few labels."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Final

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Sequence

MOST_ROUTES: Final = 200
REST: Final = "everything else"


def fold_path(path: str) -> str:
    """A path without its query, and with `{id}` for every part that is a number.

    Example:
        >>> fold_path("/bookings/1204/seats?deck=2")
        '/bookings/{id}/seats'
    """
    parts = path.partition("?")[0].split("/")
    return "/".join("{id}" if part.isdigit() else part for part in parts) or "/"


def gather(codes: np.ndarray, paths: Sequence[str]) -> tuple[np.ndarray, tuple[str, ...]]:
    """Fold distinct paths, and keep the routes with the most requests; the rest become one.

    Args:
        codes: int (n,), index into `paths` of each request.
        paths: distinct paths.

    Returns:
        int32 (n,) indices into the routes, and the routes in alphabetical order.
    """
    folded = [fold_path(path) for path in paths]
    requests = np.bincount(codes, minlength=len(paths))
    total: Counter[str] = Counter()
    for route, count in zip(folded, requests.tolist(), strict=True):
        total[route] += count
    kept = sorted(total, key=lambda route: (-total[route], route))
    if len(kept) > MOST_ROUTES:
        kept = [*kept[: MOST_ROUTES - 1], REST]
    routes = sorted(kept)
    index = {route: code for code, route in enumerate(routes)}
    lookup = np.array([index.get(route, index.get(REST, 0)) for route in folded], np.int32)
    return lookup[codes], tuple(routes)
