"""What a log has seen and what it has not: bottlenecks that are not in the study, overload, grades worth their word."""

from __future__ import annotations

import dataclasses
import importlib.util
import json
import re
import sys
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest

from libramen import Plan, Service, Tier, Trace, backtest, compare, doubt, headroom, load_study, search, unqueue
from libramen.base.units import about_money, about_share, show_rate
from libramen.cli import run
from libramen.load.evidence import busiest_minute, evidence_of
from libramen.load.totals import with_totals
from libramen.report.trust import title
from libramen.trace.source import Bottleneck
from libramen.trust.compared import Compared
from libramen.trust.grade import grade_of
from libramen.trust.held_back import Regimes
from libramen.trust.hours import Hour
from libramen.trust.other_loads import other_loads

if TYPE_CHECKING:
    from types import ModuleType

BENCHMARKS = Path(__file__).parents[1] / "benchmarks"


def _benchmark(name: str) -> ModuleType:
    spec = importlib.util.spec_from_file_location(name, BENCHMARKS / f"{name}.py")
    assert spec is not None
    assert spec.loader is not None
    module = sys.modules[name] = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


bottlenecks = _benchmark("hidden_bottlenecks")
overload = _benchmark("overload")


# -- a bottleneck that is not in the study -------------------------------------------------------


@pytest.mark.parametrize(
    ("kind", "load", "whole_seconds", "routes"),
    [
        ("database", 0.45, True, "all routes"),
        pytest.param("database", 0.3, False, "all routes", marks=pytest.mark.thorough),
        ("pool", 0.75, False, "all routes"),
        ("lock", 0.6, True, "/b"),
        pytest.param("lock", 0.3, True, "/c", marks=pytest.mark.thorough),
    ],
)
def test_a_hidden_bottleneck_is_found(kind: str, load: float, whole_seconds: bool, routes: str) -> None:
    case = bottlenecks.hidden(kind, load, 3, locked=["/a", "/b", "/c"].index(routes) if kind == "lock" else 0)
    assert case.cost >= 0.1
    said = bottlenecks.found(case, 3, whole_seconds=whole_seconds, with_server=False)
    assert said.endswith(f"% more work, {routes}"), said


@pytest.mark.parametrize(
    ("balancer", "load", "whole_seconds", "named", "alike"),
    [
        ("round_robin", 0.8, False, False, False),
        ("two_choices", 0.8, False, False, True),
        ("random", 0.5, True, True, False),
        ("shared_queue", 0.95, True, False, True),
        pytest.param("least_busy", 0.5, True, False, True, marks=pytest.mark.thorough),
    ],
)
def test_a_sound_log_raises_no_alarm(balancer: str, load: float, whole_seconds: bool, named: bool, alike: bool) -> None:
    """Queueing that is in the study, draws of a balancer, coarse stamps, work that is like the work before it."""
    case = bottlenecks.sound(balancer, load, 11, alike=alike)
    assert bottlenecks.found(case, 11, whole_seconds=whole_seconds, with_server=named) == "-"


def test_work_that_varies_over_the_day_is_no_bottleneck() -> None:
    """Twice the work when there is twice the load: common to both is the hour, not the others."""
    rng = np.random.default_rng(5)
    at_s = np.concatenate([3600 * hour + np.sort(rng.random(n) * 3600) for hour, n in enumerate((5000, 10000, 5000))])
    work_s = rng.exponential(np.where((at_s >= 3600) & (at_s < 7200), 0.08, 0.04))
    case = bottlenecks.Case("", at_s, work_s, np.zeros(len(at_s), int), Service(slots=64), bottlenecks.plan_of())
    assert bottlenecks.found(case, 5, whole_seconds=False, with_server=False) == "-"


@pytest.mark.parametrize("whole_seconds", [False, True])
@pytest.mark.filterwarnings("error")
def test_odd_logs_raise_no_alarm(whole_seconds: bool) -> None:
    """No work at all, all at one instant, a route for each request, the same work always."""
    rng = np.random.default_rng(1)
    any_s, service, plan = np.sort(rng.random(3000) * 1000), Service(slots=400), bottlenecks.plan_of()
    for at_s, latency_s, route in (
        (any_s, np.zeros(3000), np.zeros(3000, int)),
        (np.full(600, 5.0), np.full(600, 0.1), np.zeros(600, int)),
        (any_s, np.full(3000, 0.1), np.arange(3000) % 3),
        (any_s, np.where(np.arange(3000) % 2, 0.5, 0.1), np.arange(3000) % 3),
    ):
        case = bottlenecks.Case("", at_s, latency_s, route, service, plan)
        assert bottlenecks.found(case, 1, whole_seconds=whole_seconds, with_server=False) == "-"


STUDY = """
[study]
name = "quay"
[trace]
files = ["web.log"]
recorded_on = "today"
[objectives]
p95 = "400ms"
[tiers.berth]
billing = "per_hour"
replicas = { least = 1, most = 20 }
[tiers.berth.sizes.medium]
cores = 4
per_hour = 0.1
"""
ONE = """
[service]
slots = 16
[plans.today]
tier = "berth"
size = "medium"
replicas = 3
"""
TWO = """
[services.web]
slots = 16
[[services.web.calls]]
to = "database"
wait = { p50 = "8.3ms", p95 = "36ms" }
[services.database]
slots = 1
[plans.today.services.web]
tier = "berth"
size = "medium"
replicas = 3
[plans.today.services.database]
tier = "berth"
size = "medium"
"""


@pytest.fixture(scope="module")
def quay(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A web tier before a database of one core that is busy, and a study of the web tier alone."""
    folder = tmp_path_factory.mktemp("quay")
    case = bottlenecks.hidden("database", 0.6, 3, 12_000)
    begin = datetime(2031, 6, 5, 7, tzinfo=UTC)
    lines = []
    for i in np.argsort(case.at_s + case.latency_s, kind="stable").tolist():
        when = begin + timedelta(seconds=float(case.at_s[i] + case.latency_s[i]))
        stamp = f"{when:%d/%b/%Y:%H:%M:%S +0000}"
        lines.append(f'v - - [{stamp}] "GET /fares HTTP/1.1" 200 100 "-" "-" {case.latency_s[i]:.3f}')
    (folder / "web.log").write_text("\n".join(lines) + "\n")
    (folder / "one.toml").write_text(STUDY + ONE)
    (folder / "two.toml").write_text(STUDY + TWO)
    return folder


def test_a_bottleneck_is_said_first(quay: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """By every command that decides, with what it may be and what to add; and the grade is no better than rough."""
    path = str(quay / "one.toml")
    for command in (
        ["backtest", path],
        ["compare", path],
        ["headroom", path],
        ["search", path, "--plan", "today", "--vary", "replicas=2,3"],
        ["replay", path, "--plan", "today"],
    ):
        assert run(command) == 0
        out = capsys.readouterr().out.strip()
        assert out.startswith("Something slows these requests down that is not in the study"), command
        assert "[services.database]" in out
        if command[0] == "backtest":
            assert "quay: rough at loads like those logged (up to" in out
        if command[0] == "headroom":
            assert re.search(r"^today +\d+\.\d\d † ", out, re.MULTILINE)
            assert "The log has seen up to" in out
    study = load_study(path)
    found = backtest(study)
    assert found.grade.grade == "rough"
    assert found.trace.demand.bottleneck == found.evidence.demand.bottleneck
    assert "not in the study" in found.grade.reason
    document = json.loads(json.dumps(found.to_dict()))
    assert document["evidence"]["bottleneck"]["routes"] == ["/fares"]
    assert document["evidence"]["bottleneck"]["more"] >= 0.1
    assert json.loads(json.dumps(compare(study).to_dict()))["evidence"] == document["evidence"]
    assert search(study, "today", replicas=[2, 3]).to_dict()["evidence"]["bottleneck"]["everywhere"]
    assert run(["compare", path, "--json"]) == 0
    assert "is not in the study" in capsys.readouterr().err


def test_with_what_was_missing_the_alarm_is_over(quay: Path) -> None:
    """And headroom is a tenth of what the web tier alone seemed to have."""
    one, two = (load_study(quay / f"{name}.toml") for name in ("one", "two"))
    assert two.trace().demand.bottleneck is None
    (wrong,), (right,) = (headroom(study).plans for study in (one, two))
    assert wrong.holds_to is not None
    assert right.holds_to is not None
    assert wrong.holds_to > 5 > 2 > right.holds_to


def test_what_is_beyond_the_log_is_marked(quay: Path, capsys: pytest.CaptureFixture[str]) -> None:
    study = load_study(quay / "one.toml")
    trace = study.trace()
    seen = evidence_of(trace)
    assert seen.logged == seen.replayed == busiest_minute(trace)
    assert not seen.is_beyond()
    assert seen.is_beyond(1.1)
    twice = study.replace(trace={"shape": ({"scale": 2},)})
    more = compare(twice).evidence
    assert more is not None
    assert more.logged == seen.logged
    assert more.up_to == pytest.approx(0.5, rel=0.1)
    one, other = search(study, "today", vary={"replicas": [3, 4], "trace.scale": [1, 3]}).scenarios
    assert one.evidence == seen
    assert other.evidence is not None
    assert other.evidence.replayed == 3 * seen.replayed
    path = quay / "grown.toml"
    path.write_text((quay / "one.toml").read_text().replace("[objectives]", "shape = [{ scale = 2 }]\n[objectives]", 1))
    for command in (["compare", str(path)], ["search", str(path), "--plan", "today", "--vary", "replicas=3,4"]):
        assert run(command) == 0
        assert "Beyond the log: this load has up to" in " ".join(capsys.readouterr().out.split())
    own = Trace.from_arrays(at_s=[0.0, 1.0], cpu_s=[0.1, 0.1])
    assert evidence_of(own).up_to is None
    assert not evidence_of(own).is_beyond(100)


# -- overload ------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("balancer", "kind"),
    [
        ("least_busy", "lognormal"),
        pytest.param("shared_queue", "exponential", marks=pytest.mark.thorough),
        pytest.param("random", "two humps", marks=pytest.mark.thorough),
    ],
)
def test_a_noon_above_capacity_keeps_its_work(balancer: str, kind: str) -> None:
    """Whole-second stamps, an hour at 110 %: mean work, and p95 of each hour."""
    line, ratios = overload.row(overload.NOON, 4, 2, balancer, kind, whole_seconds=True, mean_s=2.0)
    mean, *quantiles = ratios
    assert abs(mean - 1) <= 0.03, line
    assert max(abs(ratio - 1) for ratio in quantiles[1:]) <= 0.15, line


def test_stretches_cut_off_by_a_time_out_are_left_as_they_are() -> None:
    """Where over 5 % of a stretch gave up, what its requests took says little of their work: that is said."""
    rng = np.random.default_rng(2)
    at_s = np.sort(rng.random(4000) * 1800)
    work_s = rng.exponential(0.5, 4000)
    latency_s = np.minimum(overload.in_turn(at_s, work_s, 1) - at_s, 5.0)
    status = np.where(latency_s >= 5.0, 499, 200)
    log = Trace.from_arrays(at_s=at_s, cpu_s=np.zeros(4000), latency_s=latency_s, status=status)
    log = dataclasses.replace(log, source=dataclasses.replace(log.source, whole_seconds=True))
    tier = Tier(billing="per_hour", sizes={"s": {"cores": 4, "per_hour": 1}}, replicas={"least": 1, "most": 9})
    found = unqueue(log, Service(slots=2), Plan(tier=tier, size="s", name="today"))
    assert any("cut off by a time-out" in note for note in found.source.notes)
    work_s, stretch = np.full(400, 0.5), np.repeat([0, 1], 200)
    kept_s, _ = with_totals(work_s, 2 * work_s, stretch, np.array([True, False]), lambda tried_s: tried_s)
    assert np.array_equal(kept_s[:200], work_s[:200])
    assert kept_s[200:] == pytest.approx(2 * work_s[200:], rel=0.005)


# -- the grade -----------------------------------------------------------------------------------


def _grade(hours: tuple[Hour, ...] = (), busiest: float = 1.0, in_sample: float = 1.0, **demand: Any) -> Any:
    def three(ratio: float) -> tuple[Compared, ...]:
        return tuple(Compared("all", name, 5000, 1.0, ratio) for name in ("p50", "p95", "p99"))

    log = Trace.from_arrays(at_s=np.arange(5000.0), cpu_s=np.zeros(5000), latency_s=np.full(5000, 3.0))
    log = log.knowing(busiest=41.3, **demand)
    return grade_of("today", three(in_sample), Regimes(three(1.0), three(1.0), three(busiest), 2.0), hours, log)


def test_the_grade_says_its_regime() -> None:
    assert title(_grade()) == "close at loads like those logged (up to 41 requests a second)"
    assert _grade(busiest=0.8).grade == "fair"
    assert "busiest tenth of its parts, of 2 times the load, is predicted from the quieter half within 19.9 %" in (
        _grade(busiest=0.8).reason
    )
    assert _grade(bottleneck=Bottleneck(("/a",), 0.3, True)).grade == "rough"
    assert _grade(in_sample=3.0, bottleneck=Bottleneck(("/a",), 0.3, True)).grade == "poor"


def test_the_grade_weighs_hours() -> None:
    """By their late and failed requests; a wrong noon is not close, unless it is chance; errors have a direction."""
    morning = Hour("hour Thu 09:00", 5000, 10, 0.01, "p95", by_chance=False)
    noon = Hour("hour Thu 12:00", 5000, 90, -0.44, "p95", by_chance=False)
    wrong = _grade((morning, noon))
    assert wrong.grade == "rough"
    assert wrong.hourly == pytest.approx(0.9 * 0.44 + 0.1 * 0.01)
    assert "In hour Thu 12:00 p95 is 44.0 % too short, more than chance explains." in wrong.reason
    assert "too hopeful: requests took longer in the log" in wrong.reason
    assert _grade((morning, replace(noon, by_chance=True))).grade == "close"
    assert _grade((morning, replace(noon, weight=0, off=0.3))).grade == "fair"  # nobody was late, and it is wrong
    few = _grade((morning, replace(noon, weight=0, off=0.3, requests=999)))
    assert few.grade == "close"
    assert "too cautious" in few.reason
    both = _grade((replace(morning, off=0.3, weight=50), noon))
    assert "too hopeful" not in both.reason
    assert "too cautious" not in both.reason


def test_an_hour_that_does_not_fit(quay: Path, tmp_path: Path) -> None:
    """An hour in which everything took twice as long, whoever came: with quiet work it is far too short."""
    rng = np.random.default_rng(8)
    at_s = np.concatenate([3600 * hour + np.sort(rng.random(n) * 3600) for hour, n in enumerate((2000, 5000, 2000))])
    latency_s = rng.exponential(0.2, 9000) * np.where((at_s > 3600) & (at_s < 7200), 2.0, 1.0)
    rows = [f"{at:.3f},{took:.3f}" for at, took in zip(at_s.tolist(), latency_s.tolist(), strict=True)]
    (tmp_path / "log.csv").write_text("at_s,latency_s\n" + "\n".join(rows) + "\n")
    text = (quay / "one.toml").read_text().replace("web.log", "log.csv")
    (tmp_path / "study.toml").write_text(text.replace("[objectives]", 'demand = "quiet"\n[objectives]', 1))
    found = backtest(load_study(tmp_path / "study.toml"))
    assert [one.name for one in found.hours] == ["hour 0", "hour 1", "hour 2"]
    assert found.hours[1].weight > found.hours[0].weight
    assert found.hours[1].off < -0.2
    assert found.grade.busiest is not None
    assert "of 2.5 times the load, is predicted from the quieter half" in found.grade.reason
    assert not found.hours[1].by_chance
    assert found.grade.grade != "close"


# -- what would change the verdict ---------------------------------------------------------------


def test_other_loads() -> None:
    """More and fewer users, a burst half and twice as high, another day."""
    rng = np.random.default_rng(4)
    base, extra = rng.random(20_000) * 86_400, 43_200 + rng.random(5000) * 1800
    at_s = np.sort(np.concatenate([base, extra]))
    trace = Trace.from_arrays(at_s=at_s, cpu_s=np.ones(len(at_s)), span_s=86_400, start="2031-06-05", time_zone="UTC")
    load, burst, arrivals = other_loads(trace, 0)
    assert [len(one) / len(trace) for _, one in load.ends] == pytest.approx([0.8, 1.2], abs=0.02)
    assert burst.from_ == "Thu 12:00 to 12:30"

    def at_noon(one: Trace) -> int:
        return int(np.count_nonzero((one.at_s >= 43_200) & (one.at_s < 45_000)))

    usual = at_noon(trace) - 5000
    assert [at_noon(one) - usual for _, one in burst.ends] == pytest.approx([2500, 10_000], rel=0.05)
    for _, one in burst.ends:  # and nothing else is another
        assert len(one) - at_noon(one) == len(trace) - at_noon(trace)
    one, other = (one for _, one in arrivals.ends)
    assert len(one) == len(other) == len(trace)
    assert not np.isin(one.at_s, trace.at_s).any()
    assert not np.isin(one.at_s, other.at_s).any()
    assert at_noon(one) == pytest.approx(at_noon(trace), rel=0.05)
    days = Trace.from_arrays(
        at_s=np.concatenate([np.linspace(0, 86_000, 100), 86_400 + np.linspace(0, 86_000, 50), [172_900.0]]),
        cpu_s=np.ones(151), span_s=180_000, start="2031-06-05", time_zone="UTC",
    )  # fmt: skip
    load, arrivals = other_loads(days, 0)
    assert [name for name, _ in arrivals.ends] == ["all as Fri 06 Jun", "all as Thu 05 Jun"]
    assert [len(one) for _, one in arrivals.ends] == [105, 209]


def test_a_doubt_about_the_load(quay: Path) -> None:
    study = load_study(quay / "one.toml")
    trace = study.trace()
    found = doubt(study, compare(study, trace=trace), trace=trace)
    assert {"load", "arrivals", "work", "cpu_share"} <= {one.parameter for one in found}


def test_figures_in_sentences() -> None:
    """As exactly as they can bear, and never so rough that they look met where they are missed."""
    assert [about_money(amount, "EUR") for amount in (137.28, 65.14, 8.421, 1374)] == [
        "137 EUR", "65.1 EUR", "8.42 EUR", "1,370 EUR",
    ]  # fmt: skip
    assert about_money(150.04, "EUR", 150) == "150.04 EUR"
    assert [about_share(share, 0.9995) for share in (0.9178, 0.999863, 0.99949, 1.0)] == [
        "91.7 %", "99.98 %", "99.94 %", "100 %",
    ]  # fmt: skip
    assert about_share(0.94999, 0.95) == "94.9 %"
    assert (show_rate(41.3), show_rate(2.04), show_rate(0.25)) == (
        "41 requests a second", "2 requests a second", "15 requests a minute",
    )  # fmt: skip
