"""How many visits a second services that call each other take: a chain of three, and many services in one study.

    python benchmarks/services.py

Two million visits each for the last three, so that what it takes to set up 50 fleets of 16 replicas does not count.
"""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from libramen import Plan, Service, Tier, Trace
from libramen.engine import simulation
from libramen.study.system import System

if TYPE_CHECKING:
    from collections.abc import Callable

REPEATS = 5
TIER = Tier(billing="per_hour", replicas={"least": 1, "most": 64}, sizes={"s": {"cores": 8, "per_hour": 1}})


def chain(length: int, *, slots: int = 8, first: str = "a", routes: tuple[str, ...] = ()) -> dict[str, Service]:
    """Each service calls the next one once."""
    names = [f"{first}{k}" for k in range(length)]
    return {
        name: Service(
            slots=slots,
            routes=routes if k == 0 else (),
            calls=[] if k + 1 == length else [{"to": names[k + 1], "cpu": "100ms", "wait": "100ms"}],
        )
        for k, name in enumerate(names)
    }


class Question(NamedTuple):
    """What is replayed: services, requests, how many arrive in a second, and what they ask for in turn."""

    services: dict[str, Service]
    requests: int
    load: float
    routes: list[str]

    def ready(self) -> Callable[[], float]:
        """A replay, which returns million visits a second."""
        rng, n = np.random.default_rng(1), self.requests
        trace = Trace.from_arrays(
            at_s=np.cumsum(rng.exponential(1 / self.load, n)),
            cpu_s=np.full(n, 0.1),
            wait_s=rng.exponential(0.1, n),
            route=np.array(self.routes)[np.arange(n) % len(self.routes)],
        )
        system = System.of(self.services, dict.fromkeys(self.services, Plan(tier=TIER, size="s", replicas=16)))

        def run() -> float:
            began = time.perf_counter()
            found = simulation.run(trace, system)
            lasted = time.perf_counter() - began
            assert len(found.services) == len(self.services)
            return n * len(self.services) / len(self.routes) / lasted / 1e6

        return run


def rates(questions: list[Question]) -> list[float]:
    """Million visits a second of each, the best of some runs; they take turns, since machines are not always alike."""
    runs = [question.ready() for question in questions]
    for run in runs:
        run()
    return [max(found) for found in zip(*([run() for run in runs] for _ in range(REPEATS)), strict=True)]


def many(n: int, load: float, requests: int = 400_000) -> Question:
    """So many chains of five services, each with an equal share of the requests."""
    services = {name: one for k in range(n) for name, one in chain(5, first=f"x{k}_", routes=(f"/{k}",)).items()}
    return Question(services, requests, load, [f"/{k}" for k in range(n)])


def main() -> None:
    one, three, five, fifty, thin = rates(
        [
            Question(chain(1), 400_000, 400, ["/"]),
            Question(chain(3), 150_000, 150, ["/"]),
            many(1, 100),
            many(10, 1000),
            many(10, 100),
        ]
    )
    print(f"chain of 1, 16 replicas of 8 slots:  {one:.2f} million visits a second")
    print(f"chain of 3, 16 replicas of 8 slots:  {three:.2f} million visits a second")
    print(f"5 services, chains of 5:             {five:.2f} million visits a second")
    print(f"50 services, chains of 5:            {fifty:.2f} million visits a second, {five / fifty:.2f} times slower")
    print(f"the same with the load of 5 in all:  {thin:.2f} million visits a second, {five / thin:.2f} times slower")


if __name__ == "__main__":
    main()
