"""What a data plane must know of the services of a study, their users and their calls: a row a setting.

This file and what it imports are part of the compiled code's digest, so the tables of a study are not imported here.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import MISSING, dataclass, field, fields
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from libramen.engine.border.records import N_PARTS
from libramen.study.balancers import BALANCERS, Balancer

if TYPE_CHECKING:
    from libramen.study.hosting import Hosting
    from libramen.study.service import Service


def _is(of: Callable[[Service, Hosting], Any], default: Any = MISSING, *, lean: float | None = None) -> Any:
    """One setting: how it follows from the tables of a study.

    Args:
        of: of a service, and of what it runs on.
        default: where a data plane is made without a study.
        lean: its value where there is nothing of what it is about, which the lean variant of the kernel knows; None:
            any value will do there.
    """
    return field(default=default, metadata={"of": of, "lean": lean})


@dataclass(frozen=True)
class ServerSpec:
    """What a data plane must know about a service, its size, its tier and its balancer: a row a setting.

    A row is all that both data planes need to have it as `spec.NAME`, the kernel as `f.NAME` too.
    """

    slots: int = _is(lambda service, _: service.slots)
    threads: int = _is(lambda service, _: service.threads_used)
    backlog: int = _is(lambda service, _: _or_none(service.backlog))  # -1: no limit
    cores: float = _is(lambda _, hosting: hosting.cores)
    speed: float = _is(lambda _, hosting: hosting.size.speed, 1.0)
    balancer: str = _is(lambda _, hosting: hosting.balancer, "least_busy")
    overhead_s: float = _is(lambda _, hosting: hosting.tier.overhead, 0.0)
    drops: bool = _is(lambda service, _: service.on_timeout == "drop", False, lean=0)  # what is late takes no slot
    warm_up_s: float = _is(lambda service, _: service.warm_up if service.warm_up_factor != 1 else 0.0, 0.0, lean=0.0)
    warm_up_factor: float = _is(lambda service, _: service.warm_up_factor, 1.0)
    memory: int = _is(lambda _, hosting: _or_none(hosting.size.memory), -1)  # bytes, -1: no limit
    memory_base: int = _is(lambda service, _: service.memory_base, 0)
    memory_per_request: int = _is(lambda service, _: service.memory_per_request, 0)
    steady_cores: float = _is(lambda _, hosting: or_infinite(hosting.steady_cores), math.inf)
    """Of lent cores how many are earned all the time; infinity: CPU is not lent."""
    bank: float = _is(lambda _, hosting: hosting.size.bank or 0.0, 0.0)  # most that can be saved [core-seconds]
    bank_at_start: float = _is(lambda _, hosting: hosting.size.bank_at_start_used, 0.0)
    holds: bool = _is(lambda _, hosting: hosting.tier.holds_requests, False, lean=0)  # requests that find no room
    queue_limit: int = _is(lambda _, hosting: _or_none(hosting.tier.queue_limit), -1)  # -1: no limit
    detect_s: float = _is(lambda _, hosting: hosting.tier.detect_about, 0.0)
    logs: bool = _is(lambda _, hosting: hosting.scaling.needs.latency, False, lean=0)  # latencies of answers, for rules
    counts: bool = _is(lambda _, hosting: hosting.scaling.needs.rate, False, lean=0)  # calls of the latest instant
    meters: bool = _is(
        lambda _, hosting: hosting.tier.billing == "per_request" or hosting.scaling.needs.idle, False, lean=0
    )
    """It is written down when each replica is in use: for bills by use, or for replicas that become idle."""
    granularity_s: float = _is(lambda _, hosting: hosting.tier.granularity, 0.0)
    """To whole numbers of this a period of use is rounded up; 0: it is not."""
    splits: bool = _is(lambda _, hosting: any(rollout.splits for rollout in hosting.rollouts), False)
    """Traffic may be split between two sides of it, each of one version."""
    judges: bool = _is(lambda _, hosting: any(rollout.is_judged for rollout in hosting.rollouts), False, lean=0)
    """The control plane wants to know how the attempts sent to a version ended."""
    timed_s: float = _is(lambda _, hosting: _timed_s(hosting), 0.0, lean=0.0)
    """For so long it is kept how long ok attempts took, for releases that are judged by that."""
    errs: bool = _is(lambda _, hosting: hosting.may_err, False, lean=0)  # some attempts may fail by themselves
    replicas: int = _is(lambda _, hosting: hosting.replicas_used, 1)  # at the beginning: for so many there is room
    spills: bool = _is(lambda _, hosting: hosting.spill, False, lean=0)  # what it would refuse another region may take
    reroute_s: float = _is(lambda _, hosting: hosting.reroute, 0.0, lean=0.0)
    """So often visitors look which regions are open; 0: at every attempt."""
    forced: bool = _is(lambda _service, _hosting: False, False)
    """A request leaves at the instant `wait_s`; `cpu_s` is the share of its turn in what is left."""

    @property
    def balances(self) -> Balancer:
        """What there is to know of its balancer."""
        return BALANCERS[self.balancer]

    @property
    def queues(self) -> bool:
        """Whether visits may wait for any replica: in a shared queue, or held."""
        return self.holds or self.balances.queues

    @property
    def backlog_used(self) -> int:
        """Visits that may wait at a replica: none where they wait for any of them; -1: any number."""
        return 0 if self.queues else self.backlog

    @property
    def lends(self) -> bool:
        """Whether the cores are only lent."""
        return math.isfinite(self.steady_cores)

    @classmethod
    def of(cls, service: Service, hosting: Hosting, *, forced: bool = False) -> ServerSpec:
        """Gather it from the tables of a study."""
        found = {row.name: row.metadata["of"](service, hosting) for row in fields(cls)}
        return cls(**found | {"forced": forced, "errs": found["errs"] and not forced})


def _timed_s(hosting: Hosting) -> float:
    return max((rollout.watch for rollout in hosting.rollouts if rollout.rollback_slower is not None), default=0.0)


def _or_none(limit: int | None) -> int:
    return -1 if limit is None else limit


def or_infinite(limit: float | None) -> float:
    """A limit, or infinity where there is none."""
    return math.inf if limit is None else limit


@dataclass(frozen=True)
class ClientSpec:
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
    cpu_median_s: float = 0.0  # CPU work [core-seconds], drawn for each call
    cpu_sigma: float = 0.0
    wait_median_s: float = 0.0
    wait_sigma: float = 0.0
    pool: int = -1  # which of the pools of the replica that calls, -1: connections are without limit
    pool_limit: int = 0
    pool_timeout_s: float = math.inf
    place: int = 0  # in the tree of calls, of its first time, after the place of the visit that makes it
    places_each: int = 1  # that one time of it takes, with all that it calls itself

    @property
    def calls(self) -> bool:
        """Whether these are calls of another service."""
        return self.caller >= 0


class Places(NamedTuple):
    """Where users are and where fleets stand: a service has a server in each of its regions, next to each other.

    Attributes:
        first: of each server the first one of its service.
        regions: of each server how many its service has.
        origin: of each server the row of its region, as a caller.
        trips_s: float64 (origins, servers), round trips from the areas of users and then from the regions of callers
            to each server [s]: the nearest open one gets an attempt.
        ways_s: of the same shape, by how much that makes an answer later: so many of them as a request takes [s].
        outlives: of each server whether what is held outlives the loss of its region: nobody waits for its end.
    """

    first: tuple[int, ...]
    regions: tuple[int, ...]
    origin: tuple[int, ...]
    trips_s: np.ndarray
    ways_s: np.ndarray
    outlives: tuple[bool, ...] = ()


class SystemSpec(NamedTuple):
    """All services of a replay, and who asks whom.

    Attributes:
        servers: the services, in the order of the study, each in its regions.
        clients: first the users of each service, then the calls, those of one service next to each other, in its order.
        columns: how many columns `given_s` of a chunk has.
        parts: of each server where the time of its service's visits stands in `spent`, and where that of all that it
            calls ends: by depth first, so that what a service leads to stands next to it.
        spends: whether it is written down where the time of each request went.
        visitors: how many visitors there are, where some are pinned, or see late which regions are open; else 0.
        codes: whether some call is made by requests of some routes only.
        seed: random seed.
        places: where users and fleets are, None: that does not matter.
        edge_s: what a request takes that is answered before any fleet has it [s], None: none is.
    """

    servers: tuple[ServerSpec, ...]
    clients: tuple[ClientSpec, ...]
    columns: int = 0
    parts: tuple[tuple[int, int], ...] = ((0, 0),)
    spends: bool = False
    visitors: int = 0
    codes: bool = False
    seed: int = 0
    places: Places | None = None
    edge_s: float | None = None

    @property
    def has_calls(self) -> bool:
        """Whether some service calls another one."""
        return len(self.clients) > len(self.servers)

    @property
    def n_parts(self) -> int:
        """Figures of where the time of one request went; 0: they are not wanted."""
        return N_PARTS * len(set(self.parts)) if self.spends else 0

    def calls_of(self, server: int) -> range:
        """Which of the clients are the calls that a service makes."""
        own = [number for number, client in enumerate(self.clients) if client.caller == server]
        return range(own[0], own[-1] + 1) if own else range(0)
