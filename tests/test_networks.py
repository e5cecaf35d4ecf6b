"""Textbook networks of queues, replayed as services that call each other."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from builders import make_plan, make_tier
from libramen import Outcome, Service, Trace, replay

N = 150_000
MANY = 5000


def _poisson(rate: float, n: int = N, seed: int = 1, **values: Any) -> Trace:
    """Arrivals of a Poisson process."""
    rng = np.random.default_rng(seed)
    at = np.cumsum(rng.exponential(1 / rate, n))
    return Trace.from_arrays(
        **{"at_s": at, "cpu_s": np.zeros(n), "wait_s": np.zeros(n), "span_s": float(at[-1])} | values
    )


def _exponential(mean: float, n: int = N, seed: int = 2) -> np.ndarray:
    return np.random.default_rng(seed).exponential(mean, n)


def _replay(trace: Trace, services: dict[str, Service], cores: dict[str, float] | None = None) -> Outcome:
    plans = {name: make_plan(make_tier(cores=(cores or {}).get(name, 1))) for name in services}
    return replay(trace, services, plans, settle=0.02 * trace.span_s)


def _erlang_c(c: int, a: float) -> float:
    """Probability of waiting in M/M/c with offered load a (Erlang 1917)."""
    top = a**c / math.factorial(c) * c / (c - a)
    return top / (sum(a**k / math.factorial(k) for k in range(c)) + top)


def _mmc(c: int, rate: float, mean: float = 1.0) -> float:
    """Mean sojourn time of M/M/c."""
    a = rate * mean
    return mean + _erlang_c(c, a) * mean / (c - a)


def test_a_tandem_of_two_stations() -> None:
    """Two M/M/1 one behind the other, each at load 0.6: sojourn times add up (Jackson 1957), 2 x 1 / (1 - 0.6) = 5."""
    trace = _poisson(0.6, cpu_s=_exponential(1.0), in_s={"second": _exponential(1.0, seed=3)})
    found = _replay(
        trace,
        {
            "first": Service(slots=MANY, threads=1, calls=[{"to": "second"}]),
            "second": Service(slots=MANY, threads=1, cpu_share=1),
        },
    )
    assert found.latency_s["mean"] == pytest.approx(5.0, rel=0.05)
    assert found.services["second"].latency_s["mean"] == pytest.approx(2.5, rel=0.05)


def test_an_open_network_of_three_stations() -> None:
    """Jackson 1957: 0.7 / s at the door, 40 % of it to one station at load 0.42, 60 % to another at load 0.63.

    1 / (1.25 - 0.7) + 0.4 x 1 / (2/3 - 0.28) + 0.6 x 1 / (2/3 - 0.42) = 5.287
    """
    rng = np.random.default_rng(7)
    route = np.where(rng.random(N) < 0.4, "/left", "/right")
    mean = {"left": 1.5, "right": 1.5}
    trace = _poisson(
        0.7,
        cpu_s=_exponential(0.8),
        route=route,
        in_s={name: _exponential(seconds, seed=k) for k, (name, seconds) in enumerate(mean.items(), start=11)},
    )
    station = Service(slots=MANY, threads=1, cpu_share=1)
    door = Service(
        slots=MANY, threads=1, calls=[{"to": "left", "routes": ["/left"]}, {"to": "right", "routes": ["/ri*"]}]
    )
    found = _replay(trace, {"door": door, "left": station, "right": station})
    expected = 1 / (1.25 - 0.7) + 0.4 / (1 / 1.5 - 0.28) + 0.6 / (1 / 1.5 - 0.42)
    assert found.latency_s["mean"] == pytest.approx(expected, rel=0.05)
    assert found.services["left"].n_requests + found.services["right"].n_requests >= found.n_requests


@pytest.mark.parametrize(("pool", "servers"), [(None, 4), (4, 4), (9, 4), (3, 3), (2, 2)])
def test_a_pool_before_four_servers(pool: int | None, servers: int) -> None:
    """M/M/4 with n connections before it: with n of 4 or more nothing changes, with fewer it is M/M/n (Erlang 1917)."""
    rate = 0.6 * servers
    trace = _poisson(rate, in_s={"database": _exponential(1.0)})
    found = _replay(
        trace,
        {
            "web": Service(slots=MANY, calls=[{"to": "database", "pool": pool}]),
            "database": Service(slots=4, cpu_share=1),
        },
        {"database": 4},
    )
    assert found.latency_s["mean"] == pytest.approx(_mmc(servers, rate), rel=0.03)
    # With few connections they are what is waited for, with many the database; with four it is both.
    connecting = found.services["web"].time_s["connecting"] / found.services["web"].endings["ok"]
    if pool is not None and pool < 4:
        assert connecting == pytest.approx(_mmc(servers, rate) - 1.0, rel=0.1)
    elif pool != 4:
        assert connecting < 0.03


def test_a_closed_system() -> None:
    """Eight slots that are always busy: each asks one of two servers, then thinks for 3 s on average (M/M/2//8).

    The machine repair model: p(k) is proportional to C(8, k) a^k for k up to 2, and to 8! / (6-k+2)! ... beyond
    (Kleinrock, Queueing Systems 1, 3.8); throughput is the mean number at work there.
    """
    n = 60_000
    trace = Trace.from_arrays(
        at_s=np.zeros(n),
        cpu_s=np.zeros(n),
        wait_s=_exponential(3.0, n),
        in_s={"repair": _exponential(1.0, n, 5)},
        span_s=n,
    )
    services = {"floor": Service(slots=8, calls=[{"to": "repair"}]), "repair": Service(slots=2, cpu_share=1)}
    plans = {name: make_plan(make_tier(cores=2)) for name in services}
    found = replay(trace, services, plans)
    rates = [(8 - k) / 3.0 for k in range(8)]
    p = [1.0]
    for k in range(8):
        p.append(p[-1] * rates[k] / min(k + 1, 2))
    p = [value / sum(p) for value in p]
    throughput = sum(min(k, 2) * value for k, value in enumerate(p))
    assert n / found.latency_s["max"] == pytest.approx(throughput, rel=0.03)


@pytest.mark.parametrize("n", [2, 4])
def test_a_fan_out_without_queueing(n: int) -> None:
    """The greatest of n independent exponentials: H(n) times their mean (Renyi 1953)."""
    names = [f"part{k}" for k in range(n)]
    trace = _poisson(0.5, in_s={name: _exponential(1.0, seed=20 + k) for k, name in enumerate(names)})
    part = Service(slots=MANY, cpu_share=0)
    whole = Service(slots=MANY, calls=[{"to": name, "at_once": True} for name in names])
    found = _replay(trace, {"whole": whole} | dict.fromkeys(names, part))
    assert found.latency_s["mean"] == pytest.approx(sum(1 / k for k in range(1, n + 1)), rel=0.03)


def test_workers_on_a_queue() -> None:
    """M/M/3: nobody waits for the jobs, and a job waits for one of three workers (Erlang 1917)."""
    trace = _poisson(2.0, in_s={"workers": _exponential(1.0)})
    services = {
        "web": Service(slots=MANY, calls=[{"to": "workers", "wait_for_it": False}]),
        "workers": Service(slots=1, cpu_share=1),
    }
    plans = {"web": make_plan(), "workers": make_plan(replicas=3, balancer="shared_queue")}
    found = replay(trace, services, plans, settle=100)
    assert found.services["workers"].latency_s["mean"] == pytest.approx(_mmc(3, 2.0), rel=0.04)
    assert found.latency_s["max"] == 0


def test_a_callee_without_limit_is_a_wait() -> None:
    """What is spent at a service that never makes anybody wait might as well be a wait of the caller's own."""
    work, own = _exponential(0.3), _exponential(0.5, seed=9)
    rng = np.random.default_rng(4)
    at = np.cumsum(rng.exponential(1 / 6, N))
    alone = Trace.from_arrays(at_s=at, cpu_s=work, wait_s=own + 0.25)
    apart = Trace.from_arrays(at_s=at, cpu_s=work, wait_s=own)
    web = Service(slots=4)
    callee = {"to": "endless", "wait": 0.25}
    one = replay(alone, web, make_plan(replicas=3))
    two = replay(apart, {"web": web.replace(calls=[callee]), "endless": Service(slots=MANY)},
                 {"web": make_plan(replicas=3), "endless": make_plan()})  # fmt: skip
    np.testing.assert_allclose(one.run.results.latency_s, two.run.results.latency_s, atol=1e-8)
