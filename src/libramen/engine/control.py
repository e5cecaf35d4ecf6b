"""The control plane: runs one replay on either data plane."""

from __future__ import annotations

import itertools
from typing import TYPE_CHECKING, Final, Literal, NamedTuple, Protocol

import numpy as np

from libramen import units
from libramen.engine.agenda import Agenda, Kind
from libramen.engine.decisions import Decisions
from libramen.engine.faults import Faults
from libramen.engine.feed import Feed
from libramen.engine.listed import ListedFleet
from libramen.engine.on_arrival import ArrivalScaler
from libramen.engine.periodic import MOST_DECISIONS, PeriodicScaler
from libramen.engine.plane import DataPlane, Ended, Notices, Results, Signal, SystemSpec
from libramen.engine.replaying import Replay
from libramen.engine.run import Run, ServiceRun
from libramen.engine.scaler import LimitsScaler, Scaler
from libramen.engine.specs import spec_of
from libramen.engine.updates import Updates
from libramen.engine.use import UseMeter
from libramen.errors import ReplayError, StudyError, TraceError
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    from collections.abc import Callable, Collection, Iterable
    from datetime import datetime

    from libramen.engine.fleet import Fleet
    from libramen.study.plan import Hosting
    from libramen.study.system import System

DataPlaneName = Literal["compiled", "plain"]
_MOST_WINDOWS: Final = 20_000_000
_SCALERS: Final[dict[str, type[Scaler]]] = {
    "never": LimitsScaler,
    "at_times": PeriodicScaler,
    "on_arrival": ArrivalScaler,
}
"""What runs a rule, by when it is asked."""


class Sink(Protocol):
    """What takes visits as they end."""

    def arrived(self, at_s: np.ndarray) -> None:
        """Some more requests are going to arrive at these times: float64 (n,) [s]."""

    def take(self, ended: Ended) -> None:
        """Some visits have ended. The arrays are valid during the call only."""


def run(
    trace: Trace | Iterable[Trace],
    system: System,
    *,
    seed: int = 0,
    data_plane: DataPlaneName = "compiled",
    window_s: float = 60.0,
    span_s: float | None = None,
    sink: Sink | None = None,
    keeps: bool = True,
    spends: bool = False,
    records: np.ndarray | None = None,
    progress: Callable[[float], None] | None = None,
    forced: bool = False,
    without: Collection[tuple[str, str, int | str]] = (),
    watch: Callable[[float, list[Fleet]], None] | None = None,
) -> Run:
    """Replay a trace against services and their plans.

    Args:
        trace: the requests, or chunks of them in order of time. What a chunk's times are counted from is its
            `start`, where it and that of the first one are known, else the start of the first.
        system: the services, what they run on, and who asks whom.
        seed: random seed.
        data_plane: `"compiled"`, or `"plain"` for the readable and slow one; both give the same.
        window_s: width of the windows of the series [s].
        span_s: the time that chunks cover [s]. Default: that of the last one.
        sink: takes visits as they end.
        keeps: whether what becomes of each request is kept; not with chunks.
        spends: whether it is kept where the time of each request went, where services call each other.
        records: where to write what becomes of the requests of a trace: `plane.RESULT` (n,). Default: a new array.
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.
        forced: `wait_s` of the trace is the instant at which each request leaves its slot, or as soon as it can, and
            `cpu_s` the share of the time from its CPU turn to then that it takes (0: it has none). For work that is
            estimated from a log, which knows when requests left; `Run.turns` then says how much CPU work they got.
        without: releases and faults that are left out, all else being as it is: service; "rollouts" or "faults" and
            the place in the plan's table (from 0), or "at_random" and the kind of faults.
        watch: called a hundred times during the span with the instant [s] and the fleets; what it raises ends the
            replay.

    Returns:
        the record of it.

    Raises:
        ReplayError: an unknown data plane, or windows of no width.
        StudyError: a rollout is due at a time that is not in the trace, or that only a whole trace can tell; a request
            matches no service; the work of a call is not known.
        TraceError: chunks are not in order of time.
    """
    if not window_s > 0:
        raise ReplayError(f"window_s: found {window_s!r}; allowed: a number of seconds above 0")
    first, chunks = peek(trace)
    whole = trace if isinstance(trace, Trace) else None
    covers_s = whole.span_s if whole is not None else span_s
    for hosted in system.hosted if covers_s is not None else ():
        _can_be_afforded(hosted.hosting, covers_s or 0.0, window_s)
    if whole is not None:
        span_s = whole.span_s
    elif sink is None:
        raise ReplayError("chunks of a trace are replayed without keeping requests; there is nothing to take them")
    keeps = keeps and whole is not None
    columns = [name for name in system.columns if name in first.in_s]
    if whole is None and any(hosted.hosting.balancer == "pinned" for hosted in system.hosted):
        raise StudyError(
            f'plan {system.name!r}: balancer = "pinned" needs the whole trace, and this one comes in chunks'
        )
    spec = spec_of(
        system, seed=seed, forced=forced, recorded_speed=first.source.recorded_speed, columns=columns,
        visitors=first.n_visitors, spends=spends and keeps,
    )  # fmt: skip
    arrived = (lambda _at_s: None) if sink is None else sink.arrived
    feed = Feed(
        chunks, window_s, carries=sink is not None, span_s=span_s, arrived=arrived, system=system, columns=columns,
        pins=spec.visitors > 0,
    )  # fmt: skip
    results = Results.of(len(first), records, services=len(system.hosted) * spec.spends) if keeps else None
    plane = _data_plane(data_plane, spec, results, None if sink is None else sink.take)
    plane.hand_in(*feed.next())
    agenda = Agenda()
    timeline = whole or _Timeline(feed.start, span_s)
    services = [
        _Service(Replay(hosted, index, plane.servers[index], agenda, feed.start, seed), timeline, without)
        for index, hosted in enumerate(system.hosted)
    ]
    replays = [service.replay for service in services]
    clock = _Clock(replays, agenda, plane, feed, progress, watch)
    for replay in replays:
        replay.tell("begin")
    _play(replays, plane, agenda, feed, clock)
    plane.flush()
    assert feed.span_s is not None
    return Run(
        results=results,
        span_s=feed.span_s,
        requests=feed.requests,
        routes=tuple(feed.routes) if whole is None else whole.routes,
        start=feed.start,
        edges_s=feed.edges_s,
        window_s=window_s,
        turns=plane.turns,
        services={service.replay.name: service.run(feed, window_s) for service in services},
    )


def peek(trace: Trace | Iterable[Trace]) -> tuple[Trace, Iterable[Trace]]:
    """The first of some chunks, and all of them; of a whole trace that.

    Raises:
        TraceError: there is none.
    """
    if isinstance(trace, Trace):
        return trace, [trace]
    iterator = iter(trace)
    first = next(iterator, None)
    if not isinstance(first, Trace):
        raise TraceError(f"trace: found {first!r}; allowed: a Trace, or one or more of them as chunks")
    return first, itertools.chain([first], iterator)


class _Service:
    """One service and the parts of its replay."""

    def __init__(
        self, replay: Replay, timeline: Trace | _Timeline, without: Collection[tuple[str, str, int | str]]
    ) -> None:
        self.replay, hosting = replay, replay.hosting
        left_out = {(table, key) for service, table, key in without if service == replay.name}
        self._scaler = _scaler(replay)
        self._updates = Updates(replay, hosting.due("rollouts", timeline), left_out)
        listed = ListedFleet(replay, timeline) if hosting.counts else None
        self._meter = UseMeter(replay) if hosting.tier.billing == "per_request" else None
        self._faults = None
        if hosting.may_break:
            self._faults = Faults(replay, hosting.due("faults", timeline), timeline.span_s, left_out)
        for part in (self._scaler, self._updates, self._faults, listed, self._meter):
            if part is not None:
                replay.join(part)

    def run(self, feed: Feed, window_s: float) -> ServiceRun:
        """What became of it."""
        replay = self.replay
        assert feed.span_s is not None
        return ServiceRun(
            service=replay.name,
            span_s=feed.span_s,
            start=feed.start,
            edges_s=feed.edges_s,
            window_s=window_s,
            replicas=replay.fleet.replicas,
            deaths=replay.fleet.deaths,
            decisions=Decisions() if self._scaler is None else self._scaler.decisions,
            use=np.zeros(0) if self._meter is None else self._meter.per_hour(),
            updates=self._updates.records(),
            faults=[] if self._faults is None else self._faults.records,
            integrals=replay.plane.series(),
            moved=replay.plane.moved(),
            unsent=replay.plane.unsent,
            peak=replay.fleet.peak,
        )


def _can_be_afforded(hosting: Hosting, span_s: float, window_s: float) -> None:
    """Refuse what would take more memory than there is, before it does.

    Raises:
        ReplayError: it cannot.
    """
    windows = span_s / window_s
    if windows > _MOST_WINDOWS:
        raise ReplayError(
            f"window_s: {window_s:g} s makes {windows:,.0f} windows of {units.show_duration(span_s)}; allowed: up to "
            f"{_MOST_WINDOWS:,}"
        )
    rule = hosting.scaling
    decisions = span_s / rule.interval_s if rule.interval_s else 0.0
    if decisions > MOST_DECISIONS:
        raise ReplayError(
            f"plan {hosting.plan!r}: every = {units.show_duration(rule.interval_s)} are {decisions:,.0f} decisions "
            f"in {units.show_duration(span_s)}; allowed: up to {MOST_DECISIONS:,}"
        )


def _play(replays: list[Replay], plane: DataPlane, agenda: Agenda, feed: Feed, clock: _Clock) -> None:
    """Let data plane and control plane take turns until every request has ended and the span is over."""
    before_advance = [prepare for replay in replays for prepare in replay.told("before_advance")]

    def asked(number: int, now_s: float) -> None:
        replays[number].heed(Notices([], [], [], asked=True), now_s)
        for prepare in replays[number].told("before_advance"):
            prepare()

    plane.on_asked = asked
    while True:
        for prepare in before_advance:
            prepare()
        signal = plane.advance(agenda.next_s())
        if signal is Signal.CHUNK:
            plane.hand_in(*feed.next())
            clock.span_may_be_known()
            continue
        if signal is Signal.ENDED:
            holding = [number for number, server in enumerate(plane.servers) if server.held]
            if not holding:
                break
            plane.dismiss_held(holding, max(plane.last_s, agenda.acted_s))
            continue
        now_s, is_told = plane.now_s, plane.has_notices()
        if clock.span_is_over and not is_told:
            if plane.finished():
                break
            for_ever = _held_for_ever(replays, plane, agenda)
            if for_ever:
                plane.dismiss_held(for_ever, max(plane.last_s, agenda.acted_s))
                continue
        if is_told:
            for replay in replays:
                notices = replay.plane.take_notices()
                if notices is not None:
                    replay.heed(notices, now_s)
        agenda.run(now_s)


def _held_for_ever(replays: list[Replay], plane: DataPlane, agenda: Agenda) -> list[int]:
    """The services that hold visits which nothing will ever take, once nothing else is left to happen."""
    waiting = [number for number, replay in enumerate(replays) if replay.plane.held]
    futile = [number for number in waiting if replays[number].is_futile]
    if futile:
        return futile
    if not waiting or not agenda.only_recurs or not plane.is_still():
        return []
    return [number for number in waiting if replays[number].nothing_comes]


class _Timeline(NamedTuple):
    """What is known of a trace that comes in chunks, for times to be looked up in."""

    start: datetime | None
    known_span_s: float | None

    @property
    def span_s(self) -> float:
        if self.known_span_s is None:
            raise StudyError("an update or a fault in a trace that comes in chunks needs to know its end: give span_s")
        return self.known_span_s

    @property
    def at_s(self) -> np.ndarray:
        raise StudyError(
            '"quietest" needs the whole trace, and this one comes in chunks; allowed: a time, or an offset'
        )


def _scaler(replay: Replay) -> Scaler | None:
    """What runs the scaling rule of a plan, None: it never decides anything."""
    rule = replay.hosting.scaling
    try:
        rule.may_run()
    except StudyError as error:
        raise StudyError(f"plan {replay.hosting.plan!r}: {error}") from None
    return _SCALERS[rule.asked](replay) if rule.decides else None


def _data_plane(
    name: str, spec: SystemSpec, results: Results | None, tally: Callable[[Ended], None] | None
) -> DataPlane:
    if name == "compiled":
        from libramen.engine.kernel.state import KernelState

        return KernelState(spec, results, tally)
    if name == "plain":
        from libramen.engine.plain.state import PlainState

        return PlainState(spec, results, tally)
    raise ReplayError(f"data_plane: found {name!r}; allowed: 'compiled' or 'plain'")


class _Clock:
    """Comes back a hundred times during the span: for progress, for Ctrl-C, and to know that it is over."""

    def __init__(
        self,
        replays: list[Replay],
        agenda: Agenda,
        plane: DataPlane,
        feed: Feed,
        progress: Callable[[float], None] | None,
        watch: Callable[[float, list[Fleet]], None] | None,
    ) -> None:
        self._watch, self._fleets = watch, [replay.fleet for replay in replays]
        self._replays, self._agenda, self._plane = replays, agenda, plane
        self._feed, self._progress = feed, progress
        self._ticks = 0
        self._span_s: float | None = None
        self.span_is_over = False
        self.span_may_be_known()

    def span_may_be_known(self) -> None:
        """Begin to tick as soon as the span is known."""
        if self._span_s is None and self._feed.span_s is not None:
            self._span_s = self._feed.span_s
            # Ticks that are past by then are left out.
            self._ticks = min(99, int(100 * self._plane.last_s / self._span_s)) if self._span_s else 99
            if self._progress is not None:
                self._progress(self._ticks / 100)
            self._plan_tick()

    def _plan_tick(self) -> None:
        assert self._span_s is not None
        self._ticks += 1
        # The last one exactly: span * 100 / 100 can fall short of the span.
        at_s = self._span_s if self._ticks == 100 else self._span_s * self._ticks / 100
        self._agenda.add(at_s, Kind.SAMPLE, self._tick)

    def _tick(self, now_s: float) -> None:
        if self._progress is not None:
            self._progress(self._ticks / 100)
        if self._watch is not None:
            self._watch(now_s, self._fleets)
        if self._ticks < 100:
            self._plan_tick()
            return
        self.span_is_over = True
        for replay in self._replays:
            replay.fleet.measure(now_s)
            replay.tell("span_is_over", now_s)
