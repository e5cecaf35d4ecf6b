"""`replay`: the public call."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from datetime import datetime
from functools import partial
from typing import Any, Protocol

import numpy as np

from libramen.base import units
from libramen.base.errors import ReplayError
from libramen.bill.bill import Bill, bill_of
from libramen.bill.made_of import made_of
from libramen.bill.month import month_of
from libramen.bill.usage import Usage, usage_of_edge, usages_of
from libramen.engine import simulation
from libramen.engine.border.records import Ending, Results
from libramen.engine.control.fleet import Fleet
from libramen.engine.control.play import TimesOfChunks
from libramen.engine.record import Run
from libramen.outcome.counted_requests import CountedRequests
from libramen.outcome.counts import Counting
from libramen.outcome.crossings import Crossings
from libramen.outcome.kept_replays import TOO_LONG
from libramen.outcome.kept_requests import KeptRequests
from libramen.outcome.measured import Measured
from libramen.outcome.measures import Asked, Measures
from libramen.outcome.month import Key, MeasuredReplay, WeightedReplays, may_happen_once, named, singles_of
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.outcome.tally import Tally
from libramen.study.edge import EDGE
from libramen.study.hosting import Hosting
from libramen.study.objectives import Objectives
from libramen.study.places import NOWHERE, RoundTrips
from libramen.study.plan import Plan
from libramen.study.service import Service
from libramen.study.system import System, check_account
from libramen.study.terms import Account, Terms
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
    terms: Terms | None = None,
    records: np.ndarray | None = None,
    progress: Callable[[float], None] | None = None,
    without: Collection[Key] = (),
    watch: Callable[[float, list[Fleet]], None] | None = None,
    round_trips: RoundTrips | Mapping[str, Mapping[str, Any]] | None = None,
) -> Outcome:
    """Replay a trace against a plan, and see what comes of it.

    Args:
        trace: the requests; or chunks of them in order of time, for traces that are too long for the memory. A plan
            with single events is replayed twice where these happen once a month; chunks are gone through twice then,
            as a list or something else that can be.
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
        terms: the currency, what a month is made of, the account's limits, tax and fees. Default: those of a study that
            says nothing of them.
        records: where to write what became of each request, for instance memory that processes share:
            `engine.plane.RESULT` (n,). Default: a new array.
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.
        without: releases and faults that are left out, all else being as it is: see `outcome.events.Key`.
        watch: called a hundred times during the trace with the instant [s] and the fleets; what it raises ends the
            replay.
        round_trips: times there and back between places, where the plan has regions: `RoundTrips`, or a table of them.

    Raises:
        ReplayError: an argument is not allowed.
        StudyError: a rollout is due at a time that is not in the trace, or that only a whole trace can tell; a day of
            the month is not in it; an objective is about a route or a service that is not there; requests match no
            service; calls go in a circle.
        TraceError: chunks are not in order of time.

    Example:
        >>> outcome = replay(trace, study.service, study.plans["noon"])
        >>> round(outcome.latency_s["p95"], 2)
        0.37
        >>> replay((read_trace(file) for file in files), service, plan).endings["ok"]  # doctest: +SKIP
        104211872
        >>> services, plans = {"web": web, "database": database}, {"web": fleet, "database": one}  # doctest: +SKIP
        >>> outcome = replay(trace, services, plans)  # doctest: +SKIP
        >>> outcome.services["database"].utilisation  # doctest: +SKIP
        0.62
    """
    return replay_system(
        trace, System.of(service, plan, _trips(round_trips)), objectives or Objectives(), seed, data_plane=data_plane,
        keep_requests=keep_requests, settle=settle, window_s=window_s, span_s=span_s, terms=terms,
        records=records, progress=progress, without=without, watch=watch,
    )  # fmt: skip


def _trips(given: RoundTrips | Mapping[str, Mapping[str, Any]] | None) -> RoundTrips:
    return given if isinstance(given, RoundTrips) else RoundTrips(given)


class Watched(Protocol):
    """What looks at replays under way."""

    def begin(self, *, with_events: bool) -> tuple[np.ndarray | None, Callable[[float, list[Fleet]], None]]:
        """Another replay begins: where to write what becomes of its requests, and what is called meanwhile."""


def replay_system(
    trace: Trace | Iterable[Trace],
    system: System,
    objectives: Objectives,
    seed: int = 0,
    *,
    terms: Terms | None = None,
    without: Collection[Key] = (),
    base: MeasuredReplay | None = None,
    watched: Watched | None = None,
    progress: Callable[[float], None] | None = None,
    settle: float = 0.0,
    **how: Any,
) -> Outcome:
    """The same for services that are hosted already.

    Args:
        trace: as of `replay`, like all that is not named here.
        system: the services, what they run on, and who asks whom.
        objectives: what is wanted.
        seed: random seed.
        terms: as of `replay`.
        without: as of `replay`.
        base: the replay without single events, where it has been made already.
        watched: looks at the replays; what it raises ends them.
        progress: as of `replay`.
        settle: as of `replay`.
        **how: others of `replay`.

    Raises:
        ReplayError, StudyError, TraceError: as of `replay`.
    """
    terms = terms or Terms()
    singles = singles_of(system, set(without)) if terms.month.has_events_once else []
    span_s = trace.span_s if isinstance(trace, Trace) else how.get("span_s")
    once = bool(singles) and (span_s is None or may_happen_once(span_s))
    if once and not isinstance(trace, Trace) and iter(trace) is trace:
        raise ReplayError(
            "trace: found chunks that can be gone through only once, and a plan with single events, which happen once "
            'a month, is replayed twice; allowed: a list of chunks, or events = "as_traced" in [month]'
        )
    check_account(system.plan, terms.account)
    gaps: tuple[tuple[float, float], ...] = getattr(trace, "gaps", ())
    if isinstance(trace, Trace):
        month_of(trace.span_s, trace.start, terms.month, gaps)  # a mistake in it is said before anything is replayed
    asking = _Asking(system, objectives, seed, settle, terms.account, how)
    if not once or base is not None:
        with_events = asking.play(trace, without, watched, progress)
    else:
        left_out = (*without, *(key for key, _ in singles))
        base = asking.play(trace, left_out, watched, None if progress is None else lambda done: progress(done / 2))
        with_events = asking.play(
            trace, without, watched, None if progress is None else lambda done: progress(0.5 + done / 2)
        )
        once = may_happen_once(with_events.run.span_s)
    run = with_events.run
    month = month_of(run.span_s, run.start, terms.month, gaps)
    told = singles or singles_of(system, set(without))
    timeline = trace if isinstance(trace, Trace) else TimesOfChunks(run.start, run.span_s)
    single = tuple(named(system, told, timeline))
    notes = made_of(month, run.start, single, once=once, why_not=TOO_LONG if singles and not once else "")
    weighted = WeightedReplays(month, with_events, base if once else None, single, gaps)
    paid = bill_of(system.billed, weighted.use(), terms, *notes)
    again = None
    if isinstance(trace, Trace) and run.results is not None:
        told_again = {key: value for key, value in how.items() if key in {"data_plane", "window_s"}}
        again = partial(
            replay_system, trace, system, objectives, seed, terms=terms, settle=settle, **told_again,
        )  # fmt: skip
    services = _services(system, asking.settings, weighted, paid, seed)
    return Outcome(
        trace=trace if isinstance(trace, Trace) else None, system=system, services=services, weighted_replays=weighted,
        bill=paid, terms=terms, asked=asking.asked, seed=seed, settle_s=settle, again=again,
    )  # fmt: skip


def _services(
    system: System, settings: list[Counting], weighted: WeightedReplays, paid: Bill, seed: int
) -> dict[str, ServiceOutcome]:
    """The outcome of each fleet."""
    with_events = weighted.with_events
    services = {}
    for hosted, of in zip(system.hosted, settings, strict=True):
        name = hosted.name
        mine, figures = with_events.visits[name]
        bill = paid.of_service(system.shares_of(name), tuple(system.billed))
        services[name] = ServiceOutcome(
            hosted, with_events.run.services[name], mine, figures, bill, of.asked, seed, weighted.of_visits(name),
            weighted.scale, {share: with_events.usage[share] for share in system.shares_of(name)},
        )  # fmt: skip
    return services


class _Asking:
    """Replays of one trace against the same services, with the same luck."""

    def __init__(
        self,
        system: System,
        objectives: Objectives,
        seed: int,
        settle: float,
        account: Account,
        how: dict[str, Any],
    ) -> None:
        self._system, self._objectives, self._seed, self._settle, self._how = system, objectives, seed, settle, how
        self._account = account
        self.settings: list[Counting] = []
        self.asked = Asked()

    def play(
        self,
        trace: Trace | Iterable[Trace],
        without: Collection[Key],
        watched: Watched | None,
        progress: Callable[[float], None] | None,
    ) -> MeasuredReplay:
        """One replay, measured."""
        how = {"keep_requests": None, "window_s": 60.0, "span_s": None} | self._how
        keep, window_s, span_s = (how.pop(key) for key in ("keep_requests", "window_s", "span_s"))
        system, objectives = self._system, self._objectives
        _check_times(settle=self._settle, window_s=window_s, span_s=span_s)
        whole = trace.without_calls(system.columns) if isinstance(trace, Trace) else None
        if whole is None and keep:
            raise ReplayError("keep_requests: found True with chunks of a trace; allowed: False, or one whole trace")
        first, chunks = simulation.peek(trace if whole is None else whole)
        if whole is None:
            chunks = (chunk.without_calls(system.columns) for chunk in chunks)
        keeps = whole is not None and keep is not False
        known_s = whole.span_s if whole is not None else units.LONGEST_S if span_s is None else span_s
        objectives.check(
            objectives.routes if whole is None else whole.routes, first.start, known_s, system.service_labels,
            None if whole is None else whole.areas,
        )  # fmt: skip
        self.settings = [
            Counting(hosted.hosting, Asked.of(wanted, first.start, known_s), self._settle, window_s, first.into_hour_s)
            for hosted, wanted in zip(system.hosted, objectives.of_services(system.names), strict=True)
        ]
        self.asked = Asked.of(objectives, first.start, known_s)
        setting = self.settings[0]._replace(asked=self.asked)
        areas = system.areas_of(first.areas)
        counted = None if keeps else CountedRequests(setting, areas=areas)
        # Of one fleet its visits are the requests.
        visits = [] if system.only else [CountedRequests(of, knows_arrivals=False) for of in self.settings]
        together = self._counted_together(first.start, known_s)
        told = [([number], one) for number, one in enumerate(visits)]
        told += [(system.of_service(name), one) for name, one in together.items()]
        crossings = Crossings(system, first.into_hour_s) if system.is_placed else None
        if watched is not None:
            how["records"], how["watch"] = watched.begin(with_events=not without)
        run = simulation.run(
            whole if whole is not None else chunks, system, seed=self._seed, window_s=window_s, span_s=span_s,
            sink=None if counted is None and not visits else Tally(counted, told, len(system.hosted), crossings),
            keeps=keeps, spends=True,
            progress=progress, without=without, account=self._account, **how,
        )  # fmt: skip
        for counts in (counted, *visits, *together.values()):
            if counts is not None:
                counts.routes = run.routes
        measured: Measured | None = counted
        if measured is None:
            assert whole is not None
            measured = KeptRequests(whole, run.kept, setting, len(run.edges_s) - 1, trips_of(system, whole, run.kept))
        of_all = measured.measures()
        if not of_all.n_requests:
            found = f"settle: found {self._settle!r} s"
            raise ReplayError(f"{found}; allowed: up to the last arrival, or nothing is measured")
        seen: list[tuple[Measured, Measures]] = [(one, one.measures()) for one in visits] or [(measured, of_all)]
        of = dict(zip(system.names, seen, strict=True))
        of |= {name: (one, one.measures()) for name, one in together.items()}
        return MeasuredReplay(run, measured, of_all, of, self._usage(run, measured, of, crossings))

    def _counted_together(self, start: datetime | None, known_s: float) -> dict[str, CountedRequests]:
        """Of services in several regions that have objectives, what counts the visits of all their fleets."""
        found = {}
        for service in self._system.services:
            numbers = self._system.of_service(service.of)
            if len(numbers) > 1 and service.of in self._objectives.services:
                asked = Asked.of(self._objectives.of_services([service.of])[0], start, known_s)
                setting = self.settings[numbers[0]]._replace(asked=asked)
                found[service.of] = CountedRequests(setting, knows_arrivals=False)
        return found

    def _usage(
        self, run: Run, measured: Measured, of: dict[str, tuple[Measured, Measures]], crossings: Crossings | None
    ) -> dict[str, Usage]:
        """What each fleet used, and the edge."""
        system = self._system
        usage: dict[str, Usage] = {}
        for hosted in system.hosted:
            name, slots = hosted.name, hosted.service.slots
            usage |= usages_of(name, run.services[name], hosted.hosting, of[name][0], run.routes, slots)
        if crossings is not None:
            for number, name in enumerate(system.names):
                sent = crossings.of(number, of[name][0].hourly("requests"))
                usage[name] = usage[name].with_crossed(sent, run.routes)
        if system.edge is not None:
            usage[EDGE] = usage_of_edge(measured, run.routes, run.span_s, run.start)
        return usage


def trips_of(system: System, trace: Trace, results: Results) -> np.ndarray | None:
    """Round trips of the answer of each request that was answered [s]; None: places do not matter.

    Of a hit all that it takes beyond the overhead of the tier, of a miss also what it takes more for being one.
    """
    edge = system.edge
    if not system.is_placed and edge is None:
        return None
    areas = (NOWHERE,) if trace.area is None else trace.areas
    far = [
        [(system.round_trips.find(area, one.region or NOWHERE) or 0.0) * one.service.exchanges for one in system.hosted]
        for area in areas
    ]
    where = np.zeros(len(trace), np.int32) if trace.area is None else trace.area
    answered = (results.ending == Ending.OK) | (results.ending == Ending.ERRORED)
    met = results.server < len(system.hosted)
    far_s: np.ndarray = np.where(answered & met, np.array(far)[where, np.where(met, results.server, 0)], 0.0)
    if edge is not None:
        far_s = np.where(answered & met, far_s + edge.miss_time, far_s)
        far_s = np.where(answered & ~met, edge.time - system.hosted[0].hosting.tier.overhead, far_s)
    return far_s


def _check_times(**times: object) -> None:
    """See that arguments are numbers of seconds, or None.

    Raises:
        ReplayError: one is not.
    """
    for name, value in times.items():
        is_number = isinstance(value, int | float | np.number) and not isinstance(value, bool)
        if value is not None and not (is_number and 0 <= float(value) <= units.LONGEST_S):  # type: ignore[arg-type]
            raise ReplayError(f"{name}: found {value!r}; allowed: a number of seconds of 0 or more, at most ten years")
