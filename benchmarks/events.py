"""What releases and faults cost a replay: a month of two million requests with and without them, in turns.

python benchmarks/events.py [ROUNDS]
"""

from __future__ import annotations

import statistics
import sys
import time
from typing import Any

import numpy as np

from libramen import Plan, Service, Tier, Trace, replay

N, SPAN_S = 2_000_000, 30 * 86400.0
FAULTS: list[dict[str, Any]] = [
    {"kind": "crash", "every_about": "2d"},
    {"kind": "zone_loss", "every_about": "20d", "lasts": "1h"},
    {"kind": "dependency", "every_about": "3d", "lasts": "5m", "slower": 3, "errors": "1%"},
    {"kind": "slow", "every_about": "3d", "lasts": "20m", "slower": 1.5},
]
CANARY = {
    "at": "12:00",
    "daily": True,
    "strategy": "canary",
    "steps": [{"share": "5%", "hold": "10m"}],
    "rollback_above": "5%",
}
CASES: dict[str, dict[str, Any]] = {
    "without": {},
    "random faults": {"faults": FAULTS},
    "a canary every day": {"rollouts": [CANARY]},
    "a rolling release every day": {"rollouts": [{"at": "12:00", "daily": True, "strategy": "rolling"}]},
}


def main(rounds: int) -> None:
    """Replay each case in every round, and print the median of its ratio to the first."""
    rng = np.random.default_rng(1)
    trace = Trace.from_arrays(
        at_s=np.sort(rng.uniform(0, SPAN_S, N)), cpu_s=rng.exponential(0.1, N), wait_s=rng.exponential(0.3, N),
        span_s=SPAN_S, start="2031-06-01T00:00:00", time_zone="Europe/Lisbon",
    )  # fmt: skip
    tier = Tier(
        billing="per_hour", zones=["east", "west"], provision="45s", detect="10s", autoscaling=True,
        replicas={"least": 1, "most": 20}, sizes={"small": {"cores": 1, "per_hour": "0.03"}},
    )  # fmt: skip
    service = Service(slots=8, start="10s", timeout="5s")
    plans = {name: Plan(tier=tier, size="small", replicas=4, **more) for name, more in CASES.items()}
    took: dict[str, list[float]] = {name: [] for name in plans}
    for number in range(rounds + 1):
        for name, plan in plans.items():
            begun_s = time.perf_counter()
            replay(trace, service, plan)
            if number:  # the first compiles, and warms caches up
                took[name].append(time.perf_counter() - begun_s)
    for name, times in took.items():
        ratio = statistics.median(mine / bare for mine, bare in zip(times, took["without"], strict=True))
        print(f"{name:30} {min(times):6.3f} s   {ratio:5.2f} of the time without")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 7)
