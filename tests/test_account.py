"""Limits of an account: orders beyond them wait until a replica of any service is gone."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import assert_agree, make_plan, make_tier, make_trace, plain_study
from libramen import Account, Outcome, Plan, Service, StudyError, Terms, Trace, check, load_study, replay
from libramen.outcome.measures import stage_steps

START = "2031-06-05"


def _both(trace: Trace, services: Any, plan: Any, *, terms: Terms | None = None, **account: Any) -> Outcome:
    terms = terms or Terms(account=account, month={"events": "as_traced"})
    compiled, plain = (replay(trace, services, plan, terms=terms, data_plane=plane) for plane in ("compiled", "plain"))
    assert_agree(compiled, plain)
    return compiled


def _table(*entries: tuple[str, int]) -> dict[str, Any]:
    return {"rule": "fixed", "timetable": [{"at": at, "floor": n, "ceiling": n} for at, n in entries]}


def _hour() -> Trace:
    return make_trace([0.0, 3000.0], wait=1, span_s=3600, start=START)


def test_what_there_is_no_room_for_is_ordered_when_a_replica_is_gone() -> None:
    """Of a, three are wanted from 00:10 on; b has two, and gives one back at 00:30. Four are allowed: a gets its second at
    once, and its third at 00:30."""
    services = {"a": Service(slots=5, routes=["/a"], cpu_share=1), "b": Service(slots=5, routes=["/b"], cpu_share=1)}
    plan = Plan(
        name="p",
        services={
            "a": make_plan(scaling=_table(("00:00", 1), ("00:10", 3))).only,
            "b": make_plan(replicas=2, scaling=_table(("00:00", 2), ("00:30", 1))).only,
        },
    )
    trace = make_trace([0.0, 3000.0], wait=1, route=["/a", "/b"], span_s=3600, start=START)
    found = _both(trace, services, plan, replicas=4)
    a = found.services["a"]
    assert [replica.ordered_s for replica in a.run.replicas] == [0, 600, 1800]
    decisions = [(d.at_s, d.held_by, d.ordered) for d in a.run.decisions]
    assert decisions == [(0, "", 0), (600, "account", 1), (1800, "", 1)]
    (full,) = (finding for finding in found.findings if finding.kind == "account_full")
    assert (full.service, full.replicas, full.figures["first_s"]) == ("a", 1, 600)
    assert full.text.startswith("a: Account full: orders were held back 1 time, first at 00:10:00")
    free = _both(trace, services, plan)
    assert [replica.ordered_s for replica in free.services["a"].run.replicas] == [0, 600, 600]


def test_cores_are_those_of_the_sizes() -> None:
    """Seven cores for replicas of two: three of them, not four."""
    tier = make_tier(cores=2, reserved_cores=1)
    found = _both(_hour(), Service(slots=5), make_plan(tier, scaling=_table(("00:00", 1), ("00:10", 4))), cores=7)
    assert len(found.run.only.replicas) == 3


def test_draining_replicas_count_until_they_are_gone() -> None:
    """Two are drained at 00:10 while each has a request up to 00:20; a third may come only then."""
    trace = make_trace([590.0, 590.5], wait=610, span_s=3600, start=START)
    plan = make_plan(replicas=2, scaling=_table(("00:00", 2), ("00:10", 1), ("00:11", 2)))
    found = _both(trace, Service(slots=1), plan, replicas=2)
    assert [replica.ordered_s for replica in found.run.only.replicas] == [0, 0, pytest.approx(1200.5)]


def test_a_release_waits_for_room() -> None:
    """Two replicas and one to spare, and room for two: nothing can be ordered, and all must stay ready. It is not over at the
    end. With keep = 1 one goes first, and each new one comes in its place."""
    stuck = make_plan(replicas=2, rollouts=[{"at": "00:10", "strategy": "rolling"}])
    found = _both(_hour(), Service(slots=5), stuck, replicas=2)
    (update,) = found.run.only.updates
    assert update.result == "under_way"
    (finding,) = (one for one in found.findings if one.kind == "release_not_over")
    assert "still under way at the end; orders were held back" in finding.text
    moves = make_plan(replicas=2, rollouts=[{"at": "00:10", "strategy": "rolling", "keep": 1}])
    found = _both(_hour(), Service(slots=5), moves, replicas=2)
    assert found.run.only.updates[0].result == "done"
    assert stage_steps(found.run.only, "ready", "coming", "draining").extremes()[1] == 2


@pytest.mark.parametrize("strategy", ["switch", "canary"])
def test_a_second_fleet_without_room_is_skipped(strategy: str) -> None:
    more = {"steps": [{"share": "50%", "hold": "1m"}]} if strategy == "canary" else {}
    plan = make_plan(replicas=3, rollouts=[{"at": "00:10", "strategy": strategy} | more])
    for room, result in ((5, "skipped"), (6, "done")):
        found = _both(_hour(), Service(slots=5), plan, replicas=room)
        assert found.run.only.updates[0].result == result
    skipped = _both(_hour(), Service(slots=5), plan, replicas=5)
    (finding,) = (one for one in skipped.findings if one.kind == "release_skipped")
    assert finding.text.endswith("it needs 6 replicas at once, and the account has no room for them.")


def test_a_replacement_waits_for_room() -> None:
    """A zone is lost with one of two replicas, which is found out at 00:30. Three are allowed, and b wants its second from 00:20
    on: it is held back then, and once more at 00:30, when the place goes to the replacement."""
    tier = make_tier(zones=["east", "west"])
    services = {name: Service(slots=5, routes=[f"/{name}"], cpu_share=1) for name in "ab"}
    loss = {"kind": "zone_loss", "zone": "east", "at": "00:10", "detect": "20m"}
    plan = Plan(
        name="p",
        services={
            "a": make_plan(tier, replicas=2, faults=[loss]).only,
            "b": make_plan(tier, zones=["west"], scaling=_table(("00:00", 1), ("00:20", 2), ("00:40", 1))).only,
        },
    )
    trace = make_trace([0.0, 3000.0], wait=1, route=["/a", "/b"], span_s=3600, start=START)
    found = _both(trace, services, plan, replicas=3)
    assert found.services["b"].run.held_s == [1200, 1800]
    assert [replica.ordered_s for replica in found.services["a"].run.replicas] == [0, 0, 1800]
    free = _both(trace, services, plan, replicas=4)
    assert free.services["b"].run.held_s == []


def test_on_arrival_asks_again_when_there_is_room() -> None:
    """One slot each; two replicas are allowed. The third of three requests at once waits for the first to be answered."""
    tier = make_tier(holds_requests=True, replicas={"least": 0, "most": 9})
    plan = make_plan(tier, replicas=0, scaling={"rule": "on_arrival", "idle": 60, "floor": 0, "ceiling": 9})
    trace = make_trace([1.0, 2.0, 3.0, 4.0], wait=30, span_s=600)
    found = _both(trace, Service(slots=1), plan, replicas=2)
    assert found.endings["ok"] == 4
    assert max(found.series_arrays()["ready"]) <= 2
    assert "account" in set(found.decisions["held_by"])
    assert len(found.decisions) < 8  # asked once, not with every request


def test_it_is_no_error_in_the_order_of_the_services() -> None:
    """Both want two more from 00:10 on, and there is room for three: a gets two, b one."""
    services = {name: Service(slots=5, routes=[f"/{name}"], cpu_share=1) for name in "ab"}
    plan = Plan(name="p", services=dict.fromkeys("ab", make_plan(scaling=_table(("00:00", 1), ("00:10", 3))).only))
    trace = make_trace([0.0, 3000.0], wait=1, route=["/a", "/b"], span_s=3600, start=START)
    found = _both(trace, services, plan, replicas=5)
    assert [len(one.run.replicas) for one in found.services.values()] == [3, 2]


@given(
    st.integers(2, 6),
    st.integers(0, 1000),
    st.sampled_from(["rolling", "switch", "stop_start"]),
    st.sampled_from(["target", "on_arrival"]),
)
def test_never_more_than_the_account_allows(most: int, number: int, strategy: str, rule: str) -> None:
    """At no instant, whatever scaling, releases and crashes do; and no request is lost from sight."""
    rng = np.random.default_rng(number)
    at = np.sort(rng.uniform(0, 500, 60))
    trace = make_trace(
        at.tolist(), cpu=rng.exponential(2, 60).tolist(), wait=rng.exponential(3, 60).tolist(),
        route=[f"/{name}" for name in rng.choice(["a", "b"], 60)], span_s=600,
    )  # fmt: skip
    scaling: dict[str, Any] = {
        "target": {"rule": "target", "measure": "in_progress", "target": 1, "every": 10, "floor": 1, "ceiling": 9},
        "on_arrival": {"rule": "on_arrival", "idle": 20, "floor": 1, "ceiling": 9},
    }[rule]
    tier = make_tier(provision=5, holds_requests=rule == "on_arrival")
    release = {"at": 200, "strategy": strategy} | ({"in_place": False} if strategy == "stop_start" else {})
    services = {name: Service(slots=1, routes=[f"/{name}"], cpu_share=1, start=4, timeout=60) for name in "ab"}
    crash = {"kind": "crash", "at": 300, "detect": 5}
    plan = Plan(
        name="p",
        services={
            "a": make_plan(tier, scaling=scaling, rollouts=[release]).only,
            "b": make_plan(tier, scaling=scaling, faults=[crash]).only,
        },
    )
    found = _both(trace, services, plan, replicas=most)
    assert sum(found.endings.values()) == 60
    changes = sorted(
        change
        for one in found.services.values()
        for replica in one.run.replicas
        for change in ((replica.ordered_s, 1), (np.inf if replica.gone_s is None else replica.gone_s, -1))
    )
    assert max(np.cumsum([step for _, step in changes])) <= most


@pytest.mark.parametrize(
    ("account", "plan", "sentence"),
    [
        ({"replicas": 2}, {"replicas": 3}, "its fleets at the start are 3 replicas; allowed: up to 2"),
        ({"cores": 2.5}, {"replicas": 3}, "its fleets at the start have 3 cores; allowed: up to 2.5"),
        ({"replicas": 2}, {"committed": [{"replicas": 3}]}, "3 replicas are committed; allowed: up to 2"),
        ({"replicas": 0}, {}, "at least 1"),
        ({"cores": 0}, {}, "above 0"),
    ],
)
def test_mistakes(account: dict[str, Any], plan: dict[str, Any], sentence: str) -> None:
    with pytest.raises(StudyError) as error:
        replay(_hour(), Service(slots=5), make_plan(**plan), terms=Terms(account=account))
    assert sentence in str(error.value)


def test_a_study_says_it_of_its_plans(tmp_path: Any) -> None:
    (tmp_path / "t.csv").write_text("at_s,cpu_s\n0,0.1\n50,0.1\n")
    tier = {"autoscaling": True, "replicas": {"least": 1, "most": 9}}
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "ceiling": 8}
    file = plain_study(tmp_path, {"files": "t.csv"}, {"p": {"scaling": rule}}, tier=tier, account={"replicas": 5})
    study = load_study(file)
    assert study.account == Account(replicas=5)
    (problem,) = (one for found in check(study).plans for one in found.problems if one.kind == "account_most")
    assert problem.text == (
        "it may want 8 replicas at once, and the account has 5: what is more is held back until a replica is gone"
    )
    with pytest.raises(StudyError, match="are 6 replicas; allowed: up to 5"):
        study.replace(plans={"p": {"replicas": 6}})
    plain_study(tmp_path, {"files": "t.csv"}, {"p": {"replicas": 7}}, tier=tier, account={"replicas": 5})
    with pytest.raises(StudyError, match=r"study.toml: plan 'p': its fleets at the start are 7 replicas"):
        load_study(file)
