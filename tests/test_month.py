"""What an objective is about: a month, in which some hours of the trace stand more often than others."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import make_case, make_plan, make_tier, make_trace, plain_study
from libramen import Objectives, Outcome, Service, Store, StudyError, Terms, Trace, compare, load_study, replay
from libramen.base.ranks import rank_of, weighted_percentiles
from libramen.bill.month import month_of
from libramen.report.comparison import plans_section
from libramen.runs import cases
from libramen.runs.pool import Whole
from libramen.runs.store import MISSING

if TYPE_CHECKING:
    from pathlib import Path

DAY = 86400.0
FESTIVAL = {"days": [{"day": "2031-06-05", "times": 1}, {"day": "other", "times": 29}]}


def _days(*waits: float | list[float], **values: Any) -> Trace:
    """From Wednesday 4 June on: each day a hundred requests that wait so long, one every ten minutes from midnight on."""
    at = [day * DAY + 600.0 * k for day in range(len(waits)) for k in range(100)]
    wait = np.concatenate([np.broadcast_to(wait, 100) for wait in waits])
    return Trace.from_arrays(
        at_s=at, cpu_s=np.zeros(len(at)), wait_s=wait, span_s=len(waits) * DAY, **({"start": "2031-06-04"} | values)
    )


def _replayed(trace: Trace, month: dict[str, Any] | None = None, **wanted: Any) -> Outcome:
    service = Service(slots=500, timeout=10)
    return replay(trace, service, make_plan(), Objectives(**wanted), terms=Terms(month=month or {}))


def test_one_bad_day_in_thirty() -> None:
    """Nobody is answered on the day of the festival, everybody on the other: half of the trace, 29 of 30 of the month."""
    found = _replayed(_days(1.0, 20.0), FESTIVAL, availability="96%", availability_minutes="96%", p95="2s", p50="500ms")
    assert found.availability == 0.5
    assert found.month.availability == pytest.approx(29 / 30)
    assert found.month.availability_minutes == pytest.approx(29 / 30)
    assert found.month.endings["ok"] == pytest.approx(29 * 100 * 730 / 720)
    goals = {goal.name: (goal.got, goal.within, goal.met) for goal in found.objectives}
    assert goals["availability"] == (pytest.approx(29 / 30), None, True)
    assert goals["availability_minutes"] == (pytest.approx(29 / 30), None, True)
    assert goals["p95"] == (1.0, pytest.approx(29 / 30), True)
    assert goals["p50"] == (1.0, 0.0, False)
    document = found.to_dict()
    assert document["availability"]["requests"] == 0.5
    assert document["month"]["availability"]["requests"] == pytest.approx(29 / 30)
    assert document["bill"]["note"] == "5 June once and 4 June 29 times"


def test_percentiles_are_of_the_month() -> None:
    """1 s on ordinary days, 2 s on the other: of 30 the 29th is at 96.67 %, so p95 is 1 s and p99 2 s; of the trace both are 2 s."""
    found = _replayed(_days(1.0, 2.0), FESTIVAL)
    assert (found.latency_s["p95"], found.month.latency_s["p95"]) == (2.0, 1.0)
    assert found.month.latency_s["p99"] == found.month.latency_s["max"] == 2.0
    assert found.month.latency_s["mean"] == pytest.approx((29 * 1 + 2) / 30)
    assert found.month.answered_s == {"p50": 1.0, "p90": 1.0, "p95": 1.0, "p99": 2.0, "p999": 2.0}


def test_a_day_that_is_not_named_counts_nothing() -> None:
    found = _replayed(_days(1.0, 2.0), {"days": [{"day": "wed", "times": 3}]})
    assert found.month.latency_s["max"] == 1.0
    assert found.bill.note == "Wednesdays 3 times"


def test_objectives_of_windows_routes_and_services_are_about_the_month() -> None:
    """From 1 to 2 in the night, of one of two routes, and of visits: a thirtieth is late everywhere."""
    late = [0.5] * 100
    late[6:12] = [3.0] * 6  # from 01:00 to 02:00
    route = ["/a", "/b"] * 100
    trace = _days(0.5, late, route=route)
    windows = [{"at": ["01:00", "02:00"], "p90": "1s"}]
    found = _replayed(trace, FESTIVAL, windows=windows, routes={"/a": {"p99": "1s"}}, p99="1s")
    within = {goal.name: goal.within for goal in found.objectives}
    assert within["windows.1.p90"] == pytest.approx(29 / 30)
    assert within["routes./a.p99"] == pytest.approx(1 - 3 / (30 * 50))
    assert within["p99"] == pytest.approx(1 - 6 / (30 * 100))
    assert {goal.name: goal.got for goal in found.objectives}["windows.1.p90"] == 0.5
    services = {name: Service(slots=50, routes=[path], cpu_share=1) for name, path in (("a", "/a"), ("b", "/b"))}
    plans = {name: make_plan().only for name in services}
    several = replay(
        trace, services, plans, Objectives(services={"a": {"p99": "1s"}}), terms=Terms(month=FESTIVAL)
    )  # fmt: skip
    (goal,) = several.objectives
    assert goal.within == pytest.approx(1 - 3 / (30 * 50))
    assert several.services["a"].month.availability == 1


@pytest.mark.parametrize(("span_s", "times"), [(200, "13,140"), (3600, "730"), (DAY, "30.42")])
def test_how_often_a_trace_stands_in_a_month(span_s: float, times: str) -> None:
    found = replay(make_trace([0.0], wait=1, span_s=span_s), Service(slots=1), make_plan())
    assert found.bill.note.endswith(f", {times} times over")


def test_a_release_happens_once() -> None:
    """A day of which a release at noon fails five minutes: once in 730 h, 5 of 4380 requests; as traced five of each 144."""
    trace = make_trace((600.0 * np.arange(144)).tolist(), wait=1, span_s=DAY)
    plan = make_plan(rollouts=[{"at": 43200 - 1, "strategy": "stop_start"}])
    service, wanted = Service(slots=5, start=3000), Objectives(availability="99.8%", p95="2s")
    once = replay(trace, service, plan, wanted)
    assert once.endings["refused"] == 5
    assert once.month.availability == pytest.approx(1 - 5 / (144 * 730 / 24))
    assert once.objectives[1].met
    assert once.bill.note == (
        "the trace of 1 d, 30.42 times over: the release at 11 h 59 min once, the day without it for the rest"
    )
    traced = replay(trace, service, plan, wanted, terms=Terms(month={"events": "as_traced"}))
    assert traced.month.availability == traced.availability == pytest.approx(139 / 144)
    assert not traced.objectives[1].met
    assert traced.bill.note.endswith("the release at 11 h 59 min as often as its hour")
    assert once.endings == traced.endings


def test_beyond_four_weeks_events_are_as_traced() -> None:
    trace = make_trace([0, 10 * DAY], wait=1, span_s=28.5 * DAY)
    found = replay(trace, Service(slots=5), make_plan(rollouts=[{"at": 100, "strategy": "stop_start"}]))
    assert found.weighted_replays.base is None
    assert found.bill.note.endswith("as often as its hour, since the trace is longer than four weeks")


def test_of_several_services_all_are_replayed_without_events() -> None:
    """A crash of b fails its visits, and is once for a, too."""
    services = {name: Service(slots=5, routes=[f"/{name}"], cpu_share=1, start=600) for name in "ab"}
    plans = {"a": make_plan().only, "b": make_plan(faults=[{"kind": "crash", "at": 3000}]).only}
    trace = make_trace((60.0 * np.arange(120)).tolist(), wait=1, route=["/a", "/b"] * 60, span_s=7200)
    found = replay(trace, services, plans)
    assert found.endings["ok"] < 120
    assert found.month.availability == pytest.approx(1 - (120 - found.endings["ok"]) / (120 * 365))
    assert found.services["a"].month.availability == 1


@given(
    st.lists(st.tuples(st.floats(0, 50), st.integers(0, 9)), min_size=1, max_size=60),
    st.sampled_from([0.5, 0.9, 0.95, 0.99]),
    st.integers(0, 20),
)
def test_weights_are_as_many_of_the_same(values: list[tuple[float, int]], share: float, without: int) -> None:
    """By nearest rank on as many copies of each as it weighs, with some that have no value behind all."""
    copies = np.sort(np.repeat([value for value, _ in values], [weight for _, weight in values]))
    n = len(copies) + without
    rank = rank_of(n, share) if n else 0
    expected = float(copies[rank]) if rank < len(copies) else None
    found = weighted_percentiles(
        np.array([value for value, _ in values]), np.array([weight for _, weight in values], float), [share], float(n)
    )
    assert found == [expected]


@given(st.integers(0, 10**6), st.integers(1, 9), st.integers(1, 29))
def test_a_month_of_two_days_is_that_of_as_many_days(seed: int, special: int, other: int) -> None:
    """As if the trace had each day as often: the same availability, shares and percentiles."""
    rng = np.random.default_rng(seed)
    first, second = (rng.exponential(4, 100).tolist() for _ in range(2))
    days = {"days": [{"day": "thu", "times": special}, {"day": "wed", "times": other}]}
    month = _replayed(_days(first, second), days, p90="5s")
    whole = _replayed(_days(*[second] * special, *[first] * other, start=None), {"events": "as_traced"}, p90="5s")
    # Fewer than seven days, or the hours of the week count.
    if special + other < 7:
        assert month.month.availability == pytest.approx(whole.availability)
        assert month.month.latency_s == pytest.approx(whole.latency_s)
        for name, answered_s in whole.answered_s.items():
            assert month.month.answered_s[name] == (None if answered_s is None else pytest.approx(answered_s))
        assert month.objectives[0].within == pytest.approx(whole.objectives[0].within)


def test_gaps_between_files_are_not_covered() -> None:
    """A day, a week without a log, a day: two days are the month; hours that are only partly in the gap count."""
    month = month_of(9 * DAY, None, None, [(DAY - 100.0, 8 * DAY + 100.0)])
    assert np.count_nonzero(month.length_s) == 48
    assert float(month.weights.floats @ month.length_s) == pytest.approx(730 * 3600)


def test_files_a_week_apart(tmp_path: Path) -> None:
    """Two logs: what lies between them is replayed as a quiet time, and is not part of the month."""
    for name, day in (("a.log", "04"), ("b.log", "12")):
        lines = [
            f'v - - [{day}/Jun/2031:{hour:02d}:30:00 +0000] "GET /x HTTP/1.1" 200 1000000000 "-" "-" 1.000\n'
            for hour in range(24)
        ]
        (tmp_path / name).write_text("".join(lines))
    study = load_study(
        plain_study(
            tmp_path, {"files": ["a.log", "b.log"], "demand": "quiet"}, {"p": {}}, tier={"egress_per_gb": 1},
            study={"time_zone": "UTC"}, month={"days": [{"day": "2031-06-12", "times": 10}, {"day": "other", "times": 20}]},
        )
    )  # fmt: skip
    trace = study.trace()
    (gap,) = trace.gaps
    assert gap[1] - gap[0] == pytest.approx(7 * DAY + 3600)
    found = study.replay("p")
    assert found.bill.note == "12 June 10 times and 4 June 20 times"
    (egress,) = (line for line in found.bill.lines if line.item == "egress")
    # A gigabyte an hour, the gap left out. The first hour has 31 minutes and the last 30: they stand as often as whole ones.
    gb = 20 * (23 + 60 / 31) + 10 * (23 + 60 / 30)
    assert float(egress.quantity) == pytest.approx(gb * 730 / 720)
    assert trace.gaps == study.trace().gaps  # from the cache


# -- kept figures, and other months ------------------------------------------------------------------


def test_another_month_or_price_replays_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Counts, shares, money are the same as of a replay; percentiles within 0.5 %, and marked so."""
    service, wanted = Service(slots=4, start=600, timeout=3), Objectives(p95="2s", availability="99%", month=900)
    rng = np.random.default_rng(3)
    at = np.sort(rng.uniform(0, 2 * DAY, 3000))
    trace = Trace.from_arrays(
        at_s=at, cpu_s=np.full(3000, 0.05), wait_s=rng.exponential(0.5, 3000), span_s=2 * DAY, start="2031-06-04",
        bytes_out=np.full(3000, 1e6), route=["/a", "/b", "/c"] * 1000,
    )  # fmt: skip
    tier = make_tier(egress_per_gb=1)
    rollouts = [{"at": "12:00", "strategy": "stop_start"}]
    plan = make_plan(tier, rollouts=rollouts)
    dear = plan.only.replace(
        tier=tier.replace(egress_per_gb=[{"up_to": 1, "price": 2}, {"price": 3}], fixed_per_month=5)
    )
    months: list[dict[str, Any]] = [{}, {"events": "as_traced"}, FESTIVAL, {"days": [{"day": "thu", "times": 30}]}]
    made = [
        make_case({"service": service}, one, wanted, terms=Terms(month=month, tax=tax))
        for month in months
        for one, tax in ((plan, 0), (make_plan().replace(services={"service": dear}), 0.2))
    ]
    whole = [case.figures(trace) for case in made]
    with Store(tmp_path / "s.sqlite", pytest.fail) as store:
        task, key = Whole(), "key"
        task.keep(store, key, made[0], whole[0])
        monkeypatch.setattr(cases, "replay_system", None)
        for case, expected in zip(made, whole, strict=True):
            found = task.look_up(store, key, case)
            assert found.bill == expected.bill
            assert found.costs == expected.costs
            assert found.month.endings == pytest.approx(expected.month.endings)
            assert found.month.availability == pytest.approx(expected.month.availability)
            np.testing.assert_allclose(
                list(found.month.latency_s.values()),
                list(expected.month.latency_s.values()), rtol=0.005,
            )  # fmt: skip
            for mine, theirs in zip(found.objectives, expected.objectives, strict=True):
                assert (mine.name, mine.wanted, mine.met, mine.minutes) == (
                    theirs.name, theirs.wanted, theirs.met, theirs.minutes,
                )  # fmt: skip
                assert mine.within == pytest.approx(theirs.within)
            assert found.month.is_binned == (case.terms.month != made[0].terms.month)
            notes = " ".join(plans_section([found], best=None).notes)
            assert ("Percentiles are within 0.5 %: [month]" in notes) == found.month.is_binned


def test_a_month_that_needs_another_replay_is_replayed(tmp_path: Path) -> None:
    """Events as traced take one replay; once, the one without them is missing."""
    trace, plan = make_trace([0, 100], wait=1, span_s=DAY), make_plan(rollouts=[{"at": 50, "strategy": "stop_start"}])
    once, traced = (
        make_case({"service": Service(slots=4)}, plan, Objectives(), terms=Terms(month={"events": events}))
        for events in ("once", "as_traced")
    )
    with Store(tmp_path / "s.sqlite", pytest.fail) as store:
        task = Whole()
        task.keep(store, "key", traced, traced.figures(trace))
        assert task.look_up(store, "key", once) is MISSING
        task.keep(store, "key", once, once.figures(trace))
        assert task.look_up(store, "key", traced).bill == traced.figures(trace).bill


def test_a_day_that_a_kept_trace_has_not_is_a_mistake(tmp_path: Path) -> None:
    trace = _days(1.0, 2.0)
    case = make_case({"service": Service(slots=4)}, make_plan(), Objectives())
    wrong = make_case(
        {"service": Service(slots=4)}, make_plan(), Objectives(),
        terms=Terms(month={"days": [{"day": "2031-07-01", "times": 1}]}),
    )  # fmt: skip
    with Store(tmp_path / "s.sqlite", pytest.fail) as store:
        task = Whole()
        task.keep(store, "key", case, case.figures(trace))
        with pytest.raises(StudyError, match="'2031-07-01', of which the trace"):
            task.look_up(store, "key", wrong)
        assert task.look_up(store, "key", case).bill == case.figures(trace).bill


def test_where_requests_are_not_kept_the_month_is_the_same() -> None:
    """Percentiles within 0.5 %."""
    rng = np.random.default_rng(5)
    trace = _days(rng.exponential(1, 100).tolist(), rng.exponential(4, 100).tolist())
    service, terms = Service(slots=50, timeout=10), Terms(month=FESTIVAL)
    kept, counted = (
        replay(trace, service, make_plan(), Objectives(p95="2s"), terms=terms, keep_requests=keep)
        for keep in (True, False)
    )
    assert kept.month.endings == pytest.approx(counted.month.endings)
    assert kept.objectives[0].within == pytest.approx(counted.objectives[0].within)
    np.testing.assert_allclose(
        list(kept.month.latency_s.values()), list(counted.month.latency_s.values()), rtol=0.005
    )  # fmt: skip
    assert kept.bill == counted.bill


def test_days_are_said_in_a_row() -> None:
    """Of three days, and of one."""
    days = [{"day": "2031-06-05", "times": 1}, {"day": "fri", "times": 4}, {"day": "other", "times": 25}]
    assert _replayed(_days(1, 1, 1), {"days": days}).bill.note == "5 June once, Fridays 4 times and 4 June 25 times"
    assert _replayed(_days(1, 1), {"days": days[:1]}).bill.note == "5 June once"


def test_the_month_of_the_demo(demo_study: Path) -> None:
    found = compare(load_study(demo_study), plans=["bare", "steady"])
    assert found.cheapest is not None
    assert found.cheapest.plan == "bare"
    assert found.verdict().endswith("if the month is 5 June once and 4 June 29 times.")
    bare = found.figures[0]
    assert bare.availability is not None
    assert bare.month.availability is not None
    assert bare.month.availability > 0.9995 > 0.999 > bare.availability
