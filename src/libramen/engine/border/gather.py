"""From the services of a study, as a plan hosts them, to what a data plane must know."""

from __future__ import annotations

from collections.abc import Sequence

from libramen.base.errors import StudyError
from libramen.engine.border.specs import ClientSpec, ServerSpec, SystemSpec, or_infinite
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
    pins = any(one.hosting.balances.pins for one in system.hosted)
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
