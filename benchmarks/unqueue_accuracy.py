"""How well unqueueing finds work that is known, from a log of a busy fleet.

    python benchmarks/unqueue_accuracy.py [PART OF A NAME]

A hidden service is replayed on a hidden fleet and written as a log, with stamps of whole seconds or of milliseconds
and request times to the millisecond. The log is read back with the fleet as its recorded plan. For each row: what p50,
p95 and p99 of a replay on the recorded plan are over those of the log, for `quiet`, `observed` and unqueued; mean,
quartiles and p95 of the work over the true ones; and p95 of the same requests on another fleet and with another
balancer over what the true work has there.
"""

from __future__ import annotations

import sys
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from libramen import Plan, Service, Tier, Trace, read_trace, unqueue
from libramen.engine import simulation
from libramen.study.system import System

MEAN_S, REQUESTS = 0.026, 40_000
START = datetime(2031, 6, 5, 12, tzinfo=UTC)
NEAR = {"p50 p95 p99": 0.05, "mean": 0.03}


class Case(NamedTuple):
    """A hidden service on a hidden fleet."""

    name: str
    load: float
    slots: int = 4
    threads: int | None = None
    cores: float = 4
    replicas: int = 1
    balancer: str = "least_busy"
    share: float = 0.4
    bursts: bool = False
    lent: bool = False
    grows: bool = False

    @property
    def service(self) -> Service:
        return Service(slots=self.slots, threads=self.threads, start="5s")

    def plan(self, **changes: object) -> Plan:
        size = {"cores": self.cores, "per_hour": 1}
        if self.lent:
            size |= {"steady_cores": self.cores / 4, "bank": 20}
        tier = Tier(
            billing="per_hour", autoscaling=True, replicas={"least": 1, "most": 50}, sizes={"s": size}, provision="10s"
        )
        scaling = (
            {"rule": "target", "measure": "cpu", "target": "60%", "every": "20s", "floor": 1, "ceiling": 12}
            if self.grows
            else {}
        )
        values = {"replicas": self.replicas, "balancer": self.balancer} | ({"scaling": scaling} if scaling else {})
        return Plan(tier=tier, size="s", name="recorded", **(values | changes))

    @property
    def capacity(self) -> float:
        """Requests a second at a load of 1, each of `MEAN_S`."""
        busy = min(self.cores, self.threads or self.slots)
        if self.lent:
            busy = self.cores / 4 * 1.6
        by_cpu = busy / (self.share * MEAN_S) if self.share else np.inf
        return self.replicas * min(self.slots / MEAN_S, by_cpu)


CASES = (
    *(Case(f"1 replica, 4 slots, load {load}", load) for load in (0.3, 0.6, 0.85, 0.95)),
    Case("1 replica, 4 slots, bursts", 0.85, bursts=True),
    *(
        Case(f"5 replicas, 2 slots, {balancer}, load {load}", load, 2, cores=2, replicas=5, balancer=balancer)
        for balancer in ("round_robin", "least_busy", "two_choices", "random", "shared_queue")
        for load in (0.6, 0.85)
    ),
    Case("4 workers on one core, load 0.8", 0.8, cores=1, share=1.0),
    Case("8 slots on two cores, load 0.8", 0.8, 8, cores=2, share=0.6),
    Case("event loop, load 0.8", 0.8, 64, threads=1, cores=1, share=0.5),
    Case("lent CPU, load 0.7", 0.7, 8, cores=2, share=0.6, lent=True),
    Case("autoscaled from 3 replicas, load 0.9", 0.9, cores=2, replicas=3, share=0.6, grows=True),
)
WORK = ("exponential", "two humps", "heavy tail")


def work_of(kind: str, n: int, rng: np.random.Generator) -> np.ndarray:
    if kind == "exponential":
        work = rng.exponential(1, n)
    elif kind == "two humps":
        low, high = rng.lognormal(np.log(0.4), 0.3, n), rng.lognormal(np.log(1.8), 0.25, n)
        work = np.where(rng.random(n) < 0.6, low, high)
    else:
        work = np.minimum(1 + rng.pareto(2.2, n), 200)
    return np.asarray(MEAN_S * work / work.mean())


def truth_of(case: Case, kind: str, n: int, seed: int = 1) -> tuple[Trace, np.ndarray]:
    """The hidden requests, and how long each took."""
    rng = np.random.default_rng(seed)
    work_s = work_of(kind, n, rng)
    at_s = 2 + np.cumsum(rng.exponential(1 / (case.load * case.capacity), n))
    if case.bursts:  # 6 of every 40 seconds at twice the rate
        grid = np.arange(0, 1.5 * at_s[-1], 0.01)
        at_s = np.interp(at_s, np.cumsum(np.where(grid % 40 < 6, 1.9, 0.84) * 0.01), grid)
    trace = Trace.from_arrays(
        at_s=at_s, cpu_s=case.share * work_s, wait_s=(1 - case.share) * work_s, start=START, span_s=at_s[-1] + 60
    )
    return trace, latencies(trace, case.service, case.plan(), seed=77)


def latencies(trace: Trace, service: Service, plan: Plan, seed: int = 0) -> np.ndarray:
    run = simulation.run(trace, System.of(service, plan), seed=seed)
    assert run.results is not None
    return run.results.latency_s


def write_log(path: Path, at_s: np.ndarray, latency_s: np.ndarray, *, whole_seconds: bool) -> None:
    """Lines in the order in which requests were answered."""
    lines = [] if whole_seconds else ["time,latency_s"]
    for i in np.argsort(at_s + latency_s, kind="stable").tolist():
        if whole_seconds:
            when = START + timedelta(seconds=int(at_s[i] + latency_s[i]))
            stamp = f"{when:%d/%b/%Y:%H:%M:%S +0000}"
            lines.append(f'v - - [{stamp}] "GET /all HTTP/1.1" 200 100 "-" "-" {latency_s[i]:.3f}')
        else:
            when = START + timedelta(milliseconds=int(1000 * (at_s[i] + latency_s[i])))
            lines.append(f"{when:%Y-%m-%dT%H:%M:%S}.{when.microsecond // 1000:03}Z,{latency_s[i]:.3f}")
    path.write_text("\n".join(lines) + "\n")


def with_work(trace: Trace, work_s: np.ndarray, share: float) -> Trace:
    return trace.with_demand(share * work_s, (1 - share) * work_s, demand="given", notes=())


def row(case: Case, kind: str, folder: Path, *, whole_seconds: bool, n: int = REQUESTS) -> tuple[str, list[bool]]:
    hidden, latency_s = truth_of(case, kind, n)
    path = folder / ("log" if whole_seconds else "log.csv")
    write_log(path, hidden.at_s, latency_s, whole_seconds=whole_seconds)
    how: dict[str, Any] = {} if whole_seconds else {"stamp": "answer"}
    logged_s = np.quantile(latency_s, [0.5, 0.95, 0.99])
    service, plan = case.service, case.plan()

    def replayed(trace: Trace) -> np.ndarray:
        return np.asarray(np.quantile(latencies(trace, service, plan), [0.5, 0.95, 0.99]) / logged_s)

    quiet, observed = (
        replayed(read_trace(path, demand=demand, cpu_share=case.share, **how)) for demand in ("quiet", "observed")
    )
    found = unqueue(read_trace(path, demand="observed", **how).with_demand(
        np.zeros(n), np.zeros(n), demand="given", notes=()), service, plan, cpu_share=case.share)  # fmt: skip
    mine = replayed(found)
    true_s, found_s = hidden.cpu_s + hidden.wait_s, found.cpu_s + found.wait_s
    points = [0.25, 0.5, 0.75, 0.95]
    work = [found_s.mean() / true_s.mean(), *(np.quantile(found_s, points) / np.quantile(true_s, points))]
    others = []
    changes: list[dict[str, Any]] = [
        {"replicas": case.replicas + 1},
        {"balancer": "round_robin", "replicas": case.replicas + 2},
    ]
    for change in changes:
        other = case.plan(**change)
        wanted, got = (np.quantile(latencies(trace, service, other), 0.95) for trace in (hidden, found))
        others.append(got / wanted)
    tolerance = 0.2 if whole_seconds else 0.1
    well = [
        bool(np.abs(mine - 1).max() <= 0.05),
        abs(work[0] - 1) <= 0.03,
        max(abs(ratio - 1) for ratio in work[1:]) <= tolerance,
        max(abs(ratio - 1) for ratio in others) <= 0.08,
    ]
    numbers: list[Any] = [[quiet[1]], [observed[1]], mine, work, others]
    cells = [" ".join(f"{ratio:.2f}" if ratio < 100 else f"{ratio:.0f}" for ratio in some) for some in numbers]
    marks = "".join("+" if good else "-" for good in well)
    return f"| {case.name} | {kind} | {'s' if whole_seconds else 'ms'} | " + " | ".join(cells) + f" | {marks} |", well


def main() -> None:
    wanted = sys.argv[1] if len(sys.argv) > 1 else ""
    print("| recorded fleet | work | stamps | quiet p95 | observed p95 | unqueued p50 p95 p99 | work: mean, quartiles, "
          "p95 | p95 elsewhere | near |")  # fmt: skip
    print("|---|---|---|---|---|---|---|---|---|")
    count = np.zeros(4, int)
    total = 0
    with tempfile.TemporaryDirectory() as folder:
        for case in CASES:
            for kind in WORK:
                for whole_seconds in (False, True):
                    if wanted in case.name:
                        line, well = row(case, kind, Path(folder), whole_seconds=whole_seconds)
                        print(line, flush=True)
                        count += well
                        total += 1
    print("each over what it should be: 1.00 is right. near: replay within 5 %; mean work within 3 %; its quartiles")
    print("and p95 within 10 %, with stamps of whole seconds 20 %; p95 elsewhere within 8 %")
    print("near: " + ", ".join(f"{number} of {total}" for number in count.tolist()))


if __name__ == "__main__":
    main()
