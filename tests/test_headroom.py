"""How much more load a plan takes: against a scan, and the limit named on plans made to hit each."""

from __future__ import annotations

import json
import math
import re
from dataclasses import fields, replace
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from typer.testing import CliRunner

from builders import demo_in, make_case, make_tier, write_study
from libramen import Objectives, Plan, ReplayError, Service, StudyError, Terms, Trace, break_even, headroom, load_study
from libramen.cli.app import app
from libramen.questions.limits import STEP, Room, rooms_of
from libramen.runs.cases import LocalProcesses
from libramen.runs.pool import Pool
from libramen.runs.store import Store

if TYPE_CHECKING:
    from pathlib import Path

    from libramen.runs.cases import Case


def _trace(number: int = 0, gap: float = 1.0, cpu: float = 0.3, wait: float = 0.3, n: int = 500) -> Trace:
    rng = np.random.default_rng(number)
    at = np.cumsum(rng.exponential(gap, n))
    return Trace.from_arrays(
        at_s=at, cpu_s=rng.exponential(cpu, n) if cpu else np.zeros(n), wait_s=rng.exponential(wait, n),
        span_s=float(at[-1]) + 1,
    )  # fmt: skip


def _case(service: dict[str, Any], plan: dict[str, Any], tier: Any = None, **objectives: Any) -> Case:
    wanted = Objectives(**({"p95": 3, "availability": 0.95} | objectives))
    made = Plan(**{"tier": tier or make_tier(), "size": "s", "replicas": 2, "name": "p"} | plan)
    return make_case({"service": Service(**{"slots": 8, "timeout": 10} | service)}, made, wanted)


def test_it_waits_for_what_is_under_way(monkeypatch: pytest.MonkeyPatch) -> None:
    """And does not ask again and again whether that is done: each wait ends with something that is."""
    waits = []
    wait_for = Pool.wait_for
    monkeypatch.setattr(Pool, "wait_for", lambda pool, some: waits.append(len(some)) or wait_for(pool, some))
    cases = [_case({"slots": slots}, {}) for slots in (1, 2)]
    with LocalProcesses(2) as processes, Pool(_trace(), processes) as pool:
        rooms = rooms_of(cases, pool)
        replayed = len(pool._tickets)
    assert rooms == rooms_of(cases, Pool(_trace()))
    assert len(waits) <= 2 * replayed


def room_of(case: Case, trace: Trace) -> Room:
    (room,) = rooms_of([case], Pool(trace))
    return room


@pytest.mark.parametrize("number", [0, 1, 3, *(pytest.param(n, marks=pytest.mark.thorough) for n in (4, 6, 7))])
def test_the_limit_is_that_of_a_scan(number: int) -> None:
    """A hundred factors, one after the other: the last before the first that fails."""
    rng = np.random.default_rng(number)
    service = {"slots": int(rng.integers(2, 10))} | ({"timeout": 4, "retries": 1} if number % 3 == 0 else {})
    plan: dict[str, Any] = {"replicas": int(rng.integers(1, 4)), "balancer": ["least_busy", "random"][number % 2]}
    if number % 4 == 3:
        plan["scaling"] = {"rule": "target", "measure": "cpu", "target": 0.6, "every": 10, "floor": 1, "ceiling": 5}
    case, trace = _case(service, plan), _trace(number, gap=float(rng.uniform(0.6, 3)), n=300)
    room = room_of(case, trace)
    assert room.holds_to is not None
    assert room.breaks is not None
    k = round(math.log(room.holds_to) / math.log(STEP))
    held = {
        near: case.replay(replace(case, scale=STEP**near).load(trace)).figures(routes=False).meets_all
        for near in range(k - 60, k + 40)
    }
    around = [held[near] for near in range(k - 9, k + 1)]
    assert all(around)
    assert not held[k + 1]
    if room.monotone and all(held[near] for near in range(k - 60, k)):
        assert k == max(near for near in held if all(held[lower] for lower in range(k - 60, near + 1)))
    assert room.points[0].factor < room.holds_to < room.points[-1].factor


LIMITS: dict[str, tuple[dict[str, Any], dict[str, Any], Any, dict[str, Any], dict[str, Any]]] = {
    "CPU": ({}, {}, None, {}, {}),
    "slots": ({"slots": 1}, {}, make_tier(cores=8), {}, {"cpu": 0.0, "wait": 0.8}),
    "memory": (
        {"memory_per_request": 50}, {}, make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "memory": 200}}), {}, {},
    ),
    "ceiling": (
        {}, {"replicas": 1, "scaling": {"rule": "target", "measure": "cpu", "target": 0.5, "floor": 1, "ceiling": 3, "every": 10}}, None, {}, {},
    ),
    "tier limit": (
        {}, {"replicas": 1, "scaling": {"rule": "target", "measure": "cpu", "target": 0.5, "every": 10}},
        make_tier(replicas={"least": 1, "most": 3}), {}, {},
    ),
    "money": (
        {}, {"replicas": 1, "scaling": {"rule": "target", "measure": "cpu", "target": 0.5, "floor": 1, "ceiling": 30, "every": 5}}, None,
        {"month": 900, "p95": 6}, {},
    ),
}  # fmt: skip


def test_connections_and_cold_starts_are_named() -> None:
    web = Service(slots=20, timeout=10, calls=[{"to": "data", "cpu": 0.05, "wait": 0.2, "pool": 1}])
    services = {"web": web, "data": Service(slots=50)}
    wide = make_tier(sizes={"s": {"cores": 16, "per_hour": 1}})
    plans = {name: Plan(tier=wide, size="s", replicas=n) for name, n in (("web", 3), ("data", 1))}
    joint = make_case(services, Plan(name="p", services=plans), Objectives(p95=3, availability=0.99))
    assert room_of(joint, _trace(gap=0.4, cpu=0.05, wait=0.05)).because == "connections"
    slow = make_tier(cores=4, provision=20)
    rule = {"rule": "on_arrival", "idle": 5, "floor": 0, "ceiling": 50}
    waiting = _case({"slots": 1}, {"replicas": 0, "scaling": rule}, slow, p95=8, availability=0.5)
    assert room_of(waiting, _trace(gap=2.0, cpu=0.1, wait=0.1)).because == "cold starts"


@pytest.mark.parametrize("name", LIMITS)
def test_what_breaks_first_is_named(name: str) -> None:
    service, plan, tier, objectives, load = LIMITS[name]
    room = room_of(_case(service, plan, tier, **objectives), _trace(gap=2.0, **load))
    assert room.because == name
    assert room.holds_to is not None
    assert (room.breaks == "month") == (name == "money")


def test_what_never_holds_and_what_always_does() -> None:
    fault = {"kind": "crash", "at": 100, "detect": 0}
    case = _case({"start": 300}, {"replicas": 1, "faults": [fault]}, availability=0.99)
    always = replace(case, terms=Terms(month={"events": "as_traced"}))
    room = room_of(always, _trace(n=300))
    assert (room.holds_to, room.because) == (None, "event")
    assert room.breaks is not None
    once = room_of(case, _trace(n=300))  # of 730 h one with a crash
    assert once.holds_to is not None
    assert once.because == "CPU"
    never = room_of(_case({}, {}, availability=0, p95=None), _trace(n=50))
    assert never.holds_to == pytest.approx(STEP**460)
    assert never.breaks is None


def test_the_command(tmp_path: Path) -> None:
    file = demo_in(tmp_path / "landing", "landing")
    run = CliRunner().invoke
    picture = tmp_path / "h.png"
    shown = run(
        app,
        [
            "headroom",
            str(file),
            "--plan",
            "two_zones",
            "--grow",
            "8%",
            "--json",
            "--plot",
            str(picture),
            "--store",
            str(tmp_path / "kept.sqlite"),
        ],
    )
    (plan,) = json.loads(shown.stdout)["plans"]
    assert 1.4 < plan["holds_to"] < 1.7
    assert (plan["breaks"], plan["because"]) == ("p95", "CPU and slots")  # neither is ruled out
    assert plan["month"] == plan["month_latest"] == pytest.approx(math.log(plan["holds_to"]) / math.log(1.08))
    with Store(tmp_path / "kept.sqlite") as store:
        ranged_found = headroom(load_study(file), plans=["two_zones"], grow=(0.05, 0.12), store=store)
    ranged = ranged_found.plans[0]
    wanted = [math.log(plan["holds_to"]) / math.log(1 + each) for each in (0.12, 0.05)]
    assert [ranged.month, ranged.month_latest] == pytest.approx(wanted)
    assert ranged.dates is not None
    assert ranged.dates[0] < plan["dates"][0] < ranged.dates[1]
    assert f"{wanted[0]:.1f} to {wanted[1]:.1f}" in ranged_found._repr_html_()
    assert picture.stat().st_size > 10_000
    study = load_study(file)
    with pytest.raises(ReplayError, match="grow: found 0"):
        headroom(study, plans=["noon"], grow=0)
    with pytest.raises(ReplayError, match=r"grow: found 0.2 to 0.1; allowed: above 0"):
        headroom(study, plans=["noon"], grow=(0.2, 0.1))
    with pytest.raises(StudyError, match="no objectives"):
        headroom(study.replace(objectives=Objectives()), plans=["noon"])


def test_when_to_change_to_which_plan(tmp_path: Path) -> None:
    """The cheapest that holds, then the cheapest of those that hold longer."""
    study = load_study(demo_in(tmp_path / "landing", "landing"))
    few = study.plan("drift").replace(replicas=5)
    found = headroom(study, plans=["noon", few], grow=0.05)
    drift, noon = found.plans[1], found.plans[0]
    assert drift.holds_to is not None
    assert noon.holds_to is not None
    assert 1 <= drift.holds_to < noon.holds_to
    assert [room.plan for room in found.changes] == ["drift", "noon"]
    assert drift.dates is not None
    end = study.trace().local_time(study.trace().span_s + (drift.month or 0) * 730 * 3600)
    assert drift.dates == (f"{end:%Y-%m-%d}",) * 2
    until = re.search(
        r"drift suffices for ([\d.]+) months \(until \d+ \w+ 20\d\d\), then noon suffices for ([\d.]+) months "
        r"\(until .*\); then no plan does", found._repr_html_(),
    )  # fmt: skip
    assert until is not None
    assert [float(each) for each in until.groups()] == [round(drift.month or 0, 1), round(noon.month or 0, 1)]
    assert found.to_dict()["changes"] == ["drift", "noon"]
    # Its picture has a bar a plan, as long as the plan holds, and beside it what breaks it.
    (axes,) = found.plot().axes
    assert [label.get_text() for label in axes.get_yticklabels()] == ["noon", "drift"]
    bars = [patch.get_width() for patch in axes.patches if getattr(patch, "get_height", float)() == 0.56]
    assert bars == pytest.approx([room.holds_to or 0.0 for room in found.plans])
    texts = [text.get_text() for text in axes.texts]
    for room in found.plans:
        assert any(f"{room.breaks}: {room.because}" in text for text in texts)


def test_a_room_says_all_that_the_json_has() -> None:
    assert {one.name for one in fields(Room)} >= {"plan", "holds_to", "breaks", "because", "month"}


def test_the_limit_of_each_objective() -> None:
    """Each by itself, and together they are the limit; with more seeds the first is the same."""
    case, trace = _case({}, {"replicas": 2}, mean=2), _trace(3, gap=1.5)
    room = room_of(case, trace)
    assert set(room.limits) == {"p95", "mean", "availability"}
    held = {name: limit for name, limit in room.limits.items() if limit is not None}
    assert room.holds_to == pytest.approx(min(held.values()))
    assert room.breaks in held
    for name, limit in held.items():
        for factor, met in ((limit, True), (limit * STEP, False)):
            figures = case.replay(replace(case, scale=factor).load(trace)).figures(routes=False)
            assert (name not in {one.name for one in figures.missed}) == met, (name, factor)
    others = [limit * STEP for limit in held.values() if limit != room.holds_to]
    assert room.next_at == (pytest.approx(min(others)) if others else None)


@pytest.mark.parametrize(("p95", "is_met"), [(1.7, True), (1.4, False)])
def test_the_limits_of_a_plan_that_never_holds(p95: float, *, is_met: bool) -> None:
    """One objective is missed by every request; others hold to above or below the load of the trace, or to whatever."""
    case, trace = _case({}, {}, mean="1ms", p95=p95, availability=0), _trace(5, gap=1.2)
    room = room_of(case, trace)
    assert room.holds_to is None
    assert (room.limits["mean"], room.limits["availability"]) == (0, None)
    limit = room.limits["p95"]
    assert limit is not None
    assert (limit > 1) == is_met
    for factor, met in ((limit, True), (limit * STEP, False)):
        figures = case.replay(replace(case, scale=factor).load(trace)).figures(routes=False)
        assert ("p95" not in {one.name for one in figures.missed}) == met


def test_headroom_with_more_seeds(tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    columns = {"at_s": np.cumsum(rng.exponential(1.0, 500)), "cpu_s": rng.exponential(0.2, 500)}
    tiers = {"t": {"billing": "per_hour", "sizes": {"small": {"cores": 1, "per_hour": 1}}}}
    more = {"service": {"slots": 8, "timeout": "9s"}, "objectives": {"p95": "2s", "availability": "99%"}}
    study = load_study(write_study(tmp_path, columns, tiers, {"p": {"tier": "t", "replicas": 1}}, **more))
    (room,) = headroom(study, repeats=2).plans
    (alone,) = headroom(study).plans
    (second,) = headroom(study, seed=1).plans
    assert alone.holds_to != second.holds_to
    assert room.repeats == (alone.holds_to, second.holds_to)
    assert replace(room, repeats=()) == alone
    with pytest.raises(ReplayError, match=r"repeats: found 'auto'; allowed: a whole number from 1 to 100,000$"):
        headroom(study, repeats="auto")  # type: ignore[arg-type]


def test_dates_are_counted_from_the_end_of_the_trace(tmp_path: Path) -> None:
    """Five days; a month costs 73 times 1 a request and may cost twice that: at 100 % a month in just under a month."""
    at_s = np.arange(100) * 4320.0
    columns = {"at_s": at_s, "cpu_s": np.full(100, 0.01)}
    tiers = {"t": {"billing": "per_request", "per_million_requests": 1_000_000, "sizes": {"small": {"cores": 1}}}}
    more = {"service": {"slots": 4}, "objectives": {"month": 2 * 730 / 120 * 100}}
    file = write_study(tmp_path, columns, tiers, {"p": {"tier": "t"}}, **more)
    text = file.read_text().replace('files = "t.csv"', 'files = "t.csv"\nsettle = 0')
    file.write_text(text)
    rows = (tmp_path / "t.csv").read_text().splitlines()
    began = datetime(2031, 6, 5, tzinfo=UTC)
    stamps = [
        f"{(began + timedelta(seconds=at)).isoformat()},{row.split(',')[1]}"
        for at, row in zip(at_s, rows[1:], strict=True)
    ]
    (tmp_path / "t.csv").write_text("\n".join(["time,cpu_s", *stamps]) + "\n")
    study = load_study(file)
    (room,) = headroom(study, grow=1.0).plans
    assert room.breaks == "month"
    trace = study.trace()
    assert trace.span_s > 4 * 86400
    assert room.month == pytest.approx(math.log2(room.holds_to or 0))
    end = began + timedelta(seconds=trace.span_s + room.month * 730 * 3600)
    assert room.dates == (f"{end:%Y-%m-%d}",) * 2


@pytest.mark.parametrize("n", [3, 40])
def test_few_requests(tmp_path: Path, n: int) -> None:
    """A load of fewer than twenty is not looked at: there may be no request in it."""
    columns = {"at_s": 10.0 * np.arange(n), "cpu_s": np.full(n, 0.1)}
    tiers = {"t": {"billing": "per_hour", "sizes": {"small": {"cores": 1, "per_hour": 0.02}}}}
    plans = {"a": {"tier": "t"}, "b": {"tier": "t", "replicas": 2}}
    objectives = {"p95": "1ms"}
    study = load_study(write_study(tmp_path, columns, tiers, plans, service={"slots": 1}, objectives=objectives))
    found = headroom(study, plans=["a"])
    assert found.plans[0].holds_to is None
    assert found.plans[0].limits == {"p95": 0.0}
    least = min(point.factor for point in found.plans[0].points)
    assert least == pytest.approx(min(1.0, 20 / n), rel=0.011)
    lines = break_even(study, loads=(0.05, 2))
    assert min(1.0, 20 / n) <= lines.loads[0] <= 1.11 * min(1.0, 20 / n)
    assert lines.cut_at is None
