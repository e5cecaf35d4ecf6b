"""The control plane of one replay: its services, their parts, and the turns that both planes take."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Collection
from datetime import datetime
from typing import Any, Final, NamedTuple

import numpy as np

from libramen.base.errors import StudyError
from libramen.base.times import Timeline
from libramen.engine.border.plane import DataPlane
from libramen.engine.border.records import Notices, Signal
from libramen.engine.control.account import AccountLimits
from libramen.engine.control.agenda import Agenda, Kind
from libramen.engine.control.faults import Faults
from libramen.engine.control.fleet import Fleet
from libramen.engine.control.listed import ListedFleet
from libramen.engine.control.on_arrival import ArrivalScaler
from libramen.engine.control.periodic import PeriodicScaler
from libramen.engine.control.region import Region
from libramen.engine.control.replaying import Replay
from libramen.engine.control.scaler import LimitsScaler, Scaler
from libramen.engine.control.standbys import Standbys
from libramen.engine.control.updates import Updates
from libramen.engine.control.use import UseMeter
from libramen.engine.decisions import Decisions
from libramen.engine.feed import Feed
from libramen.engine.record import ServiceRun
from libramen.study.system import System
from libramen.study.terms import Account

_SCALERS: Final[dict[str, type[Scaler]]] = {
    "never": LimitsScaler,
    "at_times": PeriodicScaler,
    "on_arrival": ArrivalScaler,
}
"""What runs a rule, by when it is asked."""
_ENDLESS: Final = 10_000
"""After so many control instants at which no request has anything to wait for, held requests are dismissed."""


class Control:
    """The control plane of a replay.

    Args:
        system: the services, what they run on, and who asks whom.
        plane: the data plane, with the first arrivals in it.
        feed: where the others come from.
        timeline: what is known of the trace, for times to be looked up in.
        seed: random seed.
        without: releases and faults that are left out; see `simulation.run`.
        account: limits of all services together.
    """

    def __init__(
        self,
        system: System,
        plane: DataPlane,
        feed: Feed,
        timeline: Timeline,
        seed: int,
        without: Collection[tuple[str, str, int | str]],
        account: Account,
    ) -> None:
        self._plane, self._feed, self._agenda = plane, feed, Agenda()
        self._services = [
            _Service(Replay(hosted, index, plane.servers[index], self._agenda, feed.start, seed), timeline, without)
            for index, hosted in enumerate(system.hosted)
        ]
        self._replays = [service.replay for service in self._services]
        regions: dict[str, Region] = {}
        for one in system.hosted:
            if one.region is not None:
                regions.setdefault(one.region, Region(plane))
        for one, replay in zip(system.hosted, self._replays, strict=True):
            if one.region is not None:
                regions[one.region].join(replay)
        self._link_releases(system)
        for one, service in zip(system.hosted, self._services, strict=True):
            for home, replay in zip(system.hosted, self._replays, strict=True):
                if one.hosting.heir_of is not None and home.number == one.number and home is not one:
                    replay.heir = service.standbys
        self._account = AccountLimits(account, self._agenda) if account.is_limited else None
        if self._account is not None:
            for replay in self._replays:
                self._account.join(replay)
        self._before_advance = [prepare for replay in self._replays for prepare in replay.told("before_advance")]
        self._has_begun = self._pauses = False
        self._in_vain = 0  # instants since the span was over at which nothing was to happen to any request
        self._clock = _Clock(self._replays, self._agenda, plane, feed)
        plane.on_asked = self._asked

    def _link_releases(self, system: System) -> None:
        """Releases that go from region to region: who comes after whom."""
        updates = {(one.number, one.region): service.updates
                   for one, service in zip(system.hosted, self._services, strict=True)}  # fmt: skip
        for one in system.hosted:
            for rollout in one.hosting.rollouts:
                for name, following in itertools.pairwise(rollout.regions):
                    if name == one.region and (one.number, following) in updates:
                        updates[one.number, name].following[rollout] = updates[one.number, following]

    def records(self, window_s: float) -> dict[str, ServiceRun]:
        """What became of each service, by name."""
        return {service.replay.name: service.run(self._feed, window_s) for service in self._services}

    @property
    def replays(self) -> list[Replay]:
        """Of the services, in the order of the study."""
        return self._replays

    def comparable_state(self, now_s: float) -> list[Any]:
        """How its data plane does; see `DataPlane.comparable_state`."""
        fleets = [replay.fleet.alive() for replay in self._replays]
        ranks = [{replica.number: rank for rank, replica in enumerate(alive)} for alive in fleets]
        return self._plane.comparable_state(ranks, now_s)

    def comparable(self, _now_s: float) -> list[object]:
        """What decides its future: see `sameness`."""
        holds = any(server.held for server in self._plane.servers)
        return [
            self._replays, self._services, self._agenda, self._clock, self._feed, self._account,
            max(self._plane.last_s, self._agenda.acted_s) if holds else None,
        ]  # fmt: skip

    def listen(
        self, progress: Callable[[float], None] | None, watch: Callable[[float, list[Fleet]], None] | None
    ) -> None:
        """From now on these are called; see `simulation.run`."""
        self._clock.progress, self._clock.watch = progress, watch

    def _begin(self) -> None:
        """Nothing has happened yet."""
        self._has_begun = True
        self._clock.span_may_be_known()
        for replay in self._replays:
            replay.tell("begin")

    def play(self, until_s: float = math.inf) -> bool:
        """Let both planes take turns until every request has ended and the span is over; returns whether that is so.

        Args:
            until_s: or until this instant, with all control events of it behind and its arrivals ahead.
        """
        plane, agenda = self._plane, self._agenda
        if not self._has_begun:
            self._begin()
        if until_s < math.inf:
            agenda.add(until_s, Kind.SAMPLE, self._pause)
        self._pauses = False
        while agenda.goes_on or not self._pauses:
            for prepare in self._before_advance:
                prepare()
            signal = plane.advance(agenda.next_s())
            if signal is Signal.CHUNK:
                plane.hand_in(*self._feed.next())
                self._clock.span_may_be_known()
                continue
            if signal is Signal.ENDED:
                holding = [number for number, server in enumerate(plane.servers) if server.held]
                if not holding:
                    return True
                plane.dismiss_held(holding, max(plane.last_s, agenda.acted_s))
                continue
            now_s, is_told = plane.now_s, plane.has_notices()
            if self._clock.span_is_over and not is_told and not agenda.goes_on:
                if plane.finished():
                    return True
                for_ever = self._held_for_ever()
                if for_ever:
                    plane.dismiss_held(for_ever, max(plane.last_s, agenda.acted_s))
                    continue
            if is_told:
                for replay in self._replays:
                    notices = replay.plane.take_notices()
                    if notices is not None:
                        replay.heed(notices, now_s)
            agenda.run(now_s)
        return False

    def _pause(self, _now_s: float) -> None:
        self._pauses = True

    def _asked(self, number: int, now_s: float) -> float:
        """A call is about to be sent within an event, and finds no slot. Returns when the next control event is."""
        self._replays[number].heed(Notices([], [], [], asked=True), now_s)
        for prepare in self._replays[number].told("before_advance"):
            prepare()
        return self._agenda.next_s()

    def _held_for_ever(self) -> list[int]:
        """The services that hold visits which nothing will ever take, once nothing else is left to happen."""
        replays = self._replays
        waiting = [number for number, replay in enumerate(replays) if replay.plane.held]
        futile = [number for number in waiting if replays[number].is_futile]
        if futile or not waiting:
            return futile
        if not self._plane.is_still():
            self._in_vain = 0
            return []
        self._in_vain += 1
        if self._in_vain > _ENDLESS:
            return waiting
        return [number for number in waiting if replays[number].nothing_comes] if self._agenda.only_recurs else []


class _Service:
    """One service and the parts of its replay."""

    def __init__(self, replay: Replay, timeline: Timeline, without: Collection[tuple[str, str, int | str]]) -> None:
        self.replay, hosting = replay, replay.hosting
        left_out = {(table, key) for service, table, key in without if service == replay.name}
        self._scaler = _scaler(replay)
        self.updates = Updates(replay, hosting.due("rollouts", timeline), left_out)
        listed = ListedFleet(replay, timeline) if hosting.counts else None
        self._meter = UseMeter(replay) if hosting.tier.billing == "per_request" else None
        self._faults = None
        if hosting.may_break:
            self._faults = Faults(replay, hosting.due("faults", timeline), timeline.span_s, left_out)
        self.standbys = Standbys(replay) if hosting.standing_by else None
        for part in (self.standbys, self._scaler, self.updates, self._faults, listed, self._meter):
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
            lasted=np.zeros(0) if self._meter is None else self._meter.lasted_per_hour(),
            updates=self.updates.records(),
            faults=[] if self._faults is None else self._faults.records,
            integrals=replay.plane.series(),
            moved=replay.plane.moved(),
            unsent=replay.plane.unsent,
            peak=replay.fleet.peak,
            held_s=replay.fleet.held_s,
        )


class TimesOfChunks(NamedTuple):
    """What is known of a trace that comes in chunks, for times to be looked up in."""

    start: datetime | None
    known_span_s: float | None

    @property
    def span_s(self) -> float:
        """What was said of it."""
        if self.known_span_s is None:
            raise StudyError("an update or a fault in a trace that comes in chunks needs to know its end: give span_s")
        return self.known_span_s

    @property
    def at_s(self) -> np.ndarray:
        """Nobody knows them before they come."""
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


class _Clock:
    """Comes back a hundred times during the span: for progress, for Ctrl-C, and to know that it is over."""

    def __init__(
        self,
        replays: list[Replay],
        agenda: Agenda,
        plane: DataPlane,
        feed: Feed,
    ) -> None:
        self._replays, self._agenda, self._plane, self._feed = replays, agenda, plane, feed
        self.progress: Callable[[float], None] | None = None
        self.watch: Callable[[float, list[Fleet]], None] | None = None
        self._ticks = 0
        self._span_s: float | None = None
        self.span_is_over = False

    HISTORY = frozenset({"_plane", "progress", "watch"})

    def __getstate__(self) -> dict[str, Any]:
        """Without those who listen."""
        return vars(self) | {"progress": None, "watch": None}

    def span_may_be_known(self) -> None:
        """Begin to tick as soon as the span is known."""
        if self._span_s is None and self._feed.span_s is not None:
            self._span_s = self._feed.span_s
            # Ticks that are past by then are left out.
            self._ticks = min(99, int(100 * self._plane.last_s / self._span_s)) if self._span_s else 99
            if self.progress is not None:
                self.progress(self._ticks / 100)
            self._plan_tick()

    def _plan_tick(self) -> None:
        assert self._span_s is not None
        self._ticks += 1
        # The last one exactly: span * 100 / 100 can fall short of the span.
        at_s = self._span_s if self._ticks == 100 else self._span_s * self._ticks / 100
        self._agenda.add(at_s, Kind.SAMPLE, self._tick)

    def _tick(self, now_s: float) -> None:
        if self.progress is not None:
            self.progress(self._ticks / 100)
        if self.watch is not None:
            self.watch(now_s, [replay.fleet for replay in self._replays])
        if self._ticks < 100:
            self._plan_tick()
            return
        self.span_is_over = True
        for replay in self._replays:
            replay.fleet.measure(now_s)
            replay.tell("span_is_over", now_s)
