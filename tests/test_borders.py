"""What holds exactly at a limit: the last request, the last replica, the last cent."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from builders import make_case, make_plan, make_tier, make_trace
from libramen import (
    Objectives,
    Service,
    Study,
    StudyError,
    Trace,
    TraceError,
    compare,
    load_study,
    replay,
    search,
    unqueue,
)
from libramen.bill.month import clock_hours
from libramen.engine.control.fault_fleet import FleetOfFaults
from libramen.load.evidence import Evidence
from libramen.outcome.figures import Figures
from libramen.questions.bounded_search import Try
from libramen.questions.bounds import NOTHING, fewest
from libramen.questions.headroom import Headroom
from libramen.questions.limits import Room, _LimitSearch
from libramen.questions.months import _of_hours
from libramen.questions.vary import combinations
from libramen.rules.rollouts import Rolling, Switch
from libramen.study.study import Heading
from libramen.study.trace_table import TraceTable
from libramen.trace.source import Demand


def _study(**values: Any) -> Study:
    plan = values.pop("plan", make_plan(name="p"))
    return Study(
        Path("borders.toml"), heading=Heading(), trace=TraceTable(files=("none.csv",)), tiers={"t": plan.only.tier},
        services={"service": Service(slots=1)}, plans={"p": plan}, objectives=values.pop("objectives", Objectives()),
    )  # fmt: skip


# -- searching -----------------------------------------------------------------------------------


def test_a_request_that_takes_just_as_long_as_it_may_is_not_late() -> None:
    """Else a search would stop the replay of a plan that holds."""
    trace = make_trace([10.0 * k for k in range(300)], wait=1.0, span_s=3000)
    case = make_case({"service": Service(slots=1)}, make_plan(), Objectives(max="1s", p50="1s"))
    assert isinstance(Try(None, NOTHING)(case, trace), Figures)
    assert not isinstance(Try(None, NOTHING)(case, make_trace([0.0, 10.0], wait=[1.0, 1.001], span_s=3000)), Figures)


def test_what_costs_up_to_two_percent_more_is_replayed_to_the_end() -> None:
    """Twelve sizes, each a thousandth dearer than the one before: all are as good as the cheapest."""
    sizes = {f"s{k}": {"cores": 1, "per_hour": 1 + k / 1000} for k in range(12)} | {"far": {"cores": 1, "per_hour": 2}}
    tier = make_tier(sizes=sizes)
    study = _study(plan=make_plan(tier, size="s0", name="p"), objectives=Objectives(p95="9s"))
    trace = make_trace([10.0 * k for k in range(300)], wait=1.0, span_s=3000)
    found = search(study, "p", trace=trace, size=list(sizes))
    assert found.cheapest is not None
    assert found.label(found.cheapest) == "size=s0"
    assert len(found.near) == 11


def test_of_what_may_not_be_sold_no_replica_is_sure() -> None:
    assert fewest(make_plan(replicas=3).only) == 3
    assert fewest(make_plan(make_tier(order_fails="1%"), replicas=3).only) == 0


def test_a_varied_floor_lifts_the_replicas_at_the_start() -> None:
    rule = {"rule": "target", "measure": "cpu", "target": "60%", "every": "20s", "floor": 1, "ceiling": 9}
    study = _study(plan=make_plan(name="p", replicas=2, scaling=rule))
    found = combinations(study, study.plans["p"], {"scaling.floor": [1, 4]})
    assert [one.plan.only.replicas for one in found if one.plan is not None] == [2, 4]


def _missed(*names: str) -> SimpleNamespace:
    return SimpleNamespace(missed=[SimpleNamespace(name=name) for name in names])


@pytest.mark.parametrize(
    ("missed", "monotone"),
    [
        ([(), ("p95",), ("p95",)], True),
        ([(), ("p95",), ()], False),
        ([("p95",), (), ("p95",)], False),
        ([("p95",), ("p95", "month"), ("p95",)], False),
        ([(), (), ("month",), ("p95", "month")], True),
    ],
)
def test_every_factor_counts_for_whether_limits_are_sharp(missed: list[tuple[str, ...]], monotone: bool) -> None:
    look = _LimitSearch.__new__(_LimitSearch)
    look._figures = {k: _missed(*names) for k, names in enumerate(missed)}  # type: ignore[misc]
    assert look._is_monotone() is monotone


def test_a_plan_that_holds_just_to_todays_load_is_the_first_to_use() -> None:
    def room(plan: str, holds_to: float | None, month: float) -> Room:
        point = SimpleNamespace(factor=1.0, month=month)
        return Room(plan, holds_to, "p95", "CPU", None, {}, True, (point,))  # type: ignore[arg-type]

    rooms = (room("never", None, 1), room("short", 0.99, 2), room("just", 1.0, 3), room("long", 2.0, 4))
    found = Headroom(rooms, (0.08, 0.08), "EUR", Evidence(Demand("given"), 1.0))
    assert [one.plan for one in found.changes] == ["just", "long"]


# -- releases and faults -------------------------------------------------------------------------


def test_what_a_release_leaves_and_needs() -> None:
    """A round takes as many as its batch, however few must stay; two fleets need just twice as many."""
    assert Rolling(at="12:00", batch=1, keep=0).least_ready(4) == 3
    assert Rolling(at="12:00", batch=3, keep=2).least_ready(4) == 2
    assert Switch(at="12:00").problem(5, 10) is None
    assert "needs 10 at once; allowed: up to 9" in (Switch(at="12:00").problem(5, 9) or "")


def test_machines_of_a_lost_zone_are_not_kept_for_an_update() -> None:
    zones = ["a", "b", "a"]
    fleet = SimpleNamespace(
        free_machines=[1, 2, 3], replicas=[SimpleNamespace(zone=zone) for zone in zones], alive=list, listeners=[]
    )
    closed: list[str] = []
    made = SimpleNamespace(
        fleet=fleet, plane=None, agenda=None, placement=SimpleNamespace(close=closed.append),
        hosting=SimpleNamespace(tier=SimpleNamespace(notice=0.0)), service=SimpleNamespace(drain=None),
    )  # fmt: skip
    FleetOfFaults(made).lose("a", 5.0, detect_s=None)  # type: ignore[arg-type]
    assert (fleet.free_machines, closed) == ([2], ["a"])


def _deaths(plan: Any, span_s: float, service: Service, seed: int = 0) -> list[float]:
    trace = make_trace([0.0], wait=0.1, span_s=span_s)
    return [death.at_s for death in replay(trace, service, plan, seed=seed).run.only.deaths]


def test_what_was_drawn_for_a_process_does_not_strike_the_next_one() -> None:
    """It dies before, of something else, and is started again: its time counts from then on."""
    service = Service(slots=1, start=5)
    drawn = {"kind": "crash", "every_about": "1h"}
    first = _deaths(make_plan(faults=[drawn]), 40_000, service)[0]
    before = first - 20
    found = _deaths(make_plan(faults=[drawn, {"kind": "crash", "at": f"{before}s"}]), 40_000, service)
    assert found[0] == pytest.approx(before)
    assert first not in [pytest.approx(at_s) for at_s in found]
    bad = {"strategy": "stop_start", "at": "10s", "crashes_after": "100s"}
    alone = _deaths(make_plan(rollouts=[bad]), 200, service)
    assert len(alone) == 1
    both = _deaths(make_plan(rollouts=[bad], faults=[{"kind": "crash", "at": f"{alone[0] - 20}s"}]), 220, service)
    assert both == pytest.approx([alone[0] - 20, alone[0] - 20 + 5 + 100])


# -- what is counted -----------------------------------------------------------------------------


@pytest.mark.parametrize("chunks", [False, True])
def test_the_last_arrival_counts(chunks: bool) -> None:
    """Also at the very end of a month: in the whole, in its hour and in its day."""
    span_s = 730 * 3600.0
    trace = make_trace([0.0, 86_400.0, span_s], wait=0.5, span_s=span_s)
    found = replay([trace] if chunks else trace, Service(slots=1), make_plan(), Objectives(p95="1s"))
    assert found.n_requests == 3
    assert int(found.series["arrivals"].sum()) == 3


def test_refused_by_a_gateway_took_no_slot() -> None:
    """429, and 502 to 504: all four."""
    rng = np.random.default_rng(1)
    at_s, latency_s = np.sort(rng.random(2000) * 2000), rng.exponential(0.1, 2000)
    status = np.where(np.arange(2000) % 11 == 0, np.resize([429, 502, 503, 504], 2000), 200)
    refused = int(np.count_nonzero(status != 200))
    log = Trace.from_arrays(at_s=at_s, cpu_s=np.zeros(2000), latency_s=latency_s, status=status)
    found = unqueue(log, Service(slots=4), make_plan(make_tier(cores=4), name="today"))
    assert any(note.startswith(f"{refused} requests took no slot") for note in found.source.notes)


def test_an_hour_belongs_to_the_quarter_in_which_its_middle_is() -> None:
    """From half past midnight on: hours of the clock end at half hours of the trace, the first of them after half an hour."""
    at_s = np.arange(0, 3 * 86_400.0, 600.0)
    trace = make_trace(at_s.tolist(), wait=1.0, span_s=3 * 86_400.0, start="2031-06-05T00:30", time_zone="UTC")
    case = make_case({"service": Service(slots=1)}, make_plan(), Objectives(p95="9s"))
    kept_replays = case.figures(trace).kept_replays
    times = np.arange(12.0).reshape(1, 3, 4)
    of_hour = _of_hours(kept_replays, 3, times)[0]
    length_s = np.diff(clock_hours(3 * 86_400.0, trace.start))
    assert [length_s[of_hour == quarter].sum() for quarter in range(12)] == [19_800.0, *[21_600.0] * 10, 23_400.0]


# -- the door ------------------------------------------------------------------------------------


def test_a_study_is_asked_itself(hour_study: Path) -> None:
    """With its services, objectives, currency and what settles, as if all were given by hand."""
    study = load_study(hour_study).replace(trace={"settle": "5m"})
    name = next(iter(study.plans))
    mine, trace = study.replay(name, seed=3), study.trace(seed=3)
    by_hand = replay(trace, study.services, study.plan(name), study.objectives, 3, settle=300, terms=study.terms)
    assert mine.to_dict() == by_hand.to_dict()
    assert study.replay(study.plan(name).replace(name="other"), trace=trace).plan.name == "other"
    assert study.compare(plans=[name]).to_dict() == compare(study, plans=[name]).to_dict()
    with pytest.raises(StudyError, match="there is no plan"):
        study.replay("none")
    with pytest.raises(StudyError, match=r"Study.replay: found 3; allowed"):
        study.replay(3)  # type: ignore[arg-type]


def test_a_trace_as_a_frame_and_back() -> None:
    trace = Trace.from_arrays(
        at_s=[0.0, 1.0, 2.5], cpu_s=[0.1, 0.2, 0.3], wait_s=[0.0, 0.1, 0.0], route=["/a", "/b", "/a"],
        latency_s=[0.2, 0.3, 0.4], status=[200, 500, 200], visitor=["x", None, "y"], bytes_out=[1, 2, 3],
        in_s={"db": [0.0, 0.1, 0.0]}, span_s=5, start="2031-06-05", time_zone="Europe/Lisbon",
    )  # fmt: skip
    frame = trace.to_frame()
    assert frame["visitor"].isna().tolist() == [False, True, False]
    again = Trace.from_frame(frame, span_s=5, start="2031-06-05", time_zone="Europe/Lisbon")
    assert again.content_key == trace.content_key
    with pytest.raises(TraceError, match="the column cpu_s is missing; found at_s"):
        Trace.from_frame(frame[["at_s"]])
    with pytest.raises(TraceError, match="unknown column 'colour'; allowed: at_s, cpu_s"):
        Trace.from_frame(frame.assign(colour=1))
