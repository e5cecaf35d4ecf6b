"""Whether a bottleneck that is not in the study is found in a log, and none where there is none.

    python benchmarks/hidden_bottlenecks.py [SEED]

Forty sound logs: a fleet of three replicas of four slots, replayed with each balancer, loads from 0.2 to 0.95, work
that is independent or like that of the request before it, stamps of milliseconds or of whole seconds, with and without
the server's name. Twenty logs of a fleet with slots enough, behind which something else was busy, which is simulated
here and not by the engine: a database of one core, a pool of five connections, a lock on one route.
"""

from __future__ import annotations

import heapq
import sys
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from libramen import Plan, Service, Tier, Trace, TraceError, unqueue
from libramen.engine import simulation
from libramen.study.system import System

REQUESTS = 20_000
BALANCERS = ("round_robin", "least_busy", "two_choices", "random", "shared_queue")
LOADS = (0.2, 0.5, 0.8, 0.95)
HIDDEN = {
    "database": (0.2, 0.3, 0.45, 0.6, 0.75, 0.85, 0.92),
    "pool": (0.6, 0.65, 0.7, 0.75, 0.8, 0.85, 0.92),
    "lock": (0.2, 0.3, 0.45, 0.6, 0.75, 0.9),
}
MEAN_S = 0.04


class Case(NamedTuple):
    """What was logged, and how."""

    name: str
    at_s: np.ndarray
    latency_s: np.ndarray
    route: np.ndarray
    service: Service
    plan: Plan
    replica: np.ndarray | None = None
    cost: float = 0.0
    """How much longer requests took because of what is hidden, as a share of what they would have taken."""


def plan_of(balancer: str = "least_busy") -> Plan:
    sizes = {"s": {"cores": 4, "per_hour": 1}}
    tier = Tier(billing="per_hour", replicas={"least": 1, "most": 50}, sizes=sizes)
    return Plan(tier=tier, size="s", name="recorded", replicas=3, balancer=balancer)


def like_the_one_before(n: int, rng: np.random.Generator) -> np.ndarray:
    """Lognormal work with a mean of 1, correlated over some sixty requests."""
    keeps, sigma = np.exp(-1 / 60), 0.6
    drawn = rng.normal(0, np.sqrt(1 - keeps**2), n)
    level = np.empty(n)
    level[0] = rng.normal()
    for i in range(1, n):
        level[i] = keeps * level[i - 1] + drawn[i]
    return np.asarray(np.exp(sigma * level - sigma**2 / 2))


def sound(balancer: str, load: float, seed: int, *, alike: bool, n: int = REQUESTS) -> Case:
    """A fleet on which all that was busy is in the study."""
    rng = np.random.default_rng(seed)
    service, plan = Service(slots=4), plan_of(balancer)
    work_s = like_the_one_before(n, rng) if alike else rng.exponential(1, n)
    route = (rng.random(n) < 0.2).astype(int)
    work_s = work_s * np.where(route, 2.5, 1)
    work_s *= MEAN_S / work_s.mean()
    at_s = np.cumsum(rng.exponential(MEAN_S / (load * 12), n))
    trace = Trace.from_arrays(at_s=at_s, cpu_s=0.4 * work_s, wait_s=0.6 * work_s)
    run = simulation.run(trace, System.of(service, plan), seed=5)
    assert run.kept is not None
    name = f"{balancer}, load {load}, {'alike' if alike else 'independent'}"
    return Case(name, at_s, run.kept.latency_s, route, service, plan, run.kept.replica)


def in_turn(at_s: np.ndarray, work_s: np.ndarray, servers: int) -> np.ndarray:
    """When each is done at so many servers with one queue, first come first served."""
    free_s = [0.0] * servers
    done_s = np.empty(len(at_s))
    for i in np.argsort(at_s, kind="stable").tolist():
        done_s[i] = max(heapq.heappop(free_s), at_s[i]) + work_s[i]
        heapq.heappush(free_s, done_s[i])
    return done_s


def hidden(kind: str, load: float, seed: int, n: int = REQUESTS, locked: int = 1) -> Case:
    """A fleet with slots enough, behind which something is busy that the study does not have."""
    rng = np.random.default_rng(seed)
    route = rng.choice(3, n, p=[0.6, 0.3, 0.1])
    before_s, after_s = rng.exponential(0.01, n), rng.exponential(0.01, n)
    servers, mean_s = {"database": (1, 0.012), "pool": (5, 0.06), "lock": (1, 0.03)}[kind]
    uses = route == locked if kind == "lock" else np.ones(n, bool)
    at_s = np.cumsum(rng.exponential(mean_s * uses.mean() / (load * servers), n))
    there_s = rng.exponential(mean_s, n)
    latency_s = before_s + after_s
    alone_s = latency_s + np.where(uses, there_s, 0.0)
    latency_s[uses] = in_turn(at_s[uses] + before_s[uses], there_s[uses], servers) - at_s[uses] + after_s[uses]
    cost = float(latency_s[uses].mean() / alone_s[uses].mean() - 1)
    return Case(f"{kind}, load {load}", at_s, latency_s, route, Service(slots=16), plan_of(), cost=cost)


def logged(case: Case, seed: int, *, whole_seconds: bool) -> tuple[Trace, np.ndarray]:
    """The log of it, as a reader gives it, and the order of its requests."""
    latency_s = np.round(case.latency_s, 3)
    at_s = np.round(case.at_s, 3)
    if whole_seconds:
        leaves_s = case.at_s + latency_s
        order = np.argsort(leaves_s, kind="stable")
        drawn_s = np.empty(len(at_s))
        drawn_s[order] = np.sort(np.floor(leaves_s[order]) + np.random.default_rng(seed).random(len(at_s)))
        at_s = np.maximum(0.0, drawn_s - latency_s)
    order = np.argsort(at_s, kind="stable")
    route = [("/a", "/b", "/c")[code] for code in case.route[order].tolist()]
    trace = Trace.from_arrays(at_s=at_s[order], cpu_s=np.zeros(len(at_s)), latency_s=latency_s[order], route=route)
    return replace(trace, source=replace(trace.source, whole_seconds=whole_seconds)), order


def found(case: Case, seed: int, *, whole_seconds: bool, with_server: bool) -> str:
    """What is said of it, in short."""
    trace, order = logged(case, seed, whole_seconds=whole_seconds)
    server = case.replica[order] if with_server and case.replica is not None else None
    try:
        bottleneck = unqueue(trace, case.service, case.plan, server=server).demand.bottleneck
    except TraceError:
        return "refused"
    if bottleneck is None:
        return "-"
    where = "all routes" if bottleneck.everywhere else ", ".join(bottleneck.routes)
    return f"{100 * bottleneck.more:.0f} % more work, {where}"


def main() -> None:
    seed = int(sys.argv[1]) if len(sys.argv) > 1 else 0
    print("| log | stamps | server | it costs | found |")
    print("|---|---|---|---|---|")
    said: list[list[str]] = [[], []]
    cases = [(balancer, load, alike) for balancer in BALANCERS for load in LOADS for alike in (False, True)]
    for number, (balancer, load, alike) in enumerate(cases, start=1):
        whole, named = (number + seed) % 3 == 0, bool((number + seed) % 2)
        case = sound(balancer, load, number + seed, alike=alike)
        said[0].append(found(case, number, whole_seconds=whole, with_server=named))
        print(
            f"| {case.name} | {'s' if whole else 'ms'} | {'named' if named else '-'} | - | {said[0][-1]} |", flush=True
        )
    busy = [(kind, load) for kind, loads in HIDDEN.items() for load in loads]
    for number, (kind, load) in enumerate(busy, start=1):
        whole = (number + seed) % 2 == 1
        case = hidden(kind, load, number + seed)
        said[1].append(found(case, number, whole_seconds=whole, with_server=False))
        print(f"| {case.name} | {'s' if whole else 'ms'} | - | {100 * case.cost:.0f} % | {said[1][-1]} |", flush=True)
    for what, some in zip(("sound logs", "hidden bottlenecks"), said, strict=True):
        alarms = sum(one not in {"-", "refused"} for one in some)
        print(f"{what}: {alarms} of {len(some)} with an alarm, {some.count('refused')} refused")


if __name__ == "__main__":
    main()
