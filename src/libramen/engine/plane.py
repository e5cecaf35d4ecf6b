"""What the two data planes share: the words of the border between data plane and control plane.

A data plane lets requests arrive, be balanced, queue, be served and end. The control plane tells it
which replicas there are, and asks it to `advance` to the next instant at which it must act. There
are two: `kernel` (compiled) and `plain` (readable); they share this vocabulary and no code.
"""

from __future__ import annotations

import math
from enum import IntEnum
from typing import TYPE_CHECKING, Final, NamedTuple, Protocol, Self

import numpy as np

if TYPE_CHECKING:
    from libramen.study.plan import Plan
    from libramen.study.service import Service


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


_NO_ROUTES: Final = np.zeros(0, np.int32)
_NO_BYTES: Final = np.zeros(0)


class Chunk(NamedTuple):
    """A stretch of arrivals: C-contiguous arrays of one length, times ascending.

    `route` and `bytes_out` are there only where requests are not kept. `first` is the number (from 0) of
    its first request in the whole trace, `last` says whether the trace ends with it.
    """

    at_s: np.ndarray  # float64
    cpu_s: np.ndarray  # float64
    wait_s: np.ndarray  # float64
    route: np.ndarray = _NO_ROUTES  # int32
    bytes_out: np.ndarray = _NO_BYTES  # float64
    first: int = 0
    last: bool = True


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


class ServerSpec(NamedTuple):
    """What a data plane must know about the service, the size, the tier and the balancer."""

    slots: int
    threads: int
    backlog: int  # -1: no limit
    cores: float
    speed: float = 1.0
    balancer: str = "least_busy"
    overhead_s: float = 0.0
    timeout_s: float = math.inf  # infinity: none
    drops: bool = False
    retries: int = 0
    retry_after_s: float = 1.0
    retry_jitter: float = 0.0
    warm_up_s: float = 0.0
    warm_up_factor: float = 1.0
    memory: int = -1  # bytes, -1: no limit
    memory_base: int = 0
    memory_per_request: int = 0
    steady_cores: float = math.inf  # infinity: CPU is not lent
    bank: float = 0.0  # core-seconds
    bank_at_start: float = 0.0
    holds_requests: bool = False
    queue_limit: int = -1  # -1: no limit
    detect_s: float = 0.0
    logs_answers: bool = False  # for a rule that looks at latencies
    meters: bool = False  # when each replica is in use: for bills by use, or for replicas that become idle
    granularity_s: float = 0.0  # to whole numbers of this a period of use is rounded up; 0: it is not
    seed: int = 0
    forced: bool = False  # a request leaves at the instant `wait_s`; `cpu_s` is the share of its turn in what is left

    @property
    def lends_cpu(self) -> bool:
        """Whether the cores are only lent."""
        return math.isfinite(self.steady_cores)

    @classmethod
    def of(cls, service: Service, plan: Plan, seed: int = 0, *, forced: bool = False) -> ServerSpec:
        """Gather it from the tables of a study."""
        tier, size = plan.tier, plan.size
        return cls(
            slots=service.slots,
            threads=service.threads_used,
            backlog=_or_none(service.backlog),
            cores=size.cores,
            speed=size.speed,
            balancer=plan.balancer,
            overhead_s=tier.overhead,
            timeout_s=math.inf if service.timeout is None else service.timeout,
            drops=service.on_timeout == "drop",
            retries=service.retries,
            retry_after_s=service.retry_after,
            retry_jitter=service.retry_jitter,
            warm_up_s=service.warm_up if service.warm_up_factor != 1 else 0.0,
            warm_up_factor=service.warm_up_factor,
            memory=_or_none(size.memory),
            memory_base=service.memory_base,
            memory_per_request=service.memory_per_request,
            steady_cores=math.inf if size.steady_cores is None else size.steady_cores,
            bank=size.bank or 0.0,
            bank_at_start=size.bank_at_start_used,
            holds_requests=tier.holds_requests,
            queue_limit=_or_none(tier.queue_limit),
            detect_s=tier.detect,
            logs_answers=plan.scaling.needs.latency,
            meters=tier.billing == "per_request" or plan.scaling.needs.idle,
            granularity_s=tier.granularity,
            seed=seed,
            forced=forced,
        )


def _or_none(limit: int | None) -> int:
    return -1 if limit is None else limit


class Ended(NamedTuple):
    """Some requests that have ended: arrays of one length, in the order in which they ended."""

    latency_s: np.ndarray  # float64 [s], from the first attempt to the end
    queued_s: np.ndarray  # float64 [s], without a slot in the last attempt
    before_s: np.ndarray  # float64 [s], from the first attempt to the last
    replica: np.ndarray  # int32, number of the last attempt's replica, 0: none
    ending: np.ndarray  # uint8, code of the Ending
    attempts: np.ndarray  # uint8
    id: np.ndarray  # int64
    at_s: np.ndarray  # float64 [s], first arrival
    cpu_s: np.ndarray  # float64
    wait_s: np.ndarray  # float64
    bytes_out: np.ndarray  # float64
    route: np.ndarray  # int32


RESULT: Final = np.dtype(
    [
        ("latency_s", "f8"),
        ("queued_s", "f8"),
        ("before_s", "f8"),
        ("replica", "i4"),
        ("ending", "u1"),
        ("attempts", "u1"),
        ("padding", "u2"),
    ]
)
"""What became of a request: the first six of `Ended`, 32 bytes."""


class Results:
    """What became of each request: one record a request, in order of arrival.

    Attributes:
        records: RESULT (n,); its columns are also attributes: `latency_s`, `queued_s`, `before_s`,
            `replica`, `ending`, `attempts`, as in `Ended`.
    """

    def __init__(self, records: np.ndarray) -> None:
        self.records = records
        self.latency_s = records["latency_s"]
        self.queued_s = records["queued_s"]
        self.before_s = records["before_s"]
        self.replica = records["replica"]
        self.ending = records["ending"]
        self.attempts = records["attempts"]

    @classmethod
    def of(cls, n: int) -> Self:
        """Room for n requests."""
        return cls(np.zeros(n, RESULT))

    def __len__(self) -> int:
        return len(self.records)

    def __reduce__(self) -> tuple[type[Self], tuple[np.ndarray]]:
        return type(self), (self.records,)


class DataPlane(Protocol):
    """What the control plane asks of a data plane. Times are seconds from the start of the trace.

    It is made with the `ServerSpec` and with what becomes of ended requests: `Results` to be filled, or,
    where requests are not kept, a function that is given them some at a time (`Ended`).
    """

    @property
    def now_s(self) -> float:
        """The instant at which `advance` came back with `Signal.CONTROL`."""

    @property
    def last_s(self) -> float:
        """The instant of the latest event."""

    @property
    def held(self) -> int:
        """Requests in the shared or held queue."""

    def hand_in(self, chunk: Chunk, edges_s: np.ndarray) -> None:
        """Take the next stretch of arrivals, and all the edges of windows up to its end, those before too."""

    def advance(self, until_s: float) -> Signal:
        """Let everything happen that comes before a control event at `until_s`."""

    def add(self, number: int, now_s: float, *, warm: bool = False) -> None:
        """A replica becomes ready, perhaps again: the balancer may send to it. `warm`: it is not slower at first."""

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new requests. Returns whether it is empty already."""

    def withdraw(self, number: int, now_s: float) -> None:
        """The balancer learns that a replica is dead, and sends it nothing more."""

    def remove(self, number: int, now_s: float) -> None:
        """A replica is gone, if it was ever there; what is left in it is cut."""

    def dismiss_held(self, now_s: float) -> None:
        """Nothing will ever take the requests that are held: they end by their time-out, or as refused."""

    def take_notices(self) -> Notices | None:
        """What has happened since this was last asked that the control plane must know; None: nothing."""

    def take_killed(self) -> list[int]:
        """Numbers of the replicas that have died since this, or `take_notices`, was last asked."""

    def ask(self, coming_slots: int | None) -> None:
        """Come back with CONTROL when an attempt arrives and no slot is left for it; None: never.

        That is when the free slots of ready replicas and the `coming_slots` of those on their way are not more
        than the requests that wait. It comes back just before the attempt, and once for each.
        """

    def idle_since_s(self, number: int) -> float:
        """Since when a ready replica has had no request [s]; infinity: it has one. Where use is metered."""

    def tell_idle(self, number: int) -> None:
        """Come back with CONTROL when this replica, which has a request, becomes idle."""

    @property
    def waiting(self) -> int:
        """Requests that wait now, at ready replicas or in the shared or held queue."""

    def sample(self, at_s: float) -> Sample:
        """What rules look at, up to `at_s`, which is not before the last event. Changes nothing."""

    def answers(self, first: int, last: int) -> np.ndarray:
        """Latencies of the ok answers `first` to `last - 1`, counted from 0: float64 [s]; then forget those before.

        Each is that of its own attempt.
        """

    def integrals(self, at_s: float) -> Integrals:
        """The integrals up to `at_s`, which is not before the last event. Changes nothing."""

    def core_s(self, number: int, at_s: float) -> float:
        """Core-seconds that a replica which is not gone has used up to `at_s`."""

    def billed(self, at_s: float) -> float:
        """For how long replicas were in use up to `at_s`, each period that is over rounded up, where metered.

        A replica is in use while a request holds a slot of it. Counted in units of the granularity, so that what is
        rounded to it is a whole number; without one in seconds.
        """

    def series(self) -> np.ndarray:
        """Float64 (k, 4): the integrals cpu, in_progress, waiting, throttled at the k edges handed in last."""

    @property
    def turns(self) -> np.ndarray:
        """Float64 (n, 3), where departures are forced: of each request when its CPU work began and ended [s].

        And how much of it was done [core-seconds of a warm replica]. NaN: it had none.
        """

    def finished(self) -> bool:
        """Whether the trace ends with this chunk and all its requests have ended."""

    def flush(self) -> None:
        """Hand over what has ended, where requests are not kept."""
