"""The faults of a plan: when each strikes, and when it is over."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import NamedTuple

import numpy as np

from libramen.base import streams
from libramen.engine.control.agenda import Kind
from libramen.engine.control.fault_fleet import FleetOfFaults
from libramen.engine.control.replaying import Part, Replay
from libramen.engine.record import FaultRecord
from libramen.engine.replica import Process, Replica
from libramen.rules.faults import Reclaim
from libramen.rules.faults.fault import Fault
from libramen.study.hosting import Due

_ENTRIES = 1 << 20
"""More than there are replicas: streams of an entry are numbered by what it strikes."""


class _Entry(NamedTuple):
    """A fault, and its place in the table (from 0); that of the tier is behind all of the plan."""

    fault: Fault
    place: int


class Faults(Part):
    """Lets each fault strike when it is due, or when its time has come at random.

    Args:
        replay: of the service.
        due: those that have a time, and when they are due.
        span_s: at random none begins after it [s].
        left_out: see `simulation.run`.
    """

    HISTORY = frozenset({"records", "_drawn"})

    def __init__(
        self,
        replay: Replay,
        due: Sequence[Due],
        span_s: float,
        left_out: Collection[tuple[str, int | str]] = (),
    ) -> None:
        self._replay, self._fleet, self._agenda = replay, replay.fleet, replay.agenda
        self._span_s, self._index = span_s, replay.luck
        self._struck = FleetOfFaults(replay)
        self.records: list[FaultRecord] = []
        self._named = 0  # strikes to come that name a replica
        self._drawn: dict[int, int] = {}  # by replica: the process (its `life`) whose strikes are drawn
        for at_s, place, fault in due:
            if ("faults", place) not in left_out:
                self._plan(at_s, _Entry(fault, place), None)
        faults = list(replay.hosting.faults)
        faults += [
            Reclaim(every_about=tier.reclaimed_every, tier=tier.plain_name)
            for tier in self._fleet.mixture.tiers
            if tier.interruptible and tier.reclaimed_every is not None
        ]
        self._random = [
            _Entry(fault, place)
            for place, fault in enumerate(faults)
            if fault.every_about is not None and ("at_random", fault.kind) not in left_out
        ]
        self._streams: dict[tuple[int, int | str], np.random.Generator] = {}
        of_ready = [entry for entry in self._random if entry.fault.scope == "replica" and entry.fault.while_ready]
        of_ordered = [entry for entry in self._random if entry.fault.scope == "replica" and not entry.fault.while_ready]
        self._of_ready, self._of_ordered = of_ready, of_ordered
        if of_ready:
            self._fleet.listeners.append(self._became_ready)
        if of_ordered:
            self._fleet.order_listeners.append(self._was_ordered)

    def begin(self) -> None:
        """What comes at random may come from now on."""
        for replica in self._fleet.alive():
            self._was_ordered(0.0, replica)
            self._became_ready(0.0, replica)
        for entry in self._random:
            if entry.fault.scope == "zone":
                for zone in filter(entry.fault.may_strike, self._replay.hosting.zones_used):
                    self._draw(entry, zone, 0.0)
            elif entry.fault.scope == "service":
                self._draw(entry, 0, 0.0)

    def _became_ready(self, now_s: float, replica: Replica) -> None:
        if not (replica.is_ready or replica.is_standby) or not replica.is_serving:
            return
        if self._drawn.get(replica.number) == replica.life:  # it stood by, and serves from now on
            return
        self._drawn[replica.number] = replica.life
        for entry in self._of_ready:
            if entry.fault.may_strike(replica.number):
                self._draw(entry, replica.number, now_s, of=Process(replica, replica.life))

    def _was_ordered(self, now_s: float, replica: Replica) -> None:
        for entry in self._of_ordered:
            if entry.fault.may_strike(replica.number):
                self._draw(entry, replica.number, now_s)

    def _draw(self, entry: _Entry, target: int | str, now_s: float, *, of: Process | None = None) -> None:
        """When it strikes next, from a stream of the entry's and the target's own; `of`: only this process."""
        assert entry.fault.every_about is not None
        at_s = now_s + float(self._stream(entry, target).exponential(entry.fault.every_about))
        if at_s < self._span_s:
            self._plan(at_s, entry, target, of)

    def _stream(self, entry: _Entry, target: int | str) -> np.random.Generator:
        """Of the entry's and the target's own: a replica, a zone, the service (0), or who is drawn ("any")."""
        key = entry.place, target
        if key not in self._streams:
            number = _ENTRIES - 1 if target == "any" else target
            if isinstance(number, str):
                number = self._replay.hosting.tier.zones.index(number)
            self._streams[key] = streams.stream(
                self._replay.seed, entry.fault.kind, _ENTRIES * entry.place + number, self._index
            )
        return self._streams[key]

    def _plan(self, at_s: float, entry: _Entry, target: int | str | None, of: Process | None = None) -> None:
        """Let it strike then; `of`: only this process."""
        number = target if isinstance(target, int) and target else entry.fault.number
        self._named += number > 0
        self._agenda.add(at_s, Kind.FAULT, self._strike, number, entry, target, of, counts=entry.fault.changes_fleet)

    @property
    def depends_on_numbers(self) -> bool:
        """Whether a replica that is named will be struck, or a replica of any number at a time of its own."""
        at_random = any(entry.fault.scope == "replica" or entry.fault.draws_replica for entry in self._random)
        return self._named > 0 or at_random or self._struck.names_one

    def _strike(self, now_s: float, entry: _Entry, target: int | str | None, of: Process | None) -> None:
        self._named -= (target if isinstance(target, int) and target else entry.fault.number) > 0
        if of is not None and (not of.replica.can_die or of.replica.is_draining or of.replica.life != of.life):
            return  # it is another process by now, or none
        fault, at_random = entry.fault, entry.fault.every_about is not None
        named = self._fleet.replicas[target - 1] if isinstance(target, int) and target else None
        if named is not None and not fault.is_about(self._struck, named):
            return  # it has a machine of another tier by now
        struck = self._draw_ready_replica(entry) if fault.draws_replica else target or None
        if fault.draws_replica and struck is None:  # nobody is there
            if at_random:
                self._draw(entry, 0, now_s)
            return
        fault.strike(self._struck, now_s, struck)
        self.records.append(FaultRecord(fault.kind, entry.place, now_s, fault.lasts_s, at_random, struck))
        if fault.lasts_s is not None:
            self._agenda.add(
                now_s + fault.lasts_s, Kind.FAULT, self._end, fault.number, entry, target, counts=fault.changes_fleet
            )
        elif at_random and target == 0 and fault.is_instant:
            self._draw(entry, 0, now_s)

    def _draw_ready_replica(self, entry: _Entry) -> int | None:
        """The number of a replica that works, drawn from a stream of the entry's own; None: there is none."""
        there = (one for one in self._fleet.alive() if entry.fault.is_about(self._struck, one))
        ready = [one.number for one in there if one.is_ready and not (one.is_dead or one.is_lost)]
        return ready[int(self._stream(entry, "any").integers(len(ready)))] if ready else None

    def _end(self, now_s: float, entry: _Entry, target: int | str | None) -> None:
        entry.fault.end(self._struck, now_s, target or None)
        if entry.fault.every_about is not None and target is not None:
            self._draw(entry, target, now_s)
