"""The benchmarks still measure what they say: each on little, and where two should give the same, they do."""

from __future__ import annotations

import importlib.util
import re
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from builders import demo_in
from libramen import Plan, Service, Tier, Trace, load_study, replay, search
from libramen.trace.options import ReadOptions
from libramen.trace.read import read_requests

FOLDER = Path(__file__).parents[1] / "benchmarks"
pytestmark = pytest.mark.skipif(not FOLDER.is_dir(), reason="the benchmarks are not there")


def _load(name: str) -> Any:
    spec = importlib.util.spec_from_file_location(f"benchmark_{name}", FOLDER / f"{name}.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def _numbers(text: str) -> list[float]:
    return [float(number) for number in re.findall(r"(?<![\w.])\d+\.\d+(?![\w])", text)]


def test_data_plane_against_itself(capsys: pytest.CaptureFixture[str]) -> None:
    _load("data_plane").against_itself(1500)
    out = capsys.readouterr().out
    assert "1,000 replicas over 10" in out
    assert all(number > 0 for number in _numbers(out))
    assert len(_numbers(out)) >= 6


def test_all_contenders_give_the_same_latencies() -> None:
    """The loop in C, where there is a compiler, request by request; those in Python on average."""
    made = _load("data_plane")
    case = made.Case.make(3000, 4, 4)
    mine = made.with_kernel(case)
    assert np.mean(made.with_heapq(case)) == pytest.approx(mine.mean(), abs=1e-9)
    with_c = made.compiled_loop()
    if with_c is not None:
        assert with_c(case) == pytest.approx(mine, abs=1e-7)
    pytest.importorskip("simpy")
    few = made.Case.make(400, 4, 4)
    assert np.mean(made.with_simpy(few)) == pytest.approx(made.with_kernel(few).mean(), abs=1e-9)


def test_groups_share_a_core_and_are_done_before_the_next() -> None:
    case = _load("data_plane").together(40, 10)
    assert len(case.trace) == 40
    assert (case.replicas, case.slots, case.cores) == (1, 10, 1.0)
    arrivals = case.trace.at_s.reshape(4, 10)
    assert (np.diff(arrivals[:, 0]) > 10).all()
    assert (arrivals[:, -1] - arrivals[:, 0] < 1).all()


def test_services() -> None:
    made = _load("services")
    made.REPEATS = 1
    three, ten = made.Question(made.chain(3), 300, 50, ["/"]), made.many(2, 50, requests=300)
    assert list(three.services) == ["a0", "a1", "a2"]
    assert len(ten.services) == 10
    assert ten.routes == ["/0", "/1"]
    assert all(rate > 0 for rate in made.rates([three, ten]))


def test_deciding_counts_what_is_replayed(tmp_path: Path) -> None:
    """All of it where all are replayed to the end, and less where some are stopped."""
    made = _load("deciding")
    study = load_study(demo_in(tmp_path / "landing", "landing"))
    trace = study.trace()
    with made.counted() as requests:
        found = search(study, "noon", trace=trace, replicas=[3, 4, 5])
    assert len(requests) == found.counts.replayed + found.counts.stopped
    assert requests.count(len(trace)) >= found.counts.replayed
    assert found.counts.stopped
    assert sum(requests) < 3 * len(trace)
    with made.counted() as again:
        search(study, "noon", trace=trace, replicas=[4])
    assert again == [len(trace)]
    assert set(made.FEWEST["vary"]) == {"scaling.floor", "scaling.rule", "scaling.target"}
    assert list(made.FIRST["replicas"]) == list(range(2, 21))


def test_scaling() -> None:
    made = _load("scaling")
    trace = made.a_month(400)
    assert len(trace) == 400
    assert trace.span_s == made.SPAN_S
    part = trace.part(slice(0, 20))
    took_s, decisions, replicas = made.seconds(part, rule=made.by_cpu, every=3600, floor=2, ceiling=4)
    assert took_s > 0
    assert decisions >= made.SPAN_S / 3600 - 2 or decisions >= part.span_s / 3600 - 2
    assert replicas >= 2
    assert made.seconds(part)[1:] == (0, 2)
    assert made.by_cpu(SimpleNamespace(measures={"cpu": None}, have=7, ready=7)) == 7
    assert made.by_cpu(SimpleNamespace(measures={"cpu": 0.6}, have=2, ready=2)) == 4


def test_events(capsys: pytest.CaptureFixture[str]) -> None:
    made = _load("events")
    made.N, made.SPAN_S = 1500, 3 * 86400.0
    made.main(1)
    lines = capsys.readouterr().out.splitlines()
    assert [line[:30].strip() for line in lines] == list(made.CASES)
    assert lines[0].endswith("1.00 of the time without")


def test_memory() -> None:
    """In chunks it is the same requests as whole."""
    made = _load("memory")
    made.CHUNK = 700
    parts = list(made.chunks(2000))
    assert [len(part) for part in parts] == [700, 700, 600]
    assert all((np.diff(part.at_s) > 0).all() for part in parts)
    assert parts[1].at_s[0] > parts[0].at_s[-1]
    assert len(made.whole(2000)) == 2000
    peak, took_s = made._measure(made.in_chunks, 2000)
    assert peak > 1e6
    assert took_s > 0


def test_reading(tmp_path: Path) -> None:
    """The log has as many lines as asked for, and both read them all."""
    made = _load("reading")
    path = tmp_path / "access.log"
    made.write_log(path, 500)
    assert len(path.read_text().splitlines()) == 500
    assert made.read_with_loop(path, 500) > 0
    trace, *_ = read_requests(path, ReadOptions())
    assert len(trace) == 500
    assert trace.bytes_out is not None
    assert sorted(set(trace.bytes_out.tolist())) == [1000.0 + 77 * k for k in range(10)]
    assert trace.routes == ("/timetable/{id}",)


def test_demand_accuracy() -> None:
    """At little load what is observed is the work, by the mean and by the p95."""
    made = _load("demand_accuracy")
    line = made.row("little", "constant", 0.05, span="3h")
    assert line.startswith("| little | ")
    assert _numbers(line) == pytest.approx([1, 1, 1, 1], abs=0.05)


def test_unqueue_accuracy(tmp_path: Path) -> None:
    made = _load("unqueue_accuracy")
    for kind in made.WORK:
        work = made.work_of(kind, 4000, np.random.default_rng(1))
        assert work.mean() == pytest.approx(made.MEAN_S)
        assert work.min() > 0
    line, well = made.row(made.CASES[0], "exponential", tmp_path, whole_seconds=False, n=1500)
    assert line.startswith(f"| {made.CASES[0].name} | exponential | ms | ")
    assert len(well) == 4
    at_s, latency_s = np.array([0.0, 1.0]), np.array([2.5, 0.25])
    path = tmp_path / "two.csv"
    made.write_log(path, at_s, latency_s, whole_seconds=False)
    assert path.read_text().splitlines()[1:] == ["2031-06-05T12:00:01.250Z,0.250", "2031-06-05T12:00:02.500Z,2.500"]


def test_no_contender_has_an_easier_task() -> None:
    """The kernel in the benchmark is the one that users run: with the same trace and fleet `replay` says the same."""
    made = _load("data_plane")
    case = made.Case.make(2000, 16, 8)
    tier = Tier(billing="per_hour", replicas={"most": 16}, sizes={"s": {"cores": case.cores, "per_hour": 1}})
    trace = Trace.from_arrays(at_s=case.trace.at_s, cpu_s=case.trace.cpu_s, wait_s=case.trace.wait_s)
    outcome = replay(trace, Service(slots=8, backlog=case.backlog), Plan(tier=tier, size="s", replicas=16))
    assert outcome.requests["latency_s"].to_numpy() == pytest.approx(made.with_kernel(case), abs=1e-12)


def test_more_users(capsys: pytest.CaptureFixture[str]) -> None:
    module = _load("more_users")
    module.off("twice", module.steady(1200.0), 2.0, None, 0.5, 1)
    module.off("a third", module.steady(1200.0), 1.0, 1 / 3, 0.5, 1)
    for line in capsys.readouterr().out.splitlines():
        assert all(abs(float(off)) < 15 for off in re.findall(r"([+-]\s*\d+\.\d)%", line)), line
