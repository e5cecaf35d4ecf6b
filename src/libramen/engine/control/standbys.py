"""Standbys: replicas that work, are paid and sent nothing, until one that serves is gone or dead."""

from __future__ import annotations

from libramen.engine.control.agenda import Kind
from libramen.engine.control.replaying import FUTILE, Part, Replay
from libramen.engine.replica import Process, Replica


class Standbys(Part):
    """Promotes standbys while fewer serve than the plan has replicas.

    Args:
        replay: of the service.

    Attributes:
        serving, standing_by: how many replicas the plan has, and how many beside them.
        promoted_s: when standbys were promoted [s].
    """

    HISTORY = frozenset({"promoted_s"})

    def __init__(self, replay: Replay) -> None:
        hosting = replay.hosting
        self._replay, self._fleet, self._agenda = replay, replay.fleet, replay.agenda
        self._promote = hosting.promote
        self.serving, self.standing_by = hosting.replicas_used, hosting.standing_by
        self._promoting: list[Process] = []  # those that are being promoted
        self._leaving: list[int] = []  # and of those that hand over, which nobody may follow before they are gone
        self._in_vain = 0  # so many promotions were begun since something served, or since the span was over
        self.promoted_s: list[float] = []
        self._fleet.standbys = self
        self._fleet.listeners.append(self._fleet_changed)

    def begin(self) -> None:
        """The standbys of the start stand by."""
        for _ in range(self.standing_by):
            self._fleet.appear(0.0, why="start")

    def span_is_over(self, _now_s: float) -> None:
        """From now on nothing more may come of promotions."""
        self._in_vain = 0

    @property
    def is_futile(self) -> bool:
        """Whether it has promoted a thousand times without anything serving: each dies before it is promoted."""
        return self._in_vain > FUTILE

    def take_over(self, n: int, now_s: float) -> None:
        """The home in another region is closed: this is the home from now on, with as many that serve."""
        self.serving = n
        self._may_promote(now_s)

    def hand_over(self, replica: Replica) -> None:
        """A serving one is drained: the next may serve when it is gone."""
        self._leaving.append(replica.number)

    def noticed(self, replica: Replica, now_s: float) -> None:
        """The machine of a replica will be taken back: one that serves is handed over, if there is to whom."""
        if replica.is_ready and replica.is_serving and self._next() is not None:
            self._fleet.drain(replica, now_s, why="reclaim")

    def _fleet_changed(self, now_s: float, replica: Replica) -> None:
        if self._fleet.n_ready:
            self._in_vain = 0
        # A promotion ends when the standby is gone or found dead, or when a new process works in its place.
        self._promoting = [
            one for one in self._promoting if one.replica.is_standby and (one.is_there or not one.replica.is_serving)
        ]
        if replica.number in self._leaving and replica.stage == "gone":
            self._leaving.remove(replica.number)
        self._may_promote(now_s)

    def _may_promote(self, now_s: float) -> None:
        while self._fleet.n_ready + len(self._promoting) + len(self._leaving) < self.serving:
            following = self._next()
            if following is None:
                return
            self._in_vain += 1
            promote, z = self._promote, 0.0
            if not promote.is_constant:
                z = float(self._fleet.luck.own("promote", following.number).standard_normal())
            process = Process(following, following.life)
            self._promoting.append(process)
            takes_s = promote.at(z)
            if takes_s > 0:
                counts = not self._fleet.dies_for_ever(following)
                self._agenda.add(now_s + takes_s, Kind.READY, self._serve, following.number, process, counts=counts)
            else:
                self._serve(now_s, process)

    def _next(self) -> Replica | None:
        """The standby that has worked longest, and is not under notice."""
        there = [
            one
            for one in self._fleet.alive()
            if one.is_standby and one.is_serving and not one.is_leaving and not self._is_promoting(one)
        ]
        return min(there, key=lambda one: (one.works_s, one.number), default=None)

    def _is_promoting(self, replica: Replica) -> bool:
        return any(one.replica is replica for one in self._promoting)

    def _serve(self, now_s: float, process: Process) -> None:
        if process in self._promoting and process.is_there:
            self._promoting.remove(process)
            self.promoted_s.append(now_s)
            self._fleet.serve(process.replica, now_s)
