"""Requests and calls of the readable data plane, and their attempts."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from libramen.engine.border.specs import ClientSpec

if TYPE_CHECKING:
    from libramen.engine.plain.replica import Pool, Replica

_WORD = (1 << 64) - 1


@dataclass(eq=False)
class Errand:
    """A request of the trace, or a call: what its attempts have in common. A copy, so that it outlives its chunk."""

    id: int  # of the request
    client: ClientSpec
    client_number: int
    server: int  # the service that it visits: in its first region
    cpu_s: float
    wait_s: float
    route: int = 0
    visitor: int = -1
    bytes_out: float = 0.0
    given_s: tuple[float, ...] = ()
    origin: int = 0  # where it comes from: a row of `Places.trips_s`
    place: int = 0  # in the tree of all calls that a request could make
    lineage: int = 0  # attempt numbers of all visits from the user down to its caller
    first_s: float = math.nan  # when its first attempt arrived
    caller: Attempt | None = None  # who waits for its end
    abandoned: bool = False  # whoever waited for it is gone
    connection: Pool | None = None  # it has one of these
    queues_for: Pool | None = None  # it waits for one of these
    queued_at_s: float = math.nan
    planned: int = 0
    last: Attempt | None = None  # its latest attempt
    has_ended_as: int = 0  # that one
    ended_at: int = 0  # by which replica, 0: none

    @property
    def is_call(self) -> bool:
        """Whether another service makes it."""
        return self.client.calls


@dataclass(eq=False)
class Attempt:
    """One attempt of an errand, a visit: what the balancer and a replica deal with."""

    errand: Errand
    number: int  # 1 for the first
    at_s: float  # its own arrival
    order: int  # among all attempts, by arrival
    server: int  # that has it
    spent_s: np.ndarray = field(default_factory=lambda: np.zeros(0))  # where the time of its calls went
    given_up: bool = False  # its client has gone: nobody waits for it
    replica: Replica | None = None  # where it has a slot
    slot_at_s: float | None = None  # when it took its slot
    turn_at_s: float | None = None  # when its CPU work began
    slower: float = 1.0  # by how much more CPU work it had then, on a replica that was not warm
    done_s: float = 0.0  # of it up to now
    cpu_left_s: float | None = None  # CPU work still to do on a core of speed 1; None before its first turn
    wait_ends_s: float | None = None  # None while it has CPU work to do, or calls
    answered_s: float = math.nan  # when its answer reaches its caller
    side: int = 0  # of its service, which got it
    turned_away: list[int] = field(default_factory=list)  # by these servers, in turn
    trip_s: float = 0.0  # round trips of its answer
    finds_none: bool = False  # whoever sent it knows of no region that is open
    is_silent: bool = False  # it hears nothing, and will give up
    fails: bool = False  # by itself, without CPU work
    ended_s: float = math.inf  # for whoever judges a version: when, if that was before its time-out
    has_failed: bool = False
    # While it calls.
    is_calling: bool = False
    left_s: float = 0.0  # what is left of its wait beside its calls
    step: int = 0  # which call is next
    nth: int = 0  # and which time
    group: int = -1  # that the calls belong to that it waits for
    group_s: float = 0.0  # when it began to wait for these
    has_waited: bool = False  # for a call
    calls: list[Errand] = field(default_factory=list)  # that it waits for
    called_s: float = 0.0
    connecting_s: float = 0.0

    @property
    def lineage(self) -> int:
        """The attempt numbers of all visits from the user down to this one, in one number."""
        return (self.errand.lineage * 128 + self.number) & _WORD
