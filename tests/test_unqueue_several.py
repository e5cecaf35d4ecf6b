"""The work in a log behind which several services were: known work is logged on a recorded plan, and found again."""

from __future__ import annotations

import numpy as np
import pytest

from builders import make_plan, make_tier
from libramen import Service, Trace, replay
from libramen.load.several import unqueue_several
from libramen.study.system import System

RNG = np.random.default_rng(3)
N = 12_000
SERVICES = {
    "web": Service(slots=8, calls=[{"to": "database", "of_wait": 0.8, "times": 2}]),
    "database": Service(slots=6, cpu_share=0.5),
}
PLANS = {"web": make_plan(make_tier(cores=2), replicas=2), "database": make_plan(make_tier(cores=2))}


def _hidden(rate: float) -> Trace:
    at = np.cumsum(RNG.exponential(1 / rate, N))
    cpu, wait = 0.03 * RNG.lognormal(0, 0.5, N), 0.15 * RNG.lognormal(0, 0.6, N)
    return Trace.from_arrays(at_s=at, cpu_s=cpu, wait_s=wait, span_s=float(at[-1]))


@pytest.mark.parametrize("rate", [8, 26])
def test_queueing_at_the_database_is_taken_out(rate: float) -> None:
    """At 26 a second 78 % of the database's CPU is in use, and half of what the web tier waits for is queueing there."""
    hidden = _hidden(rate)
    system = System.of(SERVICES, PLANS)
    seen = replay(hidden, SERVICES, PLANS)
    log = Trace.from_arrays(
        at_s=hidden.at_s, cpu_s=np.zeros(N), latency_s=seen.run.results.latency_s, span_s=hidden.span_s
    )
    share = float(hidden.cpu_s.sum() / (hidden.cpu_s.sum() + hidden.wait_s.sum()))
    found = unqueue_several(log, system, cpu_share=share)
    naive = (seen.run.results.latency_s - seen.run.results.queued_s) * (1 - share)
    assert found.wait_s.mean() == pytest.approx(hidden.wait_s.mean(), rel=0.06)
    if rate > 20:
        assert naive.mean() > 1.15 * hidden.wait_s.mean()
    # What counts is another plan: twice the database.
    other = PLANS | {"database": make_plan(make_tier(cores=2), replicas=2)}
    truth, told = (replay(trace, SERVICES, other).latency_s for trace in (hidden, found))
    for name in ("mean", "p50", "p95"):
        assert told[name] == pytest.approx(truth[name], rel=0.1), name


def test_work_of_its_own_is_not_waited_for_twice() -> None:
    """Each request asks for 50 ms that are written in the study: what is left of its wait does without."""
    services = {"web": Service(slots=20, calls=[{"to": "database", "wait": 0.05}]), "database": Service(slots=99)}
    plans = {"web": make_plan(make_tier(cores=4)), "database": make_plan()}
    hidden = _hidden(5)
    seen = replay(hidden, services, plans)
    log = Trace.from_arrays(
        at_s=hidden.at_s, cpu_s=np.zeros(N), latency_s=seen.run.results.latency_s, span_s=hidden.span_s
    )
    found = unqueue_several(log, System.of(services, plans), cpu_share=0.1)
    assert (found.cpu_s + found.wait_s).mean() == pytest.approx((hidden.cpu_s + hidden.wait_s).mean(), rel=0.03)
