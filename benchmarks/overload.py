"""How well the work of a log is found in which a fleet was overloaded for an hour.

    python benchmarks/overload.py

Three hours at 60 %, 110 % and 70 % of what two replicas of four slots can do, with each balancer, kind of work and way
of stamping; and servers that were overloaded throughout. A shared queue is simulated here, not by the engine. For each
row: mean and quantiles of the work over the true ones; p50, p95 and p99 of a replay on the recorded plan over the
log's; and how far p95 of each hour is off, with the range of it when the true work is drawn anew, as far as luck goes.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hidden_bottlenecks import in_turn

from libramen import Plan, Service, Tier, Trace, TraceError, unqueue
from libramen.engine import simulation
from libramen.study.system import System

POINTS = [0.5, 0.95, 0.99]
HOUR_S = 3600.0
NOON = (0.6, 1.1, 0.7)


def work_of(kind: str, mean_s: float, n: int, rng: np.random.Generator) -> np.ndarray:
    if kind == "exponential":
        work_s = rng.exponential(1, n)
    elif kind == "lognormal":
        work_s = rng.lognormal(0, 1, n)
    else:
        low, high = rng.lognormal(np.log(0.4), 0.3, n), rng.lognormal(np.log(1.8), 0.25, n)
        work_s = np.where(rng.random(n) < 0.6, low, high)
    return np.asarray(mean_s * work_s / work_s.mean())


def latencies(at_s: np.ndarray, work_s: np.ndarray, service: Service, plan: Plan, seed: int) -> np.ndarray:
    if plan.only.balancer == "shared_queue":
        return np.asarray(in_turn(at_s, work_s, service.slots * plan.only.replicas_used) - at_s)
    trace = Trace.from_arrays(at_s=at_s, cpu_s=0.4 * work_s, wait_s=0.6 * work_s)
    results = simulation.run(trace, System.of(service, plan), seed=seed).kept
    return np.asarray(results.latency_s)


def row(
    loads: tuple[float, ...], slots: int, replicas: int, balancer: str, kind: str, *, whole_seconds: bool,
    mean_s: float = 1.0, hour_s: float = HOUR_S, seed: int = 1,
) -> tuple[str, list[float]]:  # fmt: skip
    """One log: a line, and the ratios of mean work and of p50, p95 and p99."""
    rng = np.random.default_rng(seed)
    capacity = slots * replicas / mean_s
    at_s = np.concatenate(
        [hour_s * (k + np.sort(rng.random(rng.poisson(load * capacity * hour_s)))) for k, load in enumerate(loads)]
    )
    work_s = work_of(kind, mean_s, len(at_s), rng)
    tier = Tier(billing="per_hour", replicas={"least": 1, "most": 50}, sizes={"s": {"cores": slots, "per_hour": 1}})
    service, plan = (
        Service(slots=slots),
        Plan(tier=tier, size="s", name="recorded", replicas=replicas, balancer=balancer),
    )
    latency_s = latencies(at_s, work_s, service, plan, 5)
    written_s, stamp_s = np.round(latency_s, 3), np.round(at_s, 3)
    if whole_seconds:
        leaves_s = at_s + written_s
        order = np.argsort(leaves_s, kind="stable")
        drawn_s = np.empty(len(at_s))
        drawn_s[order] = np.sort(np.floor(leaves_s[order]) + rng.random(len(at_s)))
        stamp_s = np.maximum(0.0, drawn_s - written_s)
    order = np.argsort(stamp_s, kind="stable")
    log = Trace.from_arrays(at_s=stamp_s[order], cpu_s=np.zeros(len(at_s)), latency_s=written_s[order])
    log = replace(log, source=replace(log.source, whole_seconds=whole_seconds))
    name = f"| {len(loads)} x {hour_s / 60:.0f} min, {replicas} x {slots} slots, {balancer} | {kind} | "
    name += "s" if whole_seconds else "ms"
    try:
        found = unqueue(log, service, plan)
    except TraceError as error:
        return f"{name} | refused: {error} |", []
    found_s = found.cpu_s + found.wait_s
    replayed_s = latencies(found.at_s, found_s, service, plan, 1)
    drawn = [latencies(at_s, np.random.default_rng(k).permutation(work_s), service, plan, k) for k in range(10)]
    hours = []
    for number in range(len(loads)):
        mine, theirs = found.at_s // hour_s == number, at_s // hour_s == number
        logged = float(np.quantile(latency_s[theirs], 0.95))
        luck = [100 * (float(np.quantile(one[theirs], 0.95)) / logged - 1) for one in drawn]
        off = 100 * (float(np.quantile(replayed_s[mine], 0.95)) / logged - 1)
        hours.append(f"{off:+.0f} % ({min(luck):+.0f} to {max(luck):+.0f})")
    mean = float(found_s.mean() / work_s.mean())
    quantiles = np.quantile(found_s, POINTS) / np.quantile(work_s, POINTS)
    whole = np.quantile(replayed_s, POINTS) / np.quantile(latency_s, POINTS)
    cells = (" ".join(f"{ratio:.2f}" for ratio in some) for some in ([mean, *quantiles], whole))
    return f"{name} | {' | '.join(cells)} | {', '.join(hours)} |", [mean, *whole.tolist()]


def main() -> None:
    print(
        "| recorded fleet | work | stamps | work: mean, p50 p95 p99 | replay: p50 p95 p99 | p95 of each hour (luck) |"
    )
    print("|---|---|---|---|---|---|")
    for whole_seconds in (True, False):
        for kind in ("exponential", "lognormal", "two humps"):
            for balancer in ("shared_queue", "round_robin", "least_busy", "random"):
                print(row(NOON, 4, 2, balancer, kind, whole_seconds=whole_seconds)[0], flush=True)
        for loads, slots, mean_s, kind in (((1.2,), 1, 0.05, "exponential"), ((1.3,), 4, 0.1, "lognormal")):
            line, _ = row(
                loads, slots, 1, "shared_queue", kind, whole_seconds=whole_seconds, mean_s=mean_s, hour_s=1200.0
            )
            print(line, flush=True)


if __name__ == "__main__":
    main()
