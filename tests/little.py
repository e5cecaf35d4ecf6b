"""A little simulator of its own of docs/model.md: no CPU work, no versions, no rules; deaths, checks, notices, holding.

It shares no code with the engine but the streams of random numbers, and does everything one event at a time, health checks
too. Events of one instant go by kind: completions, replicas that are ready, ends of drains, faults, arrivals.
"""

from __future__ import annotations

import heapq
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from libramen.base.streams import stream

if TYPE_CHECKING:
    from collections.abc import Callable

COMPLETION, READY, DRAIN_END, FAULT, ARRIVAL = range(5)
LATER = 1 << 30
"""Of faults of one replica at one instant those that the study has come first."""


@dataclass(eq=False)
class Little:
    """One replica."""

    number: int
    stage: str = "coming"
    works: bool = False  # its process
    works_s: float = 0.0
    deaths: int = 0
    notice_s: float | None = None
    stands_for: Little | None = None
    detection: object = None
    rhythm: object = None  # of the checks of its health
    failed: int = 0  # checks in a row
    chosen: int = 0
    slots: dict[int, list[bool]] = field(default_factory=dict)  # request -> whether it is still there
    backlog: list[int] = field(default_factory=list)

    @property
    def busy(self) -> int:
        return len(self.slots) + len(self.backlog)


class LittleSimulator:
    """A case has at, wait, n, slots, backlog, holds, queue_limit, balancer, detect or health, start, provision, restarts,
    on_notice, drain, faults."""

    def __init__(self, case: dict[str, Any]) -> None:
        self.case, self.ended, self._queue = case, {}, []
        self._events: list[tuple[float, int, tuple[int, ...], int, Callable[[float], None]]] = []
        self._entered = self._choices = self._last = 0
        self.replicas: dict[int, Little] = {}
        self._luck: dict[int, Any] = {}

    def run(self) -> dict[int, tuple[str, float]]:
        """How each request ends, and its latency; those that are held for ever are left out."""
        case = self.case
        for _ in range(case["n"]):
            replica = self._new()
            replica.stage, replica.works = "ready", True
            if case["health"]:
                self._begin_checks(replica, 0.0)
        for place, fault in enumerate(case["faults"]):
            self._at(fault["at"], FAULT, (fault["replica"] or 0, place), lambda t, fault=fault: self._strike(fault, t))
        for request, at_s in enumerate(case["at"]):
            self._at(at_s, ARRIVAL, (request,), lambda t, request=request: self._arrive(request, t))
        while self._events:
            now_s, *_, action = heapq.heappop(self._events)
            action(now_s)
        return self.ended

    def _at(self, at_s: float, kind: int, key: tuple[int, ...], action: Callable[[float], None]) -> None:
        self._entered += 1
        heapq.heappush(self._events, (at_s, kind, key, self._entered, action))

    def _new(self) -> Little:
        replica = Little(len(self.replicas) + 1)
        self.replicas[replica.number] = replica
        return replica

    # -- requests ------------------------------------------------------------------------------------

    def _ready(self, *, room: bool = False) -> list[Little]:
        ready = [one for one in self.replicas.values() if one.stage == "ready"]
        return [one for one in ready if not room or len(one.slots) < self.case["slots"]]

    def _end(self, request: int, ending: str, now_s: float) -> None:
        self.ended[request] = ending, now_s - self.case["at"][request]

    def _arrive(self, request: int, now_s: float) -> None:
        holds, limit = self.case["holds"], self.case["queue_limit"]
        among = self._ready(room=holds)
        if among and not self._queue:
            self._put(self._choose(among), request, now_s)
        elif holds and (limit is None or len(self._queue) < limit):
            self._queue.append(request)
        else:
            self._end(request, "refused", now_s)

    def _choose(self, among: list[Little]) -> Little:
        if self.case["balancer"] == "round_robin":
            chosen = next((one for one in among if one.number > self._last), among[0])
            self._last = chosen.number
        else:
            chosen = min(among, key=lambda one: (one.busy, one.chosen, one.number))
        self._choices += 1
        chosen.chosen = self._choices
        return chosen

    def _put(self, replica: Little, request: int, now_s: float) -> None:
        limit = self.case["backlog"]
        if not replica.works:
            self._end(request, "lost", now_s)
        elif len(replica.slots) < self.case["slots"]:
            self._start(replica, request, now_s)
        elif limit is None or len(replica.backlog) < limit:
            replica.backlog.append(request)
        else:
            self._end(request, "refused", now_s)

    def _start(self, replica: Little, request: int, now_s: float) -> None:
        there = replica.slots[request] = [True]

        def complete(now_s: float) -> None:
            if not there[0]:
                return
            del replica.slots[request]
            self._end(request, "ok", now_s)
            if replica.backlog:
                self._start(replica, replica.backlog.pop(0), now_s)
            if replica.stage == "draining" and not replica.busy:
                self._end_drain(replica, now_s)
            self._hand_out(now_s)

        self._at(now_s + self.case["wait"][request], COMPLETION, (request,), complete)

    def _hand_out(self, now_s: float) -> None:
        while self._queue and (room := self._ready(room=True)):
            self._put(self._choose(room), self._queue.pop(0), now_s)

    def _empty(self, replica: Little, ending: str, now_s: float) -> None:
        for request in sorted([*replica.slots, *replica.backlog]):
            self._end(request, ending, now_s)
        for there in replica.slots.values():
            there[0] = False
        replica.slots, replica.backlog = {}, []

    # -- lives ---------------------------------------------------------------------------------------

    def _is_ready(self, replica: Little, now_s: float) -> None:
        if replica.stage != "ready":
            replica.stage = "ready"
            old, replica.stands_for = replica.stands_for, None
            if old is not None:
                self._at(now_s, FAULT, (old.number, LATER), lambda t: self._let_go(old, t))
        if not replica.works:
            replica.works, replica.works_s = True, now_s
        self._hand_out(now_s)

    def _start_process(self, replica: Little, works_s: float) -> None:
        deaths, first = replica.deaths, (self.case["health"] or {}).get("first", 0)

        def is_there() -> bool:
            return replica.stage != "gone" and replica.deaths == deaths

        def works(now_s: float) -> None:
            if not is_there():
                return
            if replica.stage == "ready":  # nobody has noticed
                replica.detection = None
            elif self.case["health"]:
                checked_s = self._begin_checks(replica, now_s)
                if first:
                    ready_s = checked_s + (first - 1) * self.case["health"]["every"]
                    self._at(
                        ready_s, READY, (replica.number,), lambda t: self._is_ready(replica, t) if is_there() else None
                    )
                    return
            self._is_ready(replica, now_s)

        self._at(works_s, READY, (replica.number,), works)

    def _begin_checks(self, replica: Little, works_s: float) -> float:
        """From now on, with a phase of the process's own; returns when the first one is."""
        health, number = self.case["health"], replica.number
        luck = self._luck.setdefault(number, stream(0, "health", number))
        first_s = works_s + health["every"] * luck.random()
        mine = replica.rhythm = object()
        replica.failed = 0

        def check(k: int, now_s: float) -> None:
            if replica.rhythm is not mine or replica.stage == "gone" or now_s > 60:
                return
            replica.failed = 0 if replica.works or replica.stage == "coming" else replica.failed + 1
            if replica.failed == health["after"]:
                replica.rhythm = None
                self._at(now_s + health["timeout"], FAULT, (number, LATER), lambda t: self._out(replica, t))
            else:
                self._at(first_s + (k + 1) * health["every"], FAULT, (number, LATER), lambda t: check(k + 1, t))

        self._at(first_s, FAULT, (number, LATER), lambda t: check(0, t))
        return first_s

    def _out(self, replica: Little, now_s: float) -> None:
        if replica.stage != "ready":
            return
        replica.stage, replica.detection = "coming", None
        if replica.works:  # it does by now, and must show it
            health, deaths = self.case["health"], replica.deaths
            good_s = self._begin_checks(replica, replica.works_s) + (max(health["first"], 1) - 1) * health["every"]

            def again(now_s: float) -> None:
                if (replica.stage, replica.deaths) == ("coming", deaths):
                    self._is_ready(replica, now_s)

            self._at(max(now_s, good_s), READY, (replica.number,), again)
        elif self.case["restarts"] == "when_found":
            self._start_process(replica, now_s + self.case["start"])

    def _drain(self, replica: Little, now_s: float) -> None:
        replica.stage = "draining"
        if not replica.busy:
            self._end_drain(replica, now_s)
        elif self.case["drain"] is not None:
            self._end_drain(replica, now_s + self.case["drain"])

    def _end_drain(self, replica: Little, at_s: float) -> None:
        self._at(at_s, DRAIN_END, (replica.number,), lambda t: self._gone(replica, t))

    def _gone(self, replica: Little, now_s: float) -> None:
        self._empty(replica, "cut", now_s)
        replica.stage, replica.works = "gone", False

    # -- faults --------------------------------------------------------------------------------------

    def _strike(self, fault: dict[str, Any], now_s: float) -> None:
        number, is_crash = fault["replica"], fault["kind"] == "crash"
        ready = (one for one in self._ready() if one.works and (is_crash or one.notice_s is None))
        replica = self.replicas.get(number) if number else next(ready, None)
        if replica is None or replica.stage == "gone":
            return
        if not is_crash:
            self._reclaim(replica, now_s, fault["notice"])
        elif replica.works and replica.stage in {"ready", "draining"}:
            self._crash(replica, now_s, fault["detect"])

    def _crash(self, replica: Little, now_s: float, detect_s: float | None) -> None:
        replica.deaths += 1
        replica.works = False
        self._empty(replica, "lost", now_s)
        if replica.stage == "draining":
            replica.stage = "gone"
            return
        if self.case["restarts"] == "at_once":
            self._start_process(replica, now_s + self.case["start"])
        if detect_s is None and not self.case["health"]:
            detect_s = self.case["detect"]
        if detect_s is not None:
            mine = replica.detection = object()

            def found(now_s: float) -> None:
                if replica.detection is mine:
                    self._out(replica, now_s)

            if detect_s == 0:
                found(now_s)
            else:
                self._at(now_s + detect_s, FAULT, (replica.number, LATER), found)
        self._hand_out(now_s)  # a dead one looks empty

    def _reclaim(self, replica: Little, now_s: float, notice_s: float) -> None:
        end_s, was_draining = now_s + notice_s, replica.stage == "draining"
        if replica.notice_s is not None:
            if end_s < replica.notice_s:
                self._give_notice(replica, now_s, end_s)
            return
        if replica.works and replica.stage in {"ready", "draining"}:
            self._give_notice(replica, now_s, end_s)
        else:
            self._gone(replica, now_s)
        if not was_draining:
            new = self._new()
            new.stands_for = replica if replica.stage == "ready" else replica.stands_for
            self._start_process(new, now_s + self.case["provision"] + self.case["start"])

    def _give_notice(self, replica: Little, now_s: float, end_s: float) -> None:
        replica.notice_s = end_s
        self._end_drain(replica, end_s)
        if replica.stage == "draining":
            return
        if self.case["on_notice"] == "drain":
            self._drain(replica, now_s)
        elif self.case["drain"] is not None:
            drains_s = max(now_s, end_s - self.case["drain"])
            self._at(drains_s, FAULT, (replica.number, LATER), lambda t: self._let_go(replica, t))

    def _let_go(self, replica: Little, now_s: float) -> None:
        if replica.stage == "ready" and replica.works:
            self._drain(replica, now_s)
        elif replica.stage in {"ready", "coming"}:
            self._gone(replica, now_s)
