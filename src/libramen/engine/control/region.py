"""A region of a replay: the fleets of all services there, which are lost together, and come back together."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from libramen.engine.control.agenda import Kind
from libramen.engine.control.versions import Owed

if TYPE_CHECKING:
    from libramen.engine.border.plane import DataPlane
    from libramen.engine.control.replaying import Replay
    from libramen.engine.replica import Replica

_WHY = "region_loss"


class Region:
    """The fleets that stand in one region.

    Args:
        plane: the data plane.
    """

    def __init__(self, plane: DataPlane) -> None:
        self._plane = plane
        self._replays: list[Replay] = []
        self._losses = 0  # that go on
        self._is_silent = self._is_closed = False
        self._wanted: list[int] | None = (
            None  # replicas of each fleet that worked before it was lost; None: it is whole
        )
        self._owed: list[tuple[Replay, Replica]] = []  # lost, and to be replaced when the loss is over

    @property
    def is_closed(self) -> bool:
        """Whether it is known that it does not work."""
        return self._is_closed

    def join(self, replay: Replay) -> None:
        """One more fleet stands there."""
        self._replays.append(replay)
        replay.region = self
        replay.fleet.listeners.append(self._fleet_changed)

    def lose(self, now_s: float, *, detect_s: float, silent: bool) -> None:
        """All of it is lost, as one event."""
        self._losses += 1
        if self._losses > 1:  # there is nothing left to be lost
            return
        self._is_silent = silent
        if self._wanted is None:
            self._wanted = [_wanted(replay) for replay in self._replays]
        for replay in self._replays:
            replay.is_out = True
            for zone in replay.hosting.zones_used:
                replay.placement.close(zone)
            replay.fleet.free_machines.clear()
        self._tell(now_s)
        self._plane.lose([replay.index for replay in self._replays], now_s)
        lost = []
        for replay in self._replays:
            fleet = replay.fleet
            for replica in fleet.alive():
                if replica.is_lost:
                    continue
                replica.lost_s = now_s
                if replica.is_draining:
                    fleet.lose_draining(replica, now_s, _WHY)
                    continue
                if replica.is_serving:
                    fleet.lose_ready(replica, now_s, _WHY, found=detect_s == 0)
                lost.append((replay, replica))
        self._owed += [(replay, replica) for replay, replica in lost if not replica.is_reclaimed]
        if detect_s == 0:
            self._find(now_s, lost)
        else:
            self._replays[0].agenda.add(now_s + detect_s, Kind.FAULT, self._find, 0, lost)

    def _find(self, now_s: float, lost: list[tuple[Replay, Replica]]) -> None:
        """It is known which replicas are lost, and that the region is, unless it is whole by now."""
        for replay, replica in lost:
            if replica.stage in {"ready", "standby", "coming"}:
                replay.fleet.end(replica, now_s, why=_WHY)
        # First it is closed: what callers send when they hear of it must not wait for the news as well.
        self._is_closed = self._wanted is not None
        self._tell(now_s)
        self._plane.find_silent([replay.index for replay in self._replays], now_s)
        for replay in self._replays if self._is_closed else ():
            if replay.heir is not None and not replay.has_moved:
                replay.has_moved = True
                replay.heir.take_over(replay.hosting.replicas_used, now_s)
        self._tell(now_s)

    def open(self, now_s: float) -> None:
        """A loss is over: what was lost is ordered again, found or not."""
        self._losses -= 1
        if self._losses:
            return
        owed, self._owed = self._owed, []
        for replay in self._replays:
            for zone in replay.hosting.zones_used:
                replay.placement.open(zone)
        self._tell(now_s)
        for replay, replica in owed:
            # Not what a release has drained or cancelled since.
            if replica.stage in {"ready", "standby", "coming"} or replica.why_gone == _WHY:
                replay.fleet.note_leaving(replica, None)
                replay.fleet.owed.append(Owed(replica.version, None, _WHY))
        for replay in self._replays:
            replay.fleet.order_owed(now_s)
            replay.tell("look_again", now_s)
        self._may_be_whole(now_s)

    def _fleet_changed(self, now_s: float, replica: Replica) -> None:
        if replica.is_ready:
            self._may_be_whole(now_s)

    def _may_be_whole(self, now_s: float) -> None:
        """It is open again as soon as every fleet has as many replicas that work as before."""
        if self._wanted is None or self._losses:
            return
        if all(_working(replay) >= n for replay, n in zip(self._replays, self._wanted, strict=True)):
            self._wanted, self._is_closed = None, False
            self._tell(now_s)
            for replay in self._replays:
                replay.is_out = False
                if not replay.is_updating:
                    replay.tell("update_is_over", now_s)
            for replay in self._replays:
                replay.tell("region_opens", now_s)

    def _tell(self, now_s: float) -> None:
        lost: Literal["", "at_once", "none"] = ""
        if self._losses:
            lost = "none" if self._is_silent else "at_once"
        for replay in self._replays:
            replay.plane.shut(now_s, lost=lost, closed=self._is_closed or replay.has_moved)


def _wanted(replay: Replay) -> int:
    """As many as work; while an update is under way no more than it leaves: what it has beside them does not return."""
    working = _working(replay)
    leaves = replay.fleet.updates_to
    return working if leaves is None else min(working, leaves)


def _working(replay: Replay) -> int:
    """Replicas that are ready, and whose processes work."""
    return sum(replica.is_ready and replica.is_serving for replica in replay.fleet.alive())
