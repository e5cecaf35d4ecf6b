"""The control plane: runs one replay on either data plane."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, Literal, NamedTuple, Protocol

import numpy as np

from libramen import units
from libramen.engine.agenda import Kind
from libramen.engine.decisions import Decisions
from libramen.engine.feed import Feed
from libramen.engine.listed import ListedFleet
from libramen.engine.on_arrival import ArrivalScaler
from libramen.engine.periodic import MOST_DECISIONS, PeriodicScaler
from libramen.engine.plane import DataPlane, Ended, Results, ServerSpec, Signal
from libramen.engine.replaying import Replay
from libramen.engine.run import Run
from libramen.engine.scaler import LimitsScaler, Scaler
from libramen.engine.updates import Updates
from libramen.engine.use import UseMeter
from libramen.errors import ReplayError, StudyError
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable
    from datetime import datetime

    from libramen.rules.rollouts.update import Rollout
    from libramen.study.plan import Plan
    from libramen.study.service import Service

DataPlaneName = Literal["compiled", "plain"]
_MOST_WINDOWS: Final = 20_000_000
_SCALERS: Final[dict[str, type[Scaler]]] = {
    "never": LimitsScaler,
    "at_times": PeriodicScaler,
    "on_arrival": ArrivalScaler,
}
"""What runs a rule, by when it is asked."""


class Sink(Protocol):
    """What takes requests where they are not kept."""

    def arrived(self, at_s: np.ndarray) -> None:
        """Some more requests are going to arrive at these times: float64 (n,) [s]."""

    def take(self, ended: Ended) -> None:
        """Some requests have ended. The arrays are valid during the call only."""


def run(
    trace: Trace | Iterable[Trace],
    service: Service,
    plan: Plan,
    *,
    seed: int = 0,
    data_plane: DataPlaneName = "compiled",
    window_s: float = 60.0,
    span_s: float | None = None,
    sink: Sink | None = None,
    records: np.ndarray | None = None,
    progress: Callable[[float], None] | None = None,
    forced: bool = False,
) -> Run:
    """Replay a trace against a plan.

    Args:
        trace: the requests, or chunks of them in order of time. What a chunk's times are counted from is its
            `start`, where it and that of the first one are known, else the start of the first.
        service: how a replica works.
        plan: what it runs on.
        seed: random seed.
        data_plane: `"compiled"`, or `"plain"` for the readable and slow one; both give the same.
        window_s: width of the windows of the series [s].
        span_s: the time that chunks cover [s]. Default: that of the last one.
        sink: takes the requests as they end, which are then not kept; needed for chunks.
        records: where to write what becomes of the requests of a trace: `plane.RESULT` (n,). Default: a new array.
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.
        forced: `wait_s` of the trace is the instant at which each request leaves its slot, or as soon as it can, and
            `cpu_s` the share of the time from its CPU turn to then that it takes (0: it has none). For work that is
            estimated from a log, which knows when requests left; `Run.turns` then says how much CPU work they got.

    Raises:
        ReplayError: an unknown data plane, or windows of no width.
        StudyError: a rollout is due at a time that is not in the trace, or that only a whole trace can tell.
        TraceError: chunks are not in order of time.
    """
    if not window_s > 0:
        raise ReplayError(f"window_s: found {window_s!r}; allowed: a number of seconds above 0")
    whole = trace if isinstance(trace, Trace) else None
    covers_s = whole.span_s if whole is not None else span_s
    if covers_s is not None:
        _can_be_afforded(plan, covers_s, window_s)
    chunks = [trace] if isinstance(trace, Trace) else trace
    if whole is not None:
        span_s = whole.span_s
    elif sink is None:
        raise ReplayError("chunks of a trace are replayed without keeping requests; there is nothing to take them")
    arrived = (lambda _at_s: None) if sink is None else sink.arrived
    feed = Feed(chunks, window_s, carries=sink is not None, span_s=span_s, arrived=arrived)
    results: Results | None = None
    if whole is not None and sink is None:
        results = Results.of(len(whole)) if records is None else Results(records)
    spec = ServerSpec.of(service, plan, seed, forced=forced)
    plane = _data_plane(data_plane, spec, results, None if sink is None else sink.take)
    plane.hand_in(*feed.next())
    replay = Replay(service, plan, plane, feed.start, seed)
    scaler = _scaler(replay)
    timeline = whole or _Timeline(feed.start, span_s)
    updates = Updates(replay, _due(plan, timeline))
    listed = ListedFleet(replay, timeline) if plan.counts else None
    meter = UseMeter(replay) if plan.tier.billing == "per_request" else None
    for part in (scaler, updates, listed, meter):
        if part is not None:
            replay.join(part)
    clock = _Clock(replay, feed, progress)
    replay.tell("begin")
    _play(replay, feed, clock)
    plane.flush()
    assert feed.span_s is not None
    return Run(
        results=results,
        span_s=feed.span_s,
        requests=feed.requests,
        routes=tuple(feed.routes) if whole is None else whole.routes,
        start=feed.start,
        replicas=replay.fleet.replicas,
        deaths=replay.fleet.deaths,
        decisions=Decisions() if scaler is None else scaler.decisions,
        use=np.zeros(0) if meter is None else meter.per_hour(),
        updates=updates.records(),
        edges_s=feed.edges_s,
        integrals=plane.series(),
        window_s=window_s,
        turns=plane.turns,
    )


def _can_be_afforded(plan: Plan, span_s: float, window_s: float) -> None:
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
    rule = plan.scaling
    decisions = span_s / rule.interval_s if rule.interval_s else 0.0
    if decisions > MOST_DECISIONS:
        raise ReplayError(
            f"plan {plan.name!r}: every = {units.show_duration(rule.interval_s)} are {decisions:,.0f} decisions "
            f"in {units.show_duration(span_s)}; allowed: up to {MOST_DECISIONS:,}"
        )


def _play(replay: Replay, feed: Feed, clock: _Clock) -> None:
    """Let data plane and control plane take turns until every request has ended and the span is over."""
    plane, agenda = replay.plane, replay.agenda
    before_advance, heed = replay.told("before_advance"), replay.told("heed")
    while True:
        for prepare in before_advance:
            prepare()
        signal = plane.advance(agenda.next_s())
        if signal is Signal.CHUNK:
            plane.hand_in(*feed.next())
            clock.span_may_be_known()
            continue
        if signal is Signal.ENDED:
            if not plane.held:
                break
            plane.dismiss_held(max(plane.last_s, agenda.acted_s))
            continue
        now_s, notices = plane.now_s, plane.take_notices()
        if clock.span_is_over and notices is None:
            if plane.finished():
                break
            if plane.held and replay.nothing_comes():
                plane.dismiss_held(max(plane.last_s, agenda.acted_s))
                continue
        if notices is not None:
            replay.fleet.heed(notices, now_s)
            for hear in heed:
                hear(notices, now_s)
        agenda.run(now_s)


class _Timeline(NamedTuple):
    """What is known of a trace that comes in chunks, for times to be looked up in."""

    start: datetime | None
    known_span_s: float | None

    @property
    def span_s(self) -> float:
        if self.known_span_s is None:
            raise StudyError("an update in a trace that comes in chunks needs to know its end: give span_s")
        return self.known_span_s

    @property
    def at_s(self) -> np.ndarray:
        raise StudyError(
            '"quietest" needs the whole trace, and this one comes in chunks; allowed: a time, or an offset'
        )


def _due(plan: Plan, trace: Trace | _Timeline) -> list[tuple[float, Rollout]]:
    """The rollouts of a plan and when each is due [s]."""
    return [
        (offset_s, rollout)
        for number, rollout in enumerate(plan.rollouts, start=1)
        for offset_s in rollout.at.offsets(
            trace, daily=rollout.daily, where=f"plan {plan.name!r}: rollouts[{number}].at"
        )
    ]


def _scaler(replay: Replay) -> Scaler | None:
    """What runs the scaling rule of a plan, None: it never decides anything."""
    rule = replay.plan.scaling
    try:
        rule.may_run()
    except StudyError as error:
        raise StudyError(f"plan {replay.plan.name!r}: {error}") from None
    return _SCALERS[rule.asked](replay) if rule.decides else None


def _data_plane(
    name: str, spec: ServerSpec, results: Results | None, tally: Callable[[Ended], None] | None
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

    def __init__(self, replay: Replay, feed: Feed, progress: Callable[[float], None] | None) -> None:
        self._replay, self._feed, self._progress = replay, feed, progress
        self._ticks = 0
        self._span_s: float | None = None
        self.span_is_over = False
        self.span_may_be_known()

    def span_may_be_known(self) -> None:
        """Begin to tick as soon as the span is known."""
        if self._span_s is None and self._feed.span_s is not None:
            self._span_s = self._feed.span_s
            # Ticks that are past by then are left out.
            self._ticks = min(99, int(100 * self._replay.plane.last_s / self._span_s)) if self._span_s else 99
            if self._progress is not None:
                self._progress(self._ticks / 100)
            self._plan_tick()

    def _plan_tick(self) -> None:
        assert self._span_s is not None
        self._ticks += 1
        # The last one exactly: span * 100 / 100 can fall short of the span.
        at_s = self._span_s if self._ticks == 100 else self._span_s * self._ticks / 100
        self._replay.agenda.add(at_s, Kind.SAMPLE, self._tick)

    def _tick(self, now_s: float) -> None:
        if self._progress is not None:
            self._progress(self._ticks / 100)
        if self._ticks < 100:
            self._plan_tick()
            return
        self.span_is_over = True
        self._replay.fleet.measure(now_s)
        self._replay.tell("span_is_over", now_s)
