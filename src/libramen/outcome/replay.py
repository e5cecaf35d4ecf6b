"""`replay`: the public call."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from functools import partial
from typing import Any

import numpy as np

from libramen.base import units
from libramen.base.errors import ReplayError
from libramen.bill.bill import bill, summed
from libramen.engine import simulation
from libramen.engine.control.fleet import Fleet
from libramen.outcome.counted_requests import CountedRequests
from libramen.outcome.counts import Counting
from libramen.outcome.events import Key
from libramen.outcome.kept_requests import KeptRequests
from libramen.outcome.measures import Asked, Measured, Measures
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.outcome.tally import Tally
from libramen.study.objectives import Objectives
from libramen.study.plan import Hosting, Plan
from libramen.study.service import Service
from libramen.study.system import System
from libramen.trace.trace import Trace


def replay(
    trace: Trace | Iterable[Trace],
    service: Service | Mapping[str, Service],
    plan: Plan | Hosting | Mapping[str, Plan | Hosting],
    objectives: Objectives | None = None,
    seed: int = 0,
    data_plane: simulation.DataPlaneName = "compiled",
    *,
    keep_requests: bool | None = None,
    settle: float = 0.0,
    window_s: float = 60.0,
    span_s: float | None = None,
    currency: str = "EUR",
    records: np.ndarray | None = None,
    progress: Callable[[float], None] | None = None,
    without: Collection[Key] = (),
    watch: Callable[[float, list[Fleet]], None] | None = None,
) -> Outcome:
    """Replay a trace against a plan, and see what comes of it.

    Args:
        trace: the requests; or chunks of them in order of time, for traces that are too long for the memory.
            What a chunk's times are counted from is its `start` where that is known, else the start of the first.
        service: how one replica works; or several services by name, which call each other (`Service.calls`).
        plan: what it runs on: a plan, or what each service runs on, by name.
        objectives: what it should achieve. Default: nothing.
        seed: random seed: of balancers that draw, and of the jitter of retries. Every request has
            numbers of its own, so plans that are replayed with one seed get the same random numbers.
        data_plane: `"compiled"`, or `"plain"`: readable Python, about 1000 times slower, the same result.
        keep_requests: whether what became of each request is kept: `outcome.requests` and exact percentiles,
            for 32 bytes a request. Else percentiles are within 0.5 %. Default: yes for a trace, no for chunks. The
            visits of each of several services are always counted, not kept.
        settle: requests that arrive before this are replayed but not measured [s].
        window_s: width of the windows of `outcome.series` [s].
        span_s: the time that chunks cover [s], for progress. Default: that of the last chunk.
        currency: what the prices of the plan's tier are in.
        records: where to write what became of each request, for instance memory that processes share:
            `engine.plane.RESULT` (n,). Default: a new array.
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.
        without: releases and faults that are left out, all else being as it is: see `outcome.events.Key`.
        watch: called a hundred times during the trace with the instant [s] and the fleets; what it raises ends the
            replay.

    Raises:
        ReplayError: an argument is not allowed.
        StudyError: a rollout is due at a time that is not in the trace, or that only a whole trace can tell;
            an objective is about a route or a service that is not there; requests match no service; calls go in a
            circle.
        TraceError: chunks are not in order of time.

    Example:
        >>> outcome = replay(trace, service, plan)  # doctest: +SKIP
        >>> outcome.latency_s["p95"]  # doctest: +SKIP
        0.213
        >>> replay((read_trace(file) for file in files), service, plan).endings["ok"]  # doctest: +SKIP
        104211872
        >>> services, plans = {"web": web, "database": database}, {"web": fleet, "database": one}  # doctest: +SKIP
        >>> outcome = replay(trace, services, plans)  # doctest: +SKIP
        >>> outcome.services["database"].utilisation  # doctest: +SKIP
        0.62
    """
    return replay_system(
        trace, System.of(service, plan), objectives or Objectives(), seed, data_plane=data_plane,
        keep_requests=keep_requests, settle=settle, window_s=window_s, span_s=span_s, currency=currency,
        records=records, progress=progress, without=without, watch=watch,
    )  # fmt: skip


def replay_system(
    trace: Trace | Iterable[Trace],
    system: System,
    objectives: Objectives,
    seed: int = 0,
    *,
    keep_requests: bool | None = None,
    settle: float = 0.0,
    window_s: float = 60.0,
    span_s: float | None = None,
    currency: str = "EUR",
    **how: Any,
) -> Outcome:
    """The same for services that are hosted already.

    Args:
        trace: as of `replay`, like all that is not named here.
        system: the services, what they run on, and who asks whom.
        objectives: what is wanted.
        seed: random seed.
        keep_requests: as of `replay`.
        settle: as of `replay`.
        window_s: as of `replay`.
        span_s: as of `replay`.
        currency: as of `replay`.
        **how: others of `replay`, which the engine is told.

    Raises:
        ReplayError, StudyError, TraceError: as of `replay`.
    """
    _check_times(settle=settle, window_s=window_s, span_s=span_s)
    whole = trace.without_calls(system.columns) if isinstance(trace, Trace) else None
    if whole is None and keep_requests:
        raise ReplayError("keep_requests: found True with chunks of a trace; allowed: False, or one whole trace")
    first, chunks = simulation.peek(trace if whole is None else whole)
    if whole is None:
        chunks = (chunk.without_calls(system.columns) for chunk in chunks)
    keeps = whole is not None and keep_requests is not False
    objectives.check(objectives.routes if whole is None else whole.routes, first.start, system.labels)
    known_s = whole.span_s if whole is not None else units.LONGEST_S if span_s is None else span_s
    settings = [
        Counting(hosted.hosting, Asked.of(wanted, first.start, known_s), settle, window_s, first.into_hour_s)
        for hosted, wanted in zip(system.hosted, objectives.of_services(system.names), strict=True)
    ]
    asked = Asked.of(objectives, first.start, known_s)
    setting = settings[0]._replace(asked=asked)
    counted = None if keeps else CountedRequests(setting)
    # Of one service its visits are the requests.
    visits = [] if system.only else [CountedRequests(of, knows_arrivals=False) for of in settings]
    sink = None if counted is None and not visits else Tally(counted, visits)
    run = simulation.run(
        whole if whole is not None else chunks, system, seed=seed, window_s=window_s, span_s=span_s, sink=sink,
        keeps=keeps, spends=True, **how,
    )  # fmt: skip
    for counts in (counted, *visits):
        if counts is not None:
            counts.routes = run.routes
    measured: Measured | None = counted
    again = None
    if measured is None:
        assert whole is not None
        measured = KeptRequests(whole, run.kept, setting, len(run.edges_s) - 1)
        again = partial(
            replay_system, whole, system, objectives, seed, data_plane=how.get("data_plane", "compiled"),
            settle=settle, window_s=window_s, currency=currency,
        )  # fmt: skip
    of_all = measured.measures()
    seen: list[tuple[Measured, Measures]] = [(one, one.measures()) for one in visits] or [(measured, of_all)]
    services = {}
    for hosted, of, (mine, figures) in zip(system.hosted, settings, seen, strict=True):
        fleet = run.services[hosted.name]
        paid = bill(fleet, hosted.hosting, mine, currency)
        services[hosted.name] = ServiceOutcome(hosted, fleet, mine, figures, paid, of.asked, seed)
    month = summed({name: one.bill for name, one in services.items()})
    return Outcome(
        trace=whole, system=system, services=services, run=run, measured=measured, whole=of_all, bill=month,
        asked=asked, seed=seed, settle_s=settle, again=again,
    )  # fmt: skip


def _check_times(**times: object) -> None:
    """See that arguments are numbers of seconds, or None.

    Raises:
        ReplayError: one is not.
    """
    for name, value in times.items():
        is_number = isinstance(value, int | float | np.number) and not isinstance(value, bool)
        if value is not None and not (is_number and 0 <= float(value) <= units.LONGEST_S):  # type: ignore[arg-type]
            raise ReplayError(f"{name}: found {value!r}; allowed: a number of seconds of 0 or more, at most ten years")
