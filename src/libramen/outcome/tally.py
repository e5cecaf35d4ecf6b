"""Hands visits that have ended to what counts them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from libramen.engine.border.records import Ended
from libramen.outcome.counted_requests import CountedRequests


class Tally:
    """See `simulation.Sink`.

    Args:
        requests: counts the requests of the trace; None: they are kept.
        visits: counts the visits of each service, where there are several; else empty.
    """

    def __init__(self, requests: CountedRequests | None, visits: Sequence[CountedRequests]) -> None:
        self._requests, self._visits = requests, visits

    def arrived(self, at_s: np.ndarray) -> None:
        """Some more requests are going to arrive at these times: float64 (n,) [s]."""
        if self._requests is not None:
            self._requests.arrived(at_s)

    def take(self, ended: Ended) -> None:
        """Some visits have ended."""
        for number, counts in enumerate(self._visits):
            rows = np.flatnonzero(ended.server == number)
            if len(rows):
                counts.take(type(ended)(*(column[rows] for column in ended)))
        if self._requests is not None:
            if not self._visits:
                self._requests.take(ended)
                return
            rows = np.flatnonzero(ended.call < len(self._visits))  # of users
            if len(rows):
                self._requests.take(type(ended)(*(column[rows] for column in ended)))
