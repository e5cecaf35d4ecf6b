"""How fast the data plane is, in one run: against a loop in C, against heapq and against SimPy.

    python benchmarks/data_plane.py [--requests 1000000] [--compilation]

Times on shared machines are noisy, so read the ratios. Each contender replays the same Poisson arrivals with
exponential CPU work and wait on the same fleet: least busy, slots, a backlog, cores that the requests share, so that
70 % of the cores are in use. Mean latencies must agree. `loop.c` is what one would write by hand in C, with none of
the rest (no ties, no integrals, no time-outs, no retries); it is compiled with -O3 where there is a compiler. heapq
and SimPy get fewer requests, since they take longer. SimPy is in the extra `dev`.
"""

from __future__ import annotations

import argparse
import ctypes
import heapq
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections import deque
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from libramen import Plan, Service, Tier, Trace
from libramen.engine import simulation
from libramen.study.system import System

if TYPE_CHECKING:
    from collections.abc import Callable, Generator

    Contender = Callable[["Case"], "np.ndarray | float"]
    """Replays a case; returns each latency, or their mean."""

FLEETS = ((4, 4), (16, 8), (64, 16))
LOAD = 0.7
WORK_S = WAIT_S = 0.5


class Case(NamedTuple):
    """Requests and the fleet that they meet."""

    trace: Trace
    replicas: int
    slots: int
    cores: float
    backlog: int = 1000

    @classmethod
    def make(cls, n: int, replicas: int, slots: int, cores: float | None = None) -> Case:
        cores = slots / 4 if cores is None else cores
        rng = np.random.default_rng(1)
        at_s = np.cumsum(rng.exponential(WORK_S / (replicas * cores * LOAD), n))
        trace = Trace.from_arrays(at_s=at_s, cpu_s=rng.exponential(WORK_S, n), wait_s=rng.exponential(WAIT_S, n))
        return cls(trace, replicas, slots, cores)


def with_kernel(case: Case) -> np.ndarray:
    most = {"most": case.replicas}
    tier = Tier(billing="per_hour", replicas=most, sizes={"s": {"cores": case.cores, "per_hour": 0}})
    plan = Plan(tier=tier, size="s", replicas=case.replicas)
    system = System.of(Service(slots=case.slots, backlog=case.backlog), plan)
    run = simulation.run(case.trace, system)
    assert run.results is not None
    return np.asarray(run.results.latency_s)


def compiled_loop() -> Contender | None:
    """`loop.c` with all the optimisation that the compiler offers, None: there is no compiler."""
    compiler = shutil.which("gcc") or shutil.which("clang")
    if compiler is None:
        return None
    folder = tempfile.mkdtemp()
    library, source = f"{folder}/loop.so", Path(__file__).with_name("loop.c")
    subprocess.run([compiler, "-O3", "-march=native", "-shared", "-fPIC", "-o", library, source, "-lm"], check=True)
    replay = ctypes.CDLL(library).replay

    def with_c(case: Case) -> np.ndarray:
        trace, n = case.trace, len(case.trace)
        latency_s, queued_s, chosen = np.zeros(n), np.zeros(n), np.zeros(n, np.int32)
        arrays = [trace.at_s, trace.cpu_s, trace.wait_s, latency_s, queued_s, chosen]
        at, cpu, wait, *out = (ctypes.c_void_p(array.ctypes.data) for array in arrays)
        replay(
            ctypes.c_long(n), at, cpu, wait, case.replicas, case.slots, case.slots, case.backlog,
            ctypes.c_double(case.cores), *out,
        )  # fmt: skip
        return latency_s

    return with_c


class SharedCpu:
    """A replica's CPU by virtual time, for the two contenders in Python."""

    def __init__(self, cores: float) -> None:
        self.cores, self.v, self.at_s = cores, 0.0, 0.0
        self.running: list[tuple[float, int]] = []

    def rate(self) -> float:
        return min(1.0, self.cores / len(self.running))

    def catch_up(self, now: float) -> None:
        self.v = self.v + (now - self.at_s) * self.rate() if self.running else 0.0
        self.at_s = now

    def due_s(self) -> float:
        return self.at_s + (self.running[0][0] - self.v) / self.rate()


def with_heapq(case: Case) -> float:
    """What one would write by hand: one heap of events, one deque a replica, an event out of date is skipped."""
    at, cpu, wait = (a.tolist() for a in (case.trace.at_s, case.trace.cpu_s, case.trace.wait_s))
    busy, in_slots, version = [0] * case.replicas, [0] * case.replicas, [0] * case.replicas
    cpus = [SharedCpu(case.cores) for _ in busy]
    backlog: list[deque[int]] = [deque() for _ in busy]
    agenda: list[tuple[float, int, int, int]] = []  # when, replica, request or -1 for the CPU, version
    total, i, n = 0.0, 0, len(at)
    everybody, chosen = range(case.replicas), [0] * case.replicas

    def plan_cpu(replica: int) -> None:
        version[replica] += 1
        if cpus[replica].running:
            heapq.heappush(agenda, (cpus[replica].due_s(), replica, -1, version[replica]))

    def start(replica: int, request: int, now: float) -> None:
        shared = cpus[replica]
        shared.catch_up(now)
        heapq.heappush(shared.running, (shared.v + cpu[request], request))
        plan_cpu(replica)

    while i < n or agenda:
        if not agenda or (i < n and at[i] < agenda[0][0]):
            replica = min(everybody, key=lambda k: (busy[k], chosen[k]))
            chosen[replica] = i + 1
            if in_slots[replica] < case.slots:
                busy[replica] += 1
                in_slots[replica] += 1
                start(replica, i, at[i])
            elif len(backlog[replica]) < case.backlog:
                busy[replica] += 1
                backlog[replica].append(i)
            i += 1
            continue
        now, replica, request, wanted = heapq.heappop(agenda)
        if request < 0:  # the CPU work of somebody is over, the wait begins
            if wanted == version[replica]:
                cpus[replica].catch_up(now)
                done = heapq.heappop(cpus[replica].running)[1]
                heapq.heappush(agenda, (now + wait[done], replica, done, 0))
                plan_cpu(replica)
            continue
        total += now - at[request]
        busy[replica] -= 1
        if backlog[replica]:
            start(replica, backlog[replica].popleft(), now)
        else:
            in_slots[replica] -= 1
    return total / n


def with_simpy(case: Case) -> float:
    import simpy

    env = simpy.Environment()
    slots = [simpy.Resource(env, capacity=case.slots) for _ in range(case.replicas)]
    cpus = [SharedCpu(case.cores) for _ in slots]
    done: dict[int, simpy.Event] = {}
    busy, chosen, everybody = [0] * case.replicas, [0] * case.replicas, range(case.replicas)
    total = 0.0

    def work(replica: int) -> Generator[simpy.Event, object, None]:
        """The CPU of a replica: sleeps until its next request is done, or until another one begins."""
        shared = cpus[replica]
        while True:
            try:
                yield env.timeout(shared.due_s() - env.now) if shared.running else env.event()
            except simpy.Interrupt:
                continue
            shared.catch_up(env.now)
            done.pop(heapq.heappop(shared.running)[1]).succeed()

    workers = [env.process(work(replica)) for replica in range(case.replicas)]

    def serve(request: int, cpu: float, wait: float) -> Generator[simpy.Event, object, None]:
        nonlocal total
        arrived = env.now
        replica = min(everybody, key=lambda k: (busy[k], chosen[k]))
        chosen[replica] = request + 1
        if busy[replica] >= case.slots + case.backlog:
            return
        busy[replica] += 1
        with slots[replica].request() as slot:
            yield slot
            shared = cpus[replica]
            shared.catch_up(env.now)
            heapq.heappush(shared.running, (shared.v + cpu, request))
            done[request] = env.event()
            workers[replica].interrupt()
            yield done[request]
            yield env.timeout(wait)
        busy[replica] -= 1
        total += env.now - arrived

    def arrive() -> Generator[simpy.Event, object, None]:
        trace = case.trace
        columns = (trace.at_s.tolist(), trace.cpu_s.tolist(), trace.wait_s.tolist())
        for request, (at, cpu, wait) in enumerate(zip(*columns, strict=True)):
            yield env.timeout(at - env.now)
            env.process(serve(request, cpu, wait))

    env.process(arrive())
    env.run()
    return total / len(case.trace)


def rate(contender: Contender, case: Case, tries: int = 1) -> float:
    """Requests a second, the best of some tries."""
    best = np.inf
    for _ in range(tries):
        began = time.perf_counter()
        contender(case)
        best = min(best, time.perf_counter() - began)
    return len(case.trace) / best


def in_turn(one: Contender, other: Contender, case: Case, turns: int) -> tuple[float, float]:
    """Rate of one, and the median of its rate over the other's, measured right after each other."""
    rates = np.array([(rate(one, case), rate(other, case)) for _ in range(turns)])
    return float(np.median(rates[:, 0])), float(np.median(rates[:, 0] / rates[:, 1]))


def against_others(n: int) -> None:
    with_c = compiled_loop()
    contenders: dict[str, tuple[Contender, int, int]] = {}
    if with_c is None:
        print("there is no C compiler: left out")
    else:
        contenders["C"] = (with_c, n, 9)
    contenders["heapq"] = (with_heapq, n // 20, 3)
    try:
        import simpy  # noqa: F401
    except ImportError:
        print("SimPy is not installed (pip install '.[dev]'): left out")
    else:
        contenders["SimPy"] = (with_simpy, n // 20, 3)
    print(f"{'replicas x slots':>18} {'kernel':>10}" + "".join(f"{'over ' + name:>12}" for name in contenders))
    for replicas, slots in FLEETS:
        line, kernel_rate = "", 0.0
        for contender, size, turns in contenders.values():
            case = Case.make(size, replicas, slots)
            means = float(np.mean(with_kernel(case))), float(np.mean(contender(case)))
            assert abs(means[0] - means[1]) < 1e-6, means
            own, ratio = in_turn(with_kernel, contender, case, turns)
            kernel_rate = max(kernel_rate, own)
            line += f"{ratio:12.2f}" if ratio < 10 else f"{ratio:12.0f}"
        print(f"{f'{replicas} x {slots}':>18} {kernel_rate / 1e6:8.2f} M" + line)


def together(n: int, k: int) -> Case:
    """Groups of k requests that arrive within a moment, share one core, and are done before the next group comes."""
    rng = np.random.default_rng(1)
    at_s = np.repeat(np.arange(-(-n // k)) * 2.0 * k, k)[:n] + np.sort(rng.random((-(-n // k), k)), axis=1).ravel()[:n]
    trace = Trace.from_arrays(at_s=at_s, cpu_s=rng.exponential(WORK_S, n), wait_s=np.zeros(n))
    return Case(trace, 1, k, 1.0)


def against_itself(n: int) -> None:
    """Many replicas against few, and many requests in progress against one."""
    few, many = Case.make(n, 10, 16), Case.make(n, 1000, 16)
    _, ratio = in_turn(lambda _: with_kernel(many), lambda _: with_kernel(few), few, 5)
    print(f"1,000 replicas over 10: {ratio:.2f}")
    _, ratio = in_turn(lambda _: with_kernel(Case.make(n, 64, 16)), lambda _: with_kernel(Case.make(n, 4, 4)), few, 5)
    print(f"64 x 16 over 4 x 4: {ratio:.2f}")
    rates = [rate(with_kernel, together(n, k), 5) for k in (1, 10, 100, 1000)]
    print("1, 10, 100 and 1000 at once on one core: " + ", ".join(f"{r / 1e6:.2f} M" for r in rates))


def compilation() -> None:
    """From nothing, and from the cache."""
    code = (
        "import time; from libramen.engine.kernel.advance import advance_of; t = time.time(); "
        "advance_of(lean=True); advance_of(lean=False); print(time.time() - t)"
    )
    with tempfile.TemporaryDirectory() as folder:
        for what in ("compiled", "loaded from the cache"):
            environment = {**os.environ, "NUMBA_CACHE_DIR": folder}
            done = subprocess.run(
                [sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=True
            )
            print(f"{what} in {float(done.stdout):.2f} s")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--requests", type=int, default=1_000_000, help="for the kernel and C; the others get less")
    parser.add_argument("--compilation", action="store_true", help="also time compiling the kernel")
    given = parser.parse_args()
    with_kernel(Case.make(1000, 2, 2))  # compiled, or loaded from the cache
    against_others(given.requests)
    against_itself(given.requests)
    print("rates in million requests a second; ratios: medians of the kernel's rate over the other's, in turn")
    if given.compilation:
        compilation()


if __name__ == "__main__":
    main()
