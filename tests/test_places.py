"""Areas of users, regions of services, the edge and standbys: cases by hand, closed forms, and what is refused."""

from __future__ import annotations

import json
from itertools import product
from typing import TYPE_CHECKING, Any

import jsonschema
import numpy as np
import pytest

from builders import make_plan, make_tier, make_trace, plain_study
from libramen import (
    Hosting,
    Objectives,
    Outcome,
    Plan,
    Service,
    Study,
    Trace,
    compare,
    events,
    load_study,
    replay,
    search,
)
from libramen.base.errors import StudyError
from libramen.cli import run
from libramen.questions.bounds import LeastUse, Overload, Weighed, least_cost
from libramen.questions.causes import because
from libramen.questions.check import check
from libramen.questions.expected_load import loads_of
from libramen.questions.vary import sensible
from libramen.runs.cases import Case
from libramen.runs.store import Store
from libramen.study.edge import hits_of
from libramen.study.places import RoundTrips
from libramen.study.schema import schema_of_output
from libramen.study.system import System
from libramen.study.terms import Account, Terms
from libramen.study.written import plan_toml

if TYPE_CHECKING:
    from decimal import Decimal
    from pathlib import Path

TRIPS = {
    "north": {"east": 0.25, "west": 1.0},
    "south": {"east": 1.0, "west": 0.25},
    "east": {"west": 0.5},
}
ENDINGS = ("ok", "refused", "timed_out", "lost", "cut", "errored")


def placed(trace: Trace, service: Service | dict[str, Service], plan: Plan | dict[str, Any], **values: Any) -> Outcome:
    """Replay on both data planes, and see that every request ends alike and in one region."""
    values = {"round_trips": TRIPS} | values
    one, other = (replay(trace, service, plan, data_plane=plane, **values) for plane in ("compiled", "plain"))
    for name in ("ending", "server", "replica", "attempts"):
        np.testing.assert_array_equal(getattr(one.run.kept, name), getattr(other.run.kept, name))
    np.testing.assert_allclose(one.run.kept.latency_s, other.run.kept.latency_s, atol=1e-9)
    for mine, another in zip(one.run.services.values(), other.run.services.values(), strict=True):
        np.testing.assert_allclose(mine.integrals, another.integrals, atol=1e-8)
    return one


def came(outcome: Outcome) -> list[tuple[str, float, str]]:
    """How each request ended, after how long, and in which region."""
    frame = outcome.requests
    return list(zip(frame["ending"], frame["latency_s"].round(9), frame["region"], strict=True))


# -- where requests go, and how long they are on their way ----------------------------------------------


def test_the_nearest_region_has_a_request_and_its_round_trip_is_counted() -> None:
    trace = make_trace([0.0, 10.0], cpu=0.5, area=["north", "south"])
    service = Service(slots=1, exchanges=2)
    found = placed(trace, service, make_plan(make_tier(overhead=0.125), regions=["east", "west"]))
    # Half a second of work, the overhead, and two exchanges of a quarter each.
    assert came(found) == [("ok", 1.125, "east"), ("ok", 1.125, "west")]
    far = placed(trace, service, make_plan(regions=["east"]))
    assert came(far) == [("ok", 1.0, "east"), ("ok", 2.5, "east")]
    assert found.taken_in("north") == {"east": 1, "west": 0}


def test_the_way_counts_towards_the_time_out() -> None:
    trace = make_trace([0.0, 10.0], cpu=0.5, area=["north", "south"])
    found = placed(trace, Service(slots=1, timeout=1.25), make_plan(regions=["east"]))
    assert came(found) == [("ok", 0.75, "east"), ("timed_out", 1.25, "east")]


def test_one_that_would_be_refused_spills_to_the_next_region_at_once() -> None:
    trace = make_trace([0.0, 0.0, 0.0], cpu=1.0, area=["north"] * 3, span_s=60)
    service = Service(slots=1, backlog=0)
    alone = placed(trace, service, make_plan(regions=["east", "west"]))
    assert [ending for ending, _, _ in came(alone)] == ["ok", "refused", "refused"]
    found = placed(trace, service, make_plan(regions=["east", "west"], spill=True))
    # The second has the way to the west; the third is refused everywhere, and counts in the first.
    assert came(found) == [("ok", 1.25, "east"), ("ok", 2.0, "west"), ("refused", 0.0, "east")]
    assert [found.services[name].attempts for name in ("east", "west")] == [2, 1]


def test_a_call_goes_to_its_own_region_or_crosses() -> None:
    trace = make_trace([0.0, 10.0], cpu=0.5, area=["north", "south"], route=["/"] * 2)
    services = {
        "web": Service(slots=1, routes=["*"], calls=[{"to": "database", "cpu": 0.25, "times": 2}]),
        "database": Service(slots=1),
    }
    web = Hosting(tier=make_tier(), size="s", replicas=1, regions=["east", "west"])
    both = placed(trace, services, {"web": web, "database": web})
    assert came(both) == [("ok", 1.25, "east"), ("ok", 1.25, "west")]
    home = Hosting(tier=make_tier(), size="s", replicas=1, regions=["east"])
    one = placed(trace, services, {"web": web, "database": home})
    assert came(one) == [("ok", 1.25, "east"), ("ok", 2.25, "west")]  # each call takes half a second more
    where = {(one.service, one.part): one.mean_s for one in one.where.stretches}
    assert where["database", "overhead"] == pytest.approx(0.5)


def test_a_region_that_can_order_nothing_on_arrival_is_not_open_for_calls() -> None:
    trace = make_trace([0.0, 2.0], cpu=0.0, area=["south"] * 2, route=["/"] * 2, span_s=60)
    services = {
        "web": Service(slots=9, routes=["*"], calls=[{"to": "database", "cpu": 10}]),
        "database": Service(slots=1, start=1),
    }
    rule = {"rule": "on_arrival", "idle": 60, "floor": 1, "ceiling": 4}
    release = {"strategy": "stop_start", "at": 1}
    regions = {"west": {"rollouts": [release]}, "east": {}}
    asked = Hosting(tier=make_tier(), size="s", replicas=1, regions=regions, scaling=rule)
    web = Hosting(tier=make_tier(), size="s", replicas=1, regions=["west"])
    found = placed(trace, services, {"web": web, "database": asked})
    # In the west the release waits for the first to be done, and its rule stands still: the second crosses.
    assert [found.services[f"database in {name}"].attempts for name in ("west", "east")] == [1, 1]
    assert came(found) == [("ok", 10.25, "west"), ("ok", 10.75, "west")]


def test_visitors_are_pinned_within_a_region_and_counted_when_they_move() -> None:
    trace = make_trace([0.0, 1.0, 5.0, 20.0], cpu=0.25, area=["north"] * 4, visitor=["a"] * 4)
    loss = {"kind": "region_loss", "region": "east", "at": 4, "lasts": 2, "detect": 0}
    tier = make_tier(provision=1)
    plan = make_plan(tier, regions=["east", "west"], balancer="pinned", faults=[loss])
    found = placed(trace, Service(slots=1), plan)
    assert [region for _, _, region in came(found)] == ["east", "east", "west", "east"]
    assert found.services["east"].run.moved.sum() == 1
    assert found.services["west"].run.moved.sum() == 1


def test_answers_that_cross_and_copies_are_paid_for_where_they_come_from() -> None:
    trace = make_trace(
        np.arange(0.5, 3600.0).tolist(), area=["north", "south", "south"] * 1200, route=["/"] * 3600, span_s=3600
    )
    read = {"to": "database", "times": 2, "cpu": 0, "bytes": 1000}
    letter = {"to": "database", "cpu": 0, "bytes": 999, "wait_for_it": False}
    services = {"web": Service(slots=9, routes=["*"], calls=[read, letter]), "database": Service(slots=99)}
    tier = make_tier(
        between_regions_per_gb=2, free={"between_regions_gb": 0.1}, regions={"east": {}, "west": {"prices": 3}}
    )
    web = Hosting(tier=tier, size="s", replicas=1, regions=["east", "west"])
    elsewhere = {"region": "west", "copies_gb": 50}
    home = Hosting(tier=tier, size="s", replicas=1, regions=["east"], standby=elsewhere)
    for keep in (None, False):
        found = replay(trace, services, {"web": web, "database": home}, round_trips=TRIPS, keep_requests=keep)
        lines = {line.tier: line for line in found.bill.lines if line.key == "between_regions_per_gb"}
        # Two thirds ask from the west, twice each; letters are answered to nobody.
        assert float(lines["tier east"].quantity) == pytest.approx(2400 * 2 * 1000 * 730 / 1e9 - 0.1)
        assert lines["tier east"].unit_price == 2
        assert float(lines["tier west"].quantity) == pytest.approx(50 - 0.1)
        assert lines["tier west"].unit_price == 6


# -- a region is lost ----------------------------------------------------------------------------------


def test_a_lost_region_is_found_closed_and_open_again_when_it_is_whole() -> None:
    trace = make_trace([0.0, 10.0, 11.5, 12.0, 20.0, 24.9, 25.0], cpu=1.0, area=["north"] * 7)
    loss = {"kind": "region_loss", "region": "east", "at": 10.5, "lasts": 9.5, "detect": 1.5}
    plan = make_plan(make_tier(provision=4), regions=["east", "west"], replicas=2, faults=[loss])
    found = placed(trace, Service(slots=1, start=1), plan)
    assert came(found) == [
        ("ok", 1.25, "east"),
        ("lost", 0.5, "east"),  # in work when it was lost
        ("lost", 0.0, "east"),  # sent there before that was known
        ("ok", 2.0, "west"),  # at the very instant at which it is known
        ("ok", 2.0, "west"),
        ("ok", 2.0, "west"),
        ("ok", 1.25, "east"),  # two machines ordered at 20 are ready at 25
    ]


def test_where_nothing_comes_back_clients_wait_for_their_time_out_or_for_the_news() -> None:
    trace = make_trace([1.0], area=["north"])
    loss = {"kind": "region_loss", "region": "east", "at": 0, "detect": 5, "answers": "none"}
    plan = make_plan(regions=["east", "west"], faults=[loss])
    assert came(placed(trace, Service(slots=1), plan)) == [("lost", 4.0, "east")]
    assert came(placed(trace, Service(slots=1, timeout=2), plan)) == [("timed_out", 2.0, "east")]
    again = placed(trace, Service(slots=1, timeout=2, retries=2, retry_after=1), plan)
    assert came(again) == [
        ("ok", 8.0, "west")
    ]  # given up at 3 and 6, again at 4 and (twice the pause) 8, a second's way


def test_a_visitor_sees_a_loss_when_he_looks() -> None:
    at = np.arange(0.0, 60.0, 0.5)
    trace = make_trace(at.tolist(), area=["north"] * len(at), visitor=["a"] * len(at))
    loss = {"kind": "region_loss", "region": "east", "at": 10, "detect": 5}
    at_once = placed(trace, Service(slots=1), make_plan(regions=["east", "west"], faults=[loss]))
    late = placed(trace, Service(slots=1), make_plan(regions=["east", "west"], reroute=20, faults=[loss]))
    first = [int(np.argmax([region == "west" for _, _, region in came(one)])) for one in (at_once, late)]
    assert at[first[0]] == 15.0
    assert 15.0 < at[first[1]] <= 35.0
    lost = [sum(ending == "lost" for ending, _, _ in came(one)) for one in (at_once, late)]
    assert lost == [10, int(2 * (at[first[1]] - 10))]


def test_a_queue_outlives_the_region_and_what_was_in_work_does_not() -> None:
    trace = make_trace([0.0, 0.0, 0.0], cpu=0.0, area=["north"] * 3, route=["/"] * 3, span_s=60)
    letters = {"to": "letters", "cpu": 4, "wait_for_it": False}
    services = {"web": Service(slots=9, routes=["*"], calls=[letters]), "letters": Service(slots=1)}
    loss = {"kind": "region_loss", "region": "east", "at": 6, "lasts": 4, "detect": 1}
    web = Hosting(tier=make_tier(), size="s", replicas=1, regions=["east"])
    queue = Hosting(tier=make_tier(), size="s", replicas=1, regions=["east"], balancer="shared_queue", faults=[loss])
    found = placed(trace, services, {"web": web, "letters": queue})
    # One is done at 4; the second is in work at 6 and lost; the third waits until the region is whole, at 10.
    assert found.services["letters"].endings == dict.fromkeys(ENDINGS, 0) | {"ok": 2, "lost": 1}
    assert found.services["letters"].latency_s["max"] == pytest.approx(14.0, rel=0.005)


def test_releases_go_from_region_to_region_and_stop_where_one_is_undone() -> None:
    trace = make_trace(np.arange(0, 200, 0.5).tolist(), cpu=0.01, area=["north", "south"] * 200)
    release = {"strategy": "rolling", "at": 10, "regions": ["west", "east"], "pause": 30}
    plan = make_plan(make_tier(provision=4), regions=["east", "west"], replicas=2, rollouts=[release])
    found = placed(trace, Service(slots=4, start=1), plan)
    west, east = (found.services[name].run.updates[0] for name in ("west", "east"))
    assert west.began_s == 10
    assert west.ended_s is not None
    assert east.began_s == west.ended_s + 30
    judged = {"error_rate": 1.0, "rollback_above": 0.1, "judge_least": 2, "watch": 20}
    bad = placed(trace, Service(slots=4, start=1), plan.replace(rollouts=[release | judged]))
    assert [one.result for one in bad.services["west"].run.updates] == ["undone"]
    assert bad.services["east"].run.updates == []


# -- standbys ------------------------------------------------------------------------------------------


def stages(outcome: Outcome, service: str = "service") -> list[list[tuple[float, str]]]:
    return [replica.stages[1:] for replica in outcome.run.services[service].replicas]


def test_a_standby_is_promoted_and_who_comes_back_stands_by() -> None:
    trace = make_trace([0.0, 9.5, 11.0, 14.0, 16.0, 40.0], cpu=1.0, span_s=50.0)
    crash = {"kind": "crash", "at": 10, "detect": 2}
    plan = make_plan(make_tier(), standby=1, promote=3, faults=[crash])
    found = replay(trace, Service(slots=1, start=20), plan)
    assert found.endings == dict.fromkeys(ENDINGS, 0) | {"ok": 3, "lost": 2, "refused": 1}
    assert stages(found) == [
        [(0.0, "ready"), (12.0, "coming"), (30.0, "standby")],
        [(0.0, "standby"), (15.0, "ready")],
    ]
    assert found.bill.month == 2 * 730  # paid all the time
    assert found.replicas_max == 1
    told = next(finding for finding in found.findings if finding.kind == "standby")
    assert told.replicas == 1
    assert told.figures["none_s"] == pytest.approx(3.0)
    assert told.figures["money"] == pytest.approx(730)  # one of two


def test_the_primary_dies_while_its_release_is_under_way() -> None:
    trace = make_trace([0.0], cpu=0.0, span_s=100.0)
    release = {"strategy": "handover", "at": 10}
    plan = make_plan(standby=1, promote=3, rollouts=[release], faults=[{"kind": "crash", "at": 15, "replica": 1}])
    found = replay(trace, Service(slots=1, start=20), plan)
    # The standby is renewed from 10 to 30 on its machine. The primary dies at 15, and nobody can be promoted before 30.
    assert stages(found) == [
        [(0.0, "ready"), (15.0, "coming"), (30.0, "gone")],
        [(0.0, "standby"), (10.0, "gone")],
        [(30.0, "standby"), (33.0, "ready")],
        [(50.0, "standby")],
    ] or stages(found)[2] == [(30.0, "standby"), (33.0, "ready")]
    assert all(replica.version == 2 for replica in found.run.only.replicas if replica.stage != "gone")
    assert found.run.only.updates[0].result == "done"


def test_a_handover_has_one_that_serves_at_a_time() -> None:
    trace = make_trace(np.arange(0.0, 100.0, 0.25).tolist(), cpu=0.01)
    plan = make_plan(standby=1, promote=3, rollouts=[{"strategy": "handover", "at": 10}])
    found = replay(trace, Service(slots=1, start=20, drain=5), plan)
    assert list(stages(found)[2]) == [(30.0, "standby"), (33.0, "ready")]
    assert found.endings["refused"] == 12  # three seconds
    serving = [replica.times("ready") for replica in found.run.only.replicas]
    assert sum(len(times) for times in serving) == 2


def test_a_home_moves_to_its_standby_and_stays_there() -> None:
    trace = make_trace(np.arange(0.5, 100.0).tolist(), area=["south"] * 100, route=["/"] * 100)
    services = {
        "web": Service(slots=9, routes=["*"], calls=[{"to": "database", "cpu": 0}]),
        "database": Service(slots=9),
    }
    web = Hosting(tier=make_tier(), size="s", replicas=1, regions=["east", "west"])
    loss = {"kind": "region_loss", "region": "east", "at": 30, "lasts": 20, "detect": 10}
    home = Hosting(
        tier=make_tier(),
        size="s",
        replicas=1,
        regions=["east"],
        faults=[loss],
        standby={"region": "west", "promote": 5},
    )
    found = placed(trace, services, {"web": web, "database": home})
    latency = found.run.kept.latency_s
    assert latency[29] == pytest.approx(0.75)  # to the east and back, once
    assert (found.run.kept.ending[30:45] != 0).all()  # lost, then nobody serves until the standby is promoted
    assert (found.run.kept.ending[45:] == 0).all()
    assert latency[-1] == pytest.approx(0.25)  # the home is in the west for good
    assert found.services["database in west"].bill.month == 730


# -- the edge ------------------------------------------------------------------------------------------


def test_hits_meet_no_fleet_and_have_luck_of_their_own() -> None:
    rng = np.random.default_rng(5)
    trace = make_trace(
        np.sort(rng.uniform(0, 4000, 20_000)).tolist(), cpu=0.01, route=["/a", "/b"] * 10_000,
        bytes_out=np.full(20_000, 1000.0), area=["north"] * 20_000,
    )  # fmt: skip
    edge = {"hit": {"/a": 0.6}, "time": 0.002, "miss_time": 0.25, "per_gb": 2, "per_million_requests": 3}
    plan = make_plan(regions=["east"], edge=edge)
    found = placed(trace.part(slice(0, 500)), Service(slots=4), plan)
    hits = found.run.kept.server == 0xFFFF
    np.testing.assert_array_equal(hits, hits_of(0, 0, np.where(trace.route_codes[:500] == 0, 0.6, 0.0)))
    np.testing.assert_array_equal(hits[123:], hits_of(0, 123, np.where(trace.route_codes[123:500] == 0, 0.6, 0.0)))
    assert found.run.kept.latency_s[hits] == pytest.approx(0.002)
    assert found.run.kept.latency_s[~hits].min() == pytest.approx(0.51)  # 0.01 of work, the way, and the miss
    whole = replay(trace, Service(slots=4), plan, round_trips=TRIPS)
    served = whole.services["service"].n_requests
    # A hit share h leaves 1 - h of the load, within three standard deviations of a binomial.
    assert served == pytest.approx(20_000 - 6_000, abs=3 * np.sqrt(10_000 * 0.6 * 0.4))
    lines = {(line.service or line.tier, line.item): line for line in whole.bill.lines}
    month = 730 * 3600 / trace.span_s
    assert float(lines["edge", "requests"].quantity) == pytest.approx(20_000 * month / 1e6, rel=1e-6)
    assert float(lines["edge", "egress"].quantity) == pytest.approx(20_000 * 1000 * month / 1e9, rel=1e-6)
    counted = replay(trace, Service(slots=4), plan, round_trips=TRIPS, keep_requests=False)
    assert counted.endings == whole.endings
    assert counted.bill == whole.bill
    assert counted.latency_s["p95"] == pytest.approx(whole.latency_s["p95"], rel=0.005)


def test_an_edge_answers_while_nothing_works() -> None:
    trace = make_trace(np.arange(0.5, 100.0).tolist(), area=["north"] * 100)
    loss = {"kind": "region_loss", "region": "east", "at": 0}
    found = placed(trace, Service(slots=1), make_plan(regions=["east"], faults=[loss], edge={"hit": 1.0}))
    assert found.availability == 1
    told = next(finding for finding in found.findings if finding.kind == "edge")
    assert told.figures["none_ready"] == pytest.approx(100, abs=60)
    assert "copies grow old" in told.text


# -- closed forms --------------------------------------------------------------------------------------


def test_two_regions_without_queues_are_a_mixture_of_shifted_latencies() -> None:
    rng = np.random.default_rng(11)
    n = 4000
    area = np.where(rng.random(n) < 0.7, "north", "south")
    work = rng.exponential(0.05, n)
    trace = Trace.from_arrays(at_s=np.arange(n) * 10.0, cpu_s=work, area=area)
    for regions, far in ((["east"], {"north": 0.25, "south": 1.0}), (["east", "west"], {"north": 0.25, "south": 0.25})):
        found = replay(trace, Service(slots=1), make_plan(regions=regions), round_trips=TRIPS)
        expected = np.sort(work + np.array([far[name] for name in area]))
        for name, share in (("p50", 0.5), ("p95", 0.95)):
            assert found.latency_s[name] == pytest.approx(expected[int(np.ceil(share * n)) - 1])
        south = np.sort((work + far["south"])[area == "south"])
        p95 = found.areas.set_index("area").loc["south", "p95_s"]
        assert p95 == pytest.approx(south[int(np.ceil(0.95 * len(south))) - 1])


def test_availability_with_one_region_lost_for_a_known_time() -> None:
    trace = make_trace((np.arange(36_000) / 10).tolist(), area=["north", "south"] * 18_000)
    loss = {"kind": "region_loss", "region": "east", "at": 600, "lasts": 900, "detect": 60}
    plan = make_plan(regions=["east", "west"], faults=[loss])
    found = replay(trace, Service(slots=1), plan, round_trips=TRIPS)
    # Half of the users for a minute, until it is known: the others, and they afterwards, are in the west.
    assert found.endings["lost"] == 300
    assert found.availability == pytest.approx(1 - 300 / 36_000)
    only = replay(trace, Service(slots=1), plan.replace(regions=["east"]), round_trips=TRIPS)
    assert 1 - only.availability == pytest.approx(900 / 3600, abs=1e-3)  # all of them, as long as it lasts


# -- whole studies -------------------------------------------------------------------------------------


@pytest.fixture
def study(tmp_path: Path) -> Path:
    """Two areas, two regions, a plan in one and a plan in both."""
    rng = np.random.default_rng(2)
    n = 1200
    at, cpu = np.sort(rng.uniform(0, 3600, n)), rng.exponential(0.2, n)
    area = np.where(rng.random(n) < 0.6, "north", "south")
    rows = [f"{a:.3f},{c:.4f},{place},1000" for a, c, place in zip(at, cpu, area, strict=True)]
    (tmp_path / "t.csv").write_text("at_s,cpu_s,area,bytes_out\n" + "\n".join(rows) + "\n")
    plans = {
        "one": {"regions": ["east"], "replicas": 2},
        "two": {"regions": {"east": {"replicas": 2}, "west": {}}, "spill": True},
        "near": {"regions": ["east"], "edge": {"hit": "40%", "time": "20ms", "per_gb": 0.1}},
    }
    trips = {"north": {"east": "20ms", "west": "300ms"}, "south": {"east": "310ms", "west": "25ms"}}
    return plain_study(
        tmp_path, {"files": "t.csv"}, plans,
        tier={"regions": {"east": {}, "west": {"prices": 1.5}}, "egress_per_gb": 0.1},
        service={"slots": 2}, round_trips=trips | {"east": {"west": "280ms"}},
        objectives={"p95": "900ms", "areas": {"south": {"p50": "300ms"}}},
    )  # fmt: skip


def test_regions_have_their_prices_and_their_tables(study: Path) -> None:
    found = load_study(study).replay("two")
    bills = {name: one.bill.month for name, one in found.services.items()}
    east = next(line for line in found.services["east"].bill.lines if line.key == "per_hour")
    west = next(line for line in found.services["west"].bill.lines if line.key == "per_hour")
    assert (east.unit_price, west.unit_price) == (1, 1.5)
    assert sum(bills.values()) == found.bill.month
    figures = found.figures()
    assert figures.regions == {"east": "east", "west": "west"}
    assert [area.route for area in figures.areas] == ["north", "south"]
    assert sum(area.n_requests for area in figures.areas) == 1200
    assert type(figures).from_dict(json.loads(json.dumps(figures.to_dict()))).areas == figures.areas


def test_all_that_a_region_costs_is_dearer_there() -> None:
    """Steps, fees and their limits too, each line twice; shares, allowances and quantities stay as they are."""
    keys: dict[str, Any] = {
        "egress_per_gb": [{"up_to": 1, "price": 2}, {"price": 1}], "balancer_per_hour": "0.1", "fixed_per_month": 3,
        "free": {"egress_gb": 0.5}, "regions": {"east": {}, "west": {"prices": 2}},
        "fees": [
            {"name": "logs", "per_gb": 3, "bytes_per_request": 1e8}, {"name": "disk", "once": 12, "over": 12},
            {"name": "support", "share": "10%"}, {"name": "care", "share": "1%", "least": 50, "most": 60},
        ],
    }  # fmt: skip
    trace = make_trace([0.0, 1.0], wait=0.5, bytes_out=[3e6] * 2, area=["north"] * 2, span_s=3600)
    east, west = (
        replay(trace, Service(slots=1), make_plan(make_tier(**keys), regions=[name]), round_trips=TRIPS).bill.lines
        for name in ("east", "west")
    )
    assert [line.quantity for line in east if line.unit != "EUR"] == [
        line.quantity for line in west if line.unit != "EUR"
    ]
    assert [2 * line.amount for line in east] == [line.amount for line in west]
    assert len({line.item for line in east}) == 9


def test_areas_are_drawn_for_visitors_where_the_log_has_none(study: Path) -> None:
    """A visitor stays where he is; a request of nobody is drawn by itself."""
    rows = [f"{k},0.01,{k % 300 if k % 2 else ''}" for k in range(3600)]
    (study.parent / "t.csv").write_text("at_s,cpu_s,visitor\n" + "\n".join(rows) + "\n")
    text = study.read_text().replace('files = "t.csv"', 'files = "t.csv"\nareas = { north = "25%", south = "75%" }')
    study.write_text(text)
    trace = load_study(study).trace()
    assert trace.areas == ("north", "south")
    assert trace.area is not None
    assert trace.visitor is not None
    assert np.mean(trace.area == 0) == pytest.approx(0.25, abs=0.05)
    pairs = set(zip(trace.visitor[trace.visitor >= 0].tolist(), trace.area[trace.visitor >= 0].tolist(), strict=True))
    assert len(pairs) == 150
    assert {0, 1} == set(trace.area[trace.visitor < 0].tolist())
    study.write_text(text.replace("75%", "70%"))
    with pytest.raises(StudyError, match="areas"):
        load_study(study)


def test_an_area_is_judged_kept_counted_and_stored_alike(study: Path) -> None:
    loaded = load_study(study)
    kept = loaded.replay("one")
    counted = loaded.replay("one", keep_requests=False)
    for one, other in zip(kept.objectives, counted.objectives, strict=True):
        assert (one.name, one.met, one.within) == (other.name, other.met, other.within)
    south = next(goal for goal in kept.objectives if goal.name == "areas.south.p50")
    mine = kept.requests[kept.requests["area"] == "south"]
    assert south.within == pytest.approx(float((mine["latency_s"] <= 0.3).mean()))
    with Store(study.parent / "figures.sqlite") as store:
        first, again = (compare(loaded, store=store) for _ in range(2))
        assert [one.to_dict() for one in first.figures] == [one.to_dict() for one in again.figures]
        study.write_text(study.read_text().replace("310ms", "110ms"))  # another question: the store must not answer it
        nearer = compare(load_study(study), store=store)
    assert nearer.figures[0].areas[1].latency_s["p50"] < first.figures[0].areas[1].latency_s["p50"] - 0.15


def test_check_says_which_area_is_too_far_whatever_is_bought(study: Path) -> None:
    found = {one.hosting.plan: [problem.text for problem in one.problems] for one in check(load_study(study)).plans}
    assert any(text.startswith("south is 310 ms away: p50 of 300 ms cannot be met from east") for text in found["one"])
    assert not any("south" in text for text in found["two"])


def test_what_is_drawn_is_not_sure() -> None:
    """A second of work in two calls, of which one is drawn, one is sure, one is made half of the time, and one is cut."""
    trace = make_trace([0.0, 1.0], cpu=0.25, wait=0.5, route=["/"] * 2, area=["north"] * 2)
    drawn = {"p50": 0.5, "p95": 2}
    calls = [
        {"to": "a", "cpu": drawn, "wait": 0.125},
        {"to": "a", "cpu": 0.5, "times": 2},
        {"to": "a", "cpu": 9, "share": 0.5},
        {"to": "a", "cpu": 9, "timeout": 1, "if_it_fails": "go_on"},
        {"to": "a", "cpu": 9, "wait_for_it": False},
        {"to": "a", "cpu": 2, "at_once": True},
        {"to": "a", "cpu": 3, "at_once": True},
    ]
    services = {"web": Service(slots=1, routes=["*"], calls=calls), "a": Service(slots=9)}
    west = Hosting(tier=make_tier(overhead=0.25), size="s", replicas=1, regions=["west"])
    plan = Plan(services={"web": west, "a": west})
    loads = loads_of(trace, System.of(services, plan, RoundTrips(TRIPS)))
    # Own work and wait; each call's overhead beside its work; the longer of those at once.
    assert loads.least_s.tolist() == pytest.approx([0.75 + (0.125 + 0.25) + 2 * 0.75 + 1 + 3.25] * 2)
    assert (loads.alone_s > loads.least_s + 4.5).all()
    assert loads.way_s.tolist() == [1.0, 1.0]


def cheapest(study: Study, plans: list[Plan]) -> Decimal | None:
    """The least bill of plans that meet every objective, each replayed to its end."""
    every = (study.replay(plan).figures(routes=False) for plan in plans)
    return min((one.bill.month for one in every if one.meets_all), default=None)


def test_check_warns_of_a_handover_that_may_wait_for_ever(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("at_s,cpu_s\n0,0.1\n60,0.1\n")
    plan = {"replicas": 1, "standby": 1, "rollouts": [{"strategy": "handover", "at": "30s"}]}
    for drain, kinds in (({}, ["handover_waits"]), ({"drain": "5s"}, [])):
        path = plain_study(tmp_path, {"files": "t.csv"}, {"p": plan}, service={"slots": 1} | drain)
        (found,) = check(load_study(path)).plans
        assert [problem.kind for problem in found.problems if problem.kind != "update_gap"] == kinds


def test_a_search_over_regions_finds_what_brute_force_finds(study: Path) -> None:
    loaded = load_study(study)
    two = loaded.plans["two"]
    ranges = {"plan.regions": ["east", "west", "east+west"], "replicas": [1, 2]}
    found = search(loaded, "two", vary=ranges).cheapest
    changed = [
        two.replace(regions={name: {} for name in regions.split("+")}, replicas=n)
        for regions, n in product(*ranges.values())
    ]
    assert found is not None
    assert found.bill.month == cheapest(loaded, changed)


def test_a_search_over_spills_finds_what_brute_force_finds(study: Path) -> None:
    loaded = load_study(study)
    loss = {"kind": "crash", "at": "20m", "replica": 1, "detect": "5m"}
    two = loaded.plans["two"].replace(faults=[loss])
    ranges = {"spill": [False, True], "replicas": [1, 2, 3], "plan.regions.west.replicas": [1, 2]}
    found = search(loaded, two.replace(regions={"east": {}, "west": {"replicas": 1}}), vary=ranges).cheapest
    changed = [
        two.replace(spill=spill, replicas=n, regions={"east": {}, "west": {"replicas": m}})
        for spill, n, m in product(*ranges.values())
    ]
    assert found is not None
    assert found.bill.month == cheapest(loaded, changed)


def test_a_search_over_the_edge_finds_what_brute_force_finds(study: Path) -> None:
    loaded = load_study(study)
    near = loaded.plans["near"].replace(regions=["west"])
    ranges = {"plan.edge.hit": [0.0, 0.5, 0.9], "replicas": [1, 2, 3]}
    found = search(loaded, near, vary=ranges).cheapest
    edge = near.edge
    assert edge is not None
    changed = [near.replace(edge=edge.replace(hit=hit), replicas=n) for hit, n in product(*ranges.values())]
    assert found is not None
    assert found.bill.month == cheapest(loaded, changed)


def test_rows_of_costs_say_the_region(study: Path) -> None:
    outcome = load_study(study).replay("two")
    rows = outcome.cost_rows("s", "2031-06")
    told = {
        (row["RegionId"], row["RegionName"], row["ResourceId"], row["SkuId"], row["SkuPriceId"], row["SubAccountId"])
        for row in rows
        if row["ChargeDescription"] == "replicas of size s"
    }
    assert told == {
        ("east", "east", "two/east", "t/s", "t/s/east/per_hour", "service"),
        ("west", "west", "two/west", "t/s", "t/s/west/per_hour", "service"),
    }
    assert sum(row["BilledCost"] for row in rows) == outcome.bill.month
    edge = load_study(study).replay("near").cost_rows("s", "2031-06")
    assert {row["RegionId"] for row in edge if row["ServiceName"] == "edge"} == {None}


@pytest.mark.parametrize("asked", ["compare", "replay --plan two", "check", "events --plan two"])
def test_json_of_places_is_as_its_schema_says(asked: str, study: Path, capsys: pytest.CaptureFixture[str]) -> None:
    kind, *more = asked.split()
    assert run([kind, str(study), *more, "--json"]) in {0, 1}
    schema, document = schema_of_output(kind), json.loads(capsys.readouterr().out)
    jsonschema.validate(document, schema)
    named = {"compare": "areas", "replay": "areas", "events": "regions"}.get(kind, "plans")
    assert f'"{named}"' in json.dumps(schema)
    assert f'"{named}"' in json.dumps(document)


def test_a_page_shows_what_each_area_got(study: Path) -> None:
    page = study.parent / "page.md"
    assert run(["report", str(study), "--plan", "two", "--out", str(page)]) == 0
    assert "What each area gets, and where its requests went" in page.read_text()
    assert run(["report", str(plain_study(study.parent / "other.toml", {"files": "t.csv"})), "--out", str(page)]) == 0
    assert "What each area gets" in page.read_text()  # they are somewhere, wherever that is
    (study.parent / "u.csv").write_text("at_s,cpu_s\n0,0.1\n3600,0.1\n")
    assert run(["report", str(plain_study(study.parent / "other.toml", {"files": "u.csv"})), "--out", str(page)]) == 0
    assert "What each area gets" not in page.read_text()


def test_a_notebook_shows_what_each_area_got(study: Path) -> None:
    loaded = load_study(study)
    assert ">area</th>" in loaded.replay("two")._repr_html_()


def test_a_plan_that_is_saved_keeps_its_edge(study: Path) -> None:
    loaded = load_study(study)
    study.write_text(study.read_text() + plan_toml(loaded.plans["near"], "again", loaded.tiers))
    again = load_study(study).plans["again"]
    assert again.edge == loaded.plans["near"].edge
    assert again.only.regions == loaded.plans["near"].only.regions


def test_the_least_that_a_plan_costs_knows_of_regions_that_are_lost() -> None:
    """Replicas that are lost are not paid for, whichever service's faults the loss stands among."""
    trace = make_trace([0.0, 10.0], area=["north"] * 2, route=["/"] * 2, span_s=7200)
    services = {
        "web": Service(slots=1, routes=["*"], calls=[{"to": "database", "cpu": 0}]),
        "database": Service(slots=1),
    }
    loss = {"kind": "region_loss", "region": "east", "at": 60}
    here = Hosting(tier=make_tier(billing="per_second"), size="s", replicas=2, regions=["east"])
    plan = Plan(services={"web": here.replace(faults=[loss]), "database": here})
    terms = Terms(month={"events": "as_traced"})
    case = Case(System.of(services, plan, RoundTrips(TRIPS)), Objectives(), terms=terms)
    paid = replay(trace, services, plan, round_trips=TRIPS, terms=terms).bill.month
    assert paid < 730
    assert least_cost(case) <= paid
    stands_by = make_plan(regions=["east"], standby=1)
    case = Case(System.of({"service": Service(slots=1)}, stands_by, RoundTrips(TRIPS)), Objectives())
    assert 2 * 730 - 0.01 <= least_cost(case) <= 2 * 730


def test_a_standby_is_in_the_least_of_a_check(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("at_s,cpu_s\n0,0.1\n3600,0.1\n")
    plans = {"alone": {"replicas": 1}, "backed": {"replicas": 1, "standby": 1}}
    path = plain_study(tmp_path, {"files": "t.csv"}, plans, service={"slots": 1})
    alone, backed = (float(found.least_month) for found in check(load_study(path)).plans)
    assert backed == pytest.approx(2 * alone)


def test_what_an_edge_answers_is_no_work_of_the_fleets(study: Path) -> None:
    loaded = load_study(study)
    near = loaded.plans["near"]
    assert near.edge is not None
    system = System.of(loaded.services, near.replace(edge=near.edge.replace(hit=1.0)), loaded.round_trips)
    loads = loads_of(loaded.trace(), system)
    assert loads.of[0].visits.sum() == loads.of[0].cpu_s.sum() == 0
    np.testing.assert_allclose(loads.way_s, 0.02)


def test_nothing_is_sure_of_a_fleet_whose_requests_others_may_get() -> None:
    """All come from the south, so the region that is written first has none of them; an edge may answer all."""
    trace = make_trace(np.arange(600.0).tolist(), cpu=5.0, area=["south"] * 600, span_s=600)
    tier = make_tier(billing="per_request", per_million_requests=900, sizes={"s": {"cores": 1}})
    for values in ({"regions": ["east", "west"]}, {"regions": ["east"], "edge": {"hit": 1.0}}):
        system = System.of(Service(slots=4), make_plan(tier, **values), RoundTrips(TRIPS))
        case = Case(system, Objectives(availability="100%", p95="9s"))
        assert LeastUse(Weighed(trace)).of(case) == {}
        assert not Overload(Weighed(trace)).rules_out(case)
    for values in ({}, {"regions": ["east"]}):
        alone = System.of(Service(slots=4), make_plan(tier, **values), RoundTrips(TRIPS))
        case = Case(alone, Objectives(availability="100%", p95="9s"))
        assert LeastUse(Weighed(trace)).of(case)
        assert Overload(Weighed(trace)).rules_out(case)


def test_who_hears_of_a_loss_does_not_wait_for_the_same_news_again() -> None:
    trace = make_trace([1.0, 2.0], area=["south"] * 2, route=["/"] * 2, span_s=60)
    ask = {"to": "database", "pool": 1, "cpu": 0, "if_it_fails": "go_on"}
    services = {"web": Service(slots=9, routes=["*"], calls=[ask]), "database": Service(slots=9)}
    loss = {"kind": "region_loss", "region": "east", "at": 0, "detect": 5, "answers": "none"}
    web = Hosting(tier=make_tier(), size="s", replicas=1, regions=["west"])
    home = Hosting(tier=make_tier(holds_requests=True), size="s", replicas=1, regions=["east"], faults=[loss])
    found = placed(trace, services, {"web": web, "database": home})
    # The first call hears at 5 that all is lost; the second has its connection then, and knows it at once.
    assert came(found) == [("ok", 4.25, "west"), ("ok", 3.25, "west")]


def test_what_is_held_in_a_closed_region_is_not_overtaken() -> None:
    loss = {"kind": "region_loss", "region": "east", "at": 10, "lasts": 1, "detect": 0}
    tier, slow = make_tier(provision=2, holds_requests=True), make_tier(provision=12)
    web = Hosting(tier=tier, size="s", replicas=1, regions=["east", "west"], reroute=1000, faults=[loss])
    plan = {"web": web, "other": Hosting(tier=slow, size="s", replicas=1, regions=["east"])}
    services = {"web": Service(slots=1, routes=["/"]), "other": Service(slots=1, routes=["/other"])}
    # Who came at 5 looks again after the trace is over, and so sends to the east while it is closed.
    trace = make_trace([5.0, 12.0, 14.0], cpu=1.0, visitor=[0] * 3, area=["north"] * 3, route=["/"] * 3, span_s=50)
    found = placed(trace, services, plan)
    # Its replica is ready at 13, that of the other service at 23: then the region is open.
    assert [stages(found, f"{name} in east" if name == "web" else name)[1] for name in plan] == [
        [(13.0, "ready")],
        [(23.0, "ready")],
    ]
    assert came(found) == [("ok", 1.25, "east"), ("ok", 12.25, "east"), ("ok", 11.25, "east")]


def test_a_region_opens_again_that_was_lost_with_the_spare_replica_of_a_release() -> None:
    loss = {"kind": "region_loss", "region": "east", "at": 20, "lasts": 10, "detect": 2}
    rolling = {"strategy": "rolling", "spare": 1, "keep": 2, "at": 10, "start": 10}
    plan = make_plan(replicas=2, regions=["east"], rollouts=[rolling], faults=[loss])
    trace = make_trace([19.0, 35.0, 45.0], cpu=0.5, area=["north"] * 3, span_s=60)
    found = placed(trace, Service(slots=1), plan)
    # Three work when it is lost at 20; two are wanted, and work from 40 on.
    assert [ending for ending, *_ in came(found)] == ["ok", "refused", "ok"]
    assert found.run.only.updates[0].result == "done"


def test_a_release_counts_a_lost_replica_once_that_is_replaced_before_it_is_found() -> None:
    loss = {"kind": "region_loss", "region": "east", "at": 10, "lasts": 2, "detect": 20}
    for strategy in ("switch", "rolling", "stop_start"):
        release = {"strategy": strategy, "at": 15}
        plan = make_plan(regions=["east"], faults=[loss], rollouts=[release])
        found = placed(make_trace([1.0, 55.0], cpu=0.5, area=["north"] * 2, span_s=60), Service(slots=1, start=5), plan)
        assert [update.replicas for update in found.run.only.updates] == [1]
        assert [one.gone_s for one in found.run.only.replicas].count(None) == 1
        assert [ending for ending, *_ in came(found)] == ["ok", "ok"]


def test_a_standby_that_dies_and_comes_again_unseen_keeps_nobody_from_being_promoted() -> None:
    crashes = [{"kind": "crash", "at": 10, "replica": 1, "detect": 0}, {"kind": "crash", "at": 15, "replica": 2}]
    plan = make_plan(make_tier(detect=60), standby=1, promote=10, faults=crashes)
    found = replay(make_trace([1.0, 30.0], cpu=0.1, span_s=60), Service(slots=1, start=1), plan)
    # The second dies while it is promoted; it works again at 16, and the first, which has worked since 11, is promoted.
    assert stages(found) == [[(0.0, "ready"), (10.0, "coming"), (11.0, "standby"), (26.0, "ready")], [(0.0, "standby")]]
    assert found.endings["ok"] == 2


def test_a_handover_is_undone_while_a_renewed_standby_is_being_promoted() -> None:
    release = {"strategy": "handover", "at": 10, "start": 1, "error_rate": 1, "rollback_above": 0.1, "judge_least": 1}
    plan = make_plan(replicas=2, standby=1, promote=2, rollouts=[release | {"judge_every": 0.5}])
    trace = make_trace(np.arange(0, 60, 0.25), cpu=0.01, span_s=60)
    found = replay(trace, Service(slots=4, start=1), plan)
    # The first renewed one serves from 13 on and fails; undone at 13.5, as the second of the old ones has gone already.
    assert [(one.result, one.undone_s) for one in found.run.only.updates] == [("undone", 13.5)]
    there = [(one.version, one.stage) for one in found.run.only.replicas if one.gone_s is None]
    assert sorted(there) == [(1, "ready"), (1, "ready"), (1, "standby")]


def test_a_process_that_stood_by_is_struck_no_more_often_than_others() -> None:
    trace, crash = make_trace([1.0], span_s=5000), {"kind": "crash", "every_about": 10}
    serving, backed = (make_plan(replicas=2 - n, standby=n, promote=0, faults=[crash]) for n in (0, 1))
    first, second = (replay(trace, Service(slots=1), plan).run.only.faults for plan in (serving, backed))
    assert 900 < len(first) < 1100  # two processes for 5000 s
    assert first == second


def test_requests_end_that_are_held_for_standbys_which_die_before_they_serve() -> None:
    trace = make_trace([1.0, 20.0], cpu=0.1, span_s=30)
    release = {"strategy": "handover", "at": 5, "crashes_after": 1}
    plan = make_plan(make_tier(holds_requests=True), standby=1, promote=3, rollouts=[release])
    found = placed(trace, Service(slots=1, start=1), plan, round_trips=None)
    assert list(found.requests["ending"]) == ["ok", "refused"]


def test_requests_end_that_are_held_beside_a_rule_that_never_rests() -> None:
    trace = make_trace([1.0, 2.0], cpu=0.1, route=["/held", "/"], span_s=20)
    services = {"held": Service(slots=1, routes=["/held"]), "other": Service(slots=1, routes=["/"])}
    nobody = Hosting(tier=make_tier(holds_requests=True), size="s", replicas=0)
    now_three_now_one = {"rule": lambda seen: 4 - min(seen.have, 3), "every": 2, "floor": 1, "ceiling": 5}
    restless = Hosting(tier=make_tier(provision=9), size="s", replicas=1, scaling=now_three_now_one)
    found = replay(trace, services, {"held": nobody, "other": restless})
    assert list(found.requests["ending"]) == ["refused", "ok"]


def test_held_requests_end_beside_a_release_that_crashes_for_ever() -> None:
    trace = make_trace([1.0, 2.0], cpu=0.1, route=["/held", "/"], span_s=20)
    services = {"held": Service(slots=1, routes=["/held"]), "other": Service(slots=1, routes=["/"], start=1)}
    release = {"strategy": "rolling", "at": 5, "crashes_after": 3}  # one after the other: some restart is always due
    nobody = Hosting(tier=make_tier(holds_requests=True), size="s", replicas=0)
    loops = Hosting(tier=make_tier(detect=2), size="s", replicas=3, rollouts=[release])
    found = replay(trace, services, {"held": nobody, "other": loops})
    assert list(found.requests["ending"]) == ["refused", "ok"]


def test_a_search_over_standbys_finds_what_brute_force_finds(study: Path) -> None:
    loaded = load_study(study)
    crash = {"kind": "crash", "at": "20m", "replica": 1, "detect": "5m"}
    wanted = Objectives(availability=0.999)
    loaded = loaded.replace(objectives=wanted)
    home = loaded.plans["one"].replace(regions={"east": {}}, faults=[crash], replicas=1)
    ranges = {"standby": [0, 1, 2], "replicas": [1, 2]}
    found = search(loaded, home, vary=ranges).cheapest
    best = cheapest(loaded, [home.replace(standby=n, replicas=m) for n, m in product(*ranges.values())])
    assert found is not None
    assert found.bill.month == best


def test_ranges_that_make_sense_are_by_region_where_replicas_are(study: Path) -> None:
    loaded = load_study(study)
    assert set(sensible(loaded, loaded.plans["two"], loaded.trace())) == {"replicas", "plan.regions.east.replicas"}
    assert set(sensible(loaded, loaded.plans["one"], loaded.trace())) == {"replicas"}
    with pytest.raises(StudyError, match=r"each of its regions \(east\) has its own; allowed: that of one, as in"):
        search(loaded, loaded.plans["two"].replace(regions={"east": {"replicas": 2}}), vary={"replicas": [1, 2]})


def test_what_is_too_far_away_is_no_want_of_cpu(study: Path) -> None:
    loaded = load_study(study)
    far = loaded.replay(loaded.plans["one"].replace(replicas=9))
    assert because(far, "areas.south.p50") == "distance"


def test_events_loses_each_region_in_its_busiest_half_hour(study: Path) -> None:
    found = events(load_study(study), "two")
    assert [lost.region for lost in found.regions] == ["east", "west"]
    assert all(lost.failed > 0 and lost.lasts_s >= 600 for lost in found.regions)
    # A loss of the plan's own is left out: each region is lost once.
    loss = {"kind": "region_loss", "region": "east", "at": "10m", "lasts": "40m"}
    loaded = load_study(study)
    again = events(loaded, loaded.plans["two"].replace(faults=[loss]))
    assert [lost.failed for lost in again.regions] == [lost.failed for lost in found.regions]
    assert json.dumps(found.to_dict()["regions"])
    assert "Each region lost in its busiest 14 min" in found._repr_html_()


def test_events_of_mixed_fleets_in_regions_are_told(study: Path, capsys: pytest.CaptureFixture[str]) -> None:
    text = study.read_text().replace("[tiers.t]", '[tiers.lent]\nbilling = "per_hour"\ninterruptible = true\n'
                                     'regions = { west = {} }\nsizes = { s = { cores = 1, per_hour = 0.5 } }\n[tiers.t]')  # fmt: skip
    mix = 'mix = [{ tier = "t", size = "s", replicas = 1 }, { tier = "lent", size = "s" }]'
    study.write_text(f'{text}\n[plans.mixed]\nreplicas = 3\nregions = ["west"]\n{mix}\n')
    assert run(["events", str(study), "--plan", "mixed"]) == 0
    told = capsys.readouterr().out
    assert "All machines of a tier taken back at once" in told
    assert "At the begin of the busiest 14 min, of which p95 is." in told
    assert "lent west" in told or "lent takes back 2 machines" in told


def test_a_fault_comes_when_most_requests_do(study: Path) -> None:
    rows = [f"{k if k < 600 else 1200 + k / 3:.2f},0.01,{'north' if k % 2 else 'south'}" for k in range(1800)]
    (study.parent / "t.csv").write_text("at_s,cpu_s,area\n" + "\n".join(rows) + "\n")
    loaded = load_study(study)
    crash = {"kind": "crash", "at": "busiest 5m"}
    found = loaded.replay(loaded.plans["one"].replace(faults=[crash]))
    assert found.deaths["at_s"].tolist() == [1440.0]  # the first whole minute of 300 s of 3 requests a second


def test_a_region_of_the_account_has_its_limit() -> None:
    trace = make_trace(np.arange(0.0, 60.0, 0.25).tolist(), cpu=1.0, area=["south"] * 240)
    rule = {"rule": "target", "measure": "in_progress", "target": 1, "every": "1s", "floor": 1, "ceiling": 9}
    plan = make_plan(make_tier(provision=1), regions=["east", "west"], scaling=rule)
    for limits, most in (
        ({}, 9),
        ({"east": {"replicas": 1}}, 9),
        ({"west": {"replicas": 3}}, 3),
        ({"west": {"cores": 2.5}}, 2),
    ):
        found = placed(trace, Service(slots=4), plan, terms=Terms(account=Account(regions=limits)))
        assert found.services["west"].run.peak == most
    with pytest.raises(StudyError, match=r"its fleets in east at the start are 2 replicas; allowed: up to 1"):
        replay(trace, Service(slots=4), plan.replace(replicas=2), round_trips=TRIPS,
               terms=Terms(account=Account(regions={"east": {"replicas": 1}})))  # fmt: skip


def test_behind_an_edge_all_requests_are_misses(study: Path) -> None:
    text = study.read_text().replace('files = "t.csv"', 'files = "t.csv"\nbehind_edge = true')
    study.write_text(text)
    with pytest.raises(StudyError, match=r"\[plans.near.edge\] hit: found it with \[trace\] behind_edge"):
        load_study(study)
    study.write_text(text.replace('hit = "40%"', 'miss_time = "10ms"'))
    found = load_study(study).replay("near")
    assert (found.run.kept.server == 0).all()
    assert found.latency_s["p50"] == pytest.approx(load_study(study).replay("one").latency_s["p50"] + 0.01, abs=0.05)


def test_the_islands_teach_what_they_should(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run(["demo", str(tmp_path / "islands"), "--study", "islands", "--json"]) == 0
    found = {plan["plan"]: plan for plan in json.loads(capsys.readouterr().out)["plans"]}
    missed = {name: [o["name"] for o in plan["objectives"] if not o["met"]] for name, plan in found.items()}
    assert missed == {
        "one_region": ["areas.south_isles.p95"],
        "edge": ["areas.south_isles.p95"],
        "two_regions": ["routes./bookings.p95"],
        "lost_at_noon": ["availability", "routes./bookings.p95"],
        "ready_for_it": [],
    }
    assert found["edge"]["bill"]["month"] < found["one_region"]["bill"]["month"]
    assert run(["trace", "inspect", str(tmp_path / "islands" / "islands.parquet")]) == 0
    assert "south_isles" in capsys.readouterr().out


# -- what is refused -----------------------------------------------------------------------------------

BAD: dict[str, tuple[dict[str, Any], dict[str, Any], str]] = {
    "no distance": ({"regions": ["east", "far"]}, {}, "no round trip between north and far"),
    "a region that the tier has not": ({"regions": ["moon"]}, {}, "tier 't' has no such region"),
    "twice": ({"regions": ["east", "east"]}, {}, "allowed: names that differ"),
    "a key that is not regional": ({"regions": {"east": {"balancer": "random"}}}, {}, "allowed: keys of replicas"),
    "spill without regions": ({"spill": True}, {}, "spill has no effect without regions"),
    "spill beside a canary": (
        {"regions": ["east"], "spill": True, "rollouts": [{"strategy": "switch", "at": 5}]}, {}, "allowed: one of the two",
    ),
    "a standby under a rule": (
        {"standby": 1, "scaling": {"rule": "target", "measure": "cpu", "target": 0.5, "ceiling": 3}}, {},
        "a rule would drain it",
    ),
    "a standby and a release": ({"standby": 1, "rollouts": [{"strategy": "rolling", "at": 5}]}, {}, "allowed: handover"),
    "a handover to nobody": ({"rollouts": [{"strategy": "handover", "at": 5}]}, {}, "a handover needs a standby"),
    "a loss elsewhere": (
        {"regions": ["east"], "faults": [{"kind": "region_loss", "region": "west", "at": 5}]}, {}, "found 'west'",
    ),
    "a loss without regions": ({"faults": [{"kind": "region_loss", "region": "e", "at": 5}]}, {}, "a plan with regions"),
    "a release elsewhere": (
        {"regions": ["east"], "rollouts": [{"strategy": "rolling", "at": 5, "regions": ["west"]}]}, {}, "found 'west'",
    ),
    "a share": ({"edge": {"hit": "140%"}}, {}, "allowed: a share"),
    "shares": ({}, {"trace": {"files": "t.csv", "areas": {"north": 0.5, "south": 0.4}}}, "the shares make 90 %"),
    "a distance": ({}, {"round_trips": {"north": {"east": "fast"}}}, "[round_trips.north] east"),
    "a distance to itself": ({}, {"round_trips": {"north": {"north": 1}}}, "within a place a round trip is 0"),
    "two distances": ({}, {"round_trips": {"a": {"b": 1}, "b": {"a": 2}}}, "the other way; allowed: one of the two"),
    "standbys at home": (
        {"regions": ["east"], "standby": {"region": "east"}}, {}, "of a plan with one region, in another one",
    ),
}  # fmt: skip


@pytest.mark.parametrize("case", BAD)
def test_what_makes_no_sense_is_one_sentence(case: str, tmp_path: Path) -> None:
    plan, tables, said = BAD[case]
    (tmp_path / "t.csv").write_text("at_s,cpu_s,area\n1,1,north\n9,1,south\n")
    trips = {"north": {"east": 0.1}, "south": {"east": 0.2}}
    shares = {"files": "t.csv", "areas": {"north": 0.5, "south": 0.5}}
    told = {"round_trips": trips} | {key: value for key, value in tables.items() if key != "trace"}
    tier = {"regions": {"east": {}, "far": {}, "west": {}}, "replicas": {"least": 0, "most": 9}, "autoscaling": True}
    path = plain_study(tmp_path, tables.get("trace", shares), {"p": plan}, tier=tier, **told)
    with pytest.raises(StudyError) as caught:
        load_study(path)
    assert said in str(caught.value)
    assert "\n" not in str(caught.value)


def test_all_services_have_regions_or_none_has() -> None:
    services = {"web": Service(slots=1, calls=[{"to": "stock", "cpu": 1}]), "stock": Service(slots=1)}
    plans = {"web": make_plan(), "stock": make_plan(regions=["east"])}
    with pytest.raises(StudyError, match="service 'stock' has regions and 'web' has none"):
        System.of(services, plans, RoundTrips({"east": {"west": 1}}))


def test_round_trips_hold_both_ways() -> None:
    trips = RoundTrips({"a": {"b": "20ms"}})
    assert trips.between("b", "a") == 0.02
    with pytest.raises(StudyError, match="no round trip between a and c"):
        trips.between("a", "c")


def test_latencies_seen_by_users_lose_their_way(tmp_path: Path) -> None:
    rows = "\n".join(f"{at},{latency},{area}" for at, latency, area in ((1, 0.5, "north"), (9, 0.7, "south")))
    (tmp_path / "t.csv").write_text(f"at_s,latency_s,area\n{rows}\n")
    table = {"files": "t.csv", "seen_by": "user", "recorded_on": "p"}
    trips = {"north": {"east": 0.1}, "south": {"east": 0.25}}
    path = plain_study(tmp_path, table, {"p": {"regions": ["east"]}}, service={"slots": 2}, round_trips=trips)
    assert load_study(path).log(cache=False).latency_s.tolist() == pytest.approx([0.4, 0.45])


def test_objectives_of_a_service_are_of_all_its_regions() -> None:
    trace = make_trace([0.0, 10.0], cpu=0.5, area=["north", "south"], route=["/"] * 2)
    services = {
        "web": Service(slots=1, routes=["*"], calls=[{"to": "database", "cpu": 0.25}]),
        "database": Service(slots=1, cpu_share=1.0),
    }
    both = Hosting(tier=make_tier(), size="s", replicas=1, regions=["east", "west"])
    wanted = Objectives(services={"database": {"p95": 1}})
    found = replay(trace, services, {"web": both, "database": both}, wanted, round_trips=TRIPS)
    assert [(goal.name, goal.met, goal.within) for goal in found.objectives] == [("services.database.p95", True, 1.0)]
