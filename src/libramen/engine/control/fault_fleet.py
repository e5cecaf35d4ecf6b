"""What faults do to a fleet: see `rules.faults.fault.Fleet`."""

from __future__ import annotations

import math

from libramen.engine.control.agenda import Kind
from libramen.engine.control.reclaims import Reclaims
from libramen.engine.control.replaying import Replay
from libramen.engine.replica import Replica


class FleetOfFaults:
    """A fleet as faults see it: what goes on, and what is lost and not yet found.

    Args:
        replay: of the service.
    """

    def __init__(self, replay: Replay) -> None:
        self._replay = replay
        self._fleet, self._plane, self._agenda = replay.fleet, replay.plane, replay.agenda
        self._placement, self._reclaims = replay.placement, Reclaims(replay)
        self._slow: list[tuple[object, float, int | None, str | None]] = []  # one fault may be there more than once
        self._dependency: list[tuple[object, float, float]] = []
        self._shortages: list[tuple[object, str | None, str | None]] = []
        self._fleet.slower, self._fleet.out_of_stock = self._slower, self._out_of_stock

    def alive(self) -> list[Replica]:
        """Not gone yet, by number."""
        return self._fleet.alive()

    def crash(self, replica: Replica, now_s: float, *, detect_s: float | None, why: str) -> None:
        """The process of a replica dies."""
        self._fleet.crash(replica, now_s, detect_s=detect_s, why=why)

    def reclaim(self, replica: Replica, now_s: float, *, notice_s: float | None) -> None:
        """The machine of a replica is taken back after a notice, and one is ordered in its place."""
        self._reclaims.reclaim(replica, now_s, notice_s=notice_s)

    def is_of(self, replica: Replica, tier: str | None) -> bool:
        """Whether its machine is of this tier, None: of one that may take its machines back."""
        of = self._fleet.mixture.tier(replica)
        return of.interruptible if tier is None else of.plain_name == tier

    # -- zones -------------------------------------------------------------------------------------

    def lose(self, zone: str, now_s: float, *, detect_s: float | None) -> None:
        """Every machine of a zone is lost, and nothing is ordered there."""
        fleet = self._fleet
        self._placement.close(zone)
        # What is left of a sorted list is sorted, and so a heap.
        fleet.free_machines = [n for n in sorted(fleet.free_machines) if fleet.replicas[n - 1].zone != zone]
        found: dict[float, list[Replica]] = {}
        for replica in fleet.alive():
            if replica.zone != zone or replica.is_lost:
                continue
            found_s = fleet.detector.detection(replica, now_s, detect_s).at_s
            replica.lost_s = now_s
            if replica.is_draining:
                fleet.lose_draining(replica, now_s, "zone_loss")
                continue
            if replica.is_serving:
                fleet.lose_ready(replica, now_s, "zone_loss", found=found_s == now_s)
            found.setdefault(found_s, []).append(replica)
        for found_s, lost in found.items():
            if found_s == now_s:
                self._find(now_s, lost)
            else:
                self._agenda.add(found_s, Kind.FAULT, self._find, lost[0].number, lost)

    def _find(self, now_s: float, lost: list[Replica]) -> None:
        """The balancer learns which replicas are lost; those that were still wanted are ordered again."""
        wanted = [replica for replica in lost if replica.stage in {"ready", "standby", "coming"}]
        for replica in wanted:
            self._fleet.end(replica, now_s, why="zone_loss")
        for replica in (one for one in wanted if not one.is_reclaimed):
            self._fleet.replace(replica, now_s, why="zone_loss")

    def open(self, zone: str, now_s: float) -> None:
        """Machines may be ordered in a zone again."""
        self._placement.open(zone)
        self._fleet.order_owed(now_s)
        self._replay.tell("look_again", now_s)

    def lose_region(self, now_s: float, *, detect_s: float, silent: bool) -> None:
        """Everything in its region is lost."""
        assert self._replay.region is not None
        self._replay.region.lose(now_s, detect_s=detect_s, silent=silent)

    def open_region(self, now_s: float) -> None:
        """What was lost there is ordered again."""
        assert self._replay.region is not None
        self._replay.region.open(now_s)

    # -- what is slower, or fails ------------------------------------------------------------------

    def slow(self, key: object, slower: float, *, replica: int | None, zone: str | None, now_s: float) -> None:  # noqa: ARG002
        """CPU work that begins is multiplied."""
        self._slow.append((key, slower, replica, zone))
        self._tell()

    def depend(self, key: object, slower: float, errors: float, now_s: float) -> None:  # noqa: ARG002
        """Waits that begin are multiplied, and a share of attempts fails before."""
        self._dependency.append((key, slower, errors))
        self._tell()

    def suspend_orders(self, key: object, *, zone: str | None, tier: str | None) -> None:
        """No order is met from now on, in one zone or anywhere, of one tier or of all."""
        self._shortages.append((key, zone, tier))

    def _out_of_stock(self, zone: str, tier: str) -> bool:
        return any(at in {None, zone} and of in {None, tier} for _, at, of in self._shortages)

    def restore(self, key: object, now_s: float) -> None:  # noqa: ARG002
        """What was called `key` is over."""
        for going_on in (self._slow, self._dependency, self._shortages):
            place = next((place for place, entry in enumerate(going_on) if entry[0] is key), None)
            if place is not None:
                del going_on[place]
        self._tell()

    @property
    def names_one(self) -> bool:
        """Whether something goes on that is about a replica by its number."""
        return any(number is not None for _, _, number, _ in self._slow)

    def _slower(self, replica: Replica) -> float:
        return math.prod(
            slower
            for _, slower, number, zone in self._slow
            if number in {None, replica.number} and zone in {None, replica.zone}
        )

    def _tell(self) -> None:
        for replica in self._fleet.alive():
            if replica.is_ready or replica.is_draining:
                self._plane.slow(replica.number, self._slower(replica))
        slower = math.prod(factor for _, factor, _ in self._dependency)
        self._plane.depend(slower, 1.0 - math.prod(1.0 - errors for _, _, errors in self._dependency))
