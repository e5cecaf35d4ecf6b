"""Crashes: scenarios small enough to be worked out by hand, on both data planes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import pytest

from builders import both, make_plan, make_tier, make_trace, plain_study
from libramen import Crash, Outcome, Service, StudyError, check, load_study
from libramen.report.story import sentences

if TYPE_CHECKING:
    from pathlib import Path


def _crash(**values: Any) -> dict[str, Any]:
    return {"kind": "crash"} | values


def _endings(outcome: Outcome) -> list[str]:
    return [str(ending) for ending in outcome.requests["ending"]]


def test_a_crash_that_is_not_yet_detected_attracts_requests() -> None:
    """Two replicas, a request of 10 s on each; 1 dies at 2 and is found at 5, its process back at 8.

    Its request is lost at 2. It looks empty, so those of 3 and 4 go there and are lost at once; that of 6 goes to
    replica 2; that of 9 to replica 1 again, whose turn it is.
    """
    trace = make_trace([0, 0, 3, 4, 6, 9], wait=[10, 10, 1, 1, 1, 1], span_s=30)
    plan = make_plan(make_tier(detect=3), replicas=2, faults=[_crash(at=2)])
    found = both(trace, Service(slots=5, start=6), plan)
    assert _endings(found) == ["lost", "ok", "lost", "lost", "ok", "ok"]
    assert found.requests["latency_s"].tolist() == [2, 10, 0, 0, 1, 1]
    assert found.requests["replica"].tolist() == [1, 2, 1, 1, 2, 1]
    assert found.deaths.to_dict("records") == [{"at_s": 2.0, "replica": 1, "why": "crash"}]
    stages = found.stages[found.stages["number"] == 1]
    assert stages["stage"].tolist() == ["ready", "down", "starting", "ready"]
    assert stages["from_s"].tolist() == [0, 2, 5, 8]
    assert any("Crashed 1 time on 1 replica" in sentence for sentence in sentences(found))


def test_a_crash_that_is_found_at_once_costs_what_was_in_it() -> None:
    """As above with `detect` of 0, which the fault says: those of 3 and 4 go to replica 2."""
    trace = make_trace([0, 0, 3, 4, 6, 9], wait=[10, 10, 1, 1, 1, 1], span_s=30)
    plan = make_plan(make_tier(detect=3), replicas=2, faults=[_crash(at=2, detect=0, replica=1)])
    found = both(trace, Service(slots=5, start=3), plan)
    assert _endings(found) == ["lost", "ok", "ok", "ok", "ok", "ok"]
    assert found.requests["replica"].tolist() == [1, 2, 2, 2, 1, 1]  # the process of 1 is back at 5


def test_held_requests_are_sent_to_a_process_whose_death_is_not_known() -> None:
    """One slot, three requests at 0 in the shared queue: the crash at 2 frees the slot, and the dead take all."""
    trace, service = make_trace([0, 0, 0, 6], wait=5, span_s=30), Service(slots=1)
    plan = {"balancer": "shared_queue", "faults": [_crash(at=2)]}
    tier = make_tier(detect=3, holds_requests=True)
    assert _endings(both(trace, service, make_plan(tier, **plan))) == ["lost", "lost", "lost", "ok"]
    plan["faults"] = [_crash(at=2, detect=0)]
    found = both(trace, service, make_plan(tier, **plan))
    assert _endings(found) == ["lost", "ok", "ok", "ok"]
    assert found.requests["latency_s"].tolist() == [2, 7, 12, 11]


def test_a_draining_replica_that_crashes_is_gone_and_one_on_its_way_cannot() -> None:
    """All stop at 1; replica 1 has a request until 10 and crashes at 4: gone, so that 2 is ordered then, not at 10.

    Replica 2 takes 3 s to start: the crash at 5 finds it on its way, and does nothing; that at 7.5 does.
    """
    trace = make_trace([0, 8], wait=[10, 1], span_s=30)
    update = {"strategy": "stop_start", "at": 1}
    faults = [_crash(at=4, replica=1), _crash(at=5), _crash(at=7.5)]
    found = both(trace, Service(slots=1, start=3), make_plan(make_tier(), rollouts=[update], faults=faults))
    assert _endings(found) == ["lost", "refused"]
    assert found.fleet["gone_s"].tolist()[0] == 4
    assert found.deaths["at_s"].tolist() == [4, 7.5]
    assert found.deaths["replica"].tolist() == [1, 2]
    assert found.updates["ended_s"].tolist() == [7]


def test_callers_of_a_replica_that_crashes_hear_when_it_is_over() -> None:
    """A call of 5 s at a database that crashes at 2 and is back at 3: sent again 1 s later, at 3, and answered at 8."""
    services = {
        "web": Service(slots=5, calls=[{"to": "database", "wait": 5, "retries": 1, "retry_after": 1}]),
        "database": Service(slots=5, start=1),
    }
    plans = {"web": make_plan(), "database": make_plan(faults=[_crash(at=2)])}
    found = both(make_trace([0, 0], span_s=30), services, plans)
    assert found.requests["latency_s"].tolist() == [8, 8]
    database = found.services["database"]
    assert database.endings["lost"] == 0, "a visit that is repeated ends once"
    assert database.deaths["at_s"].tolist() == [2]


def test_a_crash_every_day() -> None:
    trace = make_trace([0, 200_000], wait=1, span_s=260_000, start="2031-06-05T00:00", time_zone="Europe/Lisbon")
    found = both(trace, Service(slots=1), make_plan(faults=[_crash(at="12:00", daily=True)]))
    assert found.deaths["at_s"].tolist() == [43_200, 129_600, 216_000]


def test_a_fault_of_a_study_is_read_and_checked() -> None:
    assert Crash(at="1h", detect="30s").detect == 30
    with pytest.raises(StudyError, match="kind"):
        make_plan(faults=[{"kind": "crush", "at": 1}])
    with pytest.raises(StudyError, match="replica"):
        make_plan(faults=[_crash(at=1, replica=0)])
    with pytest.raises(StudyError, match="faults: the fleet is a list"):
        make_plan(replicas=[["0s", 1], ["5s", 2]], faults=[_crash(at=1)])


def _study(folder: Path, name: str, replicas: int, **fault: Any) -> Path:
    (folder / "t.csv").write_text("at_s,cpu_s,wait_s\n0,0,1\n5,0,1\n")
    plans = {name: {"replicas": replicas, "faults": [{"kind": "crash"} | fault]}}
    tables = {"tier": {"detect": "10s"}, "service": {"slots": 5, "start": "4s"}}
    return plain_study(folder / f"{name}.toml", {"files": ["t.csv"]}, plans, **tables)


@pytest.mark.parametrize(
    ("name", "replicas", "fault", "said"),
    [
        ("alone", 1, {}, ["its crash leaves no replica that works for at least 4 s"]),
        ("quick", 1, {"detect": 0}, ["its crash leaves no replica that works for at least 4 s"]),
        ("two", 2, {}, []),
        ("absent", 2, {"replica": 3}, ["its crash is of replica 3, and the plan has 2"]),
    ],
)
def test_check_says_what_a_crash_costs(tmp_path: Path, name: str, replicas: int, fault: Any, said: list[str]) -> None:
    [plan] = check(load_study(_study(tmp_path, name, replicas, at="2s", **fault))).plans
    assert [one.text for one in plan.problems if "crash" in one.text] == said


def test_a_crash_after_the_trace_is_an_error(tmp_path: Path) -> None:
    study = load_study(_study(tmp_path, "late", 1, at="1h"))
    with pytest.raises(StudyError, match=r"plan 'late': faults\[1\].at = \"1h\" is not in the trace"):
        check(study)
