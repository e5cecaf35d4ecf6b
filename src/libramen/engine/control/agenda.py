"""The control plane's event queue, with a total order for what happens at one instant."""

from __future__ import annotations

import heapq
import math
from collections.abc import Callable
from enum import IntEnum
from typing import TYPE_CHECKING, Any, Final

from libramen.base.times import tolerance_s
from libramen.engine.replica import Process, Replica

if TYPE_CHECKING:
    Action = Callable[..., None]


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
    """Events to come, by time; those of one instant by kind, then number, then order of entry.

    What is to happen is a method and what it is about, and no closure, so that an agenda can be copied and compared.
    """

    def __init__(self) -> None:
        self._later: list[tuple[float, int, int, int, Action, tuple[Any, ...], bool]] = []
        self._now: list[tuple[int, int, int, Action, tuple[Any, ...], bool]] = []
        self._now_s = self._same_s = -math.inf  # the present instant, and what is before this is at it, too
        self._entered = 0  # so many events were entered so far
        self._to_do = 0  # events that something may wait for
        self.acted_s = 0.0
        """The instant of the latest event that counted."""

    def add(
        self, at_s: float, kind: Kind, action: Action, number: int = 0, *about: object, counts: bool = True
    ) -> None:
        """Enter an event; `action` is called with the instant at which it happens, and with what it is `about`.

        `counts`: as long as it is to come, something is left to happen; samples and decisions never count.
        """
        self._entered += 1
        counts = counts and kind not in _RECURRING
        self._to_do += counts
        if at_s < self._same_s:
            heapq.heappush(self._now, (kind, number, self._entered, action, about, counts))
        else:
            heapq.heappush(self._later, (at_s, kind, number, self._entered, action, about, counts))

    def next_s(self) -> float:
        """The time of the next event; infinity if there is none."""
        if self._now:
            return self._now_s
        return self._later[0][0] if self._later else math.inf

    @property
    def goes_on(self) -> bool:
        """Whether something more is to happen at the present instant."""
        return bool(self._now)

    def comparable(self, _now_s: float) -> list[object]:
        """What is to come, in order, but for what nothing comes of any more: see `sameness`."""
        return [
            [at_s, kind, action, about, counts]
            for at_s, kind, _, _, action, about, counts in sorted(self._later, key=lambda event: event[:4])
            if not any(_is_gone(one) for one in about)
        ]

    @property
    def only_recurs(self) -> bool:
        """Whether nothing is to come that anything may wait for: samples and decisions never end by themselves."""
        return not self._to_do

    def run(self, now_s: float) -> None:
        """Let the first event that is due at this instant happen: what it makes due may come before the next."""
        self._now_s, self._same_s = now_s, now_s + tolerance_s(now_s)
        while self._later and self._later[0][0] < self._same_s:
            heapq.heappush(self._now, heapq.heappop(self._later)[1:])
        if self._now:
            self._happen(now_s, *heapq.heappop(self._now)[3:])

    def _happen(self, now_s: float, action: Action, about: tuple[Any, ...], counts: bool) -> None:
        self._to_do -= counts
        if counts and not any(map(_is_gone, about)):  # else nothing comes of it, such as the limit of a drain
            self.acted_s = now_s
        action(now_s, *about)


def _is_gone(one: object) -> bool:
    return (isinstance(one, Replica) and one.stage == "gone") or (isinstance(one, Process) and not one.is_there)


class ServiceAgenda:
    """The agenda as one service enters its events: of one kind they come by service, then by number.

    Args:
        agenda: that of all services.
        service: number of this one.
    """

    def __init__(self, agenda: Agenda, service: int) -> None:
        self._agenda, self._first = agenda, service << _NUMBERS

    def add(
        self, at_s: float, kind: Kind, action: Action, number: int = 0, *about: object, counts: bool = True
    ) -> None:
        """Enter an event; see `Agenda.add`."""
        self._agenda.add(at_s, kind, action, self._first + number, *about, counts=counts)
