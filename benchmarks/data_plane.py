"""How fast the data plane is: against a plain heapq loop and against SimPy, on the same requests in one run.

    python benchmarks/data_plane.py [--requests 1000000]

Times on shared machines are noisy, so read the ratios. Each contender replays the same Poisson arrivals with
exponential CPU work and wait on the same fleet (least busy, enough cores that nobody slows anybody), and the mean
latencies must agree. SimPy and heapq get fewer requests, since they take longer. SimPy is in the extra `dev`.
"""

from __future__ import annotations

import argparse
import heapq
import time
from collections import deque

import numpy as np

from libramen import Plan, Service, Tier, Trace
from libramen.engine import control

FLEETS = ((4, 4), (16, 8), (64, 16))
LOAD = 0.7


def make_requests(n: int, replicas: int, slots: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    rng = np.random.default_rng(1)
    at_s = np.cumsum(rng.exponential(1 / (replicas * slots * LOAD), n))
    return at_s, rng.exponential(0.5, n), rng.exponential(0.5, n)


def with_kernel(at_s: np.ndarray, cpu_s: np.ndarray, wait_s: np.ndarray, replicas: int, slots: int) -> float:
    tier = Tier(billing="per_hour", sizes={"s": {"cores": slots, "per_hour": 0}})
    plan = Plan(tier=tier, size="s", replicas=replicas)
    trace = Trace.from_arrays(at_s=at_s, cpu_s=cpu_s, wait_s=wait_s)
    run = control.run(trace, Service(slots=slots), plan)
    return float(run.results.latency_s.mean())


def with_heapq(at_s: np.ndarray, cpu_s: np.ndarray, wait_s: np.ndarray, replicas: int, slots: int) -> float:
    """What one would write by hand: one heap of completions, one deque a replica."""
    arrivals = list(zip(at_s.tolist(), cpu_s.tolist(), wait_s.tolist(), strict=True))
    busy, in_slots = [0] * replicas, [0] * replicas
    backlog: list[deque[int]] = [deque() for _ in range(replicas)]
    agenda: list[tuple[float, int, int, int]] = []
    total, i = 0.0, 0
    while i < len(arrivals) or agenda:
        if agenda and (i == len(arrivals) or agenda[0][0] <= arrivals[i][0]):
            now, request, replica, waits = heapq.heappop(agenda)
            if not waits:  # the CPU work is over, the wait begins
                heapq.heappush(agenda, (now + arrivals[request][2], request, replica, 1))
                continue
            total += now - arrivals[request][0]
            busy[replica] -= 1
            if backlog[replica]:
                following = backlog[replica].popleft()
                heapq.heappush(agenda, (now + arrivals[following][1], following, replica, 0))
            else:
                in_slots[replica] -= 1
        else:
            replica = busy.index(min(busy))
            busy[replica] += 1
            if in_slots[replica] < slots:
                in_slots[replica] += 1
                heapq.heappush(agenda, (arrivals[i][0] + arrivals[i][1], i, replica, 0))
            else:
                backlog[replica].append(i)
            i += 1
    return total / len(arrivals)


def with_simpy(at_s: np.ndarray, cpu_s: np.ndarray, wait_s: np.ndarray, replicas: int, slots: int) -> float:
    import simpy

    env = simpy.Environment()
    servers = [simpy.Resource(env, capacity=slots) for _ in range(replicas)]
    busy = [0] * replicas
    total = 0.0

    def serve(cpu: float, wait: float):
        nonlocal total
        arrived = env.now
        replica = busy.index(min(busy))
        busy[replica] += 1
        with servers[replica].request() as slot:
            yield slot
            yield env.timeout(cpu)
            yield env.timeout(wait)
        busy[replica] -= 1
        total += env.now - arrived

    def arrive():
        for at, cpu, wait in zip(at_s.tolist(), cpu_s.tolist(), wait_s.tolist(), strict=True):
            yield env.timeout(at - env.now)
            env.process(serve(cpu, wait))

    env.process(arrive())
    env.run()
    return total / len(at_s)


def rate(contender: object, n: int, replicas: int, slots: int, tries: int) -> tuple[float, float]:
    """Requests a second, the best of some tries, and the mean latency."""
    requests = make_requests(n, replicas, slots)
    best, mean = np.inf, np.nan
    for _ in range(tries):
        began = time.perf_counter()
        mean = contender(*requests, replicas, slots)  # type: ignore[operator]
        best = min(best, time.perf_counter() - began)
    return n / best, mean


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--requests", type=int, default=1_000_000, help="for the kernel; the others get less")
    n = parser.parse_args().requests
    with_kernel(*make_requests(1000, 2, 2), 2, 2)  # compiled, or loaded from the cache
    try:
        import simpy  # noqa: F401
    except ImportError:
        print("SimPy is not installed (pip install '.[dev]'): left out")
        contenders = {"heapq": with_heapq}
    else:
        contenders = {"heapq": with_heapq, "SimPy": with_simpy}
    print(f"{'replicas x slots':>18} {'kernel':>12}" + "".join(f"{name:>12} {'ratio':>7}" for name in contenders))
    for replicas, slots in FLEETS:
        kernel_rate, _ = rate(with_kernel, n, replicas, slots, tries=3)
        line = f"{f'{replicas} x {slots}':>18} {kernel_rate / 1e6:10.2f} M"
        few = n // 20
        _, kernel_mean = rate(with_kernel, few, replicas, slots, tries=1)
        for contender in contenders.values():
            other_rate, mean = rate(contender, few, replicas, slots, tries=2)
            assert abs(mean - kernel_mean) < 1e-6, (mean, kernel_mean)
            line += f"{other_rate / 1e6:10.3f} M {kernel_rate / other_rate:7.0f}"
        print(line)
    print("rates in million requests a second; ratio: kernel over the other")


if __name__ == "__main__":
    main()
