"""Objectives: of all requests, of a route, of a time of day; and what a comparison makes of them."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import make_plan, make_tier, make_trace
from libramen import Comparison, Objectives, Outcome, Plan, Service, StudyError, Trace, replay
from libramen.outcome.measures import Scope
from libramen.report.story import miss
from libramen.study.objectives import Minutes, Objective

if TYPE_CHECKING:
    from collections.abc import Mapping


def _refusing(n: int = 100, refused: int = 8, **objectives: Any) -> Outcome:
    """One slot and no backlog: of n requests a second apart that take 0.1 s, `refused` come in pairs with another."""
    at = np.sort(np.concatenate([np.arange(n - refused), np.arange(refused)])).astype(float)
    trace = Trace.from_arrays(at_s=at, cpu_s=np.full(n, 0.1), span_s=float(n), start="2031-06-05T09:00")
    return replay(trace, Service(slots=1, backlog=0), make_plan(), Objectives(**objectives))


def test_a_percentile_is_of_all_requests() -> None:
    """8 of 100 are refused at once, 92 take 0.1 s: p95 of the answered ones is 0.1 s, and 92 % were answered within 1 s."""
    outcome = _refusing(p95="1s", p90="1s", p50="50ms", max="1s", mean="1s")
    by_name = {objective.name: objective for objective in outcome.objectives}
    assert outcome.latency_s["p95"] == pytest.approx(0.1)
    p95, p90, p50 = by_name["p95"], by_name["p90"], by_name["p50"]
    assert (p95.met, p95.within, p95.got) == (False, 0.92, pytest.approx(0.1))
    assert (p90.met, p90.within) == (True, 0.92)
    assert (p50.met, p50.within) == (False, 0)
    assert (by_name["max"].met, by_name["max"].within) == (False, 0.92)
    assert (by_name["mean"].met, by_name["mean"].within) == (True, None)
    # 8 of the first 60 requests, one minute, are refused; none of the others, whose arrivals go on to the 91st second.
    assert p95.minutes == Minutes(1, 2)
    assert outcome.answered_s["p90"] == pytest.approx(0.1)
    assert outcome.answered_s["p95"] is None
    assert outcome.hides_failures
    assert miss(p95, "EUR") == "p95 (92.0 % within 1 s, wanted 95 %)"


def test_overload_never_makes_an_objective_better() -> None:
    """The more arrives at a fleet that refuses, the smaller the share of all requests that is answered in time."""
    service, plan = Service(slots=2, backlog=2), make_plan()
    within = []
    for k in (1, 2, 4, 8):
        at = np.sort(np.random.default_rng(3).uniform(0, 1000, 400 * k))
        trace = Trace.from_arrays(at_s=at, cpu_s=np.ones(len(at)), span_s=1000)
        within.append(replay(trace, service, plan, Objectives(p95="3s")).objectives[0].within)
    assert within == sorted(within, reverse=True)


@pytest.mark.parametrize(
    ("name", "wanted", "got", "within", "excess"),
    [
        ("p95", 1.0, 0.5, 0.90, 1.0),  # (1 - 0.90) / 0.05 - 1
        ("routes./a.p50", 1.0, 2.0, 0.25, 0.5),  # 0.75 / 0.5 - 1
        ("windows.1.p99", 1.0, 2.0, 0.96, 3.0),
        ("max", 1.0, 0.5, 0.99, math.inf),  # some failed
        ("max", 1.0, 3.0, 0.99, 2.0),
        ("mean", 1.0, 3.0, None, 2.0),
        ("availability", 0.99, 0.97, None, 2.0),
        ("month", 100.0, 150.0, None, 0.5),
        ("p95", 1.0, None, 0.0, math.inf),
    ],
)
def test_by_how_much_one_is_missed(
    name: str, wanted: float, got: float | None, within: float | None, excess: float
) -> None:
    assert Objective(name, wanted, got, met=False, within=within).excess == pytest.approx(excess)


def test_the_cheapest_is_not_the_one_that_answers_the_easy_ones() -> None:
    """Both have a p95 of 0.1 s over answered requests; the cheaper one refuses 8 %."""
    losing = _refusing(p95="1s")
    keeping = replay(losing.trace, Service(slots=1), _named("keeping", per_hour=9), Objectives(p95="1s"))
    found = Comparison(outcome.figures() for outcome in (losing, keeping))
    assert found.cheapest is found.figures[1]
    assert ">100 ms *</td>" in found._repr_html_()
    both_miss = [
        replay(losing.trace, Service(slots=1, backlog=backlog), _named("x"), Objectives(p99="50ms"), keep_requests=keep)
        for backlog in (0, None)
        for keep in (True, False)
    ]
    # Requests kept or not, the same distance: what counts is counted exactly.
    assert both_miss[0].objectives[0].excess == both_miss[1].objectives[0].excess
    assert both_miss[2].objectives[0].excess == both_miss[3].objectives[0].excess


def _named(name: str, per_hour: float = 1) -> Plan:
    tier = make_tier(sizes={"s": {"cores": 1, "per_hour": per_hour}})
    return make_plan(tier, name=name)


def test_windows_are_every_day_local_and_half_open() -> None:
    """From 23:00 to 01:00, over two midnights; arrivals on the edges: 23:00 is in, 01:00 is not."""
    hours = [
        21.5,
        22.5,
        23,
        24.9,
        25,
        46,
        47,
        48.5,
        49,
    ]  # from midnight; 23:00 and 00:00 to 01:00 are 23, 24.9, 47, 48.5
    trace = make_trace([h * 3600 for h in hours], cpu=1.0, span_s=50 * 3600, start="2031-06-05T00:00", time_zone="UTC")
    outcome = replay(
        trace,
        Service(slots=9),
        make_plan(),
        Objectives(windows=[{"at": ["23:00", "01:00"], "p95": "2s", "p50": "0.5s"}]),
    )
    p50, p95 = outcome.objectives
    assert (p95.name, p95.met, p95.within, p95.minutes) == ("windows.1.p95", True, 1.0, Minutes(4, 4))
    assert (p50.name, p50.met, p50.within) == ("windows.1.p50", False, 0.0)


def test_a_window_follows_the_clock_over_its_change() -> None:
    """12:00 to 13:00 in Lisbon, on 25 and 26 October 2031: 12:00 of the second day is 25 h after that of the first."""
    start = {"start": "2031-10-25T00:00", "time_zone": "Europe/Lisbon"}
    trace = make_trace([12 * 3600, 36 * 3600, 37 * 3600, 38 * 3600], cpu=1.0, span_s=49 * 3600, **start)
    window = {"at": ["12:00", "13:00"], "availability": "100%"}
    outcome = replay(trace, Service(slots=9), make_plan(), Objectives(windows=[window], max="2s"))
    figures = outcome._measured.measures(Scope(window=0))
    assert figures.n_requests == 2


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"windows": [{"at": ["12:00", "12:00"], "p95": 1}]}, "found 12:00 twice; allowed: two times that differ"),
        ({"windows": [{"at": ["12:00", "6h"], "p95": 1}]}, 'found .6h.; allowed: a time of day such as "12:00"'),
        ({"windows": [{"at": ["12:00", "13:00"], "month": 1}]}, "unknown key 'month'"),
        ({"windows": [{"at": ["12:00", "13:00"], "days": ["we"], "p95": 1}]}, r"days.1.: found 'we'; allowed: 'mon'"),
        (
            {"windows": [{"at": ["12:00", "13:00"], "date": "5 June", "p95": 1}]},
            "date: found .5 June.; allowed: a date such as",
        ),
        (
            {"windows": [{"at": ["12:00", "13:00"], "date": "2031-06-05", "days": ["wed"], "p95": 1}]},
            "days and date are both there; allowed: one of them",
        ),
        ({"p95": 300}, 'p95: found 300; allowed: a time with its unit, such as "300ms": without one it would be 5 min'),
        ({"p99": 0}, "above 0"),
    ],
)
def test_objectives_that_are_not_allowed(values: Mapping[str, Any], message: str) -> None:
    with pytest.raises(StudyError, match=message):
        Objectives(**values)
    assert Objectives(p95="300 s").p95 == 300


def test_a_window_needs_to_know_the_time() -> None:
    window = {"at": ["12:00", "13:00"], "p95": "1s"}
    with pytest.raises(StudyError, match="needs to know when the trace starts"):
        replay(make_trace([1.0]), Service(slots=1), make_plan(), Objectives(windows=[window]))


def test_the_worst_hour_is_the_one_with_most_requests_beyond_the_limit() -> None:
    """From 09:30: in the hour of 10:00 two of three are late, in that of 09:00 one of one, which is a greater share."""
    at = [0.0, 1800, 1900, 2000]
    trace = make_trace(at, wait=[9, 9, 1, 9], span_s=7200, start="2031-06-05T09:30", time_zone="UTC")
    for keep in (True, False):
        outcome = replay(trace, Service(slots=9), make_plan(), Objectives(p95="2s"), keep_requests=keep)
        assert outcome.to_dict()["worst_hour"] == {
            "at_s": 1800.0, "start": "2031-06-05T10:00:00+00:00", "requests": 3, "availability": 1.0, "within": 1 / 3,
        }  # fmt: skip


@given(
    st.lists(st.tuples(st.floats(0, 600), st.floats(0, 4), st.sampled_from("ab")), min_size=1, max_size=60),
    st.floats(0.05, 5),
    st.sampled_from(["p50", "p90", "p99", "max"]),
)
def test_kept_or_not_what_is_within_is_counted_alike(
    requests: list[tuple[float, float, str]], limit: float, key: str
) -> None:
    requests.sort()
    at, wait, route = (list(column) for column in zip(*requests, strict=True))
    trace = make_trace(at, wait=wait, route=route, span_s=601)
    objectives = Objectives(**{key: limit}, routes={route[0]: {key: limit}})
    kept, added = (
        replay(trace, Service(slots=1, backlog=1), make_plan(), objectives, keep_requests=keep)
        for keep in (True, False)
    )
    for mine, theirs in zip(kept.objectives, added.objectives, strict=True):
        assert (mine.within, mine.met, mine.minutes) == (theirs.within, theirs.met, theirs.minutes)
    within = np.mean((kept.run.results.ending == 0) & (kept.run.results.latency_s <= limit + 1e-9))
    assert kept.objectives[0].within == pytest.approx(within)


def test_an_objective_of_a_window_is_given_once() -> None:
    at = ["12:00", "14:00"]
    assert len(Objectives(windows=[{"at": at, "p95": "1s"}, {"at": at, "p50": "1s"}]).windows) == 2
    with pytest.raises(StudyError, match=r"windows\[2\]: p95 from 12:00 to 14:00 is given twice; allowed: once"):
        Objectives(windows=[{"at": at, "p95": "1s"}, {"at": at, "p95": "2s"}])


@pytest.mark.parametrize(
    ("window", "hours", "words"),
    [
        ({}, {"3 10", "4 10", "5 10", "6 10"}, "from 10:00 to 11:00"),
        ({"days": ["wed", "fri"]}, {"4 10", "6 10"}, "from 10:00 to 11:00 on wed, fri"),
        ({"date": "2031-06-05"}, {"5 10"}, "from 10:00 to 11:00 on 2031-06-05"),
        ({"at": ["23:00", "02:00"], "days": ["wed"]}, {"4 23", "5 00", "5 01"}, "from 23:00 to 02:00 on wed"),
    ],
)
def test_windows_of_some_days(window: dict[str, Any], hours: set[str], words: str) -> None:
    """Requests at every half past of four days from Tuesday on; those of the window take two seconds, all others none.

    A window that crosses midnight belongs to the day on which it begins.
    """
    half_past = np.arange(96) * 3600.0 + 1800
    named = [f"{3 + k // 24} {k % 24:02d}" for k in range(96)]
    wait = [2.0 if name in hours else 0.0 for name in named]
    trace = make_trace(half_past.tolist(), wait=wait, span_s=96 * 3600, start="2031-06-03T00:00:00")
    wanted = {"at": ["10:00", "11:00"], "p50": "1s", "max": "3s"} | window
    outcome = replay(trace, Service(slots=9), make_plan(), Objectives(windows=[wanted], p95="1s"))
    by_name = {one.name: one for one in outcome.objectives}
    assert by_name["windows.1.p50"].within == 0.0
    assert by_name["windows.1.max"].met
    others = {"at": wanted["at"], "max": "3s"} | window
    text = Objectives(windows=[others]).describe("EUR")[0]
    assert text == f"max at most 3 s {words}"


def test_a_day_that_the_trace_has_not() -> None:
    trace = make_trace([10], span_s=3600, start="2031-06-05T09:00:00")
    window = {"at": ["10:00", "11:00"], "date": "2031-06-04", "p95": 1}
    with pytest.raises(
        StudyError, match=r"windows\[1\]: the trace has no time from 10:00 to 11:00 on 2031-06-04; allowed"
    ):
        replay(trace, Service(slots=1), make_plan(), Objectives(windows=[window]))
