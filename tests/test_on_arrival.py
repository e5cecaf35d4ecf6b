"""Scaling on arrival by hand: each docstring has the arithmetic. Every case runs on both data planes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service, Trace, replay


def _on_arrival(
    trace: Trace, *, slots: int = 2, start: float = 3, n: int = 0, holds: bool = True, rollouts: Any = (), **rule: Any
) -> Outcome:
    tier = make_tier(provision=1, holds_requests=holds)
    rule = {"rule": "on_arrival", "idle": 5, "floor": 0, "ceiling": 4} | rule
    service = Service(slots=slots, start=start, backlog=0)
    return both(trace, service, make_plan(tier, replicas=n, scaling=rule, rollouts=rollouts))


def test_to_zero_and_back() -> None:
    """Nobody at first. The request at 10 orders a replica, ready after 1 + 3 at 14; the one at 11 finds the second slot of it
    coming, and orders nothing. Both are held, get their slots at 14 and wait 2: answered at 16, latencies 6 and 5. Idle from
    16, gone at 21. The next at 30 orders another, and so on: ready at 34, answered at 36, gone at 41."""
    outcome = _on_arrival(make_trace([10, 11, 30], wait=2, span_s=60))
    assert outcome.run.results.latency_s.tolist() == [6, 5, 6]
    assert outcome.run.results.queued_s.tolist() == [4, 3, 4]
    lives = [(r.ordered_s, r.ready_s, r.draining_s, r.gone_s, r.why_gone) for r in outcome.run.only.replicas]
    assert lives == [(10, 14, 21, 21, "idle"), (30, 34, 41, 41, "idle")]
    acts = [(d.at_s, d.measure, d.measured, d.ordered, d.drained) for d in outcome.run.only.decisions]
    assert acts == [(10, "", None, 1, 0), (21, "idle", 5, 0, 1), (30, "", None, 1, 0), (41, "idle", 5, 0, 1)]
    # All three waited for a cold start with nobody ready: 4, 3 and 4 s.
    waits = outcome.waits
    assert waits.wait_s.tolist() == [4, 3, 4]
    assert waits.none_ready.all()
    assert outcome.replicas_min == 0


def test_slots_that_are_coming_are_promised_once() -> None:
    """One slot each: three requests at 0 order three replicas, since those that wait have the slots that are coming. Each
    waits 4 s, all are served at once, and the ceiling of 4 is not reached."""
    outcome = _on_arrival(make_trace([0, 0, 0], wait=1, span_s=20), slots=1)
    assert [(d.at_s, d.have, d.ordered) for d in outcome.run.only.decisions[:3]] == [(0, 0, 1), (0, 1, 1), (0, 2, 1)]
    assert outcome.run.results.latency_s.tolist() == [5, 5, 5]


def test_an_instant_start_serves_the_request_that_ordered_it() -> None:
    """No provision, no start: ordered and ready at the instant of the arrival, before it is sent, so nothing is refused even
    where nothing is held."""
    tier = make_tier(holds_requests=False)
    rule = {"rule": "on_arrival", "idle": 5, "floor": 0, "ceiling": 4}
    trace = make_trace([1, 1, 1], wait=2, span_s=20)
    outcome = both(trace, Service(slots=1), make_plan(tier, replicas=0, scaling=rule))
    assert outcome.endings["ok"] == 3
    assert [r.ready_s for r in outcome.run.only.replicas] == [1, 1, 1]


def test_the_ceiling_holds_back_and_says_so_once() -> None:
    """Ceiling 1, one slot: the second and third request at 0 find none and none may be ordered; that is one decision."""
    outcome = _on_arrival(make_trace([0, 0, 0], wait=1, span_s=20), slots=1, ceiling=1)
    assert [(d.wanted, d.held_by, d.ordered) for d in outcome.run.only.decisions[:2]] == [(1, "", 1), (2, "ceiling", 0)]
    assert outcome.run.only.decisions[2].drained
    assert outcome.run.results.latency_s.tolist() == [5, 6, 7]


def test_the_floor_keeps_an_idle_replica_until_another_is_ready() -> None:
    """Floor 1, one slot. #1 stands from 0, and is kept at 5. At 20 it is taken by a wait of 3; a second request orders #2, ready
    at 24, by when #1, free since 23, has room: the request held goes to #1 at 23. At 24 two are ready; #1 has been idle since
    24.5 (its second request ends then), #2 since 24. Idle for 5: #2 at 29 drains; then #1, at 29.5, is kept by the floor."""
    trace = make_trace([20, 20], wait=[3, 1.5], span_s=60)
    outcome = _on_arrival(trace, slots=1, n=1, floor=1)
    assert [(r.number, r.ready_s, r.draining_s) for r in outcome.run.only.replicas] == [(1, 0, None), (2, 24, 29)]


def test_one_that_was_kept_goes_as_soon_as_another_is_ready() -> None:
    """As above, but the second request comes when #1 is busy for long and then #1 is idle again for 6 s before #2 (start 20) is
    ready at 41: #1, idle since 23 + 1.5 = 24.5 and kept at 29.5, drains the moment #2 is ready."""
    trace = make_trace([20, 20], wait=[3, 1.5], span_s=60)
    outcome = _on_arrival(trace, slots=1, n=1, floor=1, start=20)
    assert [(r.number, r.ready_s, r.draining_s) for r in outcome.run.only.replicas] == [(1, 0, 41), (2, 41, None)]


def test_floors_of_a_timetable_are_met_at_their_times() -> None:
    """07:00 is 5 s after the start: three are ordered then, at 07:00:20 the floor is 0 again, and those that have been idle for 5 s
    (ready at 9, kept at 14) go at 25."""
    trace = make_trace([50], wait=1, span_s=60, start="2031-06-05T06:59:55", time_zone="Europe/Lisbon")
    outcome = _on_arrival(trace, timetable=[{"at": "07:00", "floor": 3}, {"at": "07:00:20", "floor": 0}])
    assert [(r.ordered_s, r.ready_s, r.draining_s) for r in outcome.run.only.replicas[:3]] == [(5, 9, 25)] * 3
    assert (outcome.run.only.decisions[0].held_by, outcome.run.only.decisions[0].ordered) == ("floor", 3)


def test_an_update_holds_orders_back() -> None:
    """One replica with one slot, a release at 10: it drains (its request ends at 12), the new one is on its machine and ready at
    15. Requests at 11 and 11 would each want one more: recorded once as held back by the update; at 15 one is served, at 17 the
    other. An arrival at 16 finds no slot, and orders."""
    release = {"at": 10, "strategy": "stop_start"}
    outcome = _on_arrival(
        make_trace([9, 11, 11, 16], wait=[3, 2, 2, 1], span_s=40), slots=1, n=1, idle=50, rollouts=[release]
    )
    seen = [(d.at_s, d.wanted, d.held_by, d.ordered) for d in outcome.run.only.decisions[:2]]
    assert seen == [(11, 1, "update", 0), (16, 2, "", 1)]
    assert outcome.run.results.latency_s.tolist()[:3] == [3, 6, 8]


def test_a_dead_replica_is_never_idle() -> None:
    """It dies of its second request at 1 (memory for one), is found dead at 3, starts again and is ready at 14: idle since then,
    gone at 19 and not at 6."""
    size = {"cores": 1, "per_hour": 1, "memory": 1}
    tier = make_tier(detect=2, sizes={"s": size})
    rule = {"rule": "on_arrival", "idle": 5, "floor": 0, "ceiling": 1}
    service = Service(slots=5, start=13, memory_per_request=1)
    outcome = both(make_trace([0, 1], wait=30, span_s=60), service, make_plan(tier, replicas=1, scaling=rule))
    assert [stage for _, stage in outcome.run.only.replicas[0].stages] == [
        "coming",
        "ready",
        "coming",
        "ready",
        "draining",
        "gone",
    ]
    assert outcome.run.only.replicas[0].draining_s == 19
    stages = outcome.stages[["stage", "from_s", "to_s"]].to_numpy().tolist()
    assert stages == [["ready", 0, 1], ["down", 1, 3], ["starting", 3, 14], ["ready", 14, 19]]


@given(st.integers(0, 2**32), st.sampled_from([0, 0.5, 3, 20]), st.integers(0, 2), st.integers(2, 6))
def test_what_scaling_on_arrival_promises(seed: int, idle: float, floor: int, ceiling: int) -> None:
    """Never outside floor and ceiling; every request ends; nobody drains who has not been idle for long; and what is held waits
    only while no slot is free."""
    rng = np.random.default_rng(seed)
    n = 150
    trace = Trace.from_arrays(
        at_s=np.cumsum(rng.exponential(0.5, n)),
        cpu_s=rng.exponential(0.3, n),
        wait_s=rng.exponential(0.3, n),
        span_s=200,
    )
    tier = make_tier(provision=1, holds_requests=True)
    rule = {"rule": "on_arrival", "idle": idle, "floor": floor, "ceiling": ceiling}
    outcome = replay(trace, Service(slots=2, start=2), make_plan(tier, replicas=floor, scaling=rule))
    assert outcome.endings["ok"] == n
    for decision in outcome.run.only.decisions:
        after = decision.have + decision.ordered - decision.drained
        assert floor <= after <= ceiling
    results = outcome.run.results
    ends = trace.at_s + results.latency_s
    for replica in outcome.run.only.replicas:
        if replica.draining_s is not None:
            mine = ends[results.replica == replica.number]
            assert replica.draining_s - max([replica.ready_s, *mine]) >= idle - 1e-9
    assert outcome.paid_s == pytest.approx(outcome.fleet["paid_s"].sum())
    assert outcome.fleet["core_s"].sum() == pytest.approx(outcome.run.only.integrals[-1, 0])
