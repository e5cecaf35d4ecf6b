"""How many visits a second services that call each other take: a chain of three, and many services in one study.

python benchmarks/services.py
"""

from __future__ import annotations

import time

import numpy as np

from libramen import Plan, Service, Tier, Trace
from libramen.engine import control
from libramen.study.system import System

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


def rate(services: dict[str, Service], requests: int, load: float, routes: list[str]) -> float:
    """Million visits a second, the best of some runs."""
    rng = np.random.default_rng(1)
    trace = Trace.from_arrays(
        at_s=np.cumsum(rng.exponential(1 / load, requests)),
        cpu_s=np.full(requests, 0.1),
        wait_s=rng.exponential(0.1, requests),
        route=np.array(routes)[np.arange(requests) % len(routes)],
    )
    plan = Plan(tier=TIER, size="s", replicas=16)
    system = System.of(services, dict.fromkeys(services, plan))
    best = np.inf
    for repeat in range(REPEATS + 1):
        began = time.perf_counter()
        runs = control.run(trace, system)
        if repeat:
            best = min(best, time.perf_counter() - began)
    assert len(runs) == len(services)
    return requests * len(services) / len(routes) / best / 1e6


def main() -> None:
    print(f"chain of 1, 16 replicas of 8 slots:  {rate(chain(1), 400_000, 400, ['/']):.2f} million visits a second")
    print(f"chain of 3, 16 replicas of 8 slots:  {rate(chain(3), 150_000, 150, ['/']):.2f} million visits a second")
    five, fifty, thin = (
        rate(
            {name: one for k in range(n) for name, one in chain(5, first=f"x{k}_", routes=(f"/{k}",)).items()},
            80_000,
            load,
            [f"/{k}" for k in range(n)],
        )
        for n, load in ((1, 100), (10, 1000), (10, 100))
    )
    print(f"5 services, chains of 5:             {five:.2f} million visits a second")
    print(f"50 services, chains of 5:            {fifty:.2f} million visits a second, {five / fifty:.2f} times slower")
    print(f"the same with the load of 5 in all:  {thin:.2f} million visits a second, {five / thin:.2f} times slower")


if __name__ == "__main__":
    main()
