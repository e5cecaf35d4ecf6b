"""The balancer of the readable data plane: which replica gets an attempt."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from libramen.base import streams
from libramen.engine.plain.replica import Replica
from libramen.engine.plain.visit import Attempt

if TYPE_CHECKING:
    from collections import Counter


class Balancer:
    """The rule of a balancer, and what it remembers.

    Args:
        rule: its name.
        seed: random seed.
        server: number of the server.
        pinned: of each visitor the server and the replica; all regions of a service share it, and both sides of each.
        moved: visitors who had to move from each replica of a server; likewise.
    """

    def __init__(
        self, rule: str, seed: int, server: int, pinned: dict[int, tuple[int, int]], moved: Counter[tuple[int, int]]
    ) -> None:
        self._rule, self._seed, self._server = rule, seed, server
        self.last_chosen = 0  # for round robin
        self._chosen: dict[int, int] = {}  # of each replica when it was chosen last, counted in choices
        self._choices = 0
        self._pinned, self._moved = pinned, moved

    def choose(self, among: list[Replica], attempt: Attempt) -> Replica:
        """The balancer's rule."""
        chosen = self._choose(among, attempt)
        self._choices += 1
        self._chosen[chosen.number] = self._choices
        return chosen

    def _choose(self, among: list[Replica], attempt: Attempt) -> Replica:
        if self._rule == "round_robin":
            later = [replica for replica in among if replica.number > self.last_chosen]
            chosen = (later or among)[0]
            self.last_chosen = chosen.number
            return chosen
        if self._rule == "pinned":
            return self._where_pinned(among, attempt.errand.visitor)
        if self._rule in {"random", "two_choices"}:
            u, v = uniforms(self._seed, "balancer", attempt.errand.id, attempt.lineage, attempt.errand.place)
            chosen = among[int(u * len(among))]
            if self._rule == "random" or len(among) == 1:
                return chosen
            others = [replica for replica in among if replica is not chosen]
            return min(chosen, others[int(v * len(others))], key=lambda replica: replica.busy)  # a tie: the first
        return self._least_busy(among)

    def _where_pinned(self, among: list[Replica], visitor: int) -> Replica:
        """Where the last request of this visitor was sent, if that replica is among them; else the least busy one."""
        before = self._pinned.get(visitor)
        same = [replica for replica in among if (self._server, replica.number) == before]
        chosen = same[0] if same else self._least_busy(among)
        if visitor >= 0:
            if before is not None and not same:
                self._moved[before] += 1
            self._pinned[visitor] = self._server, chosen.number
        return chosen

    def _least_busy(self, among: list[Replica]) -> Replica:
        """Of equals that which was chosen longest ago, or never."""
        return min(among, key=lambda replica: (replica.busy, self._chosen.get(replica.number, 0), replica.number))


def uniforms(seed: int, purpose: str, request: int, lineage: int, place: int) -> tuple[float, float]:
    """Two numbers of a visit's own, uniform in [0, 1)."""
    counter = np.array([0, request, lineage, place], np.uint64)
    stream = np.random.Generator(np.random.Philox(key=streams.key(seed, purpose), counter=counter))
    return stream.random(), stream.random()
