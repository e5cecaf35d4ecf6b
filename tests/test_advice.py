"""What is said is what was measured: causes, releases on an overload, stretches, numbers that can hardly be meant."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest

from builders import demo_in, make_plan, make_tier, make_trace, plain_study
from libramen import Objectives, Outcome, ReplayError, Service, StudyError, Trace, check, events, load_study, replay
from libramen.base.times import parse_moment
from libramen.cli import run
from libramen.report.events import sentence
from libramen.report.stretch import stretch_notes, stretch_title
from libramen.study.unusual import unusual_values
from libramen.trace.implausible import unit_doubts

if TYPE_CHECKING:
    from pathlib import Path


# -- a cause is named where its opposite was ruled out ------------------------------------------------


def _full(cpu: float, wait: float) -> Outcome:
    """Two slots on one core that are always taken: CPU use is 2 cpu / (cpu + wait), or all of it."""
    trace = make_trace(np.arange(0.0, 900.0, 0.4).tolist(), cpu=cpu, wait=wait, span_s=900)
    return replay(trace, Service(slots=2, backlog=3, threads=2), make_plan(make_tier(), replicas=1))


@pytest.mark.parametrize(
    ("cpu", "wait", "kind", "says"),
    [
        (0.2, 0.8, "slots_full", "more slots or more replicas would help"),
        (0.36, 0.5, "slots_and_cpu_full", "both are short"),
        (1.0, 0.0, "cpu_full", "requests took turns"),
    ],
)
def test_slots_or_cpu_or_both(cpu: float, wait: float, kind: str, says: str) -> None:
    found = {finding.kind: finding.text for finding in _full(cpu, wait).findings}
    assert {"slots_full", "slots_and_cpu_full", "cpu_full"} & set(found) == {kind}
    assert says in found[kind]
    assert "would not" not in found[kind]


# -- releases on a plan that is overloaded without them -----------------------------------------------


def _overloaded(replicas: int, **rollout: Any) -> Outcome:
    rng = np.random.default_rng(1)
    at = np.sort(rng.uniform(0, 3600, 20_000))
    trace = Trace.from_arrays(at, rng.exponential(0.7, len(at)), rng.exponential(0.3, len(at)), span_s=3600)
    plan = make_plan(make_tier(), replicas=replicas, rollouts=[{"at": "30m", "strategy": "stop_start"} | rollout])
    return replay(trace, Service(slots=2, backlog=5, timeout=4, start=20), plan, Objectives(availability="99%"))


def test_what_a_release_costs_a_plan_that_is_overloaded_anyway() -> None:
    (event,) = _overloaded(3, strategy="canary", steps=[{"share": "10%", "hold": "5m"}]).happened
    outcome = _overloaded(3)
    (event,) = outcome.happened
    assert event.overloaded
    assert event.failed_without is not None
    assert event.failed_without > 1000
    said = sentence(outcome, event)
    assert "the plan is overloaded then with or without it" in said
    fewer = replace(event, failed=-3576, budget_share=None)
    assert "3,576" not in sentence(outcome, fewer)
    assert "and no more with it." in sentence(outcome, fewer)
    (healthy,) = _overloaded(9).happened
    assert not healthy.overloaded
    assert (healthy.failed or 0) > 0


def test_no_budget_is_negative(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    study = load_study(demo_in(tmp_path / "landing", "landing"))
    small = study.replace(plans={"noon": {"replicas": 2, "size": "small"}})
    # Nine times the load: whatever is done, requests fail.
    at = np.sort(np.random.default_rng(2).uniform(0, 86400, 600_000))
    trace = Trace.from_arrays(at, np.full(len(at), 0.4), span_s=86400, start="2031-06-05", time_zone=study.time_zone)
    found = events(small, "noon", trace=trace)
    ways = [way for entry in found.entries for way in entry.ways if way.events]
    assert any((way.failed or 0) < 0 for way in ways)  # or nothing is tested
    for way in ways:
        assert all(event.budget_share is None or event.budget_share >= 0 for event in way.events)
    shown = found._repr_html_()
    assert "overloaded" in shown
    assert ">-" not in shown.replace(">-<", "")
    found.plot()


# -- a stretch speaks of itself -----------------------------------------------------------------------


def test_a_stretch_is_about_what_arrived_in_it(hour_study: Path, capsys: pytest.CaptureFixture[str]) -> None:
    study = load_study(hour_study)
    outcome = replay(study.trace(), study.service, study.plans["noon_release"], study.objectives)
    rows = outcome.requests
    from_s, to_s = 1700.0, 2400.0
    found = outcome.stretch(from_s, to_s)
    mine = rows[(rows["at_s"] >= from_s) & (rows["at_s"] < to_s)]
    assert found.n_requests == len(mine)
    assert found.endings == {name: int((mine["ending"] == name).sum()) for name in found.endings}
    ok = np.sort(mine["latency_s"][mine["ending"] == "ok"])
    assert found.latency_s["p95"] == ok[int(np.ceil(0.95 * len(ok))) - 1]
    limit = float(study.objectives.p95 or 0)
    assert found.within["p95"] == pytest.approx((ok <= limit).sum() / len(mine))
    (fleet,) = found.fleets.values()
    ready = outcome.series.set_index("at_s")["ready"]
    assert fleet.mean == pytest.approx(ready[(ready.index >= 1740) & (ready.index < 2400)].mean(), rel=0.1)
    (release,) = found.events
    assert from_s <= release.at_s < to_s
    notes = " ".join(stretch_notes(outcome, found))
    assert f"{found.failed:,} of {found.n_requests:,} requests failed" in notes
    assert "release." in notes
    assert "requests answered" in stretch_title(outcome, found)
    for wrong in ((2400, 1700), (0, outcome.span_s + 1)):
        with pytest.raises(ReplayError, match="allowed: a stretch of the trace"):
            outcome.stretch(*wrong)
    settled = replay(study.trace(), study.service, study.plans["noon_release"], study.objectives, settle=2000)
    assert settled.stretch(from_s, to_s).n_requests == (mine["at_s"] >= 2000).sum()
    quiet = outcome.stretch(0.0, 1e-6)
    assert quiet.n_requests == 0
    assert "no requests" in stretch_title(outcome, quiet)


def test_the_command_shows_the_stretch_alone(
    hour_study: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    plot = tmp_path / "s.svg"
    call = ["replay", str(hour_study), "--plan", "brisk", "--from", "12:00", "--to", "12:10"]
    assert run([*call, "--plot", str(plot)]) == 0
    shown = capsys.readouterr().out
    study = load_study(hour_study)
    outcome = replay(study.trace(), study.service, study.plans["brisk"], study.objectives)
    found = outcome.stretch(1800, 2400)
    assert "brisk, 12:00:00 to 12:10:00" in shown
    assert "a month" not in shown
    text = plot.read_text()
    assert f"{found.n_requests:,} requests" in text
    assert f"{outcome.n_requests:,} requests" not in text
    assert run([*call, "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["stretch"]["requests"] == found.n_requests
    assert run(["replay", str(hour_study), "--plan", "brisk", "--from", "peak"]) == 0
    peak_s = 60 * int(np.argmax(np.bincount((outcome.trace.at_s // 60).astype(int))))
    local = outcome.trace.local_time(max(0, peak_s - 900))
    assert f"brisk, {local:%H:%M:%S} to" in capsys.readouterr().out


def test_a_time_of_day_needs_its_day_in_a_trace_of_days(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rows = "".join(f"2031-06-0{day}T{hour:02}:30:00Z,0.1\n" for day in range(2, 6) for hour in range(24))
    (tmp_path / "t.csv").write_text("time,cpu_s\n" + rows)
    study = plain_study(tmp_path, {"files": "t.csv"})
    call = ["replay", str(study), "--plan", "p", "--from"]
    assert run([*call, "17:00"]) == 2
    assert (
        "'17:00' in a trace of several days; allowed: with its day, such as \"Mon 02 Jun 17:00\""
        in capsys.readouterr().err
    )
    for told in ("Wed 17:00", "Wed 04 Jun 17:00:00", "2031-06-04T17:00:00"):
        assert run([*call, told, "--to", "Thu 01:00"]) == 0
        assert "p, Wed 04 Jun 17:00:00 to Thu 05 Jun 01:00:00" in capsys.readouterr().out


@pytest.mark.parametrize("text", ["Wd 17:30", "Wed 17:30 x", "wed", "Wed 32 Foo 12:00", "peak 3", "Wed 25:00"])
def test_days_that_are_none(text: str) -> None:
    with pytest.raises(ValueError, match='"Wed 17:30"'):
        parse_moment(text)


def test_a_weekday_is_no_daily_time() -> None:
    """Nor a time of a timetable, which has days of its own."""
    scaling = {"rule": "fixed", "timetable": [{"at": "Wed 07:00", "floor": 2}]}
    with pytest.raises(StudyError, match=r"timetable\[1\]"):
        make_plan(scaling=scaling)


# -- numbers that can hardly be meant ------------------------------------------------------------------


def _unusual(path: Path, **changes: Any) -> Path:
    use = {"grow": "8%", "start": 5, "timeout": 30, "availability": "99.9%", "provision": 90, "speed": 1.2} | changes
    return plain_study(
        path,
        {"files": "t.csv", "shape": [{"grow": use["grow"]}]},
        tier={"provision": use["provision"]},
        size={"speed": use["speed"]},
        service={"slots": 2, "start": use["start"], "timeout": use["timeout"]},
        objectives={"availability": use["availability"]},
    )


@pytest.mark.parametrize(
    ("key", "value", "says"),
    [
        ("grow", 8, r"\[trace.shape\[1\]\] grow is 800.0 %"),
        ("start", 5000, r"\[service\] start is 1 h 23 min; usual is at most 30 min"),
        ("timeout", 30000, r"\[service\] timeout is 8 h 20 min; usual is at most 15 min"),
        ("availability", "0.1%", r"\[objectives\] availability is 0.1 %; usual is at least 50.0 %"),
        ("provision", 90000, r"\[tiers.t\] provision is 1 d 1 h; usual is at most 2 h"),
        ("speed", 2400, r"\[tiers.t.sizes.s\] speed is 2,400; usual is at most 20"),
    ],
)
def test_unusual_numbers_are_asked_about_before_anything_else(
    key: str, value: Any, says: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "t.csv").write_text("at_s,cpu_s\n0,0.1\n60,0.1\n")
    assert unusual_values(load_study(_unusual(tmp_path))) == ()
    path = _unusual(tmp_path, **{key: value})
    study = load_study(path)
    (doubt,) = unusual_values(study)
    with pytest.raises(AssertionError, match=says):
        raise AssertionError(doubt)
    assert check(study).to_dict()["doubts"] == [doubt]
    assert run(["check", str(path)]) == 0
    assert capsys.readouterr().out.lstrip().startswith(f"Can this be meant?\n- {doubt}")
    for command in (["compare", str(path)], ["replay", str(path), "--plan", "p"]):
        assert run([*command, "--json"]) == 0
        assert f"Can this be meant? {doubt}" in capsys.readouterr().err


def test_latencies_in_another_unit_are_asked_about() -> None:
    rng = np.random.default_rng(3)
    at = np.cumsum(rng.exponential(1 / 19, 5000))
    sound = Trace.from_arrays(at, np.zeros(5000), latency_s=rng.exponential(0.3, 5000))
    assert unit_doubts(sound) == ()
    for factor, says in ((1000, "half of the requests take"), (200, "in progress at a time")):
        odd = Trace.from_arrays(at, np.zeros(5000), latency_s=np.asarray(sound.latency_s) * factor)
        (doubt,) = unit_doubts(odd)
        assert says in doubt
        assert "latency_unit" in doubt


def test_a_timetable_that_takes_nothing_away(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("time,cpu_s\n2031-06-05T00:00:00Z,0.1\n2031-06-05T23:00:00Z,0.1\n")
    at = [{"at": "07:00", "floor": 6}, {"at": "22:00", "floor": 2}, {"at": "22:00", "floor": 4}]
    for times, n in ((at[:2], 1), ([at[0], at[2]], 0), ([at[1] | {"ceiling": 2}], 0)):
        plans = {"p": {"replicas": 4, "scaling": {"rule": "fixed", "timetable": times}}}
        path = plain_study(tmp_path, {"files": "t.csv"}, plans, tier={"autoscaling": True})
        found = unusual_values(load_study(path))
        assert len(found) == n, found
        assert all("a floor of 2 takes no replica away" in doubt for doubt in found)


@pytest.mark.parametrize(
    ("kind", "says"),
    [
        ({"route": "/helth"}, "did you mean route '/health'"),
        ({"route": "/nothing/like/it*"}, "matches no request: route '/nothing/like/it*'"),
        ({"status": "499"}, "its statuses are 200"),
        ({"agent": "*chekker*"}, "did you mean agent 'checker'"),
        ({"longer": "1h"}, "the longest took 250 ms"),
    ],
)
def test_what_matches_nothing_says_what_there_is(kind: Any, says: str, tmp_path: Path) -> None:
    line = 'h - - [05/Jun/2031:09:30:{:02} +0100] "GET {} HTTP/1.1" 200 10 "-" "{}" 0.250\n'
    log = "".join(line.format(k, "/health" if k % 2 else "/a", "checker" if k % 2 else "browser") for k in range(60))
    (tmp_path / "a.log").write_text(log)
    path = plain_study(tmp_path, {"files": "a.log", "leave_out": [kind]})
    notes = load_study(path).trace().source.notes
    assert any(says in note for note in notes), notes
