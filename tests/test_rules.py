"""Rules by hand: each docstring has the arithmetic. Every case runs on both data planes."""

from __future__ import annotations

from datetime import timedelta
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest

from builders import SOLD, both, make_plan, make_tier, make_trace, write_study
from libramen import (
    Ahead,
    Observation,
    Outcome,
    ReplayError,
    Service,
    Steps,
    StudyError,
    Trace,
    check,
    compare,
    load_study,
    replay,
)  # fmt: skip
from libramen.cli import run
from libramen.rules.scaling.rule import RuleSetting

if TYPE_CHECKING:
    from pathlib import Path

LIMITS = {"floor": 0, "ceiling": 9}


def _first(outcome: Outcome, n: int = 4) -> list[tuple[float, float | None, int]]:
    """The first decisions: when, what was measured, what was wanted."""
    return [(d.at_s, d.measured, d.wanted) for d in outcome.run.only.decisions[:n]]


def _target(trace: Trace, *, slots: int = 1, n: int = 2, **rule: Any) -> Outcome:
    rule = {"rule": "target", "every": 10, "dead_band": 0} | LIMITS | rule
    return both(trace, Service(slots=slots), make_plan(make_tier(overhead=0.5), replicas=n, scaling=rule))


# -- measures --------------------------------------------------------------------------------------


def test_rate_counts_attempts_before_the_instant_of_the_decision() -> None:
    """Two replicas. Arrivals at 1, 2, ..., 10: nine come before the decision at 10, 9 / 10 s / 2 replicas = 0.45 a second;
    wanted ceil(2 * 0.45 / 0.3) = 3. The tenth belongs to the next window, with nothing else: 1 / 10 s / 3 = 1/30."""
    outcome = _target(make_trace(list(range(1, 11)), span_s=30), slots=5, measure="rate", target=0.3)
    (_, first, wanted), (_, second, _) = _first(outcome, 2)
    assert (first, wanted) == (pytest.approx(0.45, abs=1e-12), 3)
    assert second == pytest.approx(1 / 30, abs=1e-12)


def test_rate_counts_repeated_attempts() -> None:
    """No backlog and one slot: of two requests at 1 the second is refused, and comes again at 2 (refused) and at 4 (refused):
    4 attempts in the window of one replica: 0.4 a second."""
    rule = {"rule": "target", "measure": "rate", "target": 1, "every": 10} | LIMITS
    service = Service(slots=1, backlog=0, retries=2, retry_after=1)
    outcome = both(make_trace([1, 1], wait=8, span_s=20), service, make_plan(scaling=rule))
    assert _first(outcome, 1)[0][1] == pytest.approx(0.4, abs=1e-12)


def test_waiting_is_the_mean_backlog() -> None:
    """One replica, one slot, waits of 5: three requests at 0. Two wait for 5 s, one for 5 more: 15 / 10 s = 1.5."""
    outcome = _target(make_trace([0, 0, 0], wait=5, span_s=30), n=1, measure="waiting", target=1)
    assert _first(outcome, 1) == [(10, 1.5, 2)]


def test_latency_is_a_percentile_of_the_answers_given() -> None:
    """Waits of 1, 2, 3 and 20 at 0 with an overhead of 0.5: three answers in the first window, of 1.5, 2.5, 3.5; p50 by
    nearest rank is the second, 2.5, and with a target of 2 wanted is ceil(2 * 1.25) = 3. No answer from 10 to 20: no measure.
    The last answer comes at 20, and counts in the window that ends there, with its 20.5: ceil(3 * 10.25) = 31, at most 9."""
    trace = make_trace([0, 0, 0, 0], wait=[1, 2, 3, 20], span_s=50)
    outcome = _target(trace, slots=4, measure="latency", percentile="p50", target="2s")
    assert _first(outcome, 2) == [(10, 2.5, 3), (20, 20.5, 31)]
    quiet = outcome.run.only.decisions[2]
    assert (quiet.measured, quiet.held_by, quiet.wanted) == (None, "no measure", 9)


def test_answers_are_forgotten_and_not_lost() -> None:
    """More answers in a window than the log of them begins with, by a lot: the percentile is that of all of them."""
    n = 30_000
    trace = make_trace(np.linspace(0, 95, n).tolist(), wait=np.linspace(1, 2, n).tolist(), span_s=100)
    rule = {"rule": "target", "measure": "latency", "target": "100s", "every": 100} | LIMITS
    outcome = replay(trace, Service(slots=20_000), make_plan(scaling=rule))
    latency_s = np.sort(outcome.run.results.latency_s)
    assert outcome.run.only.decisions[0].measured == latency_s[int(np.ceil(0.95 * n)) - 1]


# -- steps -----------------------------------------------------------------------------------------


def test_the_outermost_band_counts() -> None:
    """in_progress over windows of 10: 3 waits of 10 on one replica is 3, above 1 and above 2: add 4, not 1. Then 1 on 5
    replicas is 0.2, below 0.5 and above 0.1: remove 1. Then nothing, below 0.1: remove 2."""
    rule = {
        "rule": "steps", "measure": "in_progress", "every": 10,
        "up": [{"above": 1, "add": 1}, {"above": 2, "add": 4}],
        "down": [{"below": 0.1, "remove": 2}, {"below": 0.5, "remove": 1}],
    } | LIMITS  # fmt: skip
    trace = make_trace([0, 0, 0, 10], wait=10, span_s=40)
    outcome = both(trace, Service(slots=5), make_plan(scaling=rule))
    assert _first(outcome, 3) == [(10, 3, 5), (20, 0.2, 4), (30, 0, 2)]


def test_a_threshold_is_passed_by_more_than_nothing() -> None:
    """Exactly at a threshold no band is passed."""
    rule = Steps(measure="cpu", up=[{"above": "70%", "add": 2}], down=[{"below": "30%", "remove": 1}])
    for measured in (0.7, 0.3):
        seen = Observation(ready=3, measures={"cpu": measured})
        assert rule.wanted(seen) == (3, "no band", 0)


# -- timetable -------------------------------------------------------------------------------------


def _autumn(**rule: Any) -> Outcome:
    """Saturday 25 October 2031 22:00 in Lisbon; in the night the clocks go back from 02:00 to 01:00. A request an hour."""
    hours = [3600.0 * hour for hour in range(15)]
    trace = make_trace(hours, wait=1, span_s=14 * 3600, start="2031-10-25T22:00:00", time_zone="Europe/Lisbon")
    plan = make_plan(make_tier(replicas={"least": 1, "most": 20}), scaling=rule)
    return both(trace, Service(slots=5), plan)


def test_a_timetable_across_the_change_of_clocks() -> None:
    """From 22:00 to 07:00 on Sunday it is 10 hours by the clock that does not change: 9 by the wall, and one twice. 01:30 occurs
    twice and is its first occurrence: 3.5 h after the start. The entry of Saturday 20:00, before the start, holds at 0; that
    of Sunday 08:00 (11 h) holds until Monday's, beyond the end."""
    outcome = _autumn(
        rule="fixed",
        timetable=[
            {"days": ["sat"], "at": "20:00", "floor": 3},
            {"at": "01:30", "floor": 2, "ceiling": 2},
            {"days": ["sun"], "at": "07:00", "floor": 6},
            {"days": ["sun"], "at": "08:00", "floor": 1},
        ],
    )
    acts = [(d.at_s / 3600, d.have + d.ordered - d.cancelled - d.drained) for d in outcome.run.only.decisions]
    assert acts == [(0, 3), (3.5, 2), (10, 6), (11, 1)]
    local = outcome.decisions["time"].dt.strftime("%a %H:%M").tolist()
    assert local == ["Sat 22:00", "Sun 01:30", "Sun 07:00", "Sun 08:00"]


def test_a_timetable_over_another_rule_moves_its_floor_and_ceiling() -> None:
    """Idle, so `target` wants none. At the start (22:00) the entry of 04:00 still holds, a floor of 2, met at 0; from midnight
    (2 h) it is 4, and from 01:00 (3 h, before the decision at that instant) 5, met then."""
    outcome = _autumn(
        rule="target", measure="in_progress", target=1, every="3h", ceiling=9,
        timetable=[{"at": "00:00", "floor": 4}, {"at": "01:00", "floor": 5, "ceiling": 5}, {"at": "04:00", "floor": 2}],
    )  # fmt: skip
    seen = [
        (d.at_s / 3600, d.floor, d.ceiling, d.ordered, d.drained, d.held_by) for d in outcome.run.only.decisions[:4]
    ]
    assert seen == [
        (0, 2, 9, 1, 0, "floor"),
        (3, 5, 5, 3, 0, "floor"),
        (6, 5, 5, 0, 0, "floor"),
        (9, 2, 9, 0, 3, "floor"),
    ]


def test_a_skipped_time_is_the_next_that_exists() -> None:
    """On 30 March 2031 Lisbon's clocks go from 01:00 to 02:00: 01:30 begins at 02:00, one hour after midnight."""
    trace = make_trace([0, 5000], wait=1, span_s=7200, start="2031-03-30T00:00:00", time_zone="Europe/Lisbon")
    rule = {"rule": "fixed", "timetable": [{"at": "01:30", "floor": 2}, {"at": "23:00", "floor": 1}]}
    outcome = both(trace, Service(slots=1), make_plan(make_tier(replicas={"least": 1, "most": 5}), scaling=rule))
    assert [(d.at_s, d.ordered) for d in outcome.run.only.decisions] == [(0, 0), (3600, 1)]


def test_a_timetable_needs_a_start() -> None:
    plan = make_plan(scaling={"rule": "fixed", "timetable": [{"at": "07:00", "floor": 2}]})
    with pytest.raises(StudyError, match="timetable needs to know when the trace starts"):
        replay(make_trace([1]), Service(slots=1), plan)


# -- ahead -----------------------------------------------------------------------------------------


def _days(loads: list[tuple[float, float, int]], days: int, **rule: Any) -> Outcome:
    """Each day the same: from an hour to another, so many waits of an hour each. One slot would do: 99 there are."""
    at = [
        (24 * day + hour) * 3600
        for day in range(days)
        for begin, end, n in loads
        for hour in np.arange(begin, end)
        for _ in range(n)
    ]
    trace = make_trace(at, wait=3600, span_s=days * 86400, start="2031-06-02T00:00:00", time_zone="Europe/Lisbon")
    rule = {
        "rule": "ahead", "measure": "in_progress", "target": 1, "margin": 0, "every": "1h", "floor": 1, "ceiling": 20,
    } | rule  # fmt: skip
    return both(trace, Service(slots=99, start="50m"), make_plan(make_tier(provision="1h"), scaling=rule))


def test_ahead_follows_on_the_first_day_and_leads_on_the_second() -> None:
    """Six in progress from 8 to 12. On the first day it sees them at 9, orders five, and they are ready at 9 + 1:50 = 10:50.
    On the second, at 7:00 it looks one cold start ahead, to 8:50, the hour from 8 on has had six: it orders at 7, ready
    at 8:50. (At 6 it looks to 7:50: nothing.)"""
    outcome = _days([(8, 12, 6)], days=2)
    orders = [(d.at_s / 3600, d.ordered) for d in outcome.run.only.decisions if d.ordered]
    assert orders == [(9, 5), (24 + 7, 5)]
    ready = [r.ready_s / 3600 for r in outcome.run.only.replicas if r.why == "scaling"]
    assert ready == pytest.approx([9 + 11 / 6] * 5 + [24 + 7 + 11 / 6] * 5)


def test_ahead_learns_no_further_back_than_it_is_told() -> None:
    """With `learn` of 12 h yesterday is forgotten: the second day is like the first, seen at 9."""
    outcome = _days([(8, 12, 6)], days=2, learn="12h")
    assert [d.at_s / 3600 for d in outcome.run.only.decisions if d.ordered] == [9, 24 + 9]


def test_ahead_knows_weekdays_after_a_week() -> None:
    """Busy on Monday only (the first day). On Tuesday it expects what Monday was, at 7:00; on the next Monday, too; but by
    Tuesday a week later it knows Tuesdays."""
    week = [0, 7]
    at = [(24 * day + hour) * 3600 for day in week for hour in range(8, 12) for _ in range(6)]
    trace = make_trace(at, wait=3600, span_s=9 * 86400, start="2031-06-02T00:00:00", time_zone="Europe/Lisbon")
    rule = {
        "rule": "ahead", "measure": "in_progress", "target": 1, "margin": 0, "every": "1h", "floor": 1, "ceiling": 20,
    }  # fmt: skip
    plan = make_plan(make_tier(provision="1h"), scaling=rule)
    outcome = replay(trace, Service(slots=99, start="50m"), plan)
    orders = {divmod(d.at_s / 3600, 24): d.ordered for d in outcome.run.only.decisions if d.ordered}
    assert (orders[0, 9], orders[1, 7], orders[7, 7]) == (5, 5, 5)
    assert not any(day == 8 for day, _ in orders)


def test_ahead_takes_the_mean_of_as_many_weeks_as_it_learns_from() -> None:
    """Each week two a second more than the one before, 2 to 8; the last day saw nothing. With less than a week to learn
    from it is the mean of the days before: (0 + 8 + 8) / 3."""
    for learn, wanted in (("28d", 5), ("21d", 6), ("14d", 7), ("3d", 6)):
        rule = Ahead(measure="rate", target=1, margin=0, every="1d", learn=learn)
        decider = rule.begin(RuleSetting(0.0, 1.0, None))
        for day in range(28):
            rate = 0.0 if day == 27 else 2.0 + 2 * (day // 7)
            found = decider.wanted(
                Observation(at_s=86400.0 * (day + 1), ready=1, measures={"rate": rate, "ready": 1.0})
            )
        assert found.replicas == wanted


def test_what_ahead_has_learnt_late_is_of_when_it_was() -> None:
    """What it is told on a Wednesday is of Monday, two days before: five there, one on each other day."""
    rule = Ahead(measure="rate", target=1, margin=0, every="1d", lag="2d")
    decider = rule.begin(RuleSetting(0.0, 1.0, None))
    wanted = [
        decider.wanted(
            Observation(at_s=86400.0 * (day + 1), measures={"rate": 5.0 if day % 7 == 2 else 1.0, "ready": 1.0})
        ).replicas
        for day in range(28)
    ]
    assert [day for day in range(21, 28) if wanted[day] == 5] == [23, 27]  # as it is told, and as Monday begins


def test_ahead_sees_nothing_of_the_future() -> None:
    """Two traces that differ only after noon of the second day: the same decisions until then."""
    one, other = _days([(8, 12, 6)], days=2), _days([(8, 12, 6)], days=3)
    cut = [list(o.run.only.decisions[: 24 + 12]) for o in (one, other)]
    assert cut[0] == cut[1]


# -- a rule of one's own ---------------------------------------------------------------------------


def _study(tmp_path: Path, code: str, rule: str = "python:quay:rule", **more: Any) -> Path:
    (tmp_path / "quay.py").write_text(code)
    at = np.arange(60.0)
    columns = {"at_s": at, "cpu_s": np.full(60, 0.1), "wait_s": np.full(60, 0.4)}
    scaling = {"rule": rule, "every": "10s"} | more
    own = {"tier": "tidal", "scaling": scaling}
    return write_study(tmp_path, columns, {"tidal": SOLD["tidal"]}, {"own": own}, service={"slots": 2})


def _replay_own(path: Path) -> Outcome:
    study = load_study(path, trust_code=True)
    return replay(study.trace(), study.service, study.plans["own"])


def test_a_function_beside_the_study(tmp_path: Path) -> None:
    """It may look at everything, remember in `state`, and be given arguments."""
    code = """
def rule(seen, step):
    seen.state.setdefault("at", []).append(seen.at_s)
    assert seen.local_time is None and seen.measures["cpu"] > 0 and (seen.floor, seen.ceiling) == (1, 8)
    return len(seen.state["at"]) * step
"""
    outcome = _replay_own(_study(tmp_path, code, arguments={"step": 2}))
    wanted = [(d.at_s, d.wanted, d.measure, d.measured) for d in outcome.run.only.decisions[:5]]
    assert [row[:2] for row in wanted] == [(10, 2), (20, 4), (30, 6), (40, 8), (50, 10)]
    # What it looked at first is written down: ten requests of work 0.1 in 10 s, the last ending within.
    assert wanted[0][2:] == ("cpu", pytest.approx(0.1))
    assert outcome.run.only.decisions[4].held_by == "tier_most"


def test_arguments_are_numbers_as_written(tmp_path: Path) -> None:
    """Not the decimals that prices are read as; in lists and tables, too."""
    code = """
def rule(seen, step, more):
    kinds = {type(step), type(more["a"]), type(more["b"][0])}
    return 3 if kinds == {float} else 1
"""
    outcome = _replay_own(_study(tmp_path, code, arguments={"step": 0.5, "more": {"a": 1.5, "b": [2.5]}}))
    assert {d.wanted for d in outcome.run.only.decisions} == {3}


def test_a_class_is_made_anew_for_each_replay(tmp_path: Path) -> None:
    code = """
class rule:
    asked = 0
    def __call__(self, seen):
        self.asked += 1
        return self.asked
"""
    path = _study(tmp_path, code)
    assert [list(_replay_own(path).run.only.decisions.column("wanted")[:3]) for _ in range(2)] == [[1, 2, 3]] * 2


@pytest.mark.parametrize(
    ("code", "message"),
    [
        (
            "def rule(seen): return 1 / 0",
            r"at 10 s after the start: it failed with ZeroDivisionError.*ready = 1.*cpu = 0.1",
        ),
        (
            "def rule(seen): return 2.5",
            r"returned 2.5; allowed: a whole number of replicas, 0 or more; it saw ready = 1",
        ),
        ("def rule(seen): return -1", r"returned -1; allowed"),
        ("def rule(seen): return None", r"returned None; allowed"),
        ("def rule(seen): return True", r"returned True; allowed"),
        ("def rule(seen): return seen.measures['queue']", r"KeyError: .*'queue'; allowed: cpu, in_progress"),
    ],
)
def test_a_rule_that_fails(tmp_path: Path, code: str, message: str) -> None:
    with pytest.raises(ReplayError, match=message):
        _replay_own(_study(tmp_path, code))


@pytest.mark.parametrize(
    ("code", "rule", "message"),
    [
        ("rule = 3", "python:quay:rule", "has no function or class 'rule'"),
        ("def other(seen): return 1", "python:quay:rule", "has no function or class 'rule'"),
        ("import nothing_like_it", "python:quay:rule", "cannot be imported: ModuleNotFoundError: No module named"),
        ("", "python:jetty:rule", "looked for in jetty.py beside the study, and .* has no such file"),
        ("", "python:subprocess:Popen", "looked for in subprocess.py beside the study, and .* has no such file"),
        ("", "python:quay", 'allowed: "python:module:name"'),
        ("", "python:..quay:rule", 'allowed: "python:module:name"'),
        ("class rule:\n    pass", "python:quay:rule", "without a method __call__"),
        ("def rule(seen): return 1", "pythn:quay:rule", "rule: found 'pythn:quay:rule'; allowed: 'fixed', 'target'"),
    ],
)
def test_a_rule_that_cannot_be_used(tmp_path: Path, code: str, rule: str, message: str) -> None:
    with pytest.raises(StudyError, match=message):
        _replay_own(_study(tmp_path, code, rule))


def test_code_of_a_study_runs_with_consent_and_in_replays_only(tmp_path: Path) -> None:
    """Neither loading nor checking a study imports what stands beside it; a replay does, once somebody has consented."""
    told = tmp_path / "it_ran"
    path = _study(tmp_path, f"open({str(told)!r}, 'w').close()\ndef rule(seen): return 1")
    for trust in (False, True):
        check(load_study(path, trust_code=trust))
        assert not told.exists()
    for unasked in (
        compare,
        lambda study: replay(study.trace(), study.service, study.plans["own"]),
    ):
        with pytest.raises(StudyError, match="that was not allowed; allowed: --trust-code"):
            unasked(load_study(path))
    assert not told.exists()
    assert run(["compare", str(path)]) == 2
    assert run(["compare", str(path), "--trust-code"]) == 0
    assert told.exists()


def test_a_function_itself_needs_no_file() -> None:
    scaling = {"rule": lambda seen, n: n, "arguments": {"n": 3}, "every": "10s", "ceiling": 5}
    outcome = replay(make_trace([0, 55], cpu=1, span_s=60), Service(slots=1), make_plan(scaling=scaling))
    assert outcome.run.only.decisions[0].wanted == 3
    assert outcome.plan.only.scaling.rule == "python:test_rules:_lambda_"


def test_local_time_of_an_observation() -> None:
    outcome = _days([(8, 9, 1)], days=1)
    seen = Observation(at_s=5400, start=outcome.start)
    assert seen.local_time == outcome.start + timedelta(minutes=90)
