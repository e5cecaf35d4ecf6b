"""What deciding costs: a month of decisions every 15 s over two million requests, and replicas that come and go.

python benchmarks/scaling.py
"""

from __future__ import annotations

import time
from typing import Any

import numpy as np

from libramen import Observation, Plan, Service, Tier, Trace
from libramen.engine import simulation
from libramen.study.system import System

SPAN_S = 30 * 86400.0
TIER = Tier(
    billing="per_second",
    autoscaling=True,
    holds_requests=True,
    replicas={"least": 0, "most": 20_000},
    sizes={"small": {"cores": 1, "per_hour": "0.03"}},
)


def by_cpu(seen: Observation) -> int:
    """What `target` on CPU at 30 % does, near enough."""
    cpu = seen.measures["cpu"]
    return seen.have if cpu is None else round(seen.ready * cpu / 0.3)


def a_month(n: int = 2_000_000) -> Trace:
    rng = np.random.default_rng(1)
    at_s = np.sort(rng.uniform(0, SPAN_S, n))
    return Trace.from_arrays(
        at_s=at_s, cpu_s=rng.exponential(0.2, n), wait_s=rng.exponential(0.3, n), span_s=SPAN_S,
        start="2031-06-01T00:00:00", time_zone="Europe/Lisbon",
    )  # fmt: skip


def seconds(trace: Trace, **scaling: Any) -> tuple[float, int, int]:
    """How long a replay takes, its decisions and its replicas."""
    plan = Plan(tier=TIER, size="small", replicas=2, scaling=scaling or {"rule": "fixed"})
    begin = time.perf_counter()
    run = simulation.run(trace, System.of(Service(slots=8, start=5), plan)).only
    return time.perf_counter() - begin, len(run.decisions), len(run.replicas)


def main() -> None:
    trace = a_month()
    seconds(trace)  # compiles, or loads what is compiled
    often = {"every": 15, "floor": 2, "ceiling": 20, "pause_down": 60}
    print("a month, 2,000,000 requests        seconds  decisions  replicas")
    rules: dict[str, dict[str, Any]] = {
        "fixed": {},
        "target, cpu": {"rule": "target", "measure": "cpu", "target": 0.3} | often,
        "target, cpu, 2 min, lag 1 min": {"rule": "target", "measure": "cpu", "target": 0.3, "window": 120, "lag": 60}
        | often,
        "target, latency": {"rule": "target", "measure": "latency", "target": "3s"} | often,
        "steps, rate": {"rule": "steps", "measure": "rate", "up": [{"above": 1, "add": 1}]} | often,
        "ahead, cpu": {"rule": "ahead", "measure": "cpu", "target": 0.3} | often,
        "a function": {"rule": by_cpu} | often,
        "on arrival, 5 min": {"rule": "on_arrival", "idle": 300},
    }
    for name, rule in rules.items():
        took_s, decisions, replicas = seconds(trace, **rule)
        print(f"  {name:<32} {took_s:7.2f}  {decisions:9,}  {replicas:8,}")
    print("replicas coming and going on arrival, idle for 1 s")
    for n in (20_000, 40_000, 80_000, 160_000):
        part = trace.part(slice(0, n))
        took_s, _, replicas = seconds(part, rule="on_arrival", idle=1)
        print(f"  {replicas:8,} replicas  {took_s:6.2f} s  {1e6 * took_s / replicas:5.0f} microseconds each")
    print("a fleet that is ordered at once and drained at once")
    for n in (500, 1_000, 2_000, 4_000):
        entries = [{"at": "00:10", "floor": n}, {"at": "00:20", "floor": 2, "ceiling": 2}]
        took_s, _, replicas = seconds(trace.part(slice(0, 2000)), rule="fixed", timetable=entries)
        print(f"  {replicas:8,} replicas  {took_s:6.2f} s  {1e6 * took_s / replicas:5.0f} microseconds each")


if __name__ == "__main__":
    main()
