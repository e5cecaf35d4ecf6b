"""Textbook queues get the textbook's numbers.

Tolerances are 3 % of the mean, as the project promises for 400,000 requests; the standard error of
the mean latency is below 1 % in each case (for M/M/1 at load 0.7 it is about 0.6 %, Whitt, Planning
Queueing Simulations, 1989, equation 21: relative variance of the mean wait is about 4 / (n (1 - load)^2)).
"""

from __future__ import annotations

import math

import numpy as np
import pytest

from builders import make_plan, make_tier
from libramen import Outcome, Service, Trace, replay

N = 400_000


def _replay(
    load: float, work: np.ndarray, *, slots: int, threads: int | None = None, cores: float, **plan: object
) -> Outcome:
    """Poisson arrivals at such a rate that `load` of the cores is used by work of mean 1 s."""
    rng = np.random.default_rng(41)
    at = np.cumsum(rng.exponential(1 / (load * cores), N))
    trace = Trace.from_arrays(at_s=at, cpu_s=work, wait_s=np.zeros(N))
    service = Service(slots=slots, threads=threads)
    # The queue starts empty: the first tenth is left out.
    return replay(trace, service, make_plan(make_tier(cores=cores), **plan), settle=float(at[N // 10]))


def _exponential() -> np.ndarray:
    return np.random.default_rng(42).exponential(1.0, N)


def erlang_c(offered: float, servers: int) -> float:
    """Chance that a request must wait in M/M/c. Erlang 1917; recursion after Cooper, Queueing Theory, 3.3."""
    b = 1.0
    for k in range(1, servers + 1):
        b = offered * b / (k + offered * b)
    return servers * b / (servers - offered * (1 - b))


@pytest.mark.parametrize("load", [0.3, 0.5, 0.7])
def test_mm1(load: float) -> None:
    """M/M/1: mean latency 1 / (1 - load), exponential, so p95 is -ln(0.05) times it (Kleinrock 1975, 3.2 and 5.12)."""
    outcome = _replay(load, _exponential(), slots=1, cores=1)
    assert outcome.latency_s["mean"] == pytest.approx(1 / (1 - load), rel=0.03)
    assert outcome.latency_s["p95"] == pytest.approx(-math.log(0.05) / (1 - load), rel=0.04)
    assert outcome.utilisation == pytest.approx(load, rel=0.01)


@pytest.mark.parametrize("load", [0.3, 0.5, 0.7])
def test_mm4(load: float) -> None:
    """M/M/4: mean wait is C(4, a) / (4 - a) with a = 4 load (Erlang C; Kleinrock 1975, 3.5)."""
    outcome = _replay(load, _exponential(), slots=4, cores=4)
    offered = 4 * load
    assert outcome.latency_s["mean"] == pytest.approx(1 + erlang_c(offered, 4) / (4 - offered), rel=0.03)
    waits = outcome.run.results.queued_s
    assert np.mean(waits[N // 10 :] > 0) == pytest.approx(erlang_c(offered, 4), rel=0.05)


@pytest.mark.parametrize("load", [0.3, 0.5, 0.7])
@pytest.mark.parametrize("kind", ["constant", "exponential", "two values"])
def test_mg1_processor_sharing(load: float, kind: str) -> None:
    """M/G/1 processor sharing: mean latency 1 / (1 - load) whatever the distribution (Kleinrock 1976, 4.4)."""
    work = {
        "constant": np.ones(N),
        "exponential": _exponential(),
        "two values": np.where(np.random.default_rng(43).random(N) < 0.9, 1 / 3, 7.0),  # mean 1, variance 4
    }[kind]
    outcome = _replay(load, work, slots=100_000, cores=1)
    assert outcome.latency_s["mean"] == pytest.approx(1 / (1 - load), rel=0.03)


@pytest.mark.parametrize("load", [0.3, 0.7])
def test_md1(load: float) -> None:
    """M/D/1: mean wait load / (2 (1 - load)) (Pollaczek-Khinchine; Kleinrock 1975, 5.6)."""
    outcome = _replay(load, np.ones(N), slots=1, cores=1)
    assert outcome.latency_s["mean"] == pytest.approx(1 + load / (2 * (1 - load)), rel=0.03)


def test_one_thread_queues_like_one_slot() -> None:
    """An event loop (8 slots, 1 thread) is first come, first served on the CPU: M/M/1 again."""
    outcome = _replay(0.5, _exponential(), slots=1000, threads=1, cores=1)
    assert outcome.latency_s["mean"] == pytest.approx(2.0, rel=0.03)


def test_littles_law() -> None:
    """Mean in progress plus waiting = arrival rate times mean latency (Little 1961), exactly, in a whole run."""
    rng = np.random.default_rng(5)
    at = np.cumsum(rng.exponential(0.2, 20_000))
    trace = Trace.from_arrays(
        at_s=at, cpu_s=rng.exponential(0.5, 20_000), wait_s=rng.exponential(0.3, 20_000), span_s=at[-1] + 100
    )
    outcome = replay(trace, Service(slots=3), make_plan(make_tier(), replicas=4))
    _, in_progress, waiting = outcome.run.integrals[-1]
    assert in_progress + waiting == pytest.approx(outcome.run.results.latency_s.sum(), rel=1e-9)
