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
    load: float,
    work: np.ndarray,
    *,
    slots: int,
    threads: int | None = None,
    backlog: int | None = None,
    cores: float,
    **plan: object,
) -> Outcome:
    """Poisson arrivals at such a rate that `load` of the cores is used by work of mean 1 s."""
    rng = np.random.default_rng(41)
    at = np.cumsum(rng.exponential(1 / (load * cores), N))
    trace = Trace.from_arrays(at_s=at, cpu_s=work, wait_s=np.zeros(N), span_s=at[-1] + 1000)
    service = Service(slots=slots, threads=threads, backlog=backlog)
    # The queue starts empty: the first tenth is left out.
    outcome = replay(trace, service, make_plan(make_tier(cores=cores), **plan), settle=float(at[N // 10]))
    # Little's law holds in every run, to the rounding of sums of 400,000 terms.
    in_system = outcome.run.only.integrals[-1, 1:].sum()
    assert in_system == pytest.approx(outcome.run.results.latency_s.sum(), rel=1e-9)
    return outcome


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


def erlang_b(offered: float, servers: int) -> float:
    """Share lost in M/G/c/c. Erlang 1917; recursion after Cooper, Queueing Theory, 3.3."""
    b = 1.0
    for k in range(1, servers + 1):
        b = offered * b / (k + offered * b)
    return b


@pytest.mark.parametrize("kind", ["exponential", "constant"])
def test_loss_without_a_backlog(kind: str) -> None:
    """M/G/4/4 loses Erlang B of its requests, whatever the distribution (Kleinrock 1975, 3.6). With p = 0.24 the
    standard error over 360,000 requests that are not far from independent is sqrt(p (1 - p) / n) = 0.0007."""
    work = np.ones(N) if kind == "constant" else _exponential()
    outcome = _replay(0.75, work, slots=4, backlog=0, cores=4)
    lost = outcome.endings["refused"] / outcome.n_requests
    assert lost == pytest.approx(erlang_b(3.0, 4), abs=0.004)


def test_loss_with_a_backlog() -> None:
    """M/M/1/K with K = 5 in the system and a = 0.8: loss (1 - a) a^K / (1 - a^(K+1)), and the mean number in it is
    a / (1 - a) - (K + 1) a^(K+1) / (1 - a^(K+1)) (Kleinrock 1975, 3.6). Same standard error as above."""
    a, k = 0.8, 5
    outcome = _replay(a, _exponential(), slots=1, backlog=k - 1, cores=1)
    loss = (1 - a) * a**k / (1 - a ** (k + 1))
    assert outcome.endings["refused"] / outcome.n_requests == pytest.approx(loss, abs=0.003)
    in_system = a / (1 - a) - (k + 1) * a ** (k + 1) / (1 - a ** (k + 1))
    assert outcome.latency_s["mean"] == pytest.approx(in_system / (a * (1 - loss)), rel=0.02)


def test_loss_of_several_servers_with_a_backlog() -> None:
    """M/M/c/K with c = 4, K = 10, a = 3.6: p(n) is a^n / n! up to c, then a^c / c! (a / c)^(n - c); the loss is p(K)
    (Kleinrock 1975, 3.5 and 3.6). Same standard error as above."""
    a, c, k = 3.6, 4, 10
    p = np.array([a ** min(n, c) / math.factorial(min(n, c)) * (a / c) ** max(0, n - c) for n in range(k + 1)])
    p /= p.sum()
    outcome = _replay(a / c, _exponential(), slots=c, backlog=k - c, cores=c)
    assert outcome.endings["refused"] / outcome.n_requests == pytest.approx(p[-1], abs=0.003)
    in_system = float(p @ np.arange(k + 1))
    assert outcome.latency_s["mean"] == pytest.approx(in_system / (a * (1 - p[-1])), rel=0.02)


@pytest.mark.parametrize(("load", "variance"), [(0.5, 4.0), (0.7, 4.0), (0.7, 0.25)])
def test_mg1(load: float, variance: float) -> None:
    """M/G/1: mean wait load (1 + variance) / (2 (1 - load)) for work of mean 1 (Pollaczek 1930, Khinchine 1932).
    Log-normal work. The mean wait of a busy queue converges slowly: 6 % covers 3 standard errors at load 0.7."""
    sigma = math.sqrt(math.log(1 + variance))
    work = np.random.default_rng(44).lognormal(-(sigma**2) / 2, sigma, N)
    work /= work.mean()
    outcome = _replay(load, work, slots=1, cores=1)
    assert outcome.latency_s["mean"] == pytest.approx(1 + load * (1 + variance) / (2 * (1 - load)), rel=0.06)


def crommelin(offered: float, servers: int, within: int) -> float:
    """Chance to wait no longer than `within` whole services in M/D/c: (within + 1) c or fewer in the system.

    The system is seen at whole services: it is a Markov chain with Poisson(offered) arrivals a step, of which c
    leave. Crommelin, Delay probability formulae when the holding times are constant, 1932; solved here by iteration.
    """
    size = 40 * servers
    arrivals = np.exp(-offered) * np.cumprod(np.concatenate([[1.0], offered / np.arange(1, size)]))
    inside = np.zeros(size)
    inside[0] = 1.0
    for _ in range(4000):
        left = np.concatenate([[inside[: servers + 1].sum()], inside[servers + 1 :]])
        inside = np.convolve(left, arrivals)[:size]
    # One that arrives waits at most k services when fewer than (k + 1) c were in the system k services before it
    # and those that came since are served in between: as many as at a step's end, without its own.
    return float(inside[: (within + 1) * servers].sum())


@pytest.mark.parametrize(("load", "servers"), [(0.7, 1), (0.8, 4)])
def test_mdc(load: float, servers: int) -> None:
    """M/D/c: the chance not to wait is that of fewer than c in the system (Crommelin 1932, after Tijms, A First
    Course in Stochastic Models, 9.6.2), and to wait at most one service that of fewer than 2c. 3 standard errors
    of a share of 360,000 correlated requests are below 0.006."""
    outcome = _replay(load, np.ones(N), slots=servers, cores=servers)
    waits = outcome.run.results.queued_s[N // 10 :]
    assert np.mean(waits <= 1e-9) == pytest.approx(crommelin(load * servers, servers, 0), abs=0.006)
    assert np.mean(waits <= 1 - 1e-9) == pytest.approx(crommelin(load * servers, servers, 1), abs=0.01)


def test_the_tail_of_mm4() -> None:
    """M/M/4: the wait of those who wait is exponential with mean 1 / (4 - a) (Kleinrock 1975, 3.5), so the 95th
    percentile of all waits is ln(C / 0.05) / (4 - a)."""
    outcome = _replay(0.7, _exponential(), slots=4, cores=4)
    waits = np.sort(outcome.run.results.queued_s[N // 10 :])
    expected = math.log(erlang_c(2.8, 4) / 0.05) / (4 - 2.8)
    assert waits[int(0.95 * len(waits))] == pytest.approx(expected, rel=0.04)


def test_power_of_two_choices() -> None:
    """With many replicas the share that has k or more requests is load^(2^k - 1) (Mitzenmacher 1996; Vvedenskaya,
    Dobrushin and Karpelevich 1996), against load^k at random. With 500 replicas it is off by about 1 / 500, and the
    mean number in a replica, so the mean latency times the load, is the sum of these shares."""
    load, n = 0.8, 500
    rng = np.random.default_rng(45)
    at = np.cumsum(rng.exponential(1 / (load * n), N))
    trace = Trace.from_arrays(at_s=at, cpu_s=_exponential(), wait_s=np.zeros(N))
    latency = {
        balancer: replay(
            trace, Service(slots=1), make_plan(make_tier(replicas={"most": n}), replicas=n, balancer=balancer),
            settle=float(at[N // 4]),
        ).latency_s["mean"]
        for balancer in ("two_choices", "random")
    }  # fmt: skip
    two = sum(load ** (2**k - 1) for k in range(1, 12)) / load
    assert latency["two_choices"] == pytest.approx(two, rel=0.03)
    assert latency["random"] == pytest.approx(1 / (1 - load), rel=0.06)


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
    _, in_progress, waiting, _ = outcome.run.only.integrals[-1]
    assert in_progress + waiting == pytest.approx(outcome.run.results.latency_s.sum(), rel=1e-9)
