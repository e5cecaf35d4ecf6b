"""What the two data planes share: the words of the border between data plane and control plane.

A data plane lets requests arrive, be balanced, queue, be served and end. The control plane tells it
which replicas there are, and asks it to `advance` to the next instant at which it must act. There
are two: `kernel` (compiled) and `plain` (readable); they share this vocabulary and no code.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import IntEnum
from typing import TYPE_CHECKING, Final, NamedTuple, Protocol

import numpy as np

if TYPE_CHECKING:
    from libramen.study.service import Service, Size

EPSILON_S: Final = 1e-9
"""Instants less than this apart count as one [s]."""


class Ending(IntEnum):
    """The six ways in which a request can end."""

    OK = 0
    REFUSED = 1
    TIMED_OUT = 2
    LOST = 3
    CUT = 4
    ERRORED = 5


ENDINGS: Final = tuple(ending.name.lower() for ending in Ending)
"""The names of the endings, in the order of their codes."""


class Signal(IntEnum):
    """Why `advance` came back."""

    CONTROL = 0  # the control plane must act at `now_s`: `until` is reached, or a draining replica is empty
    CHUNK = 1  # all arrivals of this chunk have happened: hand in the next one
    ENDED = 2  # every request has ended and there was no `until` to wait for


class Chunk(NamedTuple):
    """A stretch of arrivals: C-contiguous float64 arrays of one length, times ascending.

    `first` is the number (from 0) of its first request in the whole trace, `last` says whether the
    trace ends with it.
    """

    at_s: np.ndarray
    cpu_s: np.ndarray
    wait_s: np.ndarray
    first: int = 0
    last: bool = True


class Integrals(NamedTuple):
    """Integrals over time since 0, in replica-seconds of the thing named.

    The `ready_` ones cover ready replicas only (what scaling rules may see), the others the
    draining ones too (what is reported).
    """

    ready_cpu: float
    ready_in_progress: float
    ready_waiting: float
    cpu: float
    in_progress: float
    waiting: float


class ServerSpec(NamedTuple):
    """What a data plane must know about the service, the size and the balancer."""

    slots: int
    threads: int
    backlog: int  # -1: no limit
    cores: float
    speed: float
    balancer: str
    overhead_s: float
    timeout_s: float  # infinity: none

    @classmethod
    def of(cls, service: Service, size: Size, balancer: str, overhead_s: float) -> ServerSpec:
        """Gather it from the tables of a study."""
        return cls(
            slots=service.slots,
            threads=service.threads_used,
            backlog=-1 if service.backlog is None else service.backlog,
            cores=size.cores,
            speed=size.speed,
            balancer=balancer,
            overhead_s=overhead_s,
            timeout_s=np.inf if service.timeout is None else service.timeout,
        )


@dataclass
class Results:
    """What became of each request: arrays of length n, in order of arrival (22 bytes a request)."""

    n: int
    ending: np.ndarray = field(init=False)  # uint8, code of the Ending
    latency_s: np.ndarray = field(init=False)  # float64 [s], from the first attempt to its end
    queued_s: np.ndarray = field(init=False)  # float64 [s], without a slot in the last attempt
    replica: np.ndarray = field(init=False)  # int32, number of the last attempt's replica, 0: none
    attempts: np.ndarray = field(init=False)  # uint8

    def __post_init__(self) -> None:
        self.ending = np.zeros(self.n, np.uint8)
        self.latency_s = np.full(self.n, np.nan)
        self.queued_s = np.full(self.n, np.nan)
        self.replica = np.zeros(self.n, np.int32)
        self.attempts = np.zeros(self.n, np.uint8)


class DataPlane(Protocol):
    """What the control plane asks of a data plane. Times are seconds from the start of the trace."""

    @property
    def now_s(self) -> float:
        """The instant at which `advance` came back with `Signal.CONTROL`."""

    def advance(self, chunk: Chunk, until_s: float) -> Signal:
        """Let everything happen that comes before a control event at `until_s`."""

    def add(self, number: int, now_s: float) -> None:
        """A replica becomes ready: the balancer may send to it."""

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new requests. Returns whether it is empty already."""

    def remove(self, number: int, now_s: float, ending: Ending) -> None:
        """A replica is gone; what is left in it ends so."""

    def take_emptied(self) -> list[int]:
        """Numbers of the draining replicas that have emptied since this was last asked."""

    def integrals(self, at_s: float) -> Integrals:
        """The integrals up to `at_s`, which is not before the last event. Changes nothing."""

    def series(self) -> np.ndarray:
        """Float64 (k, 3): the integrals cpu, in_progress, waiting at the k edges that it was made with."""

    def finished(self, chunk: Chunk) -> bool:
        """Whether the trace ends with this chunk and all its requests have ended."""

    def results(self) -> Results:
        """What is known of each request so far."""
