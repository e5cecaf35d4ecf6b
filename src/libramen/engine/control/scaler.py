"""Keeps a fleet at the size that its scaling rule wants, within its limits, and writes down why."""

from __future__ import annotations

import math
from collections import deque

from libramen.base.errors import StudyError
from libramen.base.times import tolerance_s
from libramen.engine.control.agenda import Kind
from libramen.engine.control.replaying import FUTILE, Part, Replay
from libramen.engine.decisions import Decisions
from libramen.engine.replica import Replica
from libramen.rules.scaling.timetable import Limits


class Scaler(Part):
    """What all ways of running a rule share: limits, updates under way, orders and drains, the record."""

    pause_up_s = pause_down_s = 0.0

    def __init__(self, replay: Replay) -> None:
        hosting = replay.hosting
        self._replay, self._fleet, self._agenda = replay, replay.fleet, replay.agenda
        entries = hosting.scaling.timetable
        if entries and replay.start is None:
            raise StudyError(
                f"plan {hosting.plan!r}: scaling.timetable needs to know when the trace starts, and this one does "
                "not say"
            )
        self._limits = Limits(*hosting.base_limits, entries, replay.start)
        self._least, self._most = hosting.least, hosting.most
        self._down_after_s = hosting.scaling.down_after
        self._wants: deque[tuple[float, int]] = deque()  # of the last so long: when, and how many, falling
        self._last_order_s = -math.inf
        self._last_drain_s = -math.inf
        self._short_of = self._short_wanted = 0  # so many the account had no room for, when so many were wanted
        self.decisions = Decisions()
        self._waits_since = 0  # so many decisions there were when a replica was last ready, or the span over
        self._fleet.listeners.append(self._begin_to_wait)

    def comparable(self, now_s: float) -> dict[str, object]:
        """What decides its future: see `sameness`. An order or a drain that no pause runs after is forgotten."""
        held_s = self.pause_up_s, self.pause_down_s
        orders = self._last_order_s if now_s - self._last_order_s <= max(held_s) else -math.inf
        drains = self._last_drain_s if now_s - self._last_drain_s <= held_s[1] else -math.inf
        in_vain = 0 if self._fleet.n_ready else len(self.decisions) - self._waits_since
        done = {"decisions", "_waits_since", "_last_order_s", "_last_drain_s"}
        still = {name: value for name, value in vars(self).items() if name not in done}
        return still | {"held": (orders, drains, in_vain, self.wants_nothing)}

    def _begin_to_wait(self, _now_s: float, _replica: Replica | None = None) -> None:
        """From now on it is counted how often it decides without a replica becoming ready."""
        self._waits_since = len(self.decisions)

    def span_is_over(self, now_s: float) -> None:
        """From now on nothing more may come of its decisions."""
        self._begin_to_wait(now_s)

    @property
    def is_futile(self) -> bool:
        """Whether it has decided a thousand times without a replica being ready: it orders and cancels for ever."""
        return not self._fleet.n_ready and len(self.decisions) - self._waits_since > FUTILE

    @property
    def wants_nothing(self) -> bool:
        """Whether, as things are, it will order nothing more once no request arrives.

        What a timetable says for later does not count: requests that are held would wait for it for hours.
        """
        return True

    def begin(self) -> None:
        """The replay begins: a fleet below its floor is ordered up to it, before anything else happens."""
        self._limits.advance(0.0)
        if self._fleet.have < self._limits.floor:
            self._decide(0.0, self._fleet.have)

    def _decide(
        self,
        now_s: float,
        wanted: int,
        held_by: str = "",
        *,
        window: tuple[float, float] = (math.nan, math.nan),
        measure: str = "",
        measured: float = math.nan,
    ) -> None:
        """Meet what the rule wants, as far as limits, updates and pauses let it, and write that down."""
        fleet, limits = self._fleet, self._limits
        if now_s >= limits.next_s:
            limits.advance(now_s)
        ready, coming, leaving, have = fleet.n_ready, fleet.n_coming, fleet.n_leaving, fleet.have
        goal = min(max(wanted, limits.floor), limits.ceiling)
        if goal > wanted:
            held_by = "tier_least" if goal == self._least else "floor"
        elif goal < wanted:
            held_by = "tier_most" if goal == self._most else "ceiling"
        if self._down_after_s and goal < have:
            kept = min(have, self._greatest_wanted(now_s, goal))
            goal, held_by = kept, "down_after" if kept > goal else held_by
        elif self._down_after_s:
            self._greatest_wanted(now_s, goal)
        ordered = cancelled = drained = 0
        self._short_of = 0
        if self._replay.stands_still:
            held_by = "update" if self._replay.is_updating else "region"
        elif goal > have:
            if now_s - self._last_order_s < self.pause_up_s - tolerance_s(now_s):
                held_by = "pause_up"
            else:
                ordered = self._order(goal - have, now_s)
                held_by, self._short_wanted = ("account", wanted) if self._short_of else (held_by, 0)
        elif goal < have:
            if now_s - max(self._last_order_s, self._last_drain_s) < self.pause_down_s - tolerance_s(now_s):
                held_by = "pause_down"
            else:
                cancelled, drained = self._shrink(have - goal, now_s)
        self.decisions.add(
            now_s, *window, measure, measured, ready, coming, leaving, limits.floor, limits.ceiling, wanted, held_by,
            ordered, cancelled, drained,
        )  # fmt: skip

    def _greatest_wanted(self, now_s: float, goal: int) -> int:
        """The greatest number wanted in the last `down_after`, this one included."""
        wants = self._wants
        while wants and wants[-1][1] <= goal:
            wants.pop()
        wants.append((now_s, goal))
        while wants[0][0] <= now_s - self._down_after_s + tolerance_s(now_s):
            wants.popleft()
        return wants[0][1]

    def _order(self, n: int, now_s: float) -> int:
        """Order as many as may be; what the account has no room for is ordered when a replica is gone."""
        fleet, ordered = self._fleet, 0
        for _ in range(n):
            if fleet.order(now_s, why="scaling", decision=len(self.decisions)) is None:
                break
            ordered += 1
        if ordered:
            self._last_order_s = now_s
        self._short_of = n - ordered if not fleet.room else 0
        return ordered

    def look_again(self, now_s: float) -> None:
        """What the account had no room for is ordered now, as far as it has."""
        if not self._short_of or self._replay.stands_still:
            return
        fleet, limits, wanted = self._fleet, self._limits, self._short_wanted
        ready, coming, leaving = fleet.n_ready, fleet.n_coming, fleet.n_leaving
        ordered = self._order(self._short_of, now_s)
        if ordered:
            self.decisions.add(
                now_s, math.nan, math.nan, "", math.nan, ready, coming, leaving, limits.floor, limits.ceiling, wanted,
                "account" if self._short_of else "", ordered, 0, 0,
            )  # fmt: skip

    def _shrink(self, n: int, now_s: float) -> tuple[int, int]:
        """Cancel what is on its way, newest first, then drain the highest numbers; of a mixed fleet entry by entry."""
        fleet, decision, cancelled = self._fleet, len(self.decisions), 0
        for replica in fleet.leaving(n):
            cancelled += replica.is_coming
            (fleet.cancel if replica.is_coming else fleet.drain)(replica, now_s, why="scaling", decision=decision)
        self._last_drain_s = now_s
        return cancelled, n - cancelled


class LimitsScaler(Scaler):
    """For a rule that never wants another number: a decision whenever the timetable changes the limits."""

    def __init__(self, replay: Replay) -> None:
        super().__init__(replay)
        self._wanted = replay.hosting.replicas_used

    def begin(self) -> None:
        """What the timetable says for the start is met before anything else happens."""
        self._keep(0.0)

    def _keep(self, now_s: float) -> None:
        self._decide(now_s, self._wanted)
        if math.isfinite(self._limits.next_s):
            self._agenda.add(self._limits.next_s, Kind.DECISION, self._keep)

    def update_is_over(self, now_s: float) -> None:
        """What the timetable has changed meanwhile is met now."""
        self._decide(now_s, self._wanted)
