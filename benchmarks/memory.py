"""How much memory a replay takes: with requests kept, and of a trace in chunks whose requests are not kept.

Then what a load takes that is multiplied by ten, and what a trace takes that is made, read and compared by the command
line.

    python benchmarks/memory.py [--requests 20000000]

Each case runs in a process of its own, which reports its peak: what stands beside the trace is that of the same
process with the trace alone taken off.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import multiprocessing
import os
import resource
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from libramen import Plan, Service, Tier, Trace, replay, scaled_in_chunks, shaped
from libramen.cli import run
from libramen.trace.stretches import stretches_of

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

CHUNK = 1_000_000
TIER = Tier(billing="per_hour", sizes={"s": {"cores": 4, "per_hour": 1}})
PLAN, SERVICE = Plan(tier=TIER, size="s", replicas=16), Service(slots=16, backlog=100, timeout=10)

STUDY = """
[trace]
files = ["trace.parquet"]
[service]
slots = 16
[tiers.quay]
billing = "per_hour"
sizes = { s = { cores = 4, per_hour = 1 } }
[plans.one]
tier = "quay"
size = "s"
[plans.two]
tier = "quay"
size = "s"
replicas = 2
"""


def chunks(n: int) -> Iterator[Trace]:
    """Poisson arrivals at 70 % of what the CPUs can do, a million at a time."""
    rng, at = np.random.default_rng(1), 0.0
    for first in range(0, n, CHUNK):
        size = min(CHUNK, n - first)
        at_s = at + np.cumsum(rng.exponential(1 / (16 * 4 * 0.7 / 0.05), size))
        at = float(at_s[-1])
        yield Trace.from_arrays(at_s=at_s, cpu_s=rng.exponential(0.05, size), wait_s=rng.exponential(0.05, size))


def whole(n: int) -> Trace:
    rng = np.random.default_rng(1)
    at_s = np.cumsum(rng.exponential(1 / (16 * 4 * 0.7 / 0.05), n))
    return Trace.from_arrays(at_s=at_s, cpu_s=rng.exponential(0.05, n), wait_s=rng.exponential(0.05, n))


def trace_alone(n: int) -> None:
    replay(whole(1000), SERVICE, PLAN)  # all that is loaded
    whole(n)


def kept(n: int) -> None:
    replay(whole(1000), SERVICE, PLAN)
    replay(whole(n), SERVICE, PLAN)


def in_chunks(n: int) -> None:
    replay(chunks(n), SERVICE, PLAN)


def a_tenth(n: int) -> Trace:
    trace = whole(n // 10)
    stretches_of(trace)  # and what looking for stretches takes
    return trace


def grown(n: int) -> None:
    shaped(a_tenth(n), [{"scale": 10}])


def grown_in_chunks(n: int) -> None:
    for _ in scaled_in_chunks(a_tenth(n), 10):
        pass


def command(arguments: tuple[str, ...], n: int) -> None:
    with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
        status = run([argument.format(rate=n / 2_592_000) for argument in arguments])
    if status != 0:
        raise SystemExit(f"libramen {' '.join(arguments)} ended with {status}")


def by_command(n: int) -> None:
    """A month that is made, read and compared, each by a process of its own with an empty cache."""
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        os.environ["LIBRAMEN_CACHE"] = folder + "/cache"
        Path("study.toml").write_text(STUDY)
        make = ("trace", "make", "--set", "span=30d", "--set", "rate={rate}", "--out", "trace.parquet")
        for arguments in (
            make,
            ("trace", "inspect", "trace.parquet", "--no-cache"),
            ("compare", "study.toml", "--no-store"),
            ("compare", "study.toml", "--no-store"),
        ):
            most, took = measured(partial(command, arguments), n)
            what = " ".join(arguments[:2])
            print(f"{what}: {most / 1e6:,.0f} MB at the most in one process, {n:,} requests, {took:.0f} s")


def measured(case: Callable[[int], object], n: int) -> tuple[float, float]:
    """Peak memory of a process of its own, or of the largest that it started [bytes], and time [s]."""
    # No `Pool`, whose processes may have none of their own.
    with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as executor:
        return executor.submit(_measure, case, n).result()


def _measure(case: Callable[[int], object], n: int) -> tuple[float, float]:
    began = time.perf_counter()
    case(n)
    most = max(resource.getrusage(who).ru_maxrss for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return most * 1024, time.perf_counter() - began


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--requests", type=int, default=20_000_000, help="of the trace in chunks, and of that in files")
    n = parser.parse_args().requests
    few = 4_000_000
    alone, _ = measured(trace_alone, few)
    most, _ = measured(kept, few)
    print(f"kept: {(most - alone) / few:.0f} bytes a request beside the trace, {few:,} requests")
    most, took = measured(in_chunks, n)
    print(f"in chunks: {most / 1e6:,.0f} MB in all, {n:,} requests, {n / took / 1e6:.2f} million a second")
    for what, grow in (("at once", grown), ("in chunks", grown_in_chunks)):
        base, _ = measured(a_tenth, n)
        most, _ = measured(grow, n)
        print(f"ten times a load of {n // 10:,} requests, {what}: {(most - base) / 1e6:,.0f} MB beside the trace")
    by_command(n)


if __name__ == "__main__":
    main()
