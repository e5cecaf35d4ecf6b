"""The part of a data plane's state that decides its future, for replays to be compared.

Two data planes for which it is equal produce the same results from here on. History (integrals, bills, counts) is left
out, and so is where things lie in memory. Visits are identified by their request and their place in its tree of calls,
replicas by their rank among those that are not gone.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

from libramen.engine.kernel import layout

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

    import numpy as np

    from libramen.engine.kernel.arrays import Pointing
    from libramen.engine.kernel.side import KernelSide

_SENT: Final = ("at_s", "slot_at_s", "watched")
_CALLING: Final = ("called_s", "connecting_s", "step", "nth", "pending", "group", "made", "left_s")
_OF_FLEET: Final = (
    "split_share", "split_side", "n_split", "judged", "notes", "errors", "slower", "n_ready", "n_emptied", "n_killed",
    "n_idled", "n_held", "asks_now", "asks", "coming_slots", "dismissed", "lost", "closed",
)  # fmt: skip
_OF_REPLICA: Final = ("state", "version", "error_rate", "fits", "work", "busy")


class ComparableState:
    """That part of a world at an instant.

    Args:
        world: it.
        sides: of all services.
        ranks: of each service the rank of each replica that is not gone, by number.
        now_s: the instant [s].
    """

    def __init__(
        self, world: Pointing, sides: Sequence[KernelSide], ranks: Sequence[Mapping[int, int]], now_s: float
    ) -> None:
        self._world, self._array, self._visits = world.record, world.array, world.array("visits")
        self._sides, self._ranks, self._now_s = sides, ranks, now_s

    def all(self) -> list[Any]:
        """As lists of numbers, in which what has one meaning has one place."""
        world = self._world
        heaps = (self._array(name)[: world[f"n_{name}"]] for name in ("repeats", "repeating"))
        free = set(self._linked(int(world["free"])))
        taken = [index for index in range(len(self._visits)) if index not in free]
        return [
            int(world["next"]), int(world["n_open"]), bool(world["asked"] == world["attempts"]),
            [self._fleet(side) for side in self._sides],
            *(sorted([float(entry["key"]), self._paused(entry["request"])] for entry in heap) for heap in heaps),
            [self._named(client[head], "later") for client in self._array("clients")
             for head in ("waiting_head", "queue_head")],
            self._in_order(taken, "order", lambda phase: phase != layout.QUEUED_UP),
            self._in_order(taken, "planned", lambda phase: phase in {layout.QUEUED_UP, layout.PAUSED}),
        ]  # fmt: skip

    def _in_order(self, taken: Sequence[int], of: str, counts: Callable[[int], bool]) -> list[Any]:
        """Who arrived before whom, or was planned before whom."""
        found = [index for index in taken if counts(self._visits[index]["phase"])]
        return [self._name(index) for index in sorted(found, key=lambda index: int(self._visits[index][of]))]

    # -- visits ------------------------------------------------------------------------------------

    def _linked(self, index: int, link: str = "link") -> Iterator[int]:
        while index >= 0:
            yield int(index)
            index = self._visits[index][link]

    def _named(self, head: int, link: str) -> list[Any]:
        return [self._name(index) for index in self._linked(head, link)]

    def _name(self, index: int) -> list[int]:
        """Which visit it is."""
        visit = self._visits[index]
        return [visit[name].item() for name in ("id", "place", "lineage", "attempt", "given_up")]

    def _visit(self, index: int, *others: str) -> list[Any]:
        """What it is, and these fields, which have a meaning where it is now."""
        visit, world = self._visits[index], self._world
        side = self._sides[visit["fleet"]]
        names = ["cpu_s", "wait_s", "fleet", "client"]
        names += ["first_s"] if visit["attempt"] > 1 or visit["is_call"] else []
        names += [name for name, of in (("route", "codes"), ("visitor", "pins"), ("bytes_out", "tallies")) if world[of]]
        names += ["fails"] if side.spec.errs else []
        names += ["origin", "silent"] if world["places"] else []
        names += ["looked_s", "seen"] if side.spec.reroute_s > 0 and not visit["is_call"] else []
        found = [self._name(index), *(visit[name].item() for name in (*names, *others))]
        if side.spec.judges and visit["sent"] >= 0:
            found.append(visit["sent"].item() - side.first.get("n_forgotten"))
        if not world["calls"]:
            return found
        found += [self._array(name)[index].tolist() for name in ("given", "spent")]
        found.append(self._name(visit["caller"]) if visit["caller"] >= 0 else [])
        if visit["pool_row"] >= 0:
            pool = self._sides[visit["pool_fleet"]]
            replica = pool.array("replicas")[visit["pool_row"]]
            found += [self._rank(pool, replica["number"]), bool(replica["epoch"] == visit["pool_epoch"])]
        return found

    def _sent(self, head: int) -> list[Any]:
        return [self._visit(index, *_SENT) for index in self._linked(head)]

    def _served(self, index: int) -> list[Any]:
        """A visit that is waiting, or calls others."""
        visit = self._visits[index]
        if not self._world["calls"] or visit["phase"] != layout.CALLING:
            return self._visit(index, *_SENT)
        calls = [self._name(call) for call in self._linked(visit["calls_head"], "sibling")]
        return [self._visit(index, *_SENT, *_CALLING, *(("group_s",) if visit["pending"] else ())), calls]

    def _paused(self, index: int) -> list[Any]:
        visit = self._visits[index]
        rank = self._rank(self._sides[visit["fleet"]], visit["number"])
        return [self._visit(index, *_SENT, "failed_s", "ending"), rank]

    # -- replicas ----------------------------------------------------------------------------------

    def _rank(self, side: KernelSide, number: np.integer) -> int:
        return self._ranks[side.first.at].get(int(number), -1)

    def _fleet(self, side: KernelSide) -> list[Any]:
        fleet, numbers, ranks = side.record, sorted(side.rows), self._ranks[side.first.at]
        found = [fleet[name].item() for name in _OF_FLEET]
        if side.spec.balancer == "round_robin":
            found.append(sum(number <= fleet["last_chosen"] for number in numbers))
        if side.spec.balances.by_load:
            by_choice = sorted(numbers, key=lambda number: int(side.replica(number)["chosen"]))
            found.append([ranks[number] for number in by_choice])
        found += [self._sent(fleet["held_head"]), self._sent(fleet["quiet_head"])]
        found.append([
            [self._served(index), self._visits[index]["answered_s"].item(), self._visits[index]["ending"].item(),
             self._rank(side, self._visits[index]["number"])]
            for index in self._linked(fleet["way_head"])
        ])  # fmt: skip
        found += [[ranks[number], *self._replica(side, number)] for number in numbers]
        return [*found, *side.comparable(ranks, self._now_s)]

    def _replica(self, side: KernelSide, number: int) -> list[Any]:
        replica, spec = side.replica(number), side.spec
        n, passed_s = int(replica["n_running"]), max(0.0, self._now_s - float(replica["v_at_s"]))
        empty = int(replica["empty"])
        done = float(replica["v"]) + passed_s * side.array("rate")[empty, n] if n else 0.0
        running, waiting = side.heaps_of(number)
        found = [replica[name].item() for name in _OF_REPLICA]
        found.append(sorted([key - done, self._visit(index, *_SENT)] for key, index in running))
        found.append(sorted([key, self._served(index)] for key, index in waiting))
        found += [self._sent(replica["turn_head"]), self._sent(replica["backlog_head"])]
        if spec.lends:
            if replica["state"] in {layout.DEAD, layout.OUT}:
                passed_s = 0.0  # it stands still
            used = min(float(n), spec.steady_cores if empty else spec.cores)
            bank = float(replica["bank"]) + (spec.steady_cores - used) * passed_s
            found += [empty, min(max(bank, 0.0), spec.bank)]
        if self._now_s - replica["ready_at_s"] < side.record["warm_up_s"]:
            found.append(float(replica["ready_at_s"]))
        if self._world["calls"]:
            found.append(sorted(self._served(index) for index in self._linked(replica["calling"])))
            found += [
                [pool["in_use"].item(), [self._visit(index, "queued_at_s") for index in self._linked(pool["head"])]]
                for pool in side.pools_of(number)
            ]
        return found
