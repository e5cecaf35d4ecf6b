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

from libramen.delays import Delay

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from libramen.study.plan import Hosting
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


_NO_CODES: Final = np.zeros(0, np.int32)
_NO_BYTES: Final = np.zeros(0)


class Chunk(NamedTuple):
    """A stretch of arrivals: C-contiguous arrays of one length n, times ascending.

    What nobody looks at may be empty: `route` where no call is for some routes only and all is kept, `server` with one
    service, `visitor` where nobody is pinned, `bytes_out` where all is kept. `first` is the number (from 0) of its
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


class ServerSpec(NamedTuple):
    """What a data plane must know about a service, its size, its tier and its balancer."""

    slots: int
    threads: int
    backlog: int  # -1: no limit
    cores: float
    speed: float = 1.0
    balancer: str = "least_busy"
    overhead_s: float = 0.0
    drops: bool = False
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
    forced: bool = False  # a request leaves at the instant `wait_s`; `cpu_s` is the share of its turn in what is left
    splits: bool = False  # traffic may be split between two sides of it, each of one version
    judges: bool = False  # the control plane wants to know how the attempts sent to a version ended
    errs: bool = False  # some attempts may fail by themselves
    replicas: int = 1  # at the beginning: for so many there is room at once

    @property
    def queues(self) -> bool:
        """Whether visits may wait for any replica: in a shared queue, or held."""
        return self.holds_requests or self.balancer == "shared_queue"

    @property
    def lends_cpu(self) -> bool:
        """Whether the cores are only lent."""
        return math.isfinite(self.steady_cores)

    @classmethod
    def of(cls, service: Service, hosting: Hosting, *, forced: bool = False) -> ServerSpec:
        """Gather it from the tables of a study."""
        tier, size = hosting.tier, hosting.size
        return cls(
            slots=service.slots,
            threads=service.threads_used,
            backlog=_or_none(service.backlog),
            cores=size.cores,
            speed=size.speed,
            balancer=hosting.balancer,
            overhead_s=tier.overhead,
            drops=service.on_timeout == "drop",
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
            detect_s=tier.detect_about,
            logs_answers=hosting.scaling.needs.latency,
            meters=tier.billing == "per_request" or hosting.scaling.needs.idle,
            granularity_s=tier.granularity,
            forced=forced,
            splits=any(rollout.splits for rollout in hosting.rollouts),
            judges=any(rollout.rollback_above is not None for rollout in hosting.rollouts),
            errs=not forced and hosting.may_err,
            replicas=hosting.replicas_used,
        )


def _or_none(limit: int | None) -> int:
    return -1 if limit is None else limit


class ClientSpec(NamedTuple):
    """Who makes visits to a service, and how: its users, or those visits of another service that call it.

    What comes after `retry_jitter` is of calls alone. One of them is an entry of a table of calls.
    """

    server: int  # whose visits these are
    caller: int = -1  # the service that calls, -1: users
    timeout_s: float = math.inf  # infinity: none
    retries: int = 0
    retry_after_s: float = 1.0
    retry_jitter: float = 0.0
    times: int = 1
    at_once: bool = False
    group: int = 0  # entries with one number are made at one instant
    awaited: bool = True
    goes_on: bool = False  # the visit does, when the call has failed
    share: float = 1.0
    source: str = ""  # of its work: "of_wait", "column", "drawn", or none
    of_wait: float = 0.0
    column: int = -1  # of the chunk's `given_s`
    cpu_factor: float = 0.0  # CPU work for each second of a share of the wait, or of a column
    wait_factor: float = 0.0
    cpu: Delay = Delay(0.0)  # CPU work [core-seconds], drawn for each call
    wait: Delay = Delay(0.0)
    pool: int = -1  # which of the pools of the replica that calls, -1: connections are without limit
    pool_limit: int = 0
    pool_timeout_s: float = math.inf
    place: int = 0  # in the tree of calls, of its first time, after the place of the visit that makes it
    places_each: int = 1  # that one time of it takes, with all that it calls itself

    @property
    def calls(self) -> bool:
        """Whether these are calls of another service."""
        return self.caller >= 0


class SystemSpec(NamedTuple):
    """All services of a replay, and who asks whom.

    Attributes:
        servers: the services, in the order of the study.
        clients: first the users of each service, then the calls, those of one service next to each other, in its order.
        columns: how many columns `given_s` of a chunk has.
        parts: where the time of each service's visits stands in `spent`, and where that of all that it calls ends: by
            depth first, so that what a service leads to stands next to it.
        spends: whether it is written down where the time of each request went.
        visitors: how many visitors there are, where some are pinned; else 0.
        codes: whether some call is made by requests of some routes only.
        seed: random seed.
    """

    servers: tuple[ServerSpec, ...]
    clients: tuple[ClientSpec, ...]
    columns: int = 0
    parts: tuple[tuple[int, int], ...] = ((0, 0),)
    spends: bool = False
    visitors: int = 0
    codes: bool = False
    seed: int = 0

    @property
    def has_calls(self) -> bool:
        """Whether some service calls another one."""
        return len(self.clients) > len(self.servers)

    @property
    def n_parts(self) -> int:
        """Figures of where the time of one request went; 0: they are not wanted."""
        return N_PARTS * len(self.servers) if self.spends else 0

    def calls_of(self, server: int) -> range:
        """Which of the clients are the calls that a service makes."""
        own = [number for number, client in enumerate(self.clients) if client.caller == server]
        return range(own[0], own[-1] + 1) if own else range(0)


PARTS: Final = ("retried", "queued", "cpu", "slowed", "connecting", "waiting", "overhead")
"""Where the time of an answered visit went: earlier attempts and pauses; without a slot; its CPU work, as if alone on a
warm replica; slowed down on the CPU; waiting for connections; waiting on its own; network and proxy. The rest is that
of the services that it called."""
N_PARTS: Final = len(PARTS)


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
    server: np.ndarray  # int32
    call: np.ndarray  # int16, number of the client


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

    @classmethod
    def of(cls, n: int, records: np.ndarray | None = None, *, services: int = 0) -> Self:
        """Room for n requests. `services`: of how many it is written down where the time went."""
        return cls(np.zeros(n, RESULT) if records is None else records, np.zeros((n, services, N_PARTS)))

    def __len__(self) -> int:
        return len(self.records)

    def __reduce__(self) -> tuple[type[Self], tuple[np.ndarray, np.ndarray]]:
        return type(self), (self.records, self.spent_s)


class Server(Protocol):
    """One service in a data plane, as the control plane sees it. Times are seconds from the start of the trace."""

    @property
    def held(self) -> int:
        """Visits in the shared or held queue."""

    @property
    def unsent(self) -> int:
        """Calls of this service that did not get a connection in time."""

    def add(
        self, number: int, now_s: float, *, warm: bool = False, profile: Profile = AS_WRITTEN, slower: float = 1.0
    ) -> None:
        """A replica becomes ready, perhaps again: the balancer may send to it.

        `warm`: it is not slower at first. `slower`: see `slow`.
        """

    def slow(self, number: int, factor: float) -> None:
        """CPU work that begins on a replica from now on is multiplied by this, until it is added again."""

    def depend(self, slower: float, errors: float) -> None:
        """What visits wait for: waits that begin from now on are multiplied; this share of attempts fails before."""

    def split(self, share: float, side: int, now_s: float) -> None:
        """From now on this share of all attempts goes to one side, and the others to the other.

        The k-th of them goes there when `floor(k * share + 1e-9)` is more than for the one before. A side without a
        ready replica leaves its attempts to the other one, and what waits for it as soon as that has one. Where
        `splits`.
        """

    def renew(self, side: int) -> None:
        """A new version comes to a side without a ready replica: its balancer begins anew."""

    def judge(self, version: int | None, *, sides: bool) -> None:
        """From now on it is written down how attempts sent to a version end; None stops recording. Where `judges`.

        Sent to: to its side, where traffic is split (`sides`), else to one of its replicas.
        """

    def judged(self, from_s: float, to_s: float) -> tuple[int, int]:
        """How many of those attempts ended after `from_s` up to `to_s`, which is now, and how many of these failed.

        An attempt ends when it is answered, refused, lost or cut, or at its time-out, of which those at `to_s` are not
        yet seen. Those that ended up to `from_s` are forgotten.
        """

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new visits. Returns whether it is empty already."""

    def fail(self, number: int, now_s: float, *, found: bool) -> None:
        """The process of a ready or draining replica dies: its visits are lost.

        `found`: the balancer knows at once, and sends it nothing more; else until `withdraw`. A draining replica gets
        nothing anyway.
        """

    def withdraw(self, number: int, now_s: float) -> None:
        """The balancer learns that a replica is dead, and sends it nothing more."""

    def remove(self, number: int, now_s: float) -> None:
        """A replica is gone, if it was ever there; what is left in it is cut."""

    def take_notices(self) -> Notices | None:
        """What has happened since this was last asked that the control plane must know; None: nothing."""

    def take_killed(self) -> list[int]:
        """Numbers of the replicas that have died since this, or `take_notices`, was last asked."""

    def ask(self, coming_slots: int | None) -> None:
        """Come back when an attempt arrives and no slot is left for it; None: never.

        That is when the free slots of ready replicas and the `coming_slots` of those on their way are not more
        than the visits that wait. It is told just before the attempt, once for each: for a request with CONTROL, for a
        call, which is sent within an event, by calling what `DataPlane.on_asked` was given.
        """

    def idle_since_s(self, number: int) -> float:
        """Since when a ready replica has had no visit [s]; infinity: it has one. Where use is metered."""

    def tell_idle(self, number: int) -> None:
        """Come back with CONTROL when this replica, which has a visit, becomes idle."""

    @property
    def waiting(self) -> int:
        """Visits that wait now, at ready replicas or in the shared or held queue."""

    def moved(self) -> np.ndarray:
        """Int64 (numbers,): how many visitors had to move from the replica of each number. Where they are pinned."""

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

        A replica is in use while a visit holds a slot of it. Counted in units of the granularity, so that what is
        rounded to it is a whole number; without one in seconds.
        """

    def series(self) -> np.ndarray:
        """Float64 (k, 4): the integrals cpu, in_progress, waiting, throttled at the k edges handed in last."""


class DataPlane(Protocol):
    """What the control plane asks of a data plane. Times are seconds from the start of the trace.

    It is made with the `SystemSpec` and with what becomes of what has ended: `Results` to be filled with requests, and
    a function that is given visits some at a time (`Ended`), where they are not kept or there are several services.
    """

    on_asked: Callable[[int, float], None]
    """Called with the number of a service and the instant, see `Server.ask`."""

    @property
    def servers(self) -> Sequence[Server]:
        """The services, in the order of the study."""

    @property
    def now_s(self) -> float:
        """The instant at which `advance` came back with `Signal.CONTROL`."""

    @property
    def last_s(self) -> float:
        """The instant of the latest event."""

    def hand_in(self, chunk: Chunk, edges_s: np.ndarray) -> None:
        """Take the next stretch of arrivals, and all the edges of windows up to its end, those before too."""

    def advance(self, until_s: float) -> Signal:
        """Let everything happen that comes before a control event at `until_s`."""

    def has_notices(self) -> bool:
        """Whether some server has notices."""

    def dismiss_held(self, servers: Sequence[int], now_s: float) -> None:
        """Nothing will ever take what these services hold: it ends by its time-out, or as refused, by arrival."""

    @property
    def turns(self) -> np.ndarray:
        """Float64 (n, 3), where departures are forced: of each request when its CPU work began and ended [s].

        And how much of it was done [core-seconds of a warm replica]. NaN: it had none.
        """

    def is_still(self) -> bool:
        """Whether nothing will happen any more unless the control plane does something."""

    def finished(self) -> bool:
        """Whether the trace ends with this chunk and all that arrived has ended."""

    def flush(self) -> None:
        """Hand over what has ended, where a function takes it."""
