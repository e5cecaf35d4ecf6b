"""Many replays: the same figures wherever they run, and little to send."""

from __future__ import annotations

import json
import multiprocessing
import pickle
from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest

from builders import SOLD, make_case, make_plan, make_tier, make_trace, write_study
from libramen import Figures, LibramenError, Objectives, Service, Trace, UnitError, compare, load_study, replay
from libramen.questions import context
from libramen.runs import cases
from libramen.runs.cases import LocalProcesses
from libramen.runs.pool import Pool, run_cases

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

    from libramen import Comparison


@pytest.fixture(scope="module")
def alone(hour_study: Path) -> Comparison:
    study = load_study(hour_study)
    return compare(study, plans=["single", "late", "planned"])


def _demo(hour_study: Path, executor: Executor | None = None, **values: Any) -> Comparison:
    return compare(load_study(hour_study), executor=executor, plans=["single", "late", "planned"], **values)


@pytest.mark.parametrize("kind", ["threads", "forked", "spawned", "workers"])
def test_the_same_figures_wherever_they_run(hour_study: Path, alone: Comparison, kind: str) -> None:
    """A spawned process has nothing: it maps the trace from the cache."""
    executors: dict[str, Callable[[], Executor]] = {
        "threads": lambda: ThreadPoolExecutor(2),
        "forked": lambda: LocalProcesses(2),
        "spawned": lambda: ProcessPoolExecutor(1, multiprocessing.get_context("spawn")),
    }
    if kind == "workers":
        found = _demo(hour_study, workers=2)
    else:
        with executors[kind]() as executor:
            found = _demo(hour_study, executor)
    assert found.figures == alone.figures
    assert json.dumps(found.to_dict()) == json.dumps(alone.to_dict())


class _Weighing(Executor):
    """Runs everything here, and weighs what would be sent to and fro."""

    def __init__(self) -> None:
        self.sent = 0

    def submit(self, function: Any, /, *arguments: Any, **named: Any) -> Future[Any]:
        future: Future[Any] = Future()
        result = function(*arguments, **named)
        self.sent = max(self.sent, len(pickle.dumps((function, arguments, named))), len(pickle.dumps(result)))
        future.set_result(pickle.loads(pickle.dumps(result)))
        return future


def test_little_is_sent(hour_study: Path, alone: Comparison) -> None:
    weighing = _Weighing()
    assert _demo(hour_study, weighing).figures == alone.figures
    assert weighing.sent < 90_000  # of twelve plans, with what other months can be made of


def test_a_trace_that_was_never_read_reaches_a_worker_too(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("LIBRAMEN_CACHE", str(tmp_path))
    trace = make_trace(np.linspace(0, 50, 200).tolist(), cpu=0.3, span_s=60)
    cases = [make_case(Service(slots=2), make_plan(replicas=n, name=str(n)), Objectives(p95="1s")) for n in (1, 2)]
    here = dict(run_cases(cases, Pool(trace)))
    with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as executor:
        assert dict(run_cases(cases, Pool(trace, executor))) == here
    assert len(list(tmp_path.glob("*.arrow"))) == 1


def test_a_mistake_in_a_worker_is_the_sentence_it_is_here() -> None:
    trace = make_trace([1.0], cpu=0.1, span_s=60)
    case = make_case(Service(slots=1), make_plan(rollouts=[{"at": "12:00", "strategy": "stop_start"}]), Objectives())
    for executor in (None, LocalProcesses(1)):
        with pytest.raises(LibramenError, match="needs to know when the trace starts"):
            list(run_cases([case], Pool(trace, executor)))
        if executor is not None:
            executor.shutdown()
    error = pickle.loads(pickle.dumps(UnitError("x", "something else")))
    assert (error.allowed, str(error)) == ("something else", "found 'x'; allowed: something else")


def test_a_rule_made_on_the_spot_is_replayed_here(tmp_path: Path) -> None:
    trace = make_trace(np.linspace(0, 50, 20).tolist(), cpu=0.3, span_s=60)
    case = make_case(
        Service(slots=1), make_plan(scaling={"rule": lambda seen: 2, "every": 10, "ceiling": 3}), Objectives()
    )
    with LocalProcesses(2) as executor:
        ((_, figures),) = run_cases([case], Pool(trace, executor))
    assert figures.replicas_max == 2


@pytest.mark.parametrize("start", [None, "2031-06-05T09:30", "2031-06-05T09:30+05:30"])
def test_figures_go_through_json_and_back(start: str | None) -> None:
    trace = Trace.from_arrays(
        at_s=np.linspace(0, 500, 600), cpu_s=np.full(600, 0.9), route=["a", "b"] * 300, bytes_out=np.full(600, 1e6),
        span_s=600, start=start, time_zone="Europe/Lisbon" if start and "+" not in start else None,
    )  # fmt: skip
    tier = make_tier(egress_per_gb="0.0625", sizes={"s": {"cores": 1, "per_hour": "0.0310", "memory": 3000}})
    objectives = Objectives(
        p95="1s", mean="2s", max="9s", availability="99%", month="12.50", routes={"a": {"p50": "1s"}}
    )
    service = Service(slots=4, memory_per_request=1000, backlog=3)
    figures = replay(trace, service, make_plan(tier, replicas=1), objectives).figures()
    assert figures.deaths
    document = json.loads(json.dumps(figures.to_dict(), allow_nan=False))
    assert Figures.from_dict(document) == figures
    assert Figures.from_dict(document).to_dict() == figures.to_dict()
    assert len(json.dumps(document)) < 10_000


def test_one_plan_again_with_all_its_frames(hour_study: Path, alone: Comparison) -> None:
    outcome = alone.outcome("late")
    assert outcome.figures(routes=False) == alone.figures[1]
    assert len(outcome.requests) == alone.figures[1].n_requests
    with pytest.raises(LibramenError, match="there is no plan 'latte' in this comparison; did you mean 'late'"):
        alone.outcome("latte")


def test_processes_are_started_where_it_pays(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Not for a few requests, and not where they would start from nothing and run the script of the user again."""
    made = write_study(
        tmp_path,
        {"at_s": np.arange(9.0), "cpu_s": np.full(9, 0.1), "wait_s": np.zeros(9)},
        {"convoy": SOLD["convoy"]},
        {"one": {"tier": "convoy"}, "two": {"tier": "convoy", "replicas": 2}},
        service={"slots": 2},
    )
    study, started = load_study(made), []
    monkeypatch.setattr(cases, "cores", lambda: 2)
    monkeypatch.setattr(LocalProcesses, "__init__", lambda _self, workers: started.append(workers))
    compare(study)
    monkeypatch.setattr(context, "_PAYS", 0)
    monkeypatch.setattr(cases, "forks", lambda: False)
    compare(study)
    assert started == []
    monkeypatch.setattr(cases, "forks", lambda: True)
    with pytest.raises(AttributeError):  # there is nothing behind it
        compare(study)
    assert started == [2]
