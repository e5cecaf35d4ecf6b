"""Instants and routes of logged requests, as the estimates of their work need them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np


def in_system(at_s: np.ndarray, latency_s: np.ndarray) -> np.ndarray:
    """How many requests each found in the system when it arrived: float64 (n,); the arrivals in any order [s]."""
    before = np.searchsorted(np.sort(at_s), at_s, side="left")
    gone = np.searchsorted(np.sort(at_s + latency_s), at_s, side="right")
    return np.asarray(before - gone, np.float64)


def drawn_in_order(leaves_s: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Instants drawn anew within their second, in their order, as a reader draws them: float64 (n,) [s]."""
    order = np.argsort(leaves_s, kind="stable")
    drawn_s = np.empty(len(leaves_s))
    drawn_s[order] = np.sort(np.floor(leaves_s[order] + 1e-9) + rng.random(len(leaves_s)))
    return drawn_s


def evened(leaves_s: np.ndarray, server: np.ndarray | None = None) -> np.ndarray:
    """Instants in the middle of equal parts of their second, in order: float64 (n,) [s]; each server by itself."""
    spread = np.empty(len(leaves_s))
    for rows in [np.arange(len(leaves_s))] if server is None else rows_by_route(server):
        order = rows[np.argsort(leaves_s[rows], kind="stable")]
        second = np.floor(leaves_s[order] + 1e-9)
        first = np.searchsorted(second, second, side="left")
        count = np.searchsorted(second, second, side="right") - first
        spread[order] = second + (np.arange(len(second)) - first + 0.5) / count
    return spread


def by_route(route: np.ndarray) -> Iterator[tuple[int, np.ndarray]]:
    """Each route and its rows, in their order."""
    order = np.argsort(route, kind="stable")
    bounds = np.searchsorted(route[order], np.arange(int(route.max()) + 2))
    for code in range(len(bounds) - 1):
        if bounds[code] < bounds[code + 1]:
            yield code, order[bounds[code] : bounds[code + 1]]


def rows_by_route(route: np.ndarray) -> Iterator[np.ndarray]:
    """The rows of each route, in their order."""
    for _, rows in by_route(route):
        yield rows
