"""Services that call each other: scenarios small enough to be worked out by hand, on both data planes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service, StudyError, Trace, replay


def _system(
    trace: Trace, web: dict[str, Any], database: dict[str, Any] | None = None, plans: dict[str, Any] | None = None
) -> Outcome:
    """A web tier with one slot for each request unless told, and a database without limit unless told."""
    services = {
        "web": Service(**({"slots": 100} | web)),
        "database": Service(**({"slots": 100, "cpu_share": 0} | (database or {}))),
    }
    return both(trace, services, {name: make_plan(**(plans or {}).get(name, {})) for name in services})


def _latencies(outcome: Outcome) -> list[float]:
    return [round(value, 9) for value in outcome.run.results.latency_s.tolist()]


def test_a_visit_holds_its_slot_while_it_calls() -> None:
    """CPU 1 s, two calls of 2 s one after the other, its own wait of 1 s: 6 s; the next one waits for the only slot."""
    trace = make_trace([0, 0], cpu=1, wait=1, span_s=20)
    found = _system(trace, {"slots": 1, "calls": [{"to": "database", "wait": 2, "times": 2}]})
    assert _latencies(found) == [6, 12]
    assert found.services["database"].n_requests == 4
    assert found.services["web"].time_s["called"] == 8


def test_calls_at_once_take_as_long_as_the_longest() -> None:
    """One entry three times at once, and the entry next to it: 3 s for all four; what stands behind them comes after."""
    calls = [
        {"to": "database", "wait": 2, "times": 3, "at_once": True},
        {"to": "database", "wait": 3, "at_once": True},
        {"to": "database", "wait": 1},
    ]
    found = _system(make_trace([0], cpu=1, span_s=20), {"calls": calls})
    assert _latencies(found) == [1 + 3 + 1]
    assert found.run.results.spent_s.sum() == pytest.approx(5)


def test_a_share_of_the_wait_is_spent_at_the_callee() -> None:
    """80 % of a wait of 10 s in two calls of 4 s; a quarter of that is CPU work, on a core of speed 2: 0.5 + 3 each."""
    found = _system(
        make_trace([0], wait=10, span_s=20),
        {"calls": [{"to": "database", "of_wait": 0.8, "times": 2}]},
        {"cpu_share": 0.25},
        {"database": {"tier": make_tier(speed=2)}},
    )
    assert _latencies(found) == [2 * 3.5 + 2]


def test_a_column_of_the_trace_is_the_work_of_the_callee() -> None:
    trace = make_trace([0, 1], span_s=20, in_s={"database": [4, 6]})
    assert _latencies(_system(trace, {"calls": [{"to": "database", "times": 2}]})) == [4, 6]


def test_a_call_waits_for_a_connection_of_its_replica() -> None:
    """One connection each from two replicas: the third and fourth visit wait for the first and second of theirs."""
    found = _system(
        make_trace([0, 0, 0, 0], span_s=20),
        {"calls": [{"to": "database", "wait": 2, "pool": 1}]},
        plans={"web": {"replicas": 2}},
    )
    assert _latencies(found) == [2, 2, 4, 4]
    assert found.services["web"].time_s["connecting"] == 4
    assert found.services["database"].latency_s["max"] == pytest.approx(2, rel=0.005)


def test_a_call_that_gets_no_connection_in_time_was_no_visit() -> None:
    """The second waits 1.5 s for a connection and fails; the third, half a second later, gets it at 2 s."""
    calls = [{"to": "database", "wait": 2, "pool": 1, "pool_timeout": 1.5}]
    found = _system(make_trace([0, 0, 0.5], span_s=20), {"calls": calls})
    assert _latencies(found) == [2, 1.5, 3.5]
    assert found.endings["errored"] == 1
    assert found.services["web"].run.unsent == 1
    assert found.services["database"].n_requests == 2


@pytest.mark.parametrize(("then", "latency", "ending"), [("fail", 0.0, "errored"), ("go_on", 3.0, "ok")])
def test_a_call_that_is_refused(then: str, latency: float, ending: str) -> None:
    """The database has one slot and no backlog, and is busy for 5 s with a request of its own."""
    services = {
        "web": Service(slots=9, calls=[{"to": "database", "cpu": 0, "if_it_fails": then}]),
        "database": Service(slots=1, backlog=0, routes=["/report"]),
    }
    trace = make_trace([0, 1], wait=[5, 3], route=["/report", "/"], span_s=20)
    found = both(trace, services, {name: make_plan() for name in services})
    assert _latencies(found) == [5, latency]
    assert found.requests["ending"].tolist() == ["ok", ending]
    assert found.services["database"].endings["refused"] == 1


def test_a_call_is_sent_again_with_its_connection() -> None:
    """Refused at 1 s and 2 s, answered at the third attempt at 4 s; another call waits for the only connection."""
    services = {
        "web": Service(slots=9, calls=[{"to": "database", "wait": 1, "retries": 2, "retry_after": 1, "pool": 1}]),
        "database": Service(slots=1, backlog=0, routes=["/report"]),
    }
    trace = make_trace([0, 1, 1], wait=[3, 0, 0], route=["/report", "/", "/"], span_s=20)
    found = both(trace, services, {name: make_plan() for name in services})
    assert _latencies(found) == [3, 4, 5]
    database = found.services["database"]
    assert (database.n_requests, database.attempts) == (3, 5)


def test_a_call_that_times_out_goes_on_at_the_callee() -> None:
    """After 1 s the visit is errored, and its slot free; the database works for 4 s, and the next call waits for it."""
    services = {
        "web": Service(slots=1, calls=[{"to": "database", "wait": 4, "timeout": 1, "retries": 1, "retry_after": 1}]),
        "database": Service(slots=1),
    }
    found = both(make_trace([0, 0.5], span_s=20), services, {name: make_plan() for name in services})
    # Attempts at 0 and 2 s, each given up a second later; the second request has the slot from 3 s on.
    assert _latencies(found) == [3, 5.5]
    assert found.endings["errored"] == 2
    database = found.services["database"]
    assert (database.endings["timed_out"], database.attempts) == (2, 4)


def test_the_first_failure_of_a_fan_out_fails_the_visit() -> None:
    """One call is refused at once; the other runs on for 5 s and counts as ok, heard by nobody."""
    services = {
        "web": Service(
            slots=1,
            calls=[
                {"to": "slow", "wait": 5, "at_once": True},
                {"to": "full", "cpu": 0, "at_once": True},
            ],
        ),
        "slow": Service(slots=9),
        "full": Service(slots=1, backlog=0, routes=["/report"]),
    }
    trace = make_trace([0, 1, 9], wait=[3, 0, 0], route=["/report", "/", "/"], span_s=20)
    found = both(trace, services, {name: make_plan() for name in services})
    assert found.requests["ending"].tolist() == ["ok", "errored", "ok"]
    assert _latencies(found) == [3, 0, 5]
    assert found.services["slow"].endings["ok"] == 2


def test_nobody_waits_for_what_is_put_on_a_queue() -> None:
    """Three letters of 2 s for one worker: done at 2, 4 and 6 s, and delivered again where the first try fails."""
    services = {
        "web": Service(slots=9, calls=[{"to": "letters", "wait": 2, "wait_for_it": False}]),
        "letters": Service(slots=1),
    }
    plans = {"web": make_plan(), "letters": make_plan(balancer="shared_queue")}
    found = both(make_trace([0, 0, 0], cpu=0, span_s=20), services, plans)
    assert _latencies(found) == [0, 0, 0]
    assert found.services["letters"].latency_s["max"] == 6


def test_workers_come_for_what_waits_and_go() -> None:
    """From none to two and back, on the measure `waiting`: a floor of 0, a replica a decision."""
    services = {
        "web": Service(slots=99, calls=[{"to": "letters", "wait": 4, "wait_for_it": False}]),
        "letters": Service(slots=1),
    }
    rule = {"rule": "steps", "measure": "waiting", "every": 1, "floor": 0, "ceiling": 2, "down": [{"below": 0.5, "remove": 1}],
            "up": [{"above": 1, "add": 1}]}  # fmt: skip
    tier = make_tier(holds_requests=True)
    plans = {"web": make_plan(), "letters": make_plan(tier, replicas=1, balancer="shared_queue", scaling=rule)}
    found = both(make_trace([0.5] * 5, span_s=40), services, plans)
    letters = found.services["letters"]
    assert letters.endings["ok"] == 5
    assert (letters.replicas_min, letters.replicas_max) == (0, 2)


def test_retries_meet_luck_of_their_own() -> None:
    """A cache that misses half of the time: the visits of an attempt are drawn anew for the next attempt."""
    services = {
        "web": Service(
            slots=400, timeout=1, retries=1, retry_after=0, calls=[{"to": "database", "wait": 2, "share": 0.5}]
        ),
        "database": Service(slots=900),
    }
    found = both(make_trace(list(np.arange(400) / 100), span_s=20), services, {name: make_plan() for name in services})
    # Half is answered at once, half of the rest at the second attempt.
    assert found.endings["ok"] == pytest.approx(300, abs=30)
    assert found.attempts == pytest.approx(600, abs=40)


def test_requests_arrive_where_their_route_says() -> None:
    services = {
        "web": Service(slots=1),
        "letters": Service(slots=1, routes=["/jobs/*"]),
        "rest": Service(slots=1, routes=["/jobs/nightly", "/api*"]),
    }
    trace = make_trace([0, 0, 0], wait=1, route=["/", "/jobs/nightly", "/api/x"], span_s=20)
    found = both(trace, services, {name: make_plan() for name in services})
    assert [one.n_requests for one in found.services.values()] == [1, 1, 1]


@pytest.mark.parametrize(
    ("services", "sentence"),
    [
        ({"a": {"calls": [{"to": "b", "cpu": 0}]}, "b": {"calls": [{"to": "a", "cpu": 0}]}}, "a -> b -> a; allowed"),
        ({"a": {"calls": [{"to": "c", "cpu": 0}]}, "b": {}}, "there is no service 'c'; allowed: a, b"),
        ({"a": {}, "b": {}}, "'a' and 'b' have none and are called by none"),
        ({"a": {"calls": [{"to": "b", "of_wait": 0.5}]}, "b": {}}, "services.b.cpu_share"),
        ({"a": {"calls": [{"to": "b"}]}, "b": {"cpu_share": 1}}, "the trace has no column in_b_s"),
        (
            {"a": {"calls": [{"to": "b", "cpu": 0, "pool": 2}, {"to": "b", "cpu": 0, "pool": 3}]}, "b": {}},
            "found 2 and 3; allowed: one number",
        ),
        (
            {"a": {"calls": [{"to": "b", "of_wait": 0.7}] * 2}, "b": {"cpu_share": 1}},
            "of_wait is 140% together for requests of 'all'",
        ),
        ({"a": {"calls": [{"to": "b", "cpu": 0, "pool_timeout": 2}]}, "b": {}}, "no effect without pool"),
    ],
)
def test_systems_that_cannot_be(services: dict[str, Any], sentence: str) -> None:
    built = {name: Service(slots=1, **values) for name, values in services.items()}
    with pytest.raises(StudyError) as caught:
        replay(make_trace([0], span_s=5), built, {name: make_plan() for name in built})
    assert sentence in str(caught.value)


@pytest.mark.parametrize(
    ("values", "sentence"),
    [
        ({"of_wait": 0.5, "cpu": 1}, "of_wait and cpu are both there"),
        ({"of_wait": 0.5, "share": 0.5}, "of_wait and share are both there"),
        ({"wait_for_it": False, "pool": 3}, "pool with wait_for_it = false"),
        ({"cpu": 0, "retry_after": 3}, "retry_after has no effect without retries"),
        ({"cpu": 0, "share": 0}, "share"),
    ],
)
def test_calls_that_cannot_be(values: dict[str, Any], sentence: str) -> None:
    with pytest.raises(StudyError) as caught:
        Service(slots=1, calls=[{"to": "b", **values}])
    assert sentence in str(caught.value)


# -- visitors who stay where they are --------------------------------------------------------------


def test_a_pinned_visitor_stays_where_he_was() -> None:
    """Visitor 0 goes to the first replica and stays, whoever else is there; visitor 1 goes to the second."""
    trace = make_trace([0, 0.5, 1, 1.5], wait=[9, 9, 1, 1], visitor=["a", "b", "a", "a"], span_s=20)
    found = both(trace, Service(slots=9), make_plan(replicas=3, balancer="pinned"))
    assert found.run.results.replica.tolist() == [1, 2, 1, 1]


def test_pinned_visitors_move_when_their_replica_goes() -> None:
    """At 5 s the update drains the first replica: whoever was there moves to the least busy one, and stays there."""
    update = {"strategy": "rolling", "at": "5s", "batch": 1, "spare": 1, "keep": 1}
    trace = make_trace([0, 1, 6, 7, 8], wait=0.5, visitor=["a", "b", "a", "a", "b"], span_s=20)
    plan = make_plan(make_tier(provision=0), replicas=2, balancer="pinned", rollouts=[update])
    found = both(trace, Service(slots=9), plan)
    assert found.run.only.moved.sum() == 2
    [finding] = [finding for finding in found.findings if finding.kind == "pinned"]
    assert "2 visitors had to move to another replica (2 by update)" in finding.text


def test_pinning_that_costs_nothing_is_no_finding() -> None:
    trace = make_trace(
        list(np.arange(0, 20, 0.5)), cpu=0.1, wait=0.45, visitor=[f"v{k % 10}" for k in range(40)], span_s=20
    )
    found = both(trace, Service(slots=9), make_plan(replicas=2, balancer="pinned"))
    assert not [finding for finding in found.findings if finding.kind == "pinned"]
    # One visitor sends all that is heavy: the other replica has next to nothing to do.
    heavy = make_trace(
        list(np.arange(0, 20, 0.5)),
        cpu=[0.4 if k % 2 else 0.01 for k in range(40)],
        visitor=[k % 2 for k in range(40)],
        span_s=20,
    )
    found = both(heavy, Service(slots=9), make_plan(replicas=2, balancer="pinned"))
    assert "least_busy would share it evenly" in next(f.text for f in found.findings if f.kind == "pinned")


def test_a_connection_of_a_dead_process_does_not_come_back() -> None:
    """The web replica dies at 1 s of a third visit, and comes again at 1 s with a pool of its own, of one connection.

    The call that it made at 0 s runs on until 4 s; then its connection is gone, and not free for one more: the two that
    came at 2 s have the only one of the new process one after the other, until 6 and 10 s.
    """
    services = {
        "web": Service(slots=9, memory_per_request=100, calls=[{"to": "database", "wait": 4, "pool": 1}]),
        "database": Service(slots=9),
    }
    tier = make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "memory": 250}})
    trace = make_trace([0, 0.5, 1, 2, 2], span_s=30)
    found = both(trace, services, {"web": make_plan(tier), "database": make_plan()})
    assert found.requests["ending"].tolist() == ["lost"] * 3 + ["ok"] * 2
    assert _latencies(found) == [1, 0.5, 0, 4, 8]
    # The second was never sent: it waited for a connection when its process died.
    assert found.services["database"].n_requests == 3


def test_work_of_a_callee_is_that_of_a_reference_core() -> None:
    """Recorded on cores of speed 3, half of 2 s of a column is 3 core-seconds, on a core of speed 1."""
    trace = make_trace([0], span_s=20, in_s={"database": [2]}).recorded_at(3.0)
    assert _latencies(_system(trace, {"calls": [{"to": "database"}]}, {"cpu_share": 0.5})) == [3 + 1]


def test_a_call_that_waits_for_a_connection_is_something_left_to_happen() -> None:
    """Nobody ever serves the callee: the first of two calls is held, and dismissed when the other gives up at 1.25 s."""
    calls = [
        {"to": "database", "wait": 0, "pool": 1, "at_once": True},
        {"to": "database", "wait": 0, "pool": 1, "at_once": True, "pool_timeout": 0.25, "if_it_fails": "go_on"},
    ]
    tier = make_tier(holds_requests=True, replicas={"least": 0, "most": 9})
    nobody = {"database": {"tier": tier, "replicas": 0}}
    assert _latencies(_system(make_trace([0], cpu=1, span_s=9), {"calls": calls}, plans=nobody)) == [1.25]
