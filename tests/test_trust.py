"""How far to trust a replay: backtests, fits, doubts, and CPU work from measured use."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

import numpy as np
import pytest

from builders import make_trace, plain_study
from libramen import StudyError, Trace, TraceError, backtest, compare, doubt, fit, load_study
from libramen.cli import run
from libramen.load.cpu_use import CpuUse, cpu_per_route, read_cpu_use, throughput
from libramen.load.explain import likely_cpu_share
from libramen.report.trust import title
from libramen.trust.compared import all_percentiles
from libramen.trust.grade import kept_grade
from test_unqueue import CASES, accuracy

if TYPE_CHECKING:
    from pathlib import Path

    from libramen import Backtest


@pytest.fixture(scope="module")
def busy(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A study of a busy log with stamps of milliseconds, and the plan on which it was recorded."""
    folder = tmp_path_factory.mktemp("trust")
    hidden, latency_s = accuracy.truth_of(CASES["1 replica, 4 slots, load 0.6"], "exponential", 15_000)
    accuracy.write_log(folder / "log.csv", hidden.at_s, latency_s, whole_seconds=False)
    (folder / "study.toml").write_text(
        """
[trace]
files = ["log.csv"]
stamp = "answer"
recorded_on = "today"
shape = [{ scale = 0.5 }]
[service]
slots = 4
start = "5s"
[objectives]
p95 = "200ms"
[tiers.berth]
billing = "per_hour"
replicas = { least = 1, most = 10 }
provision = "30s"
[tiers.berth.sizes.medium]
cores = 4
per_hour = 0.1
[tiers.berth.sizes.small]
cores = 0.7
per_hour = 0.03
[plans.today]
tier = "berth"
size = "medium"
[plans.small]
tier = "berth"
size = "small"
replicas = 2
"""
    )
    return folder / "study.toml"


@pytest.fixture(scope="module")
def found(busy: Path) -> Backtest:
    return backtest(load_study(busy))


def test_a_backtest(found: Backtest) -> None:
    """Shaping is left out; the replay is near the log in all, and in the parts that were held back."""
    assert len(found.trace) == 15_000
    assert found.grade.grade in {"close", "fair"}
    assert found.grade.in_sample < 0.02
    assert found.grade.held_back is not None
    assert found.grade.held_back < 0.25
    scopes = {one.scope for one in found.figures}
    assert "all" in scopes
    assert any(scope.startswith("in progress") for scope in scopes)
    for one in found.figures:
        assert one.off == pytest.approx(max(0, abs(one.replayed_s - one.logged_s) - 1e-3) / one.logged_s)
    assert found.failed == (0, 0)
    assert found.replicas == {"service": ((0.0, 1),)}
    document = json.loads(json.dumps(found.to_dict(), allow_nan=False))
    assert list(document)[:5] == ["plan", "demand", "requests", "grade", "reason"]
    assert set(document["figures"][0]) == {"scope", "quantile", "requests", "logged_s", "replayed_s"}
    assert {"held back: all", "all"} <= set(found.table["scope"])


def test_a_wrong_work_gets_a_bad_grade(busy: Path) -> None:
    """Queueing counted as work: the replay is far slower than the log."""
    study = load_study(busy).replace(trace={"demand": "observed", "shape": ()})
    wrong = backtest(study, cache=False)
    assert wrong.grade.grade == "poor"
    assert wrong.grade.in_sample > 1


def test_the_grade_stands_at_the_foot(busy: Path, capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """Of what comes later of the same study; a changed study has none."""
    assert run(["backtest", str(busy), "--plot", str(tmp_path / "b.png")]) == 0
    out = capsys.readouterr().out
    assert "held back" in out
    assert (tmp_path / "b.png").read_bytes().startswith(b"\x89PNG")
    grade = kept_grade(load_study(busy))
    assert grade is not None
    for command in (["compare"], ["replay", "--plan", "small"]):
        assert run([command[0], str(busy), *command[1:]]) == 0
        assert capsys.readouterr().out.strip().endswith(f"How far to trust this: {title(grade)}. {grade.reason}")
    assert kept_grade(load_study(busy).replace(service={"slots": 5})) is None
    assert run(["backtest", str(busy), "--json", "--strict"]) == 0
    assert json.loads(capsys.readouterr().out)["grade"] == grade.grade


def test_what_cannot_be_tested(hour_study: Path, busy: Path) -> None:
    study = load_study(busy)
    with pytest.raises(StudyError, match="recorded_on is missing"):
        backtest(study.replace(trace={"recorded_on": None, "demand": "observed"}))
    with pytest.raises(StudyError, match="unknown key 'slot'; did you mean 'slots'"):
        fit(load_study(hour_study), ["slot"])


def test_a_fit_finds_the_slots(busy: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Whatever the study says; and what cannot be told is not told."""
    study = load_study(busy)
    (slots,) = fit(study.replace(service={"slots": 9}), ["slots"])
    assert (slots.best, slots.tells, slots.now) == (4, True, 9)
    assert slots.low <= 4 <= slots.high < 9
    assert slots.line.startswith("slots = 4")
    assert run(["backtest", str(busy), "--fit", "slots", "--json"]) == 0
    document = json.loads(capsys.readouterr().out)
    assert document["fit"][0]["best"] == 4
    assert run(["backtest", str(busy), "--fit", "slots"]) == 0
    assert "What the log tells of the recorded plan" in capsys.readouterr().out


def test_an_idle_server_says_nothing_of_its_slots(tmp_path: Path) -> None:
    hidden, latency_s = accuracy.truth_of(CASES["1 replica, 4 slots, load 0.3"], "two humps", 4000)
    at_s = hidden.at_s * 10  # a load of 0.03
    accuracy.write_log(tmp_path / "log.csv", at_s, hidden.wait_s + hidden.cpu_s, whole_seconds=False)
    del latency_s
    said = {"files": ["log.csv"], "stamp": "answer", "recorded_on": "p"}
    study = load_study(plain_study(tmp_path, said, size={"cores": 8}, service={"slots": 8}))
    (slots,) = fit(study, ["slots"])
    assert slots.high == max(value for value, _ in slots.tried)
    assert "tells nothing of how many slots" in " ".join(study.trace().source.notes)


def test_doubts_of_a_verdict(busy: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Twice the CPU share, and the small size does not do any more."""
    study = load_study(busy)
    trace = study.trace()
    comparison = compare(study, trace=trace)
    doubts = {one.parameter: one for one in doubt(study, comparison, trace=trace)}
    assert set(doubts) == {"load", "arrivals", "cpu_share", "work", "cold start"}
    assert comparison.cheapest is not None
    share = doubts["cpu_share"]
    assert (share.low.value, share.high.value) == ("20.0 %", "80.0 %")
    assert share.from_ == "a guess, 40 %"
    for one in doubts.values():
        for end in (one.low, one.high):
            assert (end.verdict == "holds") == (end.cheapest == comparison.cheapest.plan)
    assert doubts["cold start"].weight == (0, 0)
    assert run(["compare", str(busy), "--doubt", "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)["doubt"]) == 5
    assert run(["compare", str(busy), "--doubt"]) == 0
    out = capsys.readouterr().out
    assert "verdict there" in out
    assert "is a guess (40 %): --doubt shows" in out


def test_a_log_that_was_busy_on_shared_cores_tells_its_cpu_share(tmp_path: Path) -> None:
    """From how latencies stretch with the number in progress; one without shared cores says nothing."""
    for name, share in (("8 slots on two cores, load 0.8", 0.3), ("event loop, load 0.8", 0.5)):
        case = CASES[name]._replace(share=share)
        hidden, latency_s = accuracy.truth_of(case, "exponential", 12_000)
        log = Trace.from_arrays(at_s=hidden.at_s, cpu_s=np.zeros(12_000), latency_s=latency_s)
        found = likely_cpu_share(log, case.service, case.plan().only, 0)
        assert found is not None
        assert found.tells
        assert found.low <= share <= found.high <= found.low + 0.3
    case = CASES["1 replica, 4 slots, load 0.6"]
    hidden, latency_s = accuracy.truth_of(case, "exponential", 3000)
    log = Trace.from_arrays(at_s=hidden.at_s, cpu_s=np.zeros(3000), latency_s=latency_s)
    assert likely_cpu_share(log, case.service, case.plan().only, 0) is None
    case = CASES["4 workers on one core, load 0.8"]
    hidden, latency_s = accuracy.truth_of(case, "exponential", 8000)
    accuracy.write_log(tmp_path / "log.csv", hidden.at_s, latency_s, whole_seconds=False)
    (tmp_path / "study.toml").write_text(
        '[trace]\nfiles = ["log.csv"]\nstamp = "answer"\nrecorded_on = "p"\n[service]\nslots = 4\n[tiers.t]\n'
        'billing = "per_hour"\n[tiers.t.sizes.s]\ncores = 1\nper_hour = 1\n[plans.p]\ntier = "t"\nsize = "s"\n'
    )
    trace = load_study(tmp_path / "study.toml").trace(cache=False)
    assert any("cpu_share is" in note and "guess" not in note for note in trace.source.notes)
    assert trace.wait_s.mean() < 0.15 * trace.cpu_s.mean()


# -- CPU work from measured use ------------------------------------------------------------------


def _measured(noise: float, cost: dict[str, float], *, together: bool = False) -> tuple[Trace, CpuUse]:
    """A day of minutes: three routes that come and go, and what their fleet used."""
    rng = np.random.default_rng(8)
    hours = np.arange(0, 24, 1 / 60)
    rates = {
        "/a": 3 + 2 * np.sin(hours / 4),
        "/b": 2 + 1.5 * np.sin(hours / 2 + 1),
        "/c": 1 + 0.9 * np.sin(hours * 1.3 + 2),
    }
    if together:
        rates["/b"] = 0.5 * rates["/a"]
    at_s, route = [], []
    counts = {}
    for name, rate in rates.items():
        n = rng.poisson(60 * rate) if not (together and name == "/b") else counts["/a"] // 2
        counts[name] = n
        at_s.append(np.repeat(60 * np.arange(1440), n) + rng.uniform(0, 60, int(n.sum())))
        route += [name] * int(n.sum())
    times = np.concatenate(at_s)
    order = np.argsort(times)
    trace = Trace.from_arrays(
        at_s=times[order], cpu_s=np.zeros(len(times)), latency_s=rng.exponential(0.3, len(times)),
        route=np.array(route)[order], span_s=86_400, start="2031-06-05T00:00:00+00:00",
    )  # fmt: skip
    use = CpuUse(60.0 * np.arange(1440), np.full(1440, 60.0), np.zeros(1440))
    spent = throughput(trace, use) @ np.array([cost[name] for name in trace.routes])
    return trace, use._replace(cores=spent / 60 * (1 + noise * rng.standard_normal(1440)))


def test_cpu_per_route_is_found_in_noise() -> None:
    """Within 5 % with three routes, a day of minutes and 5 % of noise; exactly without."""
    cost = {"/a": 0.02, "/b": 0.11, "/c": 0.06}
    exact, _, unexplained = cpu_per_route(*_measured(0.0, cost))
    for route in exact:
        assert route.core_s == pytest.approx(cost[route.route], rel=1e-6)
    assert unexplained < 1e-9
    noisy, base, _ = cpu_per_route(*_measured(0.05, cost))
    for route in noisy:
        assert route.core_s == pytest.approx(cost[route.route], rel=0.05)
        assert abs(route.core_s - cost[route.route]) < 4 * route.error
        assert route.alike == ""
    assert base < 0.02


def test_routes_that_always_come_together_cannot_be_told_apart() -> None:
    cost = {"/a": 0.02, "/b": 0.11, "/c": 0.06}
    found = {route.route: route for route in cpu_per_route(*_measured(0.05, cost, together=True))[0]}
    assert (found["/a"].alike, found["/b"].alike, found["/c"].alike) == ("/b", "/a", "")
    assert found["/b"].error > 5 * found["/c"].error
    assert found["/c"].core_s == pytest.approx(0.06, rel=0.05)


def test_throughput_counts_every_request_once() -> None:
    """Also those that are in progress over several intervals."""
    trace = Trace.from_arrays(
        at_s=[10.0, 50, 70], cpu_s=[0.0] * 3, latency_s=[5.0, 40, 130], route=["a", "b", "a"], span_s=300
    )
    use = CpuUse(60.0 * np.arange(5), np.full(5, 60.0), np.zeros(5))
    found = throughput(trace, use)
    np.testing.assert_allclose(found.sum(axis=0), [2, 1])
    np.testing.assert_allclose(found[:, 1], [0.25, 0.75, 0, 0, 0])
    np.testing.assert_allclose(found[:, 0], [1, 50 / 130, 60 / 130, 20 / 130, 0])


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("time,load\n2031-06-05T00:00:00Z,1\n", "allowed: time .or at_s., and cores or share"),
        ("at_s,share\n0,0.5\n60,0.5\n", "a share is of the cores of a fleet, and which one is not said"),
        ("at_s,cores\n0,0.5\n0,0.5\n", "a time twice"),
        ("at_s,cores\n0,-1\n60,0.5\n", "numbers of 0 or more in every row"),
        ("at_s,cores\n0,x\n60,0.5\n", "found 'x'; allowed: a number"),
        ("time,cores\n2031-06-05T00:00:00Z,1\n2031-06-05T00:01:00Z,1\n", "intervals are in the time of the log"),
    ],
)
def test_cpu_use_that_cannot_be_used(text: str, sentence: str, tmp_path: Path) -> None:
    (tmp_path / "cpu.csv").write_text(text)
    trace = Trace.from_arrays(
        at_s=[1.0], cpu_s=[0.0], latency_s=[1.0], span_s=86_400, start="2031-06-05T00:00:00+00:00"
    )
    with pytest.raises(TraceError, match=sentence):
        read_cpu_use(tmp_path / "cpu.csv", trace, None)


def test_the_demo_measures_its_cpu_work(hour_study: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """40 % of the work of every route is CPU work; what an hour leaves open is said."""
    trace = load_study(hour_study).trace()
    cpu = {route.route: route for route in trace.demand.cpu}
    assert set(cpu) == set(trace.routes)
    for route, median_s, spread in (("/timetable", 0.055, 0.45), ("/tickets/scan", 0.035, 0.35)):
        truth = 0.4 * median_s * np.exp(spread**2 / 2)
        assert abs(cpu[route].core_s - truth) < 4 * cpu[route].error
    assert any("is uncertain" in note for note in trace.source.notes)
    assert run(["check", str(hour_study), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["trace"]["demand_cpu"]
    assert {route["route"]: route["core_s"] for route in told} == {name: one.core_s for name, one in cpu.items()}
    assert run(["check", str(hour_study)]) == 0
    assert "CPU measured" in capsys.readouterr().out
    assert trace.demand_in_words == "unqueued"


def test_each_request_is_in_one_of_the_groups_by_how_many_were_in_progress() -> None:
    """A request a second; each other one takes 3.5 s: it finds one, or two, or none at the begin."""
    n = 4000
    latency_s = np.where(np.arange(n) % 2 == 0, 3.5, 0.5)
    trace = make_trace(np.arange(float(n)).tolist(), wait=latency_s.tolist(), span_s=n + 9, latency_s=latency_s)
    found = [one for one in all_percentiles(trace, latency_s, latency_s, 0) if one.scope.startswith("in progress")]
    assert len({one.scope for one in found}) > 1
    assert sum(one.requests for one in found if one.quantile == "p50") == n


def test_work_that_a_study_says_is_no_measurement(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """One request a second of half a second, 40 % of it on the CPU as nobody knows: twice as much and it is too slow."""
    (tmp_path / "t.csv").write_text("at_s\n" + "".join(f"{k}\n" for k in range(600)))
    path = plain_study(tmp_path, {"files": "t.csv", "work": "500ms"}, objectives={"p95": "800ms"})
    study = load_study(path)
    found = {one.parameter: one for one in doubt(study, compare(study))}
    assert (found["cpu_share"].from_, found["work"].from_) == ("a guess, 40 %", "work of the study")
    assert (found["work"].low.value, found["work"].high.value) == ("half of it", "twice as much")
    assert (found["work"].low.changed, found["work"].high.changed) == (0, 1)
    assert run(["compare", str(path)]) == 0
    told = capsys.readouterr().out
    assert "How long a request takes was told (work: 500 ms), not logged" in told
    assert "cpu_share in [trace] says it" in told
