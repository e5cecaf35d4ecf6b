"""What happens to single requests, by hand. Each case runs on both data planes."""

from __future__ import annotations

import numpy as np
import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Service, replay


def _endings(outcome: object) -> list[str]:
    return list(outcome.requests["ending"])


def test_slot_then_cpu_then_wait() -> None:
    """Two slots, one core, one thread. 1 works 0..1, waits 1..3. 2 has a slot at 0, its CPU turn at 1..2, waits 2..4.
    3 finds both slots taken, gets 1's at 3, works 3..4 and waits 4..6: latency 6, queued 3."""
    outcome = both(make_trace([0, 0, 0], cpu=1, wait=2, span_s=10), Service(slots=2, threads=1), make_plan())
    assert outcome.run.results.latency_s.tolist() == [3, 4, 6]
    assert outcome.run.results.queued_s.tolist() == [0, 0, 3]


def test_sharing_a_core() -> None:
    """One core, work 2 and 1, both from 0: each at half speed. The short one ends at 2, with 1 left of
    the long one, which has the core alone from then on and ends at 3."""
    outcome = both(make_trace([0, 0], cpu=[2, 1], span_s=10), Service(slots=2), make_plan())
    assert outcome.run.results.latency_s.tolist() == [3, 2]


def test_cores_and_speed() -> None:
    """Three requests on 1.5 cores of speed 2: each runs at 2 * 1.5 / 3 = 1, so work of 1 takes 1 s; utilisation
    is 1.5 of 1.5 cores for 1 of 4 s = 25 %."""
    plan = make_plan(make_tier(cores=1.5, speed=2))
    outcome = both(make_trace([0, 0, 0], cpu=1, span_s=4), Service(slots=3), plan)
    assert outcome.run.results.latency_s.tolist() == [1, 1, 1]
    assert outcome.utilisation == 0.25


def test_a_freed_slot_is_seen_by_an_arrival_at_the_same_instant() -> None:
    """No backlog: 2 arrives at 1, when 1 ends, and is served; 3 arrives at 1 too and is refused at once."""
    outcome = both(make_trace([0, 1, 1], cpu=1, span_s=5), Service(slots=1, backlog=0), make_plan())
    assert _endings(outcome) == ["ok", "ok", "refused"]
    assert outcome.run.results.latency_s.tolist() == [1, 1, 0]
    assert outcome.requests["replica"].tolist() == [1, 1, 1]


def test_timed_out_requests_are_worked_on_all_the_same() -> None:
    """Work 3 each, one slot, time-out 4, overhead 0.5: 1 is answered at 3.5; 2 would be at 6.5 and is known as timed
    out at 4; 3 arrives at 6, when the slot is free again, since 2 was done: 3.5."""
    plan = make_plan(make_tier(overhead=0.5))
    outcome = both(make_trace([0, 0, 6], cpu=3, span_s=20), Service(slots=1, timeout=4), plan)
    assert _endings(outcome) == ["ok", "timed_out", "ok"]
    assert outcome.run.results.latency_s.tolist() == [3.5, 4, 3.5]
    assert outcome.latency_s["max"] == 3.5


def test_an_answer_exactly_at_the_timeout_is_in_time() -> None:
    outcome = both(make_trace([0], cpu=1.5, span_s=5), Service(slots=1, timeout=2), make_plan(make_tier(overhead=0.5)))
    assert _endings(outcome) == ["ok"]


def test_round_robin_goes_on_after_a_refusal() -> None:
    """Two replicas of one slot, no backlog: 1 to #1, 2 to #2, 3 refused by #1, 4 refused by #2, 5 (at 3) to #1."""
    plan = make_plan(replicas=2, balancer="round_robin")
    outcome = both(make_trace([0, 0, 0, 0, 3], cpu=2, span_s=9), Service(slots=1, backlog=0), plan)
    assert _endings(outcome) == ["ok", "ok", "refused", "refused", "ok"]
    assert outcome.run.results.replica.tolist() == [1, 2, 1, 2, 1]


def test_least_busy_counts_the_backlog_and_breaks_ties_by_number() -> None:
    """Work 4, 1, 1...: 1 to #1, 2 to #2 (idle), 3 to #1 (tie), 4 to #2. At 1.5 #2 has one left, #1 two: 5 to #2."""
    trace = make_trace([0, 0, 0, 0, 1.5], cpu=[4, 1, 1, 1, 1], span_s=20)
    outcome = both(trace, Service(slots=1), make_plan(replicas=2))
    assert outcome.run.results.replica.tolist() == [1, 2, 1, 2, 2]


def test_nothing_ready_refuses() -> None:
    outcome = both(make_trace([0, 1], cpu=1, span_s=5), Service(slots=1), make_plan(replicas=0))
    assert _endings(outcome) == ["refused", "refused"]
    assert outcome.requests["replica"].isna().all()
    assert outcome.latency_s["p95"] is None
    assert outcome.utilisation is None


def test_completions_at_one_instant_come_in_order_of_arrival() -> None:
    """Both slots of both replicas free up at 2; 1 arrived first, so #1's queue is served first, then #2's. Zero work
    behind them ends at the very same instant."""
    trace = make_trace([0, 0, 1, 1], cpu=[2, 2, 0, 0], span_s=5)
    outcome = both(trace, Service(slots=1), make_plan(replicas=2))
    assert outcome.run.results.latency_s.tolist() == [2, 2, 1, 1]
    assert outcome.run.results.replica.tolist() == [1, 2, 1, 2]


def test_three_thirds_are_one_instant() -> None:
    """Work of 0.1 ten times over is 0.9999999999999999: an arrival at 1 still finds the slot free."""
    trace = make_trace([0.0] * 10 + [1.0], cpu=0.1, span_s=5)
    outcome = both(trace, Service(slots=1, backlog=9), make_plan())
    assert outcome.endings["ok"] == 11
    assert outcome.run.results.queued_s[-1] == pytest.approx(0, abs=1e-9)


def test_the_replay_runs_on_after_the_trace_and_the_bill_does_not() -> None:
    """Span 2, work 10: answered at 10, but the replica is paid for 2 s and was used for all of them."""
    outcome = both(make_trace([0], cpu=10, span_s=2), Service(slots=1), make_plan())
    assert outcome.latency_s["max"] == 10
    assert outcome.paid_s == 2
    assert outcome.utilisation == 1


def test_settle_leaves_out_the_first_requests() -> None:
    outcome = replay(make_trace([0, 0, 5], cpu=1, span_s=10), Service(slots=1), make_plan(), settle=5.0)
    assert outcome.n_requests == 1
    assert outcome.latency_s["max"] == 1
    assert len(outcome.requests) == 3


def test_series_count_by_arrival_and_average_over_time() -> None:
    """Windows of 2 s. Work 3 from 1 to 4: in progress 1 of 2 s in the first window, all of the second."""
    outcome = both(make_trace([1], cpu=3, span_s=6), Service(slots=1), make_plan(), window_s=2)
    series = outcome.series
    assert series["arrivals"].tolist() == [1, 0, 0]
    assert series["ok"].tolist() == [1, 0, 0]
    assert series["in_progress"].tolist() == [0.5, 1, 0]
    assert series["utilisation"].tolist() == [0.5, 1, 0]
    assert series["p95_s"].tolist()[0] == 3
    assert np.isnan(series["p95_s"].tolist()[1])


def test_percentiles_are_by_nearest_rank() -> None:
    """Latencies 1..20: p50 is the 10th, p95 the 19th, p99 and p999 the 20th."""
    outcome = replay(make_trace([100.0 * k for k in range(20)], cpu=list(range(1, 21))), Service(slots=1), make_plan())
    assert outcome.latency_s == {
        "mean": 10.5,
        "p50": 10,
        "p90": 18,
        "p95": 19,
        "p99": 20,
        "p999": 20,
        "max": 20,
    }


def test_availability_by_requests_and_by_minutes() -> None:
    """Minute 0: 100 of 100 ok. Minute 1: nothing. Minute 2: 1 of 2 refused. 101 of 102 and 1 of 2 minutes."""
    at = [k / 2 for k in range(100)] + [120, 120]
    outcome = replay(make_trace(at, cpu=0.25, span_s=180), Service(slots=1, backlog=0), make_plan())
    assert outcome.availability == 101 / 102
    assert outcome.availability_minutes == 0.5


def test_routes_have_figures_of_their_own() -> None:
    trace = make_trace([0, 0, 10], cpu=[1, 1, 4], route=["a", "a", "b"], span_s=20)
    routes = replay(trace, Service(slots=1, backlog=0), make_plan()).routes.set_index("route")
    assert routes.loc["a", ["requests", "ok", "refused", "max_s"]].tolist() == [2, 1, 1, 1]
    assert routes.loc["b", ["requests", "ok", "refused", "max_s"]].tolist() == [1, 1, 0, 4]
