"""Machines that are taken back after a notice: what their replicas do until then."""

from __future__ import annotations

from libramen.engine.control.agenda import Kind
from libramen.engine.control.replaying import Replay
from libramen.engine.replica import Replica


class Reclaims:
    """Lets a replica under notice serve as long as the tier says, then drain, and be gone in time.

    Args:
        replay: of the service.
    """

    def __init__(self, replay: Replay) -> None:
        self._replay, self._fleet, self._agenda = replay, replay.fleet, replay.agenda
        self._drain_s = replay.service.drain
        self._fleet.listeners.append(self._became_ready)

    def reclaim(self, replica: Replica, now_s: float, *, notice_s: float | None) -> None:
        """The machine of a replica is taken back after a notice, and one is ordered in its place."""
        fleet = self._fleet
        if replica.is_lost or replica.is_held_up or replica.stage == "gone":
            return
        end_s = now_s + (fleet.mixture.tier(replica).notice if notice_s is None else notice_s)
        if replica.notice_s is not None:
            if end_s < replica.notice_s:  # the earlier end holds
                self._give_notice(replica, now_s, end_s)
            return
        was_leaving = replica.is_draining
        if replica.can_die:
            self._give_notice(replica, now_s, end_s)
        else:
            fleet.end(replica, now_s, why="reclaim")
        if not was_leaving:
            fleet.replace(replica, now_s, why="reclaim")
        if fleet.standbys is not None and replica.is_reclaimed:
            fleet.standbys.noticed(replica, now_s)
        self._replay.tell("look_again", now_s)

    def _give_notice(self, replica: Replica, now_s: float, end_s: float) -> None:
        """The machine of a replica will be taken back at `end_s`."""
        self._fleet.note_leaving(replica, end_s)
        self._agenda.add(end_s, Kind.DRAIN_END, self._take, replica.number, replica)
        if replica.is_draining:
            return
        if self._fleet.mixture.tier(replica).on_notice == "drain":
            self._drain(now_s, replica)
        elif self._drain_s is not None:
            drains_s = max(now_s, end_s - self._drain_s)
            self._agenda.add(drains_s, Kind.FAULT, self._drain, replica.number, replica)

    def _became_ready(self, now_s: float, replica: Replica) -> None:
        old = replica.stands_for
        if (replica.is_ready or replica.is_standby) and old is not None:
            replica.stands_for = None
            self._agenda.add(now_s, Kind.FAULT, self._drain, old.number, old)

    def _drain(self, now_s: float, replica: Replica) -> None:
        """Drain a replica before its machine is taken. One whose process does not work is gone at once."""
        if replica.is_ready and replica.is_serving:
            self._fleet.drain(replica, now_s, why="reclaim")
        elif replica.is_ready or replica.is_coming or replica.is_standby:
            self._fleet.end(replica, now_s, why="reclaim")

    def _take(self, now_s: float, replica: Replica) -> None:
        """What is left in it is cut."""
        if replica.stage != "gone":
            self._fleet.end(replica, now_s, why=replica.why_gone or "reclaim")
