"""What a data plane must know of the services of a study, their users and their calls."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

from libramen.base.delays import Delay
from libramen.base.errors import StudyError
from libramen.engine.border.records import N_PARTS
from libramen.study.plan import Hosting
from libramen.study.service import Service
from libramen.study.system import Made, System


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


_NOTHING = Delay(0.0)


def spec_of(
    system: System,
    *,
    seed: int,
    forced: bool = False,
    recorded_speed: float = 1.0,
    columns: Sequence[str] = (),
    visitors: int = 0,
    spends: bool = False,
) -> SystemSpec:
    """What a data plane must know.

    Args:
        system: the services and who asks whom.
        seed: random seed.
        forced: departures are, see `simulation.run`.
        recorded_speed: of the core on which the log was recorded.
        columns: of which services the trace says the work.
        visitors: how many there are in the trace.
        spends: whether it is written down where the time of each request went.

    Raises:
        StudyError: the work of a call is not known.
    """
    users = [_users(number, one.service) for number, one in enumerate(system.hosted)]
    calls = [_call(system, made, recorded_speed, columns) for made in system.calls]
    pins = any(one.hosting.balancer == "pinned" for one in system.hosted)
    return SystemSpec(
        servers=tuple(ServerSpec.of(one.service, one.hosting, forced=forced) for one in system.hosted),
        clients=(*users, *calls),
        columns=len(columns),
        parts=system.parts,
        spends=spends and bool(calls),
        visitors=visitors if pins else 0,
        codes=system.looks_at_routes,
        seed=seed,
    )


def _users(number: int, service: Service) -> ClientSpec:
    return ClientSpec(
        number,
        timeout_s=math.inf if service.timeout is None else service.timeout,
        retries=service.retries,
        retry_after_s=service.retry_after,
        retry_jitter=service.retry_jitter,
    )


def _call(system: System, made: Made, recorded_speed: float, columns: Sequence[str]) -> ClientSpec:
    call, callee = made.call, system.hosted[made.callee]
    source, column, share = "drawn", -1, callee.service.cpu_share
    if not call.has_own_work:
        source = "column" if call.of_wait is None else "of_wait"
        where = f"services.{system.hosted[made.caller].name}.calls: to {callee.name!r}"
        if source == "column":
            if callee.name not in columns:
                raise StudyError(
                    f"{where}: the trace has no column in_{callee.name}_s; allowed: such a column, or of_wait, or cpu "
                    "and wait"
                )
            column = list(columns).index(callee.name)
        if share is None:
            raise StudyError(
                f"{where}: its work must be split into CPU and wait; allowed: services.{callee.name}.cpu_share"
            )
    return ClientSpec(
        made.callee,
        made.caller,
        timeout_s=math.inf if call.timeout is None else call.timeout,
        retries=call.retries,
        retry_after_s=call.retry_after,
        retry_jitter=call.retry_jitter,
        times=call.times,
        at_once=call.at_once,
        group=made.group,
        awaited=call.wait_for_it,
        goes_on=call.if_it_fails == "go_on",
        share=call.share,
        source=source,
        of_wait=call.of_wait or 0.0,
        column=column,
        cpu_factor=(share or 0.0) * recorded_speed,
        wait_factor=1.0 - (share or 0.0),
        cpu=call.cpu or _NOTHING,
        wait=call.wait or _NOTHING,
        pool=made.pool,
        pool_limit=made.pool_limit,
        pool_timeout_s=made.pool_timeout,
        place=made.place,
        places_each=made.places_each,
    )
