"""The words of the border: what passes between the control plane, the data plane and what takes its results."""

from __future__ import annotations

from enum import IntEnum
from typing import Final, NamedTuple, Self

import numpy as np


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

    CONTROL = 0  # the control plane must act at `now_s`: `until` is reached, or a replica has emptied or died
    CHUNK = 1  # all arrivals of this chunk have happened: hand in the next one
    ENDED = 2  # every request has ended and there was no `until` to wait for


_NO_CODES: Final = np.zeros(0, np.int32)


_NO_BYTES: Final = np.zeros(0)


class Chunk(NamedTuple):
    """A stretch of arrivals: C-contiguous arrays of one length n, times ascending.

    What nobody looks at may be empty: `route` where no call is for some routes only and all is kept, `server` with one
    service, `visitor` where nobody is pinned or told of lost regions late, `bytes_out` where all is kept, `area` where
    there are no places. `first` is the number (from 0) of its
    first request in the whole trace, `last` says whether the trace ends with it.
    """

    at_s: np.ndarray  # float64
    cpu_s: np.ndarray  # float64
    wait_s: np.ndarray  # float64
    route: np.ndarray = _NO_CODES  # int32
    bytes_out: np.ndarray = _NO_BYTES  # float64
    first: int = 0
    last: bool = True
    server: np.ndarray = _NO_CODES  # int32: the service at which each arrives
    visitor: np.ndarray = _NO_CODES  # int32, -1: not known
    given_s: np.ndarray = _NO_BYTES  # float64 (n, columns): their work at other services, as the trace says
    applies: np.ndarray = _NO_CODES  # int64 (clients, routes): 1, requests of this route make this call
    area: np.ndarray = _NO_CODES  # int32: where each comes from, a row of `Places.trips_s`
    hit: np.ndarray = _NO_CODES  # int32: 1, it is answered at the edge


class Integrals(NamedTuple):
    """Integrals over time since 0, in replica-seconds of the thing named.

    The `ready_` ones cover ready replicas only (what scaling rules may see), the others the
    draining ones too (what is reported). `throttled`: replicas with an empty bank that could use more
    cores than they earn.
    """

    ready_cpu: float
    ready_in_progress: float
    ready_waiting: float
    cpu: float
    in_progress: float
    waiting: float
    throttled: float


class Sample(NamedTuple):
    """What scaling rules look at: integrals over the ready replicas as in `Integrals`, and counts since 0.

    Of one service. `attempts`: that its balancer has got.

    `answers`: ok answers given, counted only where a rule looks at latencies.
    """

    cpu: float
    in_progress: float
    waiting: float
    attempts: int
    answers: int


class Notices(NamedTuple):
    """What the control plane must know. The first three are numbers of replicas.

    `emptied`: draining ones that have emptied; `killed`: those that have died; `idled`: those that have
    fallen idle, of those asked about; `asked`: an attempt arrives next for which no slot is left.
    """

    emptied: list[int]
    killed: list[int]
    idled: list[int]
    asked: bool


class Profile(NamedTuple):
    """How the process of a replica differs from the service as written, and to which version it belongs."""

    version: int = 1
    side: int = 0  # of the two between which traffic may be split
    cpu_factor: float = 1.0  # of all CPU work
    memory_factor: float = 1.0  # of all memory used
    error_rate: float = 0.0  # this share of its attempts fails at the end of the CPU work


AS_WRITTEN: Final = Profile()


PARTS: Final = ("retried", "queued", "cpu", "slowed", "connecting", "waiting", "overhead")
"""Where the time of an answered visit went: earlier attempts and pauses; without a slot; its CPU work, as if alone on a
warm replica; slowed down on the CPU; waiting for connections; waiting on its own; network and proxy. The rest is that
of the services that it called."""


N_PARTS: Final = len(PARTS)

AT_THE_EDGE: Final = 0xFFFF
"""In the place of a server, of a request that met none."""


class Ended(NamedTuple):
    """Some visits that have ended: arrays of one length, in the order in which they ended."""

    latency_s: np.ndarray  # float64 [s], from the first attempt to the end
    queued_s: np.ndarray  # float64 [s], without a slot in the last attempt
    before_s: np.ndarray  # float64 [s], from the first attempt to the last
    replica: np.ndarray  # int32, number of the last attempt's replica, 0: none
    ending: np.ndarray  # uint8, code of the Ending
    attempts: np.ndarray  # uint8
    id: np.ndarray  # int64, of the request
    at_s: np.ndarray  # float64 [s], first arrival
    cpu_s: np.ndarray  # float64
    wait_s: np.ndarray  # float64; of an answered one beside its calls
    bytes_out: np.ndarray  # float64
    route: np.ndarray  # int32
    called_s: np.ndarray  # float64 [s], of an answered one in its calls, connections included
    connecting_s: np.ndarray  # float64 [s], of that waiting for connections
    server: np.ndarray  # int32, of the last attempt
    call: np.ndarray  # int16, number of the client
    trip_s: np.ndarray  # float64 [s], of an answered one its round trips, beside the overhead of the tier
    area: np.ndarray  # int32, where it comes from: a row of `Places.trips_s`; 0 without places


RESULT: Final = np.dtype(
    [
        ("latency_s", "f8"),
        ("queued_s", "f8"),
        ("before_s", "f8"),
        ("replica", "i4"),
        ("ending", "u1"),
        ("attempts", "u1"),
        ("server", "u2"),
    ]
)
"""What became of a request: the first six of `Ended` and the server of its last attempt, 32 bytes."""


class Results:
    """What became of each request: one record a request, in order of arrival.

    Attributes:
        records: RESULT (n,); its columns are also attributes: `latency_s`, `queued_s`, `before_s`,
            `replica`, `ending`, `attempts`, `server`, as in `Ended`.
        spent_s: float64 (n, services, PARTS), where the time of each answered request went, in that order of services
            that `SystemSpec.parts` says; of width 0 where that was not wanted [s].
    """

    def __init__(self, records: np.ndarray, spent_s: np.ndarray | None = None) -> None:
        self.records = records
        self.spent_s: np.ndarray = np.zeros((len(records), 0, N_PARTS)) if spent_s is None else spent_s
        self.latency_s = records["latency_s"]
        self.queued_s = records["queued_s"]
        self.before_s = records["before_s"]
        self.replica = records["replica"]
        self.ending = records["ending"]
        self.attempts = records["attempts"]
        self.server = records["server"]

    @classmethod
    def of(cls, n: int, records: np.ndarray | None = None, *, services: int = 0) -> Self:
        """Room for n requests. `services`: of how many it is written down where the time went."""
        return cls(np.zeros(n, RESULT) if records is None else records, np.zeros((n, services, N_PARTS)))

    def __len__(self) -> int:
        return len(self.records)

    def __reduce__(self) -> tuple[type[Self], tuple[np.ndarray, np.ndarray]]:
        return type(self), (self.records, self.spent_s)
