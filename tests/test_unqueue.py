"""The work in a log: what unqueueing finds of work that is known."""

from __future__ import annotations

import dataclasses
import importlib.util
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from builders import make_plan, make_tier, plain_study
from libramen import Plan, Service, Trace, TraceError, load_study, read_trace, unqueue
from libramen.cli import run
from libramen.engine import simulation
from libramen.load.recorded import Recorded
from libramen.study.system import System
from libramen.trace.demand import with_demand
from libramen.trace.implausible import quiet_doubts

if TYPE_CHECKING:
    from types import ModuleType


def _benchmark() -> ModuleType:
    path = Path(__file__).parents[1] / "benchmarks" / "unqueue_accuracy.py"
    spec = importlib.util.spec_from_file_location("unqueue_accuracy", path)
    assert spec is not None
    assert spec.loader is not None
    module = sys.modules["unqueue_accuracy"] = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


accuracy = _benchmark()
CASES = {case.name: case for case in accuracy.CASES}


@pytest.fixture(scope="module")
def busy(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A study of a log of whole seconds that was busy throughout."""
    folder = tmp_path_factory.mktemp("busy")
    hidden, latency_s = accuracy.truth_of(CASES["1 replica, 4 slots, load 0.85"], "exponential", 15_000)
    accuracy.write_log(folder / "busy.log", hidden.at_s, latency_s, whole_seconds=True)
    return plain_study(
        folder,
        {"files": ["busy.log"], "recorded_on": "today"},
        {"today": {}, "two": {"replicas": 2}},
        tier={"replicas": {"least": 1, "most": 10}, "provision": "30s"},
        size={"cores": 4, "per_hour": 0.1},
        study={"name": "busy"},
        service={"slots": 4},
        objectives={"p95": "400ms"},
    )


def _changed(busy: Path, folder: Path, old: str, new: str) -> Path:
    (folder / "busy.log").symlink_to(busy.parent / "busy.log")
    text = busy.read_text()
    assert old in text
    (folder / "study.toml").write_text(text.replace(old, new))
    return folder / "study.toml"


# -- what is found -------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "kind", "whole_seconds"),
    [
        pytest.param("1 replica, 4 slots, load 0.6", "heavy tail", False, marks=pytest.mark.thorough),
        ("1 replica, 4 slots, load 0.85", "two humps", True),
        pytest.param("1 replica, 4 slots, bursts", "two humps", True, marks=pytest.mark.thorough),
        ("5 replicas, 2 slots, round_robin, load 0.6", "exponential", True),
        ("5 replicas, 2 slots, least_busy, load 0.85", "two humps", True),
        pytest.param("5 replicas, 2 slots, random, load 0.6", "two humps", False, marks=pytest.mark.thorough),
        pytest.param("5 replicas, 2 slots, shared_queue, load 0.85", "exponential", True, marks=pytest.mark.thorough),
        ("4 workers on one core, load 0.8", "exponential", False),
        pytest.param("8 slots on two cores, load 0.8", "exponential", True, marks=pytest.mark.thorough),
        pytest.param("event loop, load 0.8", "two humps", False, marks=pytest.mark.thorough),
        ("lent CPU, load 0.7", "exponential", False),
        pytest.param("autoscaled from 3 replicas, load 0.9", "exponential", False, marks=pytest.mark.thorough),
    ],
)
def test_known_work_is_found(name: str, kind: str, whole_seconds: bool, tmp_path: Path) -> None:
    """Replay of the recorded plan, mean work, its quantiles, and what it comes to elsewhere."""
    line, well = accuracy.row(CASES[name], kind, tmp_path, whole_seconds=whole_seconds)
    assert all(well), line


def _logged(
    at_s: np.ndarray, work_s: np.ndarray, share: float, service: Service, plan: Plan, **more: Any
) -> tuple[Trace, np.ndarray]:
    """A log with exact times, and which replica served each request."""
    speed = plan.only.size.speed
    hidden = Trace.from_arrays(at_s=at_s, cpu_s=share * work_s * speed, wait_s=(1 - share) * work_s)
    run = simulation.run(hidden, System.of(service, plan))
    results = run.results
    assert results is not None
    log = Trace.from_arrays(at_s=at_s, cpu_s=np.zeros(len(at_s)), latency_s=results.latency_s, **more)
    return log, results.replica


@settings(max_examples=max(25, settings().max_examples // 10))
@given(
    st.integers(1, 4), st.sampled_from(["round_robin", "least_busy", "shared_queue", "random"]), st.integers(1, 3),
    st.sampled_from([(4.0, 0.4, None), (1.0, 1.0, None), (2.0, 0.5, 1), (0.5, 1.0, None)]), st.integers(0, 99),
)  # fmt: skip
def test_exact_times_give_the_exact_work(
    slots: int, balancer: str, replicas: int, how: tuple[float, float, int | None], number: int
) -> None:
    """FIFO slots, processor sharing, an event loop, a fraction of a core: run backwards, both planes alike."""
    cores, share, threads = how
    rng = np.random.default_rng(number)
    at_s = np.cumsum(rng.exponential(0.4 / replicas, 80))
    work_s = rng.exponential(0.5, 80)
    service = Service(slots=slots, threads=threads)
    plan = make_plan(make_tier(cores=cores, speed=1.3, overhead=0.02), replicas=replicas, balancer=balancer)
    log, _ = _logged(at_s, work_s, share, service, plan)
    assert log.latency_s is not None
    found = {
        plane: Recorded(log, service, plan.only, plane).backwards(at_s, log.latency_s, np.full(80, share), 0)  # type: ignore[arg-type]
        for plane in ("compiled", "plain")
    }
    np.testing.assert_allclose(found["compiled"].work_s, work_s, rtol=1e-6, atol=1e-7)
    np.testing.assert_allclose(found["plain"].work_s, found["compiled"].work_s, rtol=1e-9, atol=1e-9)
    assert not found["compiled"].late.any()


@pytest.mark.parametrize(
    ("fault", "lost"),
    [
        ({"kind": "slow", "at": 10, "lasts": 20, "slower": 2.5}, False),
        ({"kind": "dependency", "at": 10, "lasts": 20, "slower": 3}, False),
        ({"kind": "crash", "at": 15, "replica": 1, "detect": 3}, True),
        ({"kind": "zone_loss", "at": 15, "zone": "one", "lasts": 5}, True),
    ],
)
@pytest.mark.parametrize("plane", ["compiled", "plain"])
def test_the_recorded_plan_may_have_faults(fault: dict[str, Any], lost: bool, plane: Any) -> None:
    """What was slow then is not taken for work; of what was answered the work is found."""
    rng = np.random.default_rng(3)
    at_s, work_s = np.cumsum(rng.exponential(0.2, 200)), rng.exponential(0.4, 200)
    service = Service(slots=3, start=2)
    plan = make_plan(make_tier(cores=2), replicas=2, balancer="round_robin", faults=[fault])
    hidden = Trace.from_arrays(at_s=at_s, cpu_s=0.5 * work_s, wait_s=0.5 * work_s)
    run = simulation.run(hidden, System.of(service, plan))
    assert run.results is not None
    answered = run.results.ending == 0
    assert answered.all() != lost
    # Refused and lost requests took no slot, or are not known: the log has the others.
    log = Trace.from_arrays(
        at_s=at_s[answered], cpu_s=np.zeros(answered.sum()), latency_s=run.results.latency_s[answered],
        span_s=hidden.span_s,
    )  # fmt: skip
    assert log.latency_s is not None
    found = Recorded(log, service, plan.only, plane).backwards(log.at_s, log.latency_s, np.full(len(log), 0.5), 0)
    # Who was lost is missing where cores and turns were shared, and round robin has counted without them.
    error = np.abs(found.work_s - work_s[answered])
    assert np.mean(error > 0.05) < (0.15 if lost else 0.02)
    assert found.work_s.sum() == pytest.approx(work_s[answered].sum(), rel=0.05 if lost else 0.03)


def test_by_hand() -> None:
    """One slot, requests at 0, 1 and 2 that leave at 3, 5 and 6: each worked from when the one before it left."""
    log = Trace.from_arrays(at_s=[0.0, 1, 2], cpu_s=[0.0] * 3, latency_s=[3.0, 4, 4])
    found = Recorded(log, Service(slots=1), make_plan().only).backwards(log.at_s, log.latency_s, np.full(3, 0.4), 0)
    assert found.slot_at_s.tolist() == [0, 3, 5]
    np.testing.assert_allclose(found.work_s, [3, 2, 1])


def test_which_server_answered_is_used() -> None:
    """With draws that nobody wrote down the work is not known; with the servers it is, to the request."""
    rng = np.random.default_rng(2)
    at_s, work_s = np.cumsum(rng.exponential(0.15, 2000)), rng.exponential(0.5, 2000)
    service, plan = Service(slots=2), make_plan(make_tier(cores=2), replicas=3, balancer="random")
    log, server = _logged(at_s, work_s, 0.4, service, plan)
    found = unqueue(log, service, plan, server=server, seed=5)
    np.testing.assert_allclose(found.cpu_s + found.wait_s, work_s, rtol=1e-6, atol=1e-9)
    guessed = unqueue(log, service, plan, seed=5)
    assert np.corrcoef(guessed.cpu_s + guessed.wait_s, work_s)[0, 1] < 0.98


def test_a_field_or_the_files_say_which_server_answered(tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    at_s, work_s = np.cumsum(rng.exponential(0.03, 3000)), rng.exponential(0.1, 3000)
    service, plan = Service(slots=2), make_plan(make_tier(cores=2), replicas=3, balancer="random")
    log, server = _logged(at_s, work_s, 0.4, service, plan)
    rows = [f"{at},{latency}" for at, latency in zip(log.at_s.tolist(), log.latency_s.tolist(), strict=True)]
    sold: Any = {"tier": {"replicas": {"least": 1, "most": 9}}, "size": {"cores": 2}}
    plans = {"p": {"replicas": 3, "balancer": "random"}}
    lines = "\n".join(f"{row},machine-{number}" for row, number in zip(rows, server.tolist(), strict=True))
    (tmp_path / "one.csv").write_text(f"at_s,latency_s,server\n{lines}\n")
    path = plain_study(tmp_path, {"recorded_on": "p", "files": ["one.csv"]}, plans, **sold)
    field = load_study(path).trace(cache=False)
    np.testing.assert_allclose(field.cpu_s + field.wait_s, work_s, rtol=1e-5, atol=1e-6)
    for number in (1, 2, 3):
        lines = "\n".join(
            f'v - - [05/Jun/2031:12:{int(at + latency) // 60:02}:{int(at + latency) % 60:02} +0000] "GET /a HTTP/1.1" '
            f'200 5 "-" "-" {latency:.6f}'
            for at, latency, by in zip(log.at_s.tolist(), log.latency_s.tolist(), server.tolist(), strict=True)
            if by == number
        )
        (tmp_path / f"{number}.log").write_text(lines + "\n")
    said = {"recorded_on": "p", "files": ["1.log", "2.log", "3.log"], "server": "file"}
    files = load_study(plain_study(tmp_path, said, plans, **sold)).trace(cache=False)
    assert files.demand.kind == "unqueued"
    assert (files.cpu_s + files.wait_s).mean() == pytest.approx(0.1, rel=0.1)


def test_a_piece_of_a_line_says_which_server_answered(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """`up=-`: the proxy answered itself, and the request took no slot."""
    lines = [
        f'v - - [05/Jun/2031:12:{k // 60:02}:{k % 60:02} +0000] "GET /a HTTP/1.1" {502 if k % 10 == 9 else 200} 5 "-" "-" '
        f"rt={0.0 if k % 10 == 9 else 0.4:.3f} up={'-' if k % 10 == 9 else f'10.0.0.{k % 2}'}"
        for k in range(400)
    ]
    (tmp_path / "one.log").write_text("\n".join(lines) + "\n")
    path = plain_study(
        tmp_path,
        {"files": ["one.log"], "recorded_on": "p", "server_field": "up"},
        {"p": {"replicas": 2}},
        tier={"replicas": {"least": 1, "most": 9}},
        service={"slots": 1},
    )
    trace = load_study(path).trace(cache=False)
    np.testing.assert_allclose(trace.cpu_s + trace.wait_s, 0.4)
    assert any("40 requests took no slot" in note for note in trace.source.notes)
    path.write_text(path.read_text().replace('"up"', '"upp"'))
    assert run(["check", str(path)]) == 2
    assert "server_field: found 'upp'; allowed: rt, up" in capsys.readouterr().err
    with pytest.raises(TraceError, match="server_field has no effect in read_trace"):
        read_trace(tmp_path / "one.log", server_field="up")


def test_refused_and_given_up() -> None:
    """A refused request has another one's work; one whose client gave up at least what it got."""
    rng = np.random.default_rng(4)
    n = 3000
    at_s, work_s = np.cumsum(rng.exponential(0.2, n)), rng.exponential(0.1, n)
    status = np.full(n, 200)
    status[::50], status[25::50] = 503, 499
    service, plan = Service(slots=4), make_plan(make_tier(cores=4))
    log, _ = _logged(at_s, work_s, 0.4, service, plan, status=status)
    assert log.latency_s is not None
    log = dataclasses.replace(log, latency_s=np.where(np.arange(n) % 50 == 0, 0.0, log.latency_s))
    found = unqueue(log, service, plan)
    work = found.cpu_s + found.wait_s
    assert work[::50].mean() == pytest.approx(0.1, rel=0.3)
    assert (work[25::50] >= log.latency_s[25::50] - 1e-9).all()
    assert work[25::50].mean() > 1.4 * log.latency_s[25::50].mean()
    assert any("60 requests took no slot" in note for note in found.source.notes)
    assert any("in 60 requests the client gave up" in note for note in found.source.notes)


def test_waits_that_spans_show_stay_waits() -> None:
    at_s = np.arange(200.0)
    log = Trace.from_arrays(at_s=at_s, cpu_s=np.zeros(200), wait_s=np.full(200, 0.3), latency_s=np.full(200, 0.5))
    found = unqueue(log, Service(slots=1), make_plan(), cpu_share=1.0)
    np.testing.assert_allclose(found.cpu_s, 0.2, rtol=1e-6)
    np.testing.assert_allclose(found.wait_s, 0.3, rtol=1e-6)


def test_the_same_seed_gives_the_same_bytes(busy: Path) -> None:
    study = load_study(busy)
    one, other, third = (study.trace(seed=seed, cache=False) for seed in (1, 1, 2))
    assert one.cpu_s.tobytes() + one.at_s.tobytes() == other.cpu_s.tobytes() + other.at_s.tobytes()
    assert one.cpu_s.tobytes() != third.cpu_s.tobytes()
    assert (np.diff(one.at_s) >= 0).all()
    assert len(one) == 15_000
    assert one.demand_in_words == "unqueued"


# -- a fleet whose size is a list ----------------------------------------------------------------


def test_a_fleet_by_a_list(tmp_path: Path) -> None:
    """Two replicas from 0, four from 12:00:10, one from 12:00:20; those that go finish what they have."""
    plan = make_plan(
        make_tier(provision=500), replicas=[["2031-06-05T11:00", 2], ["2031-06-05T12:00:10", 4], ["20s", 1]]
    )
    trace = Trace.from_arrays(
        at_s=np.arange(0, 30, 0.25), cpu_s=np.full(120, 0.2), span_s=30, start="2031-06-05T12:00:00+00:00"
    )
    for plane in ("compiled", "plain"):
        system = System.of(Service(slots=1), plan)
        run = simulation.run(trace, system, data_plane=plane)  # type: ignore[arg-type]
        fleet = run.only.replicas
        ready = [(replica.ready_s, replica.draining_s) for replica in fleet]
        assert ready == [(0, None), (0, 20), (10, 20), (10, 20)]
    assert plan.only.limits == (1, 4)
    for values, sentence in (
        ({"replicas": []}, "an empty list"),
        ({"replicas": "three"}, r"replicas: found 'three'; allowed: a whole number, or pairs"),
        ({"replicas": [["25:99", 3]]}, r"replicas: found \[\['25:99', 3\]\]; allowed: a time of day"),
        ({"replicas": [["06:00", 3, 4]]}, "pairs of a moment and a whole number"),
        ({"replicas": [["0s", 1]], "scaling": {"rule": "on_arrival", "idle": 5}}, "the fleet is a list"),
    ):
        with pytest.raises(ValueError, match=sentence):
            make_plan(**values)


def test_a_log_of_a_fleet_by_a_list() -> None:
    rng = np.random.default_rng(6)
    at_s, work_s = np.cumsum(rng.exponential(0.05, 2000)), rng.exponential(0.1, 2000)
    plan = make_plan(make_tier(cores=2), replicas=[["0s", 1], ["30s", 3], ["70s", 2]])
    log, _ = _logged(at_s, work_s, 0.4, Service(slots=2), plan)
    found = unqueue(log, Service(slots=2), plan)
    np.testing.assert_allclose(found.cpu_s + found.wait_s, work_s, rtol=1e-6, atol=1e-9)


# -- what cannot be ------------------------------------------------------------------------------


def test_a_plan_that_cannot_have_served_the_log(busy: Path, tmp_path: Path) -> None:
    path = _changed(busy, tmp_path, "slots = 4", "slots = 1")
    with pytest.raises(TraceError, match=r"plan 'today' cannot have served this log.*It has 1 slots, and the log has"):
        load_study(path).trace(cache=False)


def test_slow_lines_of_clients_are_told() -> None:
    rng = np.random.default_rng(5)
    n = 4000
    at_s, latency_s = np.cumsum(rng.exponential(0.05, n)), rng.exponential(0.1, n)
    latency_s[::100] = 60.0  # uploads
    log = Trace.from_arrays(at_s=at_s, cpu_s=np.zeros(n), latency_s=latency_s)
    with pytest.raises(TraceError, match=r'slow lines of clients.*leave_out = \[\{ longer = "1 min" \}\]'):
        unqueue(log, Service(slots=4), make_plan(make_tier(cores=4)))


@pytest.mark.parametrize(
    ("old", "new", "sentence"),
    [
        ('recorded_on = "today"', 'recorded_on = "tody"', "recorded_on: found 'tody'; did you mean 'today'"),
        ('recorded_on = "today"', 'recorded_on = "today"\nrecorded_speed = 2', "both there; allowed: one of them"),
        ('recorded_on = "today"', 'demand = "unqueued"', "'unqueued' needs recorded_on"),
        ('recorded_on = "today"', 'server = "file"', "server has no effect without recorded_on"),
        (
            'recorded_on = "today"',
            'recorded_on = "today"\ncpu_share = 0.3\ncpu_use = "x.csv"',
            "cpu_share and cpu_use are both there",
        ),
        ('recorded_on = "today"', 'recorded_on = "today"\ncpu_use = "x.csv"', "x.csv: there is no such file"),
    ],
)
def test_mistakes_get_a_sentence(
    busy: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], old: str, new: str, sentence: str
) -> None:
    assert run(["check", str(_changed(busy, tmp_path, old, new))]) == 2
    captured = capsys.readouterr()
    assert sentence in captured.err
    assert captured.err.count("\n") == 1


def test_unqueued_needs_a_study_and_enough_answers(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "t.csv").write_text("at_s,latency_s\n0,1\n1,1\n")
    with pytest.raises(TraceError, match=r"needs the plan on which the log was recorded.*libramen\.unqueue"):
        read_trace(tmp_path / "t.csv", demand="unqueued")
    log = read_trace(tmp_path / "t.csv", demand="observed")
    with pytest.raises(TraceError, match="needs 120 requests that were answered, and this log has 2"):
        unqueue(log, Service(slots=1), make_plan())
    assert run(["trace", "inspect", str(tmp_path / "t.csv"), "--set", "recorded_on='p'"]) == 2
    assert "recorded_on names a plan" in capsys.readouterr().err


# -- whether quiet minutes were quiet ------------------------------------------------------------


@pytest.mark.parametrize("name", [name for name in CASES if "0.3" not in name and "lent" not in name])
def test_a_busy_log_is_doubted(name: str) -> None:
    hidden, latency_s = accuracy.truth_of(CASES[name], "exponential", 20_000)
    log = Trace.from_arrays(at_s=hidden.at_s, cpu_s=np.zeros(20_000), latency_s=latency_s)
    assert with_demand(log, "quiet", has_cpu=False).demand.doubts


def test_a_quiet_log_is_not_doubted() -> None:
    """Neither is one whose work changes over the day, or whose routes differ."""
    hidden, latency_s = accuracy.truth_of(CASES["1 replica, 4 slots, load 0.3"], "exponential", 20_000)
    log = Trace.from_arrays(at_s=hidden.at_s, cpu_s=np.zeros(20_000), latency_s=latency_s)
    assert quiet_doubts(log) == ()
    slower_s = latency_s * np.where(hidden.at_s > hidden.at_s.mean(), 3.0, 1.0)
    assert quiet_doubts(replace(log, latency_s=slower_s)) == ()


def test_the_warning_comes_first(busy: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = _changed(busy, tmp_path, 'recorded_on = "today"\n', "")
    for command in (["check"], ["compare"], ["replay", "--plan", "two"]):
        assert run([command[0], str(path), *command[1:]]) == 0
        out = capsys.readouterr().out.strip().splitlines()
        assert out[0].startswith("Do not trust what follows")
        assert any('recorded_on = "PLAN"' in line for line in out[:4])
    assert run(["compare", str(path), "--json"]) == 0
    captured = capsys.readouterr()
    assert "Do not trust" in captured.err
    assert captured.out.startswith("{")
    assert run(["trace", "inspect", str(path.parent / "busy.log")]) == 0
    assert capsys.readouterr().out.strip().startswith("Do not trust what follows")
    assert run(["compare", str(busy)]) == 0
    assert "Do not trust" not in capsys.readouterr().out
