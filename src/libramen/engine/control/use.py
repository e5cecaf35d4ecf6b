"""For how long replicas were in use, hour by hour: for tiers that are billed by it."""

from __future__ import annotations

from typing import Final

import numpy as np

from libramen.base.times import into_hour_s
from libramen.engine.control.agenda import Kind
from libramen.engine.control.replaying import Part, Replay

_HOUR_S: Final = 3600.0


class UseMeter(Part):
    """Reads the meter of the data plane at every hour of the clock and at the end of the span."""

    HISTORY = frozenset({"_billed", "_lasted_s"})

    def __init__(self, replay: Replay) -> None:
        self._plane, self._agenda = replay.plane, replay.agenda
        self._billed, self._lasted_s = [0.0], [0.0]
        self._is_over = False
        self._agenda.add(_HOUR_S - into_hour_s(replay.start), Kind.SAMPLE, self._read)

    def _read(self, now_s: float) -> None:
        if not self._is_over:
            self._write_down(now_s)
            self._agenda.add(now_s + _HOUR_S, Kind.SAMPLE, self._read)

    def span_is_over(self, now_s: float) -> None:
        """What is in use from now on is not part of it."""
        if not self._is_over:
            self._write_down(now_s)
            self._is_over = True

    def _write_down(self, now_s: float) -> None:
        self._billed.append(self._plane.billed(now_s))
        self._lasted_s.append(self._plane.lasted_s(now_s))

    def per_hour(self) -> np.ndarray:
        """In use in each hour of the clock since the start, the first and last perhaps not whole: float64 (k,).

        In units of the granularity, without one in seconds.
        """
        return np.diff(self._billed)

    def lasted_per_hour(self) -> np.ndarray:
        """The same, not rounded [s]."""
        return np.diff(self._lasted_s)
