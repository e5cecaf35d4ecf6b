"""From the services of a study, as a plan hosts them, to what a data plane must know."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from libramen.base.errors import StudyError
from libramen.engine.border.specs import ClientSpec, Places, ServerSpec, SystemSpec, or_infinite
from libramen.study.places import NOWHERE
from libramen.study.service import Service
from libramen.study.system import Made, System


def spec_of(
    system: System,
    *,
    seed: int,
    forced: bool = False,
    recorded_speed: float = 1.0,
    columns: Sequence[str] = (),
    visitors: int = 0,
    spends: bool = False,
    areas: Sequence[str] = (),
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
        areas: names of the places from which requests may come, where places matter.

    Raises:
        StudyError: the work of a call is not known.
    """
    users = [_users(number, one.service) for number, one in enumerate(system.hosted)]
    calls = [_call(system, made, recorded_speed, columns) for made in system.calls]
    pins = any(one.hosting.balances.pins or one.hosting.reroute for one in system.hosted)
    return SystemSpec(
        servers=tuple(ServerSpec.of(one.service, one.hosting, forced=forced) for one in system.hosted),
        clients=(*users, *calls),
        columns=len(columns),
        parts=system.parts,
        spends=spends and (bool(calls) or system.is_placed or system.edge is not None),
        visitors=visitors if pins else 0,
        codes=system.looks_at_routes,
        seed=seed,
        places=_places(system, areas) if areas else None,
        edge_s=None if system.edge is None else system.edge.time,
    )


def _places(system: System, areas: Sequence[str]) -> Places:
    """How far it is from everywhere to each fleet; NaN: nobody says, and nothing may be sent."""
    first, trips = system.first, system.round_trips
    regions = system.regions or (NOWHERE,)
    stands_in = [one.region or NOWHERE for one in system.hosted]
    far: np.ndarray = np.array(
        [[trips.find(place, region) for region in stands_in] for place in (*areas, *regions)], np.float64
    )
    exchanges = np.array([one.service.exchanges for one in system.hosted])
    is_area = np.arange(len(far))[:, None] < len(areas)
    ways_s = far * np.where(is_area, exchanges, 1.0)
    if system.edge is not None:
        ways_s = ways_s + np.where(is_area, system.edge.miss_time, 0.0)
    return Places(
        first=first,
        regions=tuple(first.count(at) for at in first),
        origin=tuple(len(areas) + regions.index(region) for region in stands_in),
        trips_s=far,
        ways_s=ways_s,
        outlives=tuple(
            any(made.callee == at for made in system.calls)
            and not one.service.routes
            and not any(made.callee == at and made.call.wait_for_it for made in system.calls)
            for one, at in zip(system.hosted, first, strict=True)
        ),
    )


def _users(number: int, service: Service) -> ClientSpec:
    return ClientSpec(
        number,
        timeout_s=or_infinite(service.timeout),
        retries=service.retries,
        retry_after_s=service.retry_after,
        retry_jitter=service.retry_jitter,
    )


def _call(system: System, made: Made, recorded_speed: float, columns: Sequence[str]) -> ClientSpec:
    call, callee = made.call, system.hosted[made.callee]
    source, column, share = "drawn", -1, callee.service.cpu_share
    if not call.has_own_work:
        source = "column" if call.of_wait is None else "of_wait"
        where = f"services.{system.hosted[made.caller].of}.calls: to {callee.of!r}"
        if source == "column":
            if callee.of not in columns:
                raise StudyError(
                    f"{where}: the trace has no column in_{callee.of}_s; allowed: such a column, or of_wait, or cpu "
                    "and wait"
                )
            column = list(columns).index(callee.of)
        if share is None:
            raise StudyError(
                f"{where}: its work must be split into CPU and wait; allowed: services.{callee.of}.cpu_share"
            )
    return ClientSpec(
        made.callee,
        made.caller,
        timeout_s=or_infinite(call.timeout),
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
        cpu_median_s=0.0 if call.cpu is None else call.cpu.median_s,
        cpu_sigma=0.0 if call.cpu is None else call.cpu.sigma,
        wait_median_s=0.0 if call.wait is None else call.wait.median_s,
        wait_sigma=0.0 if call.wait is None else call.wait.sigma,
        pool=made.pool,
        pool_limit=made.pool_limit,
        pool_timeout_s=made.pool_timeout,
        place=made.place,
        places_each=made.places_each,
    )
