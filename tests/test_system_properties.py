"""What holds for all services that call each other: visits add up, plans meet the same luck, chunks change nothing."""

from __future__ import annotations

import dataclasses
import itertools
from typing import Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import make_plan, make_tier
from libramen import Service, Trace, replay
from libramen.draw.system import draw_system
from libramen.draw.where import draw_where
from libramen.engine import simulation
from libramen.questions.expected_load import loads_of
from libramen.study.system import System
from test_systems_agree import Kept


def _trace(n: int = 400, seed: int = 1, **values: Any) -> Trace:
    rng = np.random.default_rng(seed)
    at = np.cumsum(rng.exponential(0.1, n))
    return Trace.from_arrays(
        **{
            "at_s": at,
            "cpu_s": rng.exponential(0.05, n),
            "wait_s": rng.exponential(0.2, n),
            "span_s": float(at[-1]) + 5,
        }
        | values
    )


SERVICES = {
    "web": Service(
        slots=6,
        calls=[
            {"to": "stock", "cpu": {"p50": 0.01, "p95": 0.05}, "share": 0.4, "times": 2},
            {"to": "database", "of_wait": 0.5, "at_once": True},
            {"to": "database", "cpu": 0.01, "times": 3, "at_once": True},
            {"to": "letters", "wait": 0.2, "wait_for_it": False},
        ],
    ),
    "stock": Service(slots=20, calls=[{"to": "database", "wait": 0.02}]),
    "database": Service(slots=50, cpu_share=0.2),
    "letters": Service(slots=2),
}


def _visits(system: System, trace: Trace, seed: int = 0) -> dict[str, np.ndarray]:
    kept = Kept()
    simulation.run(trace, system, sink=kept, seed=seed)
    return kept.columns()


@given(st.integers(0, 10**6), st.integers(1, 4))
def test_visits_are_the_calls_made(seed: int, replicas: int) -> None:
    """Where nothing fails: four of the database and one letter for each request, and one more for each visit to stock."""
    system = System.of(SERVICES, {name: make_plan(replicas=replicas) for name in SERVICES})
    visits = _visits(system, _trace(seed=seed))
    web, stock, database, letters = (int(np.sum(visits["server"] == k)) for k in range(4))
    assert web == letters == 400
    assert database == 4 * web + stock
    assert stock % 2 == 0
    assert (visits["ending"] == 0).all()
    assert (visits["attempts"] == 1).all()


@given(st.integers(0, 10**6))
def test_every_plan_meets_the_same_luck(seed: int) -> None:
    """Which visits miss the cache, and how much work a call is, depends on the request and not on the plan."""
    trace = _trace(seed=seed)
    found = []
    for replicas, balancer in ((1, "random"), (3, "round_robin")):
        plans = {name: make_plan(replicas=replicas, balancer=balancer) for name in SERVICES}
        visits = _visits(System.of(SERVICES, plans), trace)
        order = np.lexsort((visits["cpu_s"], visits["wait_s"], visits["call"], visits["id"]))
        found.append([visits[name][order] for name in ("id", "call", "cpu_s")])
    for mine, theirs in zip(*found, strict=True):
        np.testing.assert_array_equal(mine, theirs)


def test_another_seed_is_another_luck() -> None:
    trace, plans = _trace(), {name: make_plan() for name in SERVICES}
    system = System.of(SERVICES, plans)
    one, other = (np.sum(_visits(system, trace, seed)["server"] == 1) for seed in (0, 1))
    assert one != other


def test_the_same_seed_gives_the_same_bytes() -> None:
    trace, plans = _trace(), {name: make_plan(balancer="two_choices", replicas=2) for name in SERVICES}
    runs = [simulation.run(trace, System.of(SERVICES, plans), seed=3, spends=True) for _ in range(2)]
    one, other = (run.kept for run in runs)
    assert one.records.tobytes() == other.records.tobytes()
    assert one.spent_s.tobytes() == other.spent_s.tobytes()


@pytest.mark.parametrize("cuts", [[100], [1, 2, 399], [150, 300]])
def test_chunks_change_nothing(cuts: list[int]) -> None:
    trace, plans = _trace(route=["/a", "/b"] * 200), {name: make_plan() for name in SERVICES}
    bounds = [0, *cuts, len(trace)]
    chunks = [trace.part(slice(a, b)) for a, b in itertools.pairwise(bounds)]
    whole = replay(trace, SERVICES, plans, keep_requests=False)
    parts = replay(chunks, SERVICES, plans, span_s=trace.span_s)
    assert whole.endings == parts.endings
    assert whole.latency_s == parts.latency_s
    for name in SERVICES:
        assert whole.services[name].latency_s == parts.services[name].latency_s
        np.testing.assert_array_equal(whole.services[name].run.integrals, parts.services[name].run.integrals)


def test_counted_requests_are_the_kept_ones() -> None:
    """Percentiles from a histogram are within 0.5 %; what each service counts is the same."""
    trace, plans = _trace(), {name: make_plan() for name in SERVICES}
    kept, counted = (replay(trace, SERVICES, plans, keep_requests=keep) for keep in (True, False))
    assert kept.endings == counted.endings
    assert counted.latency_s["p95"] == pytest.approx(kept.latency_s["p95"], rel=0.005)
    assert kept.services["database"].time_s == counted.services["database"].time_s
    assert sum(one.mean_s for one in kept.where.stretches) == pytest.approx(kept.latency_s["mean"])
    assert not counted.where.is_known


def test_requests_that_are_settled_are_left_out_everywhere() -> None:
    trace, plans = _trace(), {name: make_plan() for name in SERVICES}
    found = replay(trace, SERVICES, plans, settle=20)
    after = int(np.sum(trace.at_s >= 20))
    assert found.n_requests == after
    assert found.services["web"].n_requests == after
    assert found.services["letters"].n_requests >= after


def test_one_service_knows_where_its_time_went() -> None:
    """All of it at the only service; the slowest 1 % queue longest."""
    trace = _trace(n=1000)
    one = replay(trace, Service(slots=1), make_plan(make_tier(overhead=0.01), replicas=4))
    assert sum(stretch.mean_s for stretch in one.where.stretches) == pytest.approx(one.latency_s["mean"])
    assert {stretch.service for stretch in one.where.stretches} == {"service"}
    queued = next(stretch for stretch in one.where.stretches if stretch.part == "queued")
    assert queued.slowest_s > 3 * queued.mean_s
    assert list(one.services) == ["service"]
    assert one.services["service"] is one.only


def test_what_check_expects_is_what_is_replayed() -> None:
    """Visits, CPU work and time in slots without queueing, worked out beforehand and replayed on more than enough."""
    trace = _trace(n=2000)
    plans = {name: make_plan(make_tier(cores=50), replicas=20) for name in SERVICES}
    system = System.of(SERVICES, plans)
    loads = loads_of(trace, system)
    found = replay(trace, SERVICES, plans)
    for load, (name, one) in zip(loads.of, found.services.items(), strict=True):
        assert load.visits.sum() == pytest.approx(one.n_requests, rel=0.05), name
        assert load.cpu_s.sum() == pytest.approx(one.time_s["cpu"], rel=0.08), name
    assert loads.alone_s.mean() == pytest.approx(found.latency_s["mean"], rel=0.05)


def test_a_memory_of_one_service_kills_its_replica_alone() -> None:
    """The database holds two requests in memory and dies of the third: its callers are errored, the web tier stands."""
    services = {
        "web": Service(slots=9, calls=[{"to": "database", "wait": 5}]),
        "database": Service(slots=9, memory_per_request=100, start=1),
    }
    tier = make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "memory": 250}})
    trace = Trace.from_arrays(at_s=[0, 1, 2, 8], cpu_s=[0, 0, 0, 0], span_s=30)
    found = replay(trace, services, {"web": make_plan(), "database": make_plan(tier)})
    assert found.requests["ending"].tolist() == ["errored"] * 3 + ["ok"]
    assert found.requests["latency_s"].tolist() == [2, 1, 0, 5]
    assert found.services["database"].endings["lost"] == 3
    assert found.deaths["service"].tolist() == ["database"]
    assert len(found.services["web"].run.deaths) == 0


def test_pictures_of_many_services() -> None:
    """Six panels at most beside the two on top, each with the name of its service; a chain of bars has all of them."""
    names = [f"part{k}" for k in range(9)]
    services = {"web": Service(slots=9, calls=[{"to": name, "wait": 0.01} for name in names])}
    services |= dict.fromkeys(names, Service(slots=2))
    found = replay(_trace(), services, {name: make_plan() for name in services})
    figure = draw_system(found)  # type: ignore[arg-type]
    titles = [axes.get_title(loc="left") for axes in figure.axes]
    assert sum(bool(title) for title in titles) == 6
    assert "web: 1 x s" in titles
    where = draw_where(found)
    assert len(where.axes) == 2
    # A row a service, each bar beginning where that of the service before it ends.
    bars = sorted(
        (round(bar.get_y() + bar.get_height() / 2), bar.get_x(), bar.get_width()) for bar in where.axes[0].patches
    )
    assert [bar[1] for bar in bars] == pytest.approx([0.0, *np.cumsum([bar[2] for bar in bars])[:-1]], abs=1e-9)
    assert len({bar[0] for bar in bars}) == len(services)
    assert {text.get_text() for text in where.legends[0].get_texts()} >= {"web", *names}
    for one in (figure, where):
        one.canvas.draw()


def test_an_outcome_of_services_can_be_sent_small() -> None:
    figures = replay(_trace(), SERVICES, {name: make_plan() for name in SERVICES}).figures(routes=False)
    assert figures.services is not None
    assert dataclasses.is_dataclass(figures.services["database"])
    assert figures.time_s["called"] == 0
    assert figures.tier is None
