"""The balancer of the readable data plane: which replica gets an attempt."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from libramen import streams

if TYPE_CHECKING:
    from libramen.engine.plain.replica import Attempt, Replica
    from libramen.engine.plane import ServerSpec


class Balancer:
    """The rule of a balancer, and what it remembers."""

    def __init__(self, spec: ServerSpec) -> None:
        self._spec = spec
        self._last_chosen = 0  # for round robin

    def choose(self, among: list[Replica], attempt: Attempt) -> Replica:
        """The balancer's rule."""
        balancer = self._spec.balancer
        if balancer == "round_robin":
            later = [replica for replica in among if replica.number > self._last_chosen]
            chosen = (later or among)[0]
            self._last_chosen = chosen.number
            return chosen
        if balancer in {"random", "two_choices"}:
            u, v = uniforms(self._spec.seed, "balancer", attempt)
            chosen = among[int(u * len(among))]
            if balancer == "random" or len(among) == 1:
                return chosen
            others = [replica for replica in among if replica is not chosen]
            among = [chosen, others[int(v * len(others))]]
        return min(among, key=lambda replica: (replica.busy, replica.number))


def uniforms(seed: int, purpose: str, attempt: Attempt) -> tuple[float, float]:
    """Two numbers of the attempt's own, uniform in [0, 1)."""
    counter = np.array([0, attempt.request.id, attempt.number, 0], np.uint64)
    stream = np.random.Generator(np.random.Philox(key=streams.key(seed, purpose), counter=counter))
    return stream.random(), stream.random()
