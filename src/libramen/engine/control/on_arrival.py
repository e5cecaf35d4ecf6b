"""Runs `on_arrival`: a replica is ordered when a request finds no slot, and drains when it is idle for long."""

from __future__ import annotations

import math
from typing import cast

from libramen.base.times import tolerance_s
from libramen.engine.border.records import Notices
from libramen.engine.control.agenda import Kind
from libramen.engine.control.replaying import Replay
from libramen.engine.control.scaler import Scaler
from libramen.engine.replica import Replica
from libramen.rules.scaling.on_arrival import OnArrival


class ArrivalScaler(Scaler):
    """Is asked by the data plane for each request that finds no slot, and looks at each replica that may be idle.

    When a replica is looked at and has a request, the data plane tells when it becomes idle; so a busy replica
    costs nothing, and one that is idle is looked at `idle` after it became so.
    """

    def __init__(self, replay: Replay) -> None:
        super().__init__(replay)
        rule = cast("OnArrival", replay.hosting.scaling)
        self._idle_s, self._slots, self._plane = rule.idle, replay.service.slots, replay.plane
        self._idle_but_needed: set[int] = set()  # numbers of replicas that were idle for long, and had to stay
        self._told = False  # it has said that it orders nothing for now
        self._fleet.listeners.append(self._fleet_changed)
        for replica in self._fleet.ready():
            self._look_at(replica.number, rule.idle)

    def comparable(self, now_s: float) -> dict[str, object]:
        """What decides its future: see `sameness`."""
        needed = [self._fleet.replicas[number - 1] for number in sorted(self._idle_but_needed)]
        return super().comparable(now_s) | {"_idle_but_needed": needed}

    def begin(self) -> None:
        """The limits hold from the start on."""
        self._keep_limits(0.0)

    def _keep_limits(self, now_s: float) -> None:
        """At the start, and whenever the timetable changes the limits."""
        self._limits.advance(now_s)
        have = self._fleet.have
        if not self._limits.floor <= have <= self._limits.ceiling:
            self._decide(now_s, have)
        self._look_again(now_s)
        if math.isfinite(self._limits.next_s):
            self._agenda.add(self._limits.next_s, Kind.DECISION, self._keep_limits)

    def update_is_over(self, now_s: float) -> None:
        """What was held back by an update is done now."""
        have = self._fleet.have
        if not self._limits.floor <= have <= self._limits.ceiling:
            self._decide(now_s, have)
        self._look_again(now_s)

    # -- requests that find no slot ----------------------------------------------------------------

    def before_advance(self) -> None:
        """Be asked, unless it could only say once more that it orders nothing."""
        fleet = self._fleet
        if (
            not self._replay.stands_still
            and fleet.have < self._limits.ceiling
            and (fleet.may_order or not self._short_of)
        ):
            self._told = False
        self._told = self._told or self._replay.is_out
        self._plane.ask(None if self._told else self._fleet.n_coming * self._slots)

    def heed(self, notices: Notices, now_s: float) -> None:
        """Replicas have become idle, or a request is going to arrive for which no slot is left."""
        for number in notices.idled:  # look at each when it has been idle for long
            self._look_at(number, now_s + self._idle_s)
        if notices.asked:
            self._order_one(now_s)

    def _order_one(self, now_s: float) -> None:
        """A request is going to arrive for which no slot is left: order one replica, if that may be."""
        have = self._fleet.have
        self._decide(now_s, have + 1)
        self._told = self._fleet.have == have

    # -- replicas that are idle --------------------------------------------------------------------

    def _fleet_changed(self, now_s: float, replica: Replica) -> None:
        if replica.is_ready:
            self._look_at(replica.number, now_s + self._idle_s)
            self._look_again(now_s)

    def _look_again(self, now_s: float) -> None:
        for number in self._idle_but_needed:
            self._look_at(number, now_s)
        self._idle_but_needed.clear()

    def _look_at(self, number: int, at_s: float) -> None:
        replica = self._fleet.replicas[number - 1]
        counts = not self._fleet.dies_for_ever(replica)
        self._agenda.add(at_s, Kind.IDLE, self._look, number, replica, counts=counts)

    def _look(self, now_s: float, replica: Replica) -> None:
        """Drain a replica that has been idle for long, or look again when it may have been."""
        if not replica.is_ready or replica.is_dead or replica.is_reclaimed:
            return
        idle_since_s = self._plane.idle_since_s(replica.number)
        if math.isinf(idle_since_s):
            self._plane.tell_idle(replica.number)
        elif now_s - idle_since_s < self._idle_s - tolerance_s(now_s):
            self._look_at(replica.number, idle_since_s + self._idle_s)
        else:
            self._drain_if_allowed(replica, now_s, now_s - idle_since_s)

    def _drain_if_allowed(self, replica: Replica, now_s: float, idle_s: float) -> None:
        fleet, limits = self._fleet, self._limits
        limits.advance(now_s)
        if self._replay.stands_still or fleet.n_lasting <= limits.floor or not fleet.mixture.may_leave(replica):
            self._idle_but_needed.add(replica.number)
            return
        ready, coming, leaving, have = fleet.n_ready, fleet.n_coming, fleet.n_leaving, fleet.have
        fleet.drain(replica, now_s, why="idle", decision=len(self.decisions))
        self._last_drain_s = now_s
        self.decisions.add(
            now_s, now_s - idle_s, now_s, "idle", idle_s, ready, coming, leaving, limits.floor,
            limits.ceiling, have - 1, "", 0, 0, 1,
        )  # fmt: skip
