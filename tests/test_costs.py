"""Where the money goes: what was used, by which route and when, and what was paid for beside it."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest

from builders import make_plan, make_tier, make_trace
from libramen import Service, Terms, Trace, replay
from libramen.cli import run
from libramen.report.costs import costs_section, in_short, said

if TYPE_CHECKING:
    from pathlib import Path

    from libramen.bill.costs import Costs

DAY = 86400.0


def _costs(trace: Trace, plan: Any, service: Any = None, **terms: Any) -> Costs:
    outcome = replay(trace, service or Service(slots=100), plan, terms=Terms(**terms))
    return outcome.costs


def _amounts(costs: Costs, table: str) -> dict[str, float]:
    return {one.name: float(one.amount) for one in getattr(costs, table) if one.amount}


def test_what_is_used_goes_to_routes_by_what_they_took() -> None:
    """An hour of one core at 1: 730 a month. /a works 1080 s of it, /b 360 s: 40 % is used, three quarters of it by /a."""
    trace = make_trace([0, 1500], cpu=[1080, 360], route=["/a", "/b"], span_s=3600)
    costs = _costs(trace, make_plan())
    assert _amounts(costs, "kinds") == {"used": 292.0, "idle": 438.0}
    assert _amounts(costs, "routes") == {"/a": 219.0, "/b": 73.0, "idle": 438.0}
    assert [one.requests for one in costs.routes[:2]] == [0.5, 0.5]
    assert said(costs) == []
    assert in_short(costs) == "60.0 % idle, 40.0 % used"


def test_slots_count_where_they_are_what_is_short() -> None:
    """Two slots; /a waits half an hour in one of them without the CPU: a quarter is used."""
    costs = _costs(make_trace([0], wait=1800, route=["/a"], span_s=3600), make_plan(), Service(slots=2))
    assert _amounts(costs, "routes") == {"/a": 182.5, "idle": 547.5}


def test_starting_dead_leaving_and_rounded_up() -> None:
    """Three hours, by started hours. The second replica is ordered at 00:30, takes 15 min, and drains from 01:30 to 02:00 since a
    request of half an hour is in it: 90 min, billed 2 h: 15 min starting, 45 ready, 30 + 30 leaving. In all 5 h of 3: 1216.67."""
    tier = make_tier(provision=900)
    table = [
        {"at": "00:00", "floor": 1, "ceiling": 1}, {"at": "00:30", "floor": 2, "ceiling": 2},
        {"at": "01:30", "floor": 1, "ceiling": 1},
    ]  # fmt: skip
    plan = make_plan(tier, scaling={"rule": "fixed", "timetable": table})
    trace = make_trace([5399.0, 5399.5], wait=1801, span_s=10800, start="2031-06-05")
    costs = _costs(trace, plan, Service(slots=1))
    hour = 730 / 3
    kinds = _amounts(costs, "kinds")
    assert kinds["starting"] == pytest.approx(0.25 * hour, abs=0.02)
    assert kinds["leaving"] == pytest.approx(1.0 * hour, abs=0.2)
    assert sum(kinds.values()) == pytest.approx(5 * hour, abs=0.01)


def test_a_dead_replica_is_not_ready() -> None:
    """A crash at 00:30 and a start of 15 min: a quarter of the hour as traced, of the month as good as nothing once."""
    plan = make_plan(faults=[{"kind": "crash", "at": 1800}])
    trace = make_trace([0], wait=1, span_s=3600)
    traced = _costs(trace, plan, Service(slots=1, start=900), month={"events": "as_traced"})
    assert _amounts(traced, "kinds")["starting"] == 182.5
    once = _costs(trace, plan, Service(slots=1, start=900))
    assert _amounts(once, "kinds")["starting"] == 0.25


def test_by_use_the_rounding_is_leaving() -> None:
    """Two periods of 3.5 s of two routes in an hour, billed 4 s each at 1 a core-second: 730 x 8, an eighth of it rounding."""
    tier = make_tier(billing="per_request", per_core_second=1, granularity=1, sizes={"s": {"cores": 1}})
    trace = make_trace([0, 100], wait=3.5, route=["/a", "/b"], span_s=3600)
    costs = _costs(trace, make_plan(tier))
    assert _amounts(costs, "routes") == {"/a": 2555.0, "/b": 2555.0, "leaving": 730.0}


def test_by_the_month_what_was_not_there_is_idle() -> None:
    """Two at once for half of the hour, at 8 a month: of 16 a quarter was not there."""
    tier = make_tier(billing="per_month", sizes={"s": {"cores": 1, "per_month": 8}})
    table = [{"at": "00:00", "floor": 2, "ceiling": 2}, {"at": "00:30", "floor": 1, "ceiling": 1}]
    plan = make_plan(tier, replicas=2, scaling={"rule": "fixed", "timetable": table})
    trace = make_trace([0, 1800], cpu=[1800, 1800], route=["/a", "/a"], span_s=3600, start="2031-06-05")
    costs = _costs(trace, plan)
    # 3600 of 5400 core-seconds that were there are used: of the 12 that they cost 8.
    assert _amounts(costs, "kinds") == {"used": 8.0, "idle": 8.0}


def test_money_by_hour_and_at_night() -> None:
    """A day with one request at noon that sends a gigabyte at 0.1: 3.04 at 12, and a 24th of 730 each hour. Nights are a third."""
    trace = make_trace([43200], wait=1, bytes_out=[1e9], route=["/a"], span_s=DAY, start="2031-06-05")
    costs = _costs(trace, make_plan(make_tier(egress_per_gb="0.1")))
    hours = {one.name: float(one.amount) for one in costs.hours}
    assert list(hours) == [f"{hour:02d}" for hour in range(24)]
    assert hours["12"] == pytest.approx(730 / 24 + 3.04, abs=0.011)
    assert hours["03"] == pytest.approx(730 / 24, abs=0.011)
    assert costs.quiet is not None
    assert (float(costs.quiet.amount), costs.quiet.requests) == (pytest.approx(730 / 3, abs=0.01), 0)
    assert said(costs)[0] == "nights (22:00 to 06:00) cost 243 EUR and get 0.0 % of the requests"


def test_a_week_by_hour_of_the_week() -> None:
    """Requests on Wednesday at noon alone; nights and the week-end are 5 x 8 + 48 of 168 h."""
    at = 2 * DAY + 43200 + np.arange(10.0)
    trace = make_trace(at.tolist(), wait=1, route=["/a"] * 10, span_s=7 * DAY, start="2031-06-02")
    costs = _costs(trace, make_plan())
    assert len(costs.hours) == 168
    assert costs.hours[0].name == "mon 00"
    busy = {one.name: one.requests for one in costs.hours if one.requests}
    assert busy == {"wed 12": 1.0}
    assert costs.quiet is not None
    assert costs.quiet.with_week_ends
    assert float(costs.quiet.amount) == pytest.approx(730 * 88 / 168, abs=0.01)


def test_a_dear_route_is_told() -> None:
    """/reports is a tenth of the requests and half of the work."""
    trace = make_trace(
        (100.0 * np.arange(10)).tolist(), cpu=[10.0] * 9 + [90.0], route=["/a"] * 9 + ["/reports"], span_s=3600
    )  # fmt: skip
    assert said(_costs(trace, make_plan())) == [
        "/reports is 10.0 % of the requests and 50.0 % of the money that is used"
    ]


def test_shares_go_as_the_lines_they_are_on() -> None:
    """A tenth of support and a fifth of tax are spread as the replicas: 40 % used."""
    trace = make_trace([0], cpu=1440, route=["/a"], span_s=3600)
    costs = _costs(trace, make_plan(), fees=[{"name": "support", "share": "10%"}], tax="20%")
    whole = 730 * 1.1 * 1.2
    assert _amounts(costs, "kinds") == {
        "used": pytest.approx(0.4 * whole, abs=0.02),
        "idle": pytest.approx(0.6 * whole, abs=0.02),
    }
    assert {line.item: float(line.kinds["used"]) for line in costs.lines} == {
        "replicas of size s": 292.0, "support": 29.2, "tax": 64.24,
    }  # fmt: skip


def test_several_services() -> None:
    """b does twice the work of a on a core of its own."""
    services = {name: Service(slots=9, routes=[f"/{name}"], cpu_share=1) for name in "ab"}
    plans = dict.fromkeys(services, make_plan().only)
    trace = make_trace([0, 0], cpu=[720, 1440], route=["/a", "/b"], span_s=3600)
    costs = replay(trace, services, plans).costs
    assert _amounts(costs, "services") == {"a": 730.0, "b": 730.0}
    assert _amounts(costs, "routes") == {"/a": 146.0, "/b": 292.0, "idle": 1022.0}
    assert costs_section(costs).columns[-1].title == "of the attempts"


def test_the_command(hour_study: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    picture = tmp_path / "m.png"
    assert run(["replay", str(hour_study), "--plan", "brisk", "--money", str(picture)]) == 0
    out = capsys.readouterr().out
    assert picture.read_bytes().startswith(b"\x89PNG")
    assert "where the money goes" in out
    assert "ready, and idle" in out
    assert run(["replay", str(hour_study), "--plan", "brisk", "--json"]) == 0
    document = json.loads(capsys.readouterr().out)
    costs = document["costs"]
    for table in ("lines", "services", "routes", "hours", "kinds"):
        assert round(sum(one["amount"] for one in costs[table]), 2) == document["bill"]["month"]
    assert Decimal(str(costs["month"])) == Decimal(str(document["bill"]["month"]))
    assert run(["replay", str(hour_study), "--plan", "brisk", "--money", str(tmp_path / "m.txt")]) == 2
    capsys.readouterr()
    assert run(["compare", str(hour_study), "--json"]) == 0
    short = json.loads(capsys.readouterr().out)["plans"][0]["costs"]
    assert (short["routes"], short["hours"]) == ([], [])


def test_a_fleet_that_never_was_costs_what_stands() -> None:
    """No replica at the start, none ordered, and nobody holds requests: all are refused, and the balancer is paid."""
    tier = make_tier(balancer_per_hour="0.01", replicas={"least": 0, "most": 9})
    plan = make_plan(
        tier, replicas=0, scaling={"rule": "fixed", "timetable": [{"at": "00:00", "floor": 0, "ceiling": 9}]}
    )
    costs = _costs(make_trace([0, 1500], cpu=9, span_s=7200, start="2031-06-05"), plan)
    assert _amounts(costs, "kinds") == {"standing": 7.3}
