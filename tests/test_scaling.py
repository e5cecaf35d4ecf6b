"""Scaling by hand: each docstring has the arithmetic. Every case runs on both data planes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service


def _step_in_load(**scaling: Any) -> Outcome:
    """One request a second of work 0.5 until 100, then three a second: with one core 50 %, then 150 %.

    No machine and no service time but a cold start of 30 + 10 s; 50 slots, so nothing is refused.
    """
    at = np.concatenate([np.arange(0, 100, 1.0), np.arange(100, 400, 1 / 4)[: 3 * 300]])
    rule = {
        "rule": "target",
        "measure": "cpu",
        "target": 0.5,
        "every": 20,
        "ceiling": 9,
        "floor": 1,
    } | scaling
    plan = make_plan(make_tier(provision=30), scaling=rule)
    return both(make_trace(at.tolist(), cpu=0.5, span_s=400), Service(slots=50, start=10), plan)


def _acts(outcome: Outcome) -> list[tuple[float, int, int, int]]:
    """Decisions that did something: when, ordered, cancelled, drained."""
    return [
        (d.at_s, d.ordered, d.cancelled, d.drained)
        for d in outcome.run.only.decisions
        if d.ordered or d.cancelled or d.drained
    ]


def test_a_step_in_load() -> None:
    """Until 100 every window has 0.5 of a core in use: ratio 1, in the dead band. From 100 on the core is full, so at
    120 the measure is 1, ratio 2, wanted ceil(1 * 2) = 2: one ordered, ready at 120 + 30 + 10 = 160. At 140 the window
    again shows 1 per ready replica: 2 are wanted, and 2 it has. At 160 the new one becomes ready just before the
    decision, so wanted is ceil(2 * 2) = 4: two more, ready at 200."""
    outcome = _step_in_load()
    assert [d.held_by for d in outcome.run.only.decisions[:5]] == ["dead_band"] * 5
    assert _acts(outcome)[:2] == [(120, 1, 0, 0), (160, 2, 0, 0)]
    assert [replica.ready_s for replica in outcome.run.only.replicas[:4]] == [0, 160, 200, 200]
    assert [d.measured for d in outcome.run.only.decisions[4:8]] == [0.5, 1, 1, 1]


def test_lag_delays_what_is_seen() -> None:
    """With lag 30 the window of the decision at 20 would end before the start: no measure, nor at any time before 30.
    The windows end 30 s earlier: at 120 it is 70..90 (0.5), at 140 it is 90..110: 10 s at 0.5 and 10 s at 1, 0.75,
    ratio 1.5, wanted ceil(1.5) = 2: ordered at 140 instead of 120, ready at 180."""
    outcome = _step_in_load(lag=30)
    first = outcome.run.only.decisions[0]
    assert (first.measured, first.held_by) == (None, "no measure")
    assert outcome.run.only.decisions[6].measured == 0.75
    assert (outcome.run.only.decisions[6].window_from_s, outcome.run.only.decisions[6].window_to_s) == (90, 110)
    assert _acts(outcome)[0] == (140, 1, 0, 0)
    assert outcome.run.only.replicas[1].ready_s == 180


@pytest.mark.parametrize(
    ("lag", "window", "covers"),
    [(40, 20, (100, 120)), (40, 50, (70, 120)), (35, 20, (105, 125)), (35, 45, (80, 125)), (0, 30, (130, 160))],
)
def test_the_window_of_the_decision_at_160(lag: float, window: float, covers: tuple[float, float]) -> None:
    """Whether it ends and begins at decisions or between them. Nothing is ordered by then: one core, at most full. The
    measure is 0.5 for what lies before 100 and 1 for what lies after."""
    decision = _step_in_load(lag=lag, window=window, pause_up=1000, ceiling=1).run.only.decisions[7]
    assert (decision.window_from_s, decision.window_to_s) == covers
    before_s = max(0, 100 - covers[0])
    assert decision.measured == pytest.approx(1 - 0.5 * before_s / window)


@pytest.mark.parametrize("lag", [1000, 1005, 3e8])
def test_where_everything_is_seen_too_late_there_is_never_a_measure(lag: float) -> None:
    decisions = _step_in_load(lag=lag).run.only.decisions
    assert {(one.measured, one.held_by) for one in decisions} == {(None, "no measure")}


def test_a_window_that_begins_before_the_start_is_cut_there() -> None:
    """Window 60 at 20 covers 0..20: the mean over those 20 s is 0.5."""
    assert _step_in_load(window=60).run.only.decisions[0].measured == 0.5


def test_pauses_and_steps() -> None:
    """As in the step in load, with pause_up 70: the order at 120 forbids one before 190. At 160 and 180 four are wanted,
    step_up 1 lets it have three, and the pause holds even that; at 200 the third is ordered."""
    outcome = _step_in_load(pause_up=70, step_up=1)
    held = {d.at_s: d.held_by for d in outcome.run.only.decisions}
    assert _acts(outcome)[:2] == [(120, 1, 0, 0), (200, 1, 0, 0)]
    assert held[180] == "pause_up"
    assert held[200] == "step_up"


def test_a_ratio_above_one_never_shrinks_and_one_below_never_grows() -> None:
    """in_progress with 3 replicas, of which 2 are coming: one ready replica with 1.2 of target 1 in use wants
    ceil(1 * 1.2) = 2, fewer than the 3 it has, and keeps 3.

    Two requests at 0 of waits 10 and 2 (mean in progress over 0..10: 1.2); floor 3 forces two orders at 0."""
    rule = {
        "rule": "target",
        "measure": "in_progress",
        "target": 1,
        "every": 10,
        "floor": 3,
        "ceiling": 9,
        "dead_band": 0,
    }
    trace = make_trace([0, 0, 10, 10], wait=[10, 2, 10, 2], span_s=40)
    outcome = both(trace, Service(slots=9, start=100), make_plan(replicas=1, scaling=rule))
    first, second = outcome.run.only.decisions[:2]
    assert (first.at_s, first.measured, first.wanted, first.held_by, first.ordered) == (0, None, 1, "floor", 2)
    assert (second.measured, second.wanted, second.ordered) == (1.2, 3, 0)
    # With nothing in progress it wants ceil(0) = 0 of its own, and the floor keeps 3.
    third = outcome.run.only.decisions[3]
    assert (third.measured, third.wanted, third.held_by, third.drained) == (0, 0, "floor", 0)


def test_cancels_before_it_drains_newest_first() -> None:
    """Start 25 s. A wait of 7 in one slot at 0..7 and 10 idle slots later. Target 0.5 every 10 s: at 10 the mean is 0.7,
    wanted ceil(2 * 0.7 / 0.5) = 3 of 2: one ordered (#3, ready at 35). At 20 nothing was in progress: wanted 0, floor 1:
    of 3 two go: #3, still coming, is cancelled, then #2 drains and, being empty, is gone at once."""
    rule = {"rule": "target", "measure": "in_progress", "target": 0.5, "every": 10, "floor": 1, "ceiling": 5}
    trace = make_trace([0, 0], wait=7, span_s=40)
    outcome = both(trace, Service(slots=5, start=25), make_plan(replicas=2, scaling=rule))
    assert _acts(outcome) == [(10, 1, 0, 0), (20, 0, 1, 1)]
    third, second = outcome.run.only.replicas[2], outcome.run.only.replicas[1]
    assert (third.ready_s, third.gone_s, third.draining_s) == (None, 20, None)
    assert (second.draining_s, second.gone_s) == (20, 20)
    assert outcome.cold_starts == 0


def test_pause_down_counts_orders_and_drains() -> None:
    """As above with pause_down 15: the order at 10 forbids a drain before 25, so it comes at 30 instead of 20."""
    rule = {
        "rule": "target",
        "measure": "in_progress",
        "target": 0.5,
        "every": 10,
        "floor": 1,
        "ceiling": 5,
        "pause_down": 15,
    }
    outcome = both(
        make_trace([0, 0], wait=7, span_s=40), Service(slots=5, start=25), make_plan(replicas=2, scaling=rule)
    )
    assert _acts(outcome) == [(10, 1, 0, 0), (30, 0, 1, 1)]
    assert outcome.run.only.decisions[1].held_by == "pause_down"


def test_only_ready_replicas_are_measured() -> None:
    """Two replicas, waits of 100 on each from 0; the ceiling of 1 drains #2 at 10. From then on the measure is that of #1
    alone: 1 per ready replica, though #2 still has one in progress until 100."""
    rule = {"rule": "target", "measure": "in_progress", "target": 1, "every": 10, "floor": 1, "ceiling": 1}
    trace = make_trace([0, 0], wait=100, span_s=60)
    outcome = both(trace, Service(slots=5), make_plan(replicas=2, scaling=rule), window_s=10)
    assert [d.measured for d in outcome.run.only.decisions[:3]] == [1, 1, 1]
    assert (outcome.run.only.replicas[1].draining_s, outcome.run.only.replicas[1].gone_s) == (10, 100)
    # What is reported counts the draining one too.
    assert outcome.series["in_progress"].tolist() == [2] * 6


def test_a_draining_replica_that_takes_too_long_is_cut() -> None:
    """As above with drain 20: at 30 what is left in #2 is cut, with a latency of 30."""
    rule = {"rule": "target", "measure": "in_progress", "target": 1, "every": 10, "floor": 1, "ceiling": 1}
    trace = make_trace([0, 0], wait=100, span_s=60)
    outcome = both(trace, Service(slots=5, drain=20), make_plan(replicas=2, scaling=rule))
    assert list(outcome.requests["ending"]) == ["ok", "cut"]
    assert outcome.run.results.latency_s.tolist() == [100, 30]
    assert outcome.run.only.replicas[1].gone_s == 30


def test_paid_seconds_are_those_of_the_replicas() -> None:
    outcome = _step_in_load()
    lives = [min(400, 400 if r.gone_s is None else r.gone_s) - r.ordered_s for r in outcome.run.only.replicas]
    assert outcome.paid_s == sum(lives)
    assert outcome.cold_starts == sum(
        r.why != "start" and r.ready_s is not None and r.ready_s < 400 for r in outcome.run.only.replicas
    )


@pytest.mark.parametrize(
    "rule",
    [
        {"rule": "target", "measure": "cpu", "target": 0.5, "every": 50, "floor": 3, "ceiling": 5},
        {"rule": "on_arrival", "idle": 1000, "floor": 3, "ceiling": 5},
        {"rule": "fixed", "timetable": [{"at": "00:00", "floor": 3}]},
    ],
)
def test_a_fleet_below_its_floor_is_ordered_up_to_it_at_0(rule: dict[str, Any]) -> None:
    """Under any rule, and before a release at 0, which then replaces what is on its way."""
    trace = make_trace([1.0, 90], wait=1, span_s=100, start="2031-06-05T09:00")
    plan = make_plan(make_tier(provision=10), replicas=1, scaling=rule)
    outcome = both(trace, Service(slots=2), plan)
    assert [(r.ordered_s, r.why) for r in outcome.run.only.replicas[:3]] == [
        (0, "start"),
        (0, "scaling"),
        (0, "scaling"),
    ]
    released = both(trace, Service(slots=2), plan.replace(rollouts=[{"at": 0, "strategy": "rolling"}]))
    assert released.run.only.updates[0].replicas == 3
    assert [(r.ordered_s, r.gone_s) for r in released.run.only.replicas[1:3]] == [(0, 0), (0, 0)]


def test_a_rule_sees_the_latency_of_the_attempt() -> None:
    """One slot, waits of 2.5 s and 1 s. The second request would be answered at 3.5, and its client gives up at 2.6; dropped at
    2.5 when its turn comes? No, it is in time then, and served until 3.5 for nobody. Sent again at 3.6, it is answered 1 s later: the
    user has waited 4.6 s, the platform has seen 2.5 s and 1 s."""
    trace = make_trace([0.0, 0.0], cpu=0.0, wait=[2.5, 1.0], span_s=20)
    rule = {"rule": "target", "measure": "latency", "percentile": "p999", "target": 5, "every": 10, "ceiling": 3}
    service = Service(slots=1, timeout=2.6, retries=1, retry_after=1, on_timeout="drop")
    outcome = both(trace, service, make_plan(scaling=rule))
    assert outcome.run.results.attempts.tolist() == [1, 2]
    assert outcome.run.results.latency_s[1] == pytest.approx(4.6)
    assert outcome.run.only.decisions[0].measured == pytest.approx(2.5)
