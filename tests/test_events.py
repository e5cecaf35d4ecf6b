"""What releases and faults cost, other ways of doing them, repeats with other seeds, and the demo that shows them."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from typer.testing import CliRunner

from builders import demo_in, make_plan, make_tier, make_trace
from libramen import Objectives, Outcome, ReplayError, Service, StudyError, compare, events, load_study, repeat, replay
from libramen.cli.app import app
from libramen.outcome.events import once_a_month
from libramen.outcome.figures import Figures
from libramen.questions.repeats import Spread
from libramen.report.events import sentence

if TYPE_CHECKING:
    from pathlib import Path

    from libramen.outcome.events import Event


@pytest.fixture(scope="module")
def landing(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return demo_in(tmp_path_factory.mktemp("demo") / "landing", "landing")


def _day(plan: dict[str, Any], *, every: float = 60.0, span_s: float = 86400.0, **tier: Any) -> Outcome:
    """A request a minute (or so) that waits 0.5 s, on one replica with a start of 300 s."""
    at = np.arange(0.0, span_s, every)
    trace = make_trace(at.tolist(), wait=0.5, span_s=span_s, start="2031-06-05T00:00:00", time_zone="Europe/Lisbon")
    service = Service(slots=9, start=300)
    return replay(trace, service, make_plan(make_tier(**tier), **plan), Objectives(availability="99%"))


def test_what_a_release_costs() -> None:
    """Five minutes without a replica: the requests of 12:00 to 12:04 are refused, and it lasts to 12:05. Once a month:
    5 of the 438 that 99 % of 43,800 requests allow. Beside it nothing is paid."""
    outcome = _day({"rollouts": [{"at": "12:00", "strategy": "stop_start"}]})
    (event,) = outcome.happened
    assert (event.kind, event.at_s, event.failed, event.lasts_s) == ("stop_start", 43200, 5, 300)
    assert event.budget_share == pytest.approx(5 / (0.01 * 1440 * 730 / 24))
    assert event.times_a_month == 1
    assert event.p95_s == {"before": 0.5, "during": None, "after": 0.5}
    assert (event.replica_hours, event.money) == (0, 0)
    assert sentence(outcome, event) == (
        "The stop_start release at 12:00 fails 5 requests; once a month: 1.1 % of the month's error budget."
    )
    frame = outcome.events
    assert frame["failed"].tolist() == [5]
    assert str(frame["time"][0]).startswith("2031-06-05 12:00")
    document = outcome.to_dict()["events"][0]
    assert document["p95_s"] == {"before": 0.5, "during": None, "after": 0.5}
    figures = outcome.figures(events=True)
    assert Figures.from_dict(json.loads(json.dumps(figures.to_dict()))).events == figures.events


def test_what_several_events_cost_is_told_apart() -> None:
    """Each against a replay without it: the release fails 5; the crash at 18:00 is found after 2 min, when the
    process has been starting as long, and is back after 5 min, so 5; a release every day of two costs 5 each."""
    crash = {"kind": "crash", "at": "18:00", "detect": "2min"}
    outcome = _day({"rollouts": [{"at": "12:00", "strategy": "stop_start"}], "faults": [crash]})
    assert [(event.kind, event.failed) for event in outcome.happened] == [("stop_start", 5), ("crash", 5)]
    daily = _day({"rollouts": [{"at": "12:00", "daily": True, "strategy": "stop_start"}]}, span_s=2 * 86400.0)
    assert [(event.at_s, event.failed, event.lasts_s) for event in daily.happened] == [
        (43200, 5, 300),
        (129600, 5, 300),
    ]


def test_random_faults_of_a_kind_are_one_event() -> None:
    """Without them nothing fails, so all that failed is theirs; the tier's own reclaims are one kind, too."""
    outcome = _day({"replicas": 1, "faults": [{"kind": "crash", "every_about": "2h"}]})
    (event,) = outcome.happened
    assert (event.kind, event.table) == ("crash", "at_random")
    assert event.strikes == len(outcome.run.only.faults) == len(outcome.run.only.deaths) > 3
    assert event.failed == 1440 - outcome.endings["ok"] > 0
    assert event.at_s == outcome.run.only.faults[0].at_s
    assert event.times_a_month == pytest.approx(event.strikes * 730 / 24)
    (once,) = once_a_month([event])
    assert (once.times_a_month, once.failed) == (1, event.failed)
    assert once.budget_share == pytest.approx((event.budget_share or 0) / (730 / 24))
    reclaimed = _day({"replicas": 1}, interruptible=True, reclaimed_every="2h", notice="1min")
    assert [event.kind for event in reclaimed.happened] == ["reclaim"]


def test_events_need_kept_requests_and_luck_of_their_own() -> None:
    plan = make_plan(faults=[{"kind": "crash", "at": 10}, {"kind": "crash", "every_about": 50}])
    trace = make_trace([float(k) for k in range(300)], wait=0.5, span_s=300)
    outcome = replay(trace, Service(slots=1, start=3), plan, keep_requests=False)
    assert {event.failed for event in outcome.happened} == {None}
    with pytest.raises(ReplayError, match="were not kept"):
        outcome.without()
    kept = replay(trace, Service(slots=1, start=3), plan)
    without = kept.without(("service", "faults", 0))
    assert 10.0 not in [death.at_s for death in without.run.only.deaths]
    # The random ones stay, on luck of their own: the first of them is the same as long as the process is.
    assert [fault for fault in without.run.only.faults if fault.at_random]


def test_once_a_month_and_other_ways(landing: Path) -> None:
    study = load_study(landing)
    found = events(study.replace(month={"events": "as_traced"}), "noon")
    (entry,) = found.entries
    ways = {way.name: way for way in entry.ways}
    assert list(ways) == ["as planned", "quietest 15min", "rolling in place", "stop_start", "switch", "canary"]
    assert entry.planned.failed == 0
    assert (ways["stop_start"].failed or 0) > 50
    budget = ways["stop_start"].events[0].budget_share
    once, again = (events(study, "noon", once=flag).entries[0].ways[3].events[0].budget_share for flag in (False, True))
    assert budget is not None
    assert once == again == pytest.approx(budget / 730)
    assert found.to_dict()["events"][0]["ways"][3]["failed"] == ways["stop_start"].failed
    assert len(found.plot().axes) == 15
    assert "stop_start" in found._repr_html_()
    with pytest.raises(ReplayError, match="allowed: the place of one of 1 events"):
        found.plot(1)


def test_a_way_that_cannot_be_done(landing: Path) -> None:
    study = load_study(landing)
    plan = study.plan("lone").replace(faults=[], rollouts=[{"at": "12:00", "strategy": "stop_start"}], name="one")
    ways = {way.name: way for way in events(study, plan).entries[0].ways}
    assert "allowed: up to 1" in ways["switch"].why_not
    assert ways["switch"].failed is None


def test_what_the_landing_shows(landing: Path) -> None:
    study = load_study(landing)
    compared = compare(study)
    available = {figures.plan: figures.availability or 0.0 for figures in compared.figures}
    assert available["one_zone"] < 0.7 < 0.995 < available["two_zones"] < available["three_zones"]
    assert available["bold"] < 0.9 < 0.999 < available["careful"]
    assert available["one_zone"] < available["lone"] < available["heavy"]
    assert compared.cheapest is not None
    assert compared.cheapest.plan == "drift"
    for plan, is_slower in (("careful", False), ("heavy", True)):
        (update,) = compared.outcome(plan).run.only.updates
        assert (update.result, update.slower is not None) == ("undone", is_slower)


def test_repeats(landing: Path) -> None:
    study = load_study(landing)
    names = ["one_zone", "two_zones", "three_zones"]
    found = repeat(study, 4, plans=names, seed=7)
    assert list(found.seeds) == [7, 8, 9, 10]
    one, two, three = found.plans
    assert not one.holds
    assert two.holds
    assert three.holds
    assert found.cheapest is two or found.cheapest is three
    assert one.missed() == {"availability": 4}
    assert found.table.loc["one_zone", "availability_mean"] == one.spread("availability").mean
    assert "does not hold" in found._repr_html_()
    # One seed is one replay, whatever the others and the number of workers.
    alone = compare(study, plans=["one_zone"], seed=9).figures[0]
    assert one.figures[2].availability == alone.availability
    again = repeat(study, 4, plans=names, seed=7, workers=2)
    assert again.to_dict() == found.to_dict()
    paired = found.difference(three, two, "availability")
    assert paired.mean == pytest.approx(
        (three.spread("availability").mean or 0) - (two.spread("availability").mean or 0)
    )
    with pytest.raises(ReplayError, match="repeats: found 0"):
        repeat(study, 0)


def test_spread() -> None:
    """Mean 3, deviation sqrt(2.5), half width 2.776 * sqrt(2.5 / 5) = 1.963."""
    spread = Spread.of([1, 2, 3, 4, 5, None])
    assert spread.mean == 3
    assert spread.deviation == pytest.approx(2.5**0.5)
    assert (spread.low, spread.high) == pytest.approx((3 - 1.9632, 3 + 1.9632), abs=1e-3)
    assert Spread.of([2.0]) == Spread(2.0, None, None, None, 1)
    assert Spread.of([None]).mean is None


def test_the_commands(landing: Path, tmp_path: Path) -> None:
    run = CliRunner().invoke
    shown = run(app, ["events", str(landing), "--plan", "careful", "--plot", str(tmp_path / "e.png")])
    assert shown.exit_code == 0
    assert "and was undone" in shown.stdout
    assert (tmp_path / "e.png").stat().st_size > 10_000
    document = json.loads(run(app, ["events", str(landing), "--plan", "drift", "--json"]).stdout)
    assert [event["kind"] for event in document["events"]] == ["reclaim", "reclaim"]
    shown = run(app, ["replay", str(landing), "--plan", "lone", "--repeats", "3"])
    assert "The crash at 12:00 fails" in shown.stdout
    assert "3 repeats, seeds 0 to 2" in shown.stdout
    compared = run(app, ["compare", str(landing), "--repeats", "2", "--json", "--strict"])
    assert json.loads(compared.stdout)["repeats"]["cheapest"] == "drift"
    none = run(app, ["events", str(landing), "--plan", "no"])
    assert none.exit_code != 0


@pytest.mark.parametrize(
    ("fault", "message"),
    [
        ({"kind": "crash"}, r"faults\[1\].*at \(when\) or every_about"),
        ({"kind": "crash", "at": 1, "every_about": 3}, "one of the two is needed"),
        ({"kind": "zone_loss", "at": 1}, r"faults\[1\]: zone is missing; allowed: east, west"),
        ({"kind": "zone_loss", "at": 1, "zone": "eastt"}, "did you mean 'east'"),
        ({"kind": "slow", "at": 1, "zone": "east", "replica": 1}, "one of the two, or neither"),
        ({"kind": "flood", "at": 1}, "kind: found 'flood'; allowed: 'crash', 'reclaim', 'zone_loss'"),
        ({"kind": "dependency", "at": 1, "errors": 1.5}, "errors: found 1.5"),
    ],
)
def test_mistakes_in_faults(fault: dict[str, Any], message: str) -> None:
    with pytest.raises(StudyError, match=message):
        make_plan(make_tier(zones=["east", "west"]), faults=[fault])


def test_visitors_who_had_to_move_are_reported_per_event() -> None:
    """Ten visitors on two replicas, a request each every 10 s. The crash of #1 at 45 moves those who were there."""
    at = [float(k) for k in range(300)]
    trace = make_trace(at, wait=3.0, span_s=300, visitor=[k % 10 for k in range(300)])
    crash = {"kind": "crash", "at": 45, "replica": 1}
    plan = make_plan(replicas=2, balancer="pinned", faults=[crash, {"kind": "slow", "at": 200, "lasts": 10}])
    outcome = replay(trace, Service(slots=9, start=20), plan)
    moved = {event.kind: event.moved for event in outcome.happened}
    there = int((outcome.requests["replica"][30:40] == 1).sum())  # each has come once in these ten seconds
    assert 0 < there < 10
    assert moved == {"crash": there, "slow": 0}
    assert f"{there} visitors had to move" in sentence(outcome, outcome.happened[0])


def _costs(found: tuple[Event, ...]) -> list[int | None]:
    return [event.failed for event in found]


def test_the_cost_of_an_event_of_several_services() -> None:
    """The database dies at 100 s and is back at 110: of the requests of the web, one a second, those of 100 to 109."""
    services = {
        "web": Service(slots=9, calls=[{"to": "database", "cpu": 0, "wait": 0.25}]),
        "database": Service(slots=9, start=10),
    }
    plans = {"web": make_plan(), "database": make_plan(faults=[{"kind": "crash", "at": 100}])}
    trace = make_trace([float(k) for k in range(300)], wait=0.5, span_s=300)
    outcome = replay(trace, services, plans)
    assert _costs(outcome.happened) == [10]
    assert outcome.happened[0].service == "database"
