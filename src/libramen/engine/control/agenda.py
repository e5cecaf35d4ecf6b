"""The control plane's event queue, with a total order for what happens at one instant."""

from __future__ import annotations

import heapq
import math
from collections.abc import Callable
from enum import IntEnum
from itertools import count
from typing import TYPE_CHECKING, Final

from libramen.base.times import tolerance_s

if TYPE_CHECKING:
    Action = Callable[[float], None]


class Kind(IntEnum):
    """Kinds of control events, in the order in which they come at one instant."""

    SAMPLE = 0  # reads integrals and changes nothing, so its place does not matter
    READY = 1
    DRAIN_END = 2
    FAULT = 3  # or its detection
    ROLLOUT = 4
    IDLE = 5
    DECISION = 6


_RECURRING = (Kind.SAMPLE, Kind.DECISION)
_NUMBERS: Final = 40
"""Bits of the number of an event within its service."""


class Agenda:
    """Events to come, by time; those of one instant by kind, then number, then order of entry."""

    def __init__(self) -> None:
        self._later: list[tuple[float, int, int, int, Action, bool]] = []
        self._now: list[tuple[int, int, int, Action, bool]] = []
        self._same_s = -math.inf  # what is before this is at the present instant
        self._sequence = count()
        self._to_do = 0  # events that something may wait for
        self.acted_s = 0.0
        """The instant of the latest event that counted."""

    def add(self, at_s: float, kind: Kind, action: Action, number: int = 0, *, counts: bool = True) -> None:
        """Enter an event; `action` is called with the instant at which it happens.

        `counts`: as long as it is to come, something is left to happen; samples and decisions never count.
        """
        sequence = next(self._sequence)
        counts = counts and kind not in _RECURRING
        self._to_do += counts
        if at_s < self._same_s:
            heapq.heappush(self._now, (kind, number, sequence, action, counts))
        else:
            heapq.heappush(self._later, (at_s, kind, number, sequence, action, counts))

    def next_s(self) -> float:
        """The time of the next event; infinity if there is none."""
        return self._later[0][0] if self._later else math.inf

    @property
    def only_recurs(self) -> bool:
        """Whether nothing is to come that anything may wait for: samples and decisions never end by themselves."""
        return not self._to_do

    def run(self, now_s: float) -> None:
        """Let everything happen that is due at one instant, and what that causes at the same instant."""
        self._same_s = same_s = now_s + tolerance_s(now_s)
        if not self._now and self._later and self._later[0][0] < same_s:
            # Nearly always it is one event, and nothing to be sorted out.
            _, kind, number, sequence, action, counts = heapq.heappop(self._later)
            if not self._later or self._later[0][0] >= same_s:
                self._happen(action, now_s, counts)
            else:
                self._now.append((kind, number, sequence, action, counts))
        while self._later and self._later[0][0] < same_s:
            _, kind, number, sequence, action, counts = heapq.heappop(self._later)
            heapq.heappush(self._now, (kind, number, sequence, action, counts))
        while self._now:
            _, _, _, action, counts = heapq.heappop(self._now)
            self._happen(action, now_s, counts)

    def _happen(self, action: Action, now_s: float, counts: bool) -> None:
        if counts:
            self._to_do -= 1
            self.acted_s = now_s
        action(now_s)


class ServiceAgenda:
    """The agenda as one service enters its events: of one kind they come by service, then by number.

    Args:
        agenda: that of all services.
        service: number of this one.
    """

    def __init__(self, agenda: Agenda, service: int) -> None:
        self._agenda, self._first = agenda, service << _NUMBERS

    def add(self, at_s: float, kind: Kind, action: Action, number: int = 0, *, counts: bool = True) -> None:
        """Enter an event; `action` is called with the instant at which it happens."""
        self._agenda.add(at_s, kind, action, self._first + number, counts=counts)
