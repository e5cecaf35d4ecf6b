"""The compiled data plane and the plain one, which share no code, give the same for every request."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from builders import assert_agree, make_plan, make_tier
from custom_rules import nosy
from libramen import Outcome, Service, Trace, replay
from libramen.study.balancers import BALANCERS
from troubles import faults, rollouts, tiers

# Dyadic fractions, so that what is meant to tie does.
quarters = st.integers(0, 24).map(lambda k: k / 4)
cores = st.sampled_from([0.25, 0.5, 1.0, 1.5, 2.5, 4.0])


@st.composite
def traces(draw: st.DrawFn) -> Trace:
    n = draw(st.integers(1, 40))
    gap = draw(st.sampled_from([0.0, 0.25, 1.0]))
    dyadic = draw(st.booleans())
    if dyadic:
        gaps = draw(st.lists(quarters.map(lambda q: q * gap), min_size=n, max_size=n))
        cpu = draw(st.lists(quarters, min_size=n, max_size=n))
        wait = draw(st.lists(quarters, min_size=n, max_size=n))
    else:
        rng = np.random.default_rng(draw(st.integers(0, 2**32)))
        gaps, cpu, wait = rng.exponential(gap, n), rng.exponential(1.0, n), rng.exponential(1.0, n)
    at = np.cumsum(gaps)
    span_s = float(at[-1]) + draw(st.sampled_from([0.5, 20.0]))
    # Five seconds before a full hour, so that hours and entries of timetables begin within the trace.
    return Trace.from_arrays(
        at_s=at, cpu_s=cpu, wait_s=wait, span_s=span_s, start="2031-06-05T06:59:55", time_zone="Europe/Lisbon"
    )


retrying = st.fixed_dictionaries(
    {
        "retries": st.integers(1, 3),
        "retry_after": st.sampled_from([0, 0.25, 0.5, 1]),
        "retry_jitter": st.sampled_from([0, 0.5, 1]),
    }
)
warming = st.fixed_dictionaries({"warm_up": st.sampled_from([0, 2, 5]), "warm_up_factor": st.sampled_from([1, 1.5, 3])})
lending = st.fixed_dictionaries(
    {
        "steady_cores": st.sampled_from([0.125, 0.25, 0.5, 1.5]),
        "bank": st.sampled_from([1, 2.5, 6]),
        "bank_at_start": st.sampled_from([0, 0.5, 1]),
    }
)


timetables = st.lists(
    st.fixed_dictionaries(
        {
            "at": st.sampled_from(["06:59:56", "06:59:58", "07:00", "07:00:02", "07:00:10"]),
            "floor": st.integers(0, 3),
            "ceiling": st.sampled_from([None, 3, 5]),
        }
    ),
    max_size=3,
)
bands = {
    "up": [{"above": 0.75, "add": 1}, {"above": 0.9375, "add": 3}],
    "down": [{"below": 0.5, "remove": 1}, {"below": 0.125, "remove": 2}],
}


@st.composite
def rules(draw: st.DrawFn) -> dict[str, Any]:
    limits = {"floor": draw(st.integers(0, 2)), "ceiling": draw(st.integers(3, 8)), "timetable": draw(timetables)}
    kind = draw(st.sampled_from(["target", "target", "steps", "ahead", "on_arrival", "custom", "fixed"]))
    if kind == "fixed":
        return {"rule": "fixed", "timetable": limits["timetable"]}
    if kind == "on_arrival":
        return {"rule": "on_arrival", "idle": draw(st.sampled_from([0, 0.25, 1, 2.5]))} | limits
    rule = limits | {
        "every": draw(st.sampled_from([0.5, 1, 3])),
        "window": draw(st.sampled_from([None, 0.75, 2])),
        "lag": draw(st.sampled_from([0, 0.25, 1])),
        "pause_up": draw(st.sampled_from([0, 1.5])),
        "pause_down": draw(st.sampled_from([0, 2])),
    }
    if kind == "custom":
        return rule | {"rule": nosy}
    measure = draw(st.sampled_from(["cpu", "in_progress", "rate", "waiting", "latency"]))
    if kind == "steps":
        return rule | {"rule": "steps", "measure": measure} | bands
    rule |= {"measure": measure, "target": draw(st.sampled_from([0.25, 0.5, 1.0]))}
    if kind == "ahead":
        return rule | {"rule": "ahead", "measure": draw(st.sampled_from(["cpu", "in_progress", "rate"]))}
    return rule | {
        "rule": "target",
        "dead_band": draw(st.sampled_from([0, 0.25])),
        "step_up": draw(st.sampled_from([None, 1, 2])),
        "step_down": draw(st.sampled_from([None, 1])),
    }


delays = quarters | st.just({"p50": 1, "p95": 3})


@st.composite
def services(draw: st.DrawFn) -> Service:
    slots = draw(st.integers(1, 5))
    return Service(
        slots=slots,
        threads=draw(st.integers(1, slots)),
        backlog=draw(st.sampled_from([None, 0, 1, 3])),
        start=draw(delays),
        drain=draw(st.sampled_from([None, 0, 1, 2.5])),
        timeout=draw(st.sampled_from([None, 0.5, 2, 5.5])),
        on_timeout=draw(st.sampled_from(["finish", "drop"])),
        **(draw(retrying) if draw(st.booleans()) else {}),
        **(draw(warming) if draw(st.booleans()) else {}),
        memory_base=draw(st.sampled_from([0, 100])),
        memory_per_request=draw(st.sampled_from([0, 50])),
    )


@st.composite
def cases(draw: st.DrawFn) -> tuple[Trace, Service, Any]:
    trace, service = draw(traces()), draw(services())
    size = {"cores": draw(cores), "speed": draw(st.sampled_from([0.5, 1.0, 2.0]))}
    by_use = draw(st.booleans())
    billing: dict[str, Any] = {"billing": "per_hour"}
    if by_use:
        granularity = draw(st.sampled_from([0, 0.25, 2]))
        billing = {"billing": "per_request", "per_core_second": 1, "granularity": granularity}
    else:
        size["per_hour"] = 1
    size |= {"memory": draw(st.sampled_from([99, 100, 151, 200, 240]))} if draw(st.booleans()) else {}
    # Bytes in the eyes of a test: a base of 100 and 50 a request, so 1, 2 or 3 fit, or not even one.
    size |= draw(lending) if draw(st.booleans()) else {}
    troubles = draw(tiers())
    tier = make_tier(
        sizes={"s": size},
        overhead=draw(st.sampled_from([0, 0.25])),
        holds_requests=draw(st.booleans()),
        queue_limit=draw(st.sampled_from([None, 0, 1, 4])),
        provision=draw(delays),
        replicas={"least": 0, "most": 9},
        **billing,
        **troubles,
    )
    n = draw(st.integers(0, 4))
    plan: dict[str, Any] = {"replicas": n, "balancer": draw(st.sampled_from(sorted(BALANCERS)))}
    scaled = draw(st.booleans())
    if scaled:
        plan["scaling"] = draw(rules())
    changes = scaled and (plan["scaling"]["rule"] != "fixed" or plan["scaling"]["timetable"])
    kind = rollouts(trace.span_s, n, fixed=not changes)
    plan["rollouts"] = draw(st.lists(kind, max_size=2))
    plan["faults"] = draw(st.lists(faults(trace.span_s, interruptible=tier.interruptible), max_size=3))
    return trace, service, make_plan(tier, **plan)


def _replays(case: tuple[Trace, Service, Any]) -> tuple[Outcome, Outcome]:
    trace, service, plan = case
    return (
        replay(trace, service, plan, window_s=1.0),
        replay(trace, service, plan, window_s=1.0, data_plane="plain"),
    )


@settings(max_examples=max(50, settings().max_examples))
@given(cases())
def test_both_planes_agree_on_every_request(case: tuple[Trace, Service, Any]) -> None:
    compiled, plain = _replays(case)
    assert_agree(compiled, plain)
    # Every request has ended in exactly one way, and never before it arrived.
    assert sum(compiled.endings.values()) == len(case[0])
    assert compiled.run.results.attempts.max() <= 1 + case[1].retries
    assert (compiled.run.results.latency_s >= 0).all()
    _check_scaling_limits(case[2], compiled)


def _check_scaling_limits(plan: Any, outcome: Outcome) -> None:
    """What the rule had and did stays within floor and ceiling, and no order follows one within pause_up."""
    orders = [decision.at_s for decision in outcome.run.only.decisions if decision.ordered]
    for decision in outcome.run.only.decisions:
        after = decision.have + decision.ordered - decision.cancelled - decision.drained
        if decision.ordered:
            assert after <= decision.ceiling
        if decision.cancelled or decision.drained:
            assert after >= decision.floor
    for earlier, later in itertools.pairwise(orders):
        assert later - earlier >= getattr(plan.only.scaling, "pause_up", 0) - 1e-9


@pytest.mark.parametrize("balancer", BALANCERS)
@pytest.mark.parametrize("n", [1, 3, 17])
def test_both_planes_agree_on_a_busy_day(balancer: str, n: int) -> None:
    """A long busy period at the end of a day, where times have few digits left after the point."""
    rng = np.random.default_rng(n)
    at = 80_000 + np.cumsum(rng.exponential(0.25 / n, 800))
    trace = Trace.from_arrays(at_s=at, cpu_s=rng.exponential(0.21, 800), wait_s=rng.exponential(0.4, 800))
    plan = make_plan(make_tier(cores=0.9), replicas=n, balancer=balancer)
    service = Service(slots=4, threads=3, backlog=30, timeout=6)
    assert_agree(replay(trace, service, plan), replay(trace, service, plan, data_plane="plain"))
