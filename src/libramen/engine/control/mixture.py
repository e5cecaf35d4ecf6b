"""Of a mixed fleet: of which tier the next machine is ordered, and which replica leaves first."""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from typing import Final, NamedTuple

from libramen.engine.replica import Replica, Stage
from libramen.study.hosting import Hosting
from libramen.study.service import Tier

_LEAVES_FIRST: Final[tuple[Stage, ...]] = ("coming", "ready")


class Leaving(NamedTuple):
    """The newest replica of an entry that is in some stage."""

    entry: int
    stage: Stage


class Newest:
    """The newest replicas that are coming, or ready, of each entry."""

    def __init__(self) -> None:
        # Numbers below 0, so that the highest is the first of the heap; those in another stage by now are skipped.
        self._heaps: dict[tuple[int, Stage], list[int]] = {}

    def add(self, replica: Replica) -> None:
        """One is coming, or ready, or of another entry, from now on."""
        heapq.heappush(self._heaps.setdefault((replica.entry, replica.stage), []), -replica.number)

    def take(self, entry: int, stage: Stage, replicas: Sequence[Replica]) -> Replica:
        """The one with the highest number of all `replicas`, not under notice, and about to be so no more."""
        heap = self._heaps[entry, stage]
        while True:
            replica = replicas[-heapq.heappop(heap) - 1]
            if replica.stage == stage and replica.entry == entry and not replica.is_leaving:
                return replica


class Mixture:
    """The entries of a mixed fleet; one alone where all replicas are of one tier.

    Attributes:
        have: of each entry, how many replicas are ready or coming, but for those under notice.
    """

    def __init__(self, hosting: Hosting) -> None:
        self._stocks, self._moves = hosting.stocks, hosting.replacement == "other"
        self._numbers = [stock.replicas for stock in hosting.stocks]
        self.have = [0] * len(self._stocks)

    @property
    def is_mixed(self) -> bool:
        """Whether there is more than one entry."""
        return len(self._stocks) > 1

    def tier(self, replica: Replica) -> Tier:
        """Of its machine."""
        return self._stocks[replica.entry].tier

    @property
    def tiers(self) -> list[Tier]:
        """Of each entry."""
        return [stock.tier for stock in self._stocks]

    def short(self, among: Sequence[Replica] | None = None) -> int:
        """The first entry that has fewer replicas than it should; the last is always short.

        Args:
            among: those of one version, while two are side by side. Default: all.
        """
        have = self.have
        if among is not None and self.is_mixed:
            have = [sum(one.entry == entry and _counts(one) for one in among) for entry in range(len(have))]
        for entry, number in enumerate(self._numbers):
            if number is None or have[entry] < number:
                return entry
        raise AssertionError("the last entry has no number")

    def would_meet(self, entry: int) -> list[int]:
        """The entries by which an order of one can be met, in turn: its own, and the others if it may move."""
        others = [other for other in range(len(self._stocks)) if other != entry]
        return [entry, *(others if self._moves else ())]

    def is_full(self, entry: int, alive: Sequence[Replica]) -> bool:
        """Whether an entry has as many machines as its tier allows, of a fleet that is mixed."""
        most = self._stocks[entry].tier.replicas.most
        if most is None or not self.is_mixed:  # of one tier the rule keeps to that
            return False
        return sum(one.entry == entry and _counts(one) and not one.is_held_up for one in alive) >= most

    def may_leave(self, replica: Replica) -> bool:
        """Whether an idle replica may go: its entry has no number, or more than that."""
        number = self._numbers[replica.entry]
        return number is None or self.have[replica.entry] > number

    def leaving(self, n: int, alive: Sequence[Replica]) -> list[Leaving]:
        """Which replicas leave when there are to be n fewer.

        First what an entry has beyond its number, then the last entry, then those before; of an entry what is coming
        first, the newest first.
        """
        there = [dict.fromkeys(_LEAVES_FIRST, 0) for _ in self._stocks]
        for one in alive:
            if _counts(one):
                there[one.entry][one.stage] += 1
        found: list[Leaving] = []
        while len(found) < n:
            have = [sum(stages.values()) for stages in there]
            beyond = [e for e, number in enumerate(self._numbers) if number is not None and have[e] > number]
            last = [e for e in reversed(range(len(have))) if have[e]]
            entry = next(iter([*beyond, *last]))
            stage = next(stage for stage in _LEAVES_FIRST if there[entry][stage])
            there[entry][stage] -= 1
            found.append(Leaving(entry, stage))
        return found


def _counts(replica: Replica) -> bool:
    return (replica.is_ready or replica.is_coming) and not replica.is_leaving
