"""Moments at which more than one thing happens, or nearly: settings by hand, with the arithmetic, on both data planes."""

from __future__ import annotations

from typing import Any

import numpy as np

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service, Trace, replay


def trace_of(at_s: list[float], *, cpu: float | list[float] = 0.0, wait: Any = 0.0, **values: Any) -> Trace:
    n = len(at_s)
    columns = {"cpu_s": np.broadcast_to(cpu, n), "wait_s": np.broadcast_to(wait, n)}
    return Trace.from_arrays(at_s=at_s, **{"span_s": 20.0} | columns | values)


def together(trace: Trace, services: dict[str, Service], plans: dict[str, Any], **how: Any) -> Outcome:
    """The outcome on the compiled data plane; on the plain one requests end alike."""
    mine, other = (replay(trace, services, plans, data_plane=plane, **how) for plane in ("compiled", "plain"))
    assert mine.run.kept.ending.tolist() == other.run.kept.ending.tolist()
    np.testing.assert_allclose(mine.run.kept.latency_s, other.run.kept.latency_s, atol=1e-9)
    return mine


def ends(outcome: Outcome) -> list[tuple[str, float]]:
    frame = outcome.requests
    return list(zip(frame["ending"].tolist(), frame["latency_s"].round(9).tolist(), strict=True))


def ordered(outcome: Outcome) -> list[tuple[int, float, int]]:
    """Number, when it was ordered, and its version, of what was not there at the start."""
    return [(one.number, one.ordered_s, one.version) for one in outcome.run.only.replicas if one.why != "start"]


def test_a_call_that_fails_its_caller_leaves_its_connection_to_others() -> None:
    """At 0.5 the first call is given up. Its sibling, which waits for the connection, is not sent: at 0.75 one slot of
    the database is free, the one that works on, and the job takes the other: 1 / 8 s."""
    db = {"to": "db", "times": 2, "at_once": True, "pool": 1, "cpu": 0, "wait": 1, "timeout": 0.5}
    services = {
        "web": Service(slots=4, calls=[db], routes=["/home"]),
        "db": Service(slots=2, backlog=0, routes=["/job"]),
    }
    trace = trace_of([0, 0.75], wait=[0, 0.125], route=["/home", "/job"])
    outcome = together(trace, services, {"web": make_plan(), "db": make_plan()})
    assert ends(outcome) == [("errored", 0.5), ("ok", 0.125)]


def test_the_time_out_of_a_user_who_may_not_send_again_is_an_event() -> None:
    """Two attempts of a call, 1 / 4 s each, are given up at 0.25 and at 0.5; at 0.5 the user gives up, too, and first:
    his attempt came before."""
    call = {"to": "db", "cpu": 0, "wait": 1, "timeout": 0.25, "retries": 1, "retry_after": 0}
    services = {"web": Service(slots=1, calls=[call], timeout=0.5), "db": Service(slots=9, routes=["/none"])}
    outcome = together(trace_of([0], route=["/"]), services, {"web": make_plan(), "db": make_plan()})
    assert ends(outcome) == [("timed_out", 0.5)]


def test_what_an_event_has_made_due_comes_before_the_next_event() -> None:
    """Two replicas are ready at 1, and two requests are held. The first has no work: replica 1 is ready, answers it,
    and takes the second (0.5 s, then until 1.5) before replica 2, twice as slow, is ready."""
    tier = make_tier(holds_requests=True, provision=1)
    slow = {"kind": "slow", "at": "0s", "slower": 2, "replica": 2}
    scaling = {"rule": "on_arrival", "floor": 0, "idle": "10m", "ceiling": 2}
    plan = make_plan(tier, replicas=0, scaling=scaling, faults=[slow], balancer="least_busy")
    outcome = both(trace_of([0, 0], cpu=[0, 0.5]), Service(slots=1, backlog=0), plan)
    assert ends(outcome) == [("ok", 1.0), ("ok", 1.5)]
    assert outcome.run.kept.replica.tolist() == [1, 1]


def test_what_is_owed_when_a_zone_opens_is_of_the_version_that_orders_have_then() -> None:
    """The only zone is lost at 1; the release begins at 2 and can order nothing; at 3 the zone is open again."""
    plan = make_plan(
        make_tier(zones=["a"]),
        faults=[{"kind": "zone_loss", "zone": "a", "at": "1s", "lasts": "2s"}],
        rollouts=[{"strategy": "rolling", "at": "2s"}],
    )
    assert ordered(both(trace_of([0]), Service(slots=1), plan)) == [(2, 3.0, 2)]


def test_going_back_does_not_count_on_what_drains() -> None:
    """Replica 1 drains until 10.5. At 2 the release is undone; replica 2 has a request until 2.25, and then an old one
    is ordered beside replica 1, which is as good as gone."""
    service = Service(slots=4)
    release = {
        "strategy": "rolling", "at": "1s", "spare": 1, "keep": 0, "error_rate": 1.0, "rollback_above": "10%",
        "watch": "1s", "judge_every": "1s", "judge_least": 1,
    }  # fmt: skip
    # 0: at replica 1 until 10.5; at replica 2, ready at 1: two that fail at 1.5 and 1.75, and one that goes on.
    trace = trace_of([0.5, 1.25, 1.5, 1.75], cpu=[0, 0.25, 0.25, 0.5], wait=[10, 0.0, 0.0, 0.0])
    outcome = both(trace, service, make_plan(rollouts=[release]))
    assert outcome.run.only.updates[0].undone_s == 2.0
    assert outcome.run.only.updates[0].mixed_s == 1.25  # of both versions
    assert ordered(outcome) == [(2, 1.0, 2), (3, 2.25, 1)]


def test_what_nobody_will_take_ends_at_the_last_thing_that_happened_not_at_a_look() -> None:
    """The only zone is lost for good at 1; the rule looks every second and can order nothing: that is nothing that happens."""
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": "1s", "floor": 0, "ceiling": 3}
    loss = {"kind": "zone_loss", "zone": "a", "at": "1s", "detect": 0}
    plan = make_plan(make_tier(zones=["a"], holds_requests=True), scaling=rule, faults=[loss])
    outcome = both(make_trace([0.0, 5.0], cpu=0.25, span_s=20), Service(slots=1), plan)
    assert outcome.run.only.decisions[-1].at_s == 20
    assert outcome.requests["ending"].tolist() == ["ok", "refused"]
    assert outcome.requests["latency_s"].tolist() == [0.25, 0.0]


def test_what_is_owed_of_a_version_that_was_undone_meanwhile_is_not_ordered() -> None:
    """A canary beside one old replica answers two with errors; both are lost with the only zone at 2, the release is undone
    at 3, and when the zone opens at 4 the old one is ordered alone."""
    release = {
        "strategy": "canary", "at": "0s", "steps": [{"share": 0.5, "hold": "60s"}], "error_rate": 1.0,
        "rollback_above": "10%", "watch": "10s", "judge_every": "3s", "judge_least": 1,
    }  # fmt: skip
    loss = {"kind": "zone_loss", "zone": "a", "at": "2s", "lasts": "2s", "detect": 0}
    plan = make_plan(make_tier(zones=["a"]), rollouts=[release], faults=[loss])
    outcome = both(trace_of([0.25 * k for k in range(8)]), Service(slots=9), plan)
    assert outcome.run.only.updates[0].undone_s == 3.0
    assert ordered(outcome) == [(2, 0.0, 2), (3, 4.0, 1)]


def test_a_round_waits_for_what_it_has_drained() -> None:
    """A machine is called back at 0.5 and busy until 9; it counts as there until it is gone, so that 5 is ordered when 2
    is gone, at 1.25. But no round waits for it: rounds 2 and 3 are over at once, and so is the release."""
    tier = make_tier(interruptible=True, notice="20s")
    plan = make_plan(
        tier,
        replicas=3,
        balancer="round_robin",
        faults=[{"kind": "reclaim", "at": "0.5s", "replica": 1}],
        rollouts=[{"strategy": "rolling", "at": "1s", "batch": 1, "spare": 1, "keep": 0}],
    )
    outcome = both(trace_of([0, 0, 0], wait=[9, 1.25, 1.25]), Service(slots=1, backlog=0), plan)
    assert ordered(outcome) == [(4, 0.5, 1), (5, 1.25, 2), (6, 1.25, 2), (7, 1.25, 2)]
    assert outcome.run.only.updates[0].ended_s == 1.25


def test_a_round_acts_until_it_can_do_no_more() -> None:
    """Replicas 3 and 4 have crashed and start again. Round 1 orders 5, and drains 1 and 2; both are empty, and gone.
    Then 5 and 6 are there; the next round cancels 3 and 4, which makes room, and orders two."""
    crash = [{"kind": "crash", "at": "0.5s", "replica": number} for number in (3, 4)]
    plan = make_plan(
        replicas=4, faults=crash, rollouts=[{"strategy": "rolling", "at": "1s", "batch": 2, "spare": 1, "keep": 0}]
    )
    outcome = both(trace_of([0]), Service(slots=1, start="1s"), plan)
    assert ordered(outcome) == [(5, 1.0, 2), (6, 1.0, 2), (7, 2.0, 2), (8, 2.0, 2)]


def test_only_machines_that_this_release_has_drained_are_taken_over() -> None:
    """A switch at 1 is over at 1; the old replica drains until 3. The release of settings at 2, in place, does not take
    that machine when it is free: provision is 1 s."""
    tier = make_tier(provision="1s")
    plan = make_plan(
        tier,
        rollouts=[
            {"strategy": "switch", "at": "0s"},
            {"strategy": "rolling", "at": "2s", "in_place": True, "spare": 0, "keep": 0},
        ],
    )
    outcome = both(trace_of([0, 1.5], wait=[3, 2]), Service(slots=1), plan)
    # Replica 2 drains from 2 to 3.5: its machine is taken over then, though that of 1 has been free since 3.
    replicas = outcome.run.only.replicas
    assert [(one.number, one.ordered_s, one.ready_s) for one in replicas[1:]] == [(2, 0.0, 1.0), (3, 3.5, 3.5)]


def test_a_rate_leaves_out_calls_of_the_very_instant() -> None:
    """At 1, 2, ... the database is called by what ends then; the decision of that instant does not see that call yet."""
    services = {
        "web": Service(slots=4, calls=[{"to": "db", "cpu": 0}]),
        "db": Service(slots=4, routes=["/none"]),
    }
    rule = {"rule": "target", "measure": "rate", "target": 1, "every": "1s", "floor": 1, "ceiling": 9}
    plans = {"web": make_plan(), "db": make_plan(scaling=rule)}
    trace = trace_of([0, 1, 2], cpu=1.0, route=["/"] * 3, span_s=4.5)
    outcome = together(trace, services, plans)
    measured = [decision.measured for decision in outcome.run.services["db"].decisions]
    assert measured[:4] == [0, 1, 1, 1]


def test_what_a_call_has_ordered_is_ready_when_it_is() -> None:
    """At 3.25 a call finds no replica, and one is ordered, which takes a second: 1 / 4 + 1 + 1 / 2, however long the
    trace is, and though nothing else happens meanwhile."""
    tier = make_tier(holds_requests=True, provision=1)
    services = {
        "web": Service(slots=4, calls=[{"to": "db", "cpu": 0, "wait": 0.5}]),
        "db": Service(slots=1, backlog=0, routes=["/none"]),
    }
    scaling = {"rule": "on_arrival", "floor": 0, "ceiling": 4, "idle": "1m"}
    plans = {"web": make_plan(), "db": make_plan(tier, replicas=0, scaling=scaling)}
    outcome = together(trace_of([3, 500], cpu=0.25, route=["/"] * 2, span_s=1000.0), services, plans)
    assert ends(outcome) == [("ok", 1.75), ("ok", 1.75)]
    assert [one.ready_s for one in outcome.run.services["db"].replicas] == [4.25, 501.25]


def test_a_held_request_that_is_dropped_moves_no_pointer() -> None:
    """One replica of two is ready from the start and busy until 2; B waits for it with a deadline at 1, C for ever. At 2
    B is dropped, without having been anybody's turn; C goes on in turn, to replica 1, and D, at 3, to replica 2."""
    tier = make_tier(holds_requests=True)
    service = Service(slots=1, backlog=0, timeout=1.5, on_timeout="drop")
    trace = trace_of([0, 0, 0.25, 1.75, 3.0], wait=[1.875, 1.875, 0.5, 0.5, 0.5])
    outcome = both(trace, service, make_plan(tier, replicas=2, balancer="round_robin"))
    # The first two are late themselves: their servers go on until 1.875.
    assert [ending for ending, _ in ends(outcome)] == ["timed_out", "timed_out", "timed_out", "ok", "ok"]
    assert outcome.run.kept.replica.tolist()[3:] == [1, 2]


def test_the_fleet_meets_its_ceiling_when_an_update_is_over() -> None:
    """The ceiling falls to 1 at 07:00:05, in the middle of a release of three replicas; at its end two drain."""
    entries = [{"at": "06:00", "floor": 0, "ceiling": 3}, {"at": "07:00:05", "floor": 0, "ceiling": 1}]
    plan = make_plan(
        make_tier(),
        replicas=3,
        scaling={"rule": "on_arrival", "floor": 0, "ceiling": 3, "idle": "10m", "timetable": entries},
        rollouts=[{"strategy": "rolling", "at": "4s", "batch": 3, "spare": 3}],
    )
    trace = trace_of([0], start="2031-06-05T07:00:00", time_zone="Europe/Lisbon")
    outcome = both(trace, Service(slots=1, start="2s"), plan)
    assert outcome.run.only.updates[0].ended_s == 6.0
    assert [one.draining_s for one in outcome.run.only.replicas if one.version == 2] == [None, 6.0, 6.0]


def test_an_idle_fleet_is_used_in_turn() -> None:
    """Ten requests, one after the other: each goes to the replica that was chosen longest ago. Replica 4 comes at 4.5
    and was never chosen, so it is next, although it has the highest number."""
    rule = {"at": "07:00:04", "floor": 4}
    entries = [{"at": "06:00", "floor": 3}, rule]
    scaling = {"rule": "fixed", "timetable": entries}
    tier = make_tier(provision=0.5)
    trace = trace_of(list(range(10)), wait=0.25, start="2031-06-05T07:00:00", time_zone="Europe/Lisbon")
    outcome = both(trace, Service(slots=2), make_plan(tier, replicas=3, scaling=scaling))
    assert outcome.run.kept.replica.tolist() == [1, 2, 3, 1, 2, 4, 3, 1, 2, 4]


def test_of_two_drawn_that_are_as_busy_the_first_is_taken() -> None:
    """Nothing is ever busy, so the first of the two that are drawn has the request: as with `random`."""
    trace = trace_of(list(range(10)), wait=0.25)
    two, one = (
        both(trace, Service(slots=2), make_plan(replicas=5, balancer=name)).run.kept.replica.tolist()
        for name in ("two_choices", "random")
    )
    assert two == one


def test_nothing_waits_at_replicas_where_requests_are_held() -> None:
    """Twenty requests of a second at once, and an empty tier: five replicas of one slot come at 1.5 s. Each takes one a
    second, so the last four end at 5.5 s; had the first of them taken what its backlog holds, that would be later."""
    tier = make_tier(holds_requests=True, provision=1.5, replicas={"least": 0, "most": 5})
    plan = make_plan(tier, replicas=0, scaling={"rule": "on_arrival", "floor": 0, "ceiling": 5, "idle": "60s"})
    outcome = both(trace_of([0.0] * 20, wait=1.0), Service(slots=1, backlog=9), plan)
    assert sorted(outcome.run.kept.latency_s) == [2.5] * 5 + [3.5] * 5 + [4.5] * 5 + [5.5] * 5
    assert outcome.run.kept.replica[:10].tolist() == [1, 2, 3, 4, 5] * 2


def test_held_requests_go_by_the_rule_of_the_balancer_among_free_slots() -> None:
    """Two replicas of one slot; replica 1 is busy until 3, replica 2 until 1 and then until 2. By turns it is the other
    one's, and it has no free slot."""
    trace = trace_of([0, 0, 0.5, 0.5], wait=[3, 1, 1, 1])
    outcome = both(
        trace, Service(slots=1), make_plan(make_tier(holds_requests=True), replicas=2, balancer="round_robin")
    )
    assert outcome.run.kept.replica.tolist() == [1, 2, 2, 2]
    assert outcome.run.kept.latency_s.tolist() == [3, 1, 1.5, 2.5]


def test_held_requests_do_not_wait_for_what_will_do_nothing() -> None:
    """The only replica drains at 5, called back, and is gone at 6, so that neither its limit of 10 s nor the notice of 70
    has anything to end. Another one is not to be had. Whoever comes at 7 is held for nothing, and nothing happens since."""
    tier = make_tier(holds_requests=True, interruptible=True, notice=70, on_notice="drain")
    faults = [{"kind": "no_stock", "at": 0}, {"kind": "reclaim", "at": 5}]
    plan = make_plan(tier, replicas=1, faults=faults)
    assert ends(both(trace_of([4, 7], wait=2.0), Service(slots=1, drain=10), plan)) == [("ok", 2.0), ("refused", 0.0)]
