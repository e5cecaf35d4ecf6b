"""Hands visits that have ended to what counts them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from libramen.engine.border.records import Ended
from libramen.outcome.counted_requests import CountedRequests
from libramen.outcome.crossings import Crossings


class Tally:
    """See `simulation.Sink`.

    Args:
        requests: counts the requests of the trace; None: they are kept.
        visits: counts the visits of some fleets, where there are several: their numbers, and what counts them.
        users: so many of the clients are users.
        crossings: counts what goes from region to region; None: places do not matter.
    """

    def __init__(
        self,
        requests: CountedRequests | None,
        visits: Sequence[tuple[Sequence[int], CountedRequests]],
        users: int,
        crossings: Crossings | None = None,
    ) -> None:
        self._requests, self._visits, self._users, self._crossings = requests, visits, users, crossings

    def arrived(self, at_s: np.ndarray) -> None:
        """Some more requests are going to arrive at these times: float64 (n,) [s]."""
        if self._requests is not None:
            self._requests.arrived(at_s)

    def take(self, ended: Ended) -> None:
        """Some visits have ended."""
        if self._crossings is not None:
            self._crossings.take(ended)
        for numbers, counts in self._visits:
            rows = np.flatnonzero(np.isin(ended.server, numbers))
            if len(rows):
                counts.take(type(ended)(*(column[rows] for column in ended)))
        if self._requests is not None:
            if not self._visits:
                self._requests.take(ended)
                return
            rows = np.flatnonzero(ended.call < self._users)
            if len(rows):
                self._requests.take(type(ended)(*(column[rows] for column in ended)))
