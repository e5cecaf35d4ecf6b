"""Bytes of answers that go from one region to another, as calls end."""

from __future__ import annotations

import numpy as np

from libramen.engine.border.records import Ended, Ending
from libramen.outcome.counts import grown
from libramen.study.system import System


class Crossings:
    """Counts, by hour of the clock since the start and by route, what fleets answer to callers in other regions.

    Args:
        system: which fleets call which.
        into_hour_s: how far into an hour the trace begins [s].
    """

    def __init__(self, system: System, into_hour_s: float) -> None:
        self._into_hour_s = into_hour_s
        self._users = len(system.hosted)
        regions = [one.region for one in system.hosted]
        places = {name: code for code, name in enumerate(dict.fromkeys(regions))}
        self._region = np.array([places[name] for name in regions])
        # Nobody has an answer from a queue.
        self._bytes = np.array([made.call.bytes * made.call.wait_for_it for made in system.calls], np.float64)
        self._caller = np.array([made.caller for made in system.calls], np.int64)
        self._sent = [np.zeros((1, 1)) for _ in system.hosted]

    def take(self, ended: Ended) -> None:
        """Some visits have ended."""
        if not self._bytes.any():
            return
        is_answer = (ended.call >= self._users) & ((ended.ending == Ending.OK) | (ended.ending == Ending.ERRORED))
        rows = np.flatnonzero(is_answer)
        call, server = ended.call[rows] - self._users, ended.server[rows]
        sent = self._bytes[call] * (self._region[self._caller[call]] != self._region[server])
        hour = ((ended.at_s[rows] + self._into_hour_s) // 3600).astype(np.int64)
        for number in np.unique(server[sent > 0]).tolist():
            mine = (server == number) & (sent > 0)
            route = ended.route[rows][mine] if len(ended.route) else np.zeros(np.count_nonzero(mine), np.int32)
            found = grown(self._sent[number], int(hour[mine].max()) + 1)
            found = grown(found, int(route.max()) + 1, axis=1)
            np.add.at(found, (hour[mine], route), sent[mine])
            self._sent[number] = found

    def of(self, number: int, like: np.ndarray) -> np.ndarray:
        """Bytes that a fleet has sent to other regions: float64 (hours, routes), as long and wide as `like`."""
        found = np.zeros_like(like)
        sent = self._sent[number][: len(like), : like.shape[1]]
        found[: len(sent), : sent.shape[1]] = sent
        return found
