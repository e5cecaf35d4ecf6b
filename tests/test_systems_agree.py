"""Several services that call each other: both data planes give the same for every request and every visit."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from hypothesis import given, settings, strategies as st

from builders import make_plan, make_tier
from libramen import Hosting, Plan, Service, Tier, Trace
from libramen.engine import simulation
from libramen.engine.border.records import AT_THE_EDGE, Ended
from libramen.study.balancers import BALANCERS
from libramen.study.edge import Edge
from libramen.study.places import RoundTrips
from libramen.study.system import System
from troubles import faults, rollouts, tiers

if TYPE_CHECKING:
    from libramen.engine.record import Run

NAMES = ["web", "stock", "database", "letters"]
ROUTES = ["/a", "/b", "/c"]

# Dyadic fractions, so that what is meant to tie does.
quarters = st.integers(0, 8).map(lambda k: k / 4)


class Kept:
    """Keeps all visits, sorted by request and by the call that they are of."""

    def __init__(self) -> None:
        self._parts: list[Ended] = []

    def arrived(self, at_s: np.ndarray) -> None:
        """Nothing is to be done."""

    def take(self, ended: Ended) -> None:
        """Keep a copy."""
        self._parts.append(Ended(*(np.array(column) for column in ended)))

    def columns(self) -> dict[str, np.ndarray]:
        """All of them."""
        if not self._parts:
            return {}
        whole = Ended(*(np.concatenate(columns) for columns in zip(*self._parts, strict=True)))
        order = np.lexsort((np.round(whole.latency_s, 6), np.round(whole.at_s, 6), whole.call, whole.id))
        return {name: column[order] for name, column in whole._asdict().items()}


@st.composite
def traces(draw: st.DrawFn) -> Trace:
    n = draw(st.integers(1, 25))
    gap = draw(st.sampled_from([0.0, 0.25, 1.0]))
    rng = np.random.default_rng(draw(st.integers(0, 2**32)))
    if draw(st.booleans()):
        gaps, cpu, wait, *given = (gap * rng.integers(0, 5, n) / 4, *rng.integers(0, 9, (4, n)) / 4)
    else:
        gaps, cpu, wait, *given = rng.exponential(gap, n), *rng.exponential(1.0, (4, n))
    at = np.cumsum(gaps)
    return Trace.from_arrays(
        at_s=at,
        cpu_s=cpu,
        wait_s=wait,
        route=rng.choice(ROUTES, n),
        visitor=rng.integers(0, 4, n),
        in_s={"stock": given[0], "database": given[1]},
        span_s=float(at[-1]) + draw(st.sampled_from([0.5, 20.0])),
        start="2031-06-05T06:59:55",
        time_zone="Europe/Lisbon",
    )


@st.composite
def calls(draw: st.DrawFn, to: str, pool: int | None) -> dict[str, Any]:
    call: dict[str, Any] = {"to": to, "times": draw(st.integers(1, 3)), "at_once": draw(st.booleans())}
    work = draw(st.sampled_from(["of_wait", "own", "drawn", "none", "column"]))
    if work == "of_wait":
        call["of_wait"] = draw(st.sampled_from([0, 0.125, 0.25]))
    elif work == "own":
        call |= {"cpu": draw(quarters), "wait": draw(quarters)}
    elif work == "drawn":
        call |= {"cpu": {"p50": 0.5, "p95": 1.5}, "wait": draw(quarters)}
    elif work == "none" or to == "letters":
        call["cpu"] = 0
    if work != "of_wait" and draw(st.booleans()):
        call["share"] = draw(st.sampled_from([0.5, 1]))
    if draw(st.booleans()):
        call["routes"] = draw(st.sampled_from([["/a"], ["/a", "/b"], ["/*"], ["/none"]]))
    if draw(st.booleans()):
        call["timeout"] = draw(st.sampled_from([0.25, 0.5, 1, 3]))
    if draw(st.booleans()):
        call |= {"retries": draw(st.integers(1, 2)), "retry_after": draw(st.sampled_from([0, 0.25, 1]))}
        call["retry_jitter"] = draw(st.sampled_from([0, 0.5]))
    if draw(st.integers(0, 3)) == 0:
        return call | {"wait_for_it": False}
    call["if_it_fails"] = draw(st.sampled_from(["fail", "go_on"]))
    if pool is not None:
        call["pool"] = pool
        if draw(st.booleans()):
            call["pool_timeout"] = draw(st.sampled_from([0.25, 1, 2]))
    return call


@st.composite
def services(draw: st.DrawFn, name: str, below: list[str]) -> Service:
    slots = draw(st.integers(1, 4))
    pools = {to: draw(st.sampled_from([None, 1, 2])) for to in below}
    callees = draw(st.lists(st.sampled_from(below), max_size=3)) if below else []
    values: dict[str, Any] = {}
    if name == "letters":
        values["routes"] = ["/c"]
    if draw(st.integers(0, 3)) == 0:
        values |= {"retries": draw(st.integers(1, 2)), "retry_after": draw(st.sampled_from([0, 0.25, 1]))}
    return Service(
        slots=slots,
        threads=draw(st.integers(1, slots)),
        backlog=draw(st.sampled_from([None, None, 0, 2])),
        start=draw(quarters),
        drain=draw(st.sampled_from([None, 1])),
        timeout=draw(st.sampled_from([None, None, 1, 4])),
        on_timeout=draw(st.sampled_from(["finish", "drop"])),
        memory_per_request=draw(st.sampled_from([0, 0, 50])),
        cpu_share=draw(st.sampled_from([0.25, 0.5, 1])),
        calls=[draw(calls(to, pools[to])) for to in callees],
        **values,
    )


@st.composite
def plans(draw: st.DrawFn, span_s: float, regions: list[str] | None = None) -> Plan:
    size: dict[str, Any] = {"cores": draw(st.sampled_from([0.5, 1, 2])), "speed": draw(st.sampled_from([0.5, 1.0]))}
    size |= {"per_hour": 1} | ({"memory": draw(st.sampled_from([50, 100, 150]))} if draw(st.booleans()) else {})
    alike = {
        "sizes": {"s": size},
        "overhead": draw(st.sampled_from([0, 0, 0.25])),
        "holds_requests": draw(st.integers(0, 3)) == 0,
        "queue_limit": draw(st.sampled_from([None, 1])),
    }
    tier = make_tier(**alike, provision=draw(quarters), replicas={"least": 0, "most": 9}, **draw(tiers()))
    n = draw(st.integers(0, 3))
    balancer = st.sampled_from(sorted(BALANCERS))
    plan: dict[str, Any] = {"replicas": n, "balancer": draw(balancer)}
    kind = draw(st.sampled_from(["fixed", "fixed", "target", "on_arrival", "waiting"]))
    limits = {"floor": draw(st.integers(0, 1)), "ceiling": 4}
    if kind == "on_arrival":
        plan["scaling"] = {"rule": "on_arrival", "idle": draw(st.sampled_from([0, 0.5]))} | limits
    elif kind != "fixed":
        measure = "waiting" if kind == "waiting" else draw(st.sampled_from(["cpu", "rate", "latency", "in_progress"]))
        plan["scaling"] = {"rule": "target", "measure": measure, "target": 0.5, "every": 1} | limits
    if n and "scaling" not in plan and draw(st.integers(0, 2)) == 0:
        plan |= {
            "standby": draw(st.integers(1, 2)),
            "promote": draw(st.sampled_from([0, 0.25, 2, {"p50": 1, "p95": 3}])),
        }
        if draw(st.booleans()):
            plan["rollouts"] = [draw(rollouts(span_s, n, fixed=True, strategies=["handover"]))]
    elif n and draw(st.booleans()):
        plan["rollouts"] = [draw(rollouts(span_s, n, fixed="scaling" not in plan))]
    sold = [tier]
    if "standby" not in plan and draw(st.integers(0, 2)) == 0:
        first = draw(st.integers(0, 3))
        tight = 2 * n + 2 if "rollouts" in plan else max(1, n - first)  # a release of a fixed fleet that has no room
        most = draw(st.sampled_from([None, 9, tight if regions is None else 8]))
        other = make_tier(
            name="other", **alike, provision=draw(quarters), replicas={"least": 0, "most": most}, **draw(tiers())
        )
        entries = [{"tier": tier, "size": "s", "replicas": first}, {"tier": other, "size": "s"}]
        plan |= {"mix": entries, "replacement": draw(st.sampled_from(["same", "other"]))}
        sold.append(other)
    lent = [one.name for one in sold if one.interruptible]
    plan["faults"] = draw(st.lists(faults(span_s, interruptible=bool(lent)), max_size=2))
    for fault in plan["faults"] if len(sold) > 1 else ():
        if fault["kind"] == "reclaim":
            fault["tier"] = draw(st.sampled_from([None, *lent]))
        elif fault["kind"] == "no_stock":
            fault["tier"] = draw(st.sampled_from([None, tier.name, "other"]))
    if regions is not None:
        there = draw(st.lists(st.sampled_from(regions), min_size=1, max_size=3, unique=True))
        plan["regions"] = {
            name: draw(regional(fixed="scaling" not in plan, stands_by="standby" in plan)) for name in there
        }
        plan["spill"] = draw(st.booleans()) and not any(
            r["strategy"] in {"switch", "canary"} for r in plan.get("rollouts", ())
        )
        plan["reroute"] = draw(st.sampled_from([0, 0, 0.75, 3]))
    return Plan(**plan) if "mix" in plan else make_plan(tier, **plan)


@st.composite
def regional(draw: st.DrawFn, *, fixed: bool, stands_by: bool) -> dict[str, Any]:
    """What differs in a region."""
    keys: dict[str, Any] = {}
    if draw(st.booleans()):
        keys["replicas"] = draw(st.integers(1, 3))
        keys["rollouts"] = []
    if draw(st.booleans()):
        keys["faults"] = []
    if fixed and not stands_by and draw(st.integers(0, 2)) == 0:
        keys["scaling"] = {"rule": "on_arrival", "idle": 0.5, "floor": 0, "ceiling": 3}
        keys["rollouts"] = []
    return keys


@st.composite
def region_losses(draw: st.DrawFn, span_s: float, regions: list[str]) -> dict[str, Any]:
    """A region that is lost, at a time or at random."""
    when: dict[str, Any] = {"at": draw(st.sampled_from([0, 0.25, span_s / 4, span_s / 2]))}
    if draw(st.integers(0, 3)) == 0:
        when = {"every_about": draw(st.sampled_from([2, 10]))}
    return when | {
        "kind": "region_loss",
        "region": draw(st.sampled_from(regions)),
        "lasts": draw(st.sampled_from([None, 0.5, 3])),
        "detect": draw(st.sampled_from([0, 0.25, 2])),
        "answers": draw(st.sampled_from(["at_once", "none"])),
    }


@st.composite
def placed(draw: st.DrawFn) -> tuple[Trace, System]:
    """The same with users in two areas, and services in up to three regions."""
    trace, system = draw(cases())
    rng = np.random.default_rng(draw(st.integers(0, 2**32)))
    trace = replace(trace, area=rng.integers(0, 2, len(trace)).astype(np.int32), areas=("north", "south"))
    if draw(st.booleans()):
        trace = replace(trace, visitor=None)
    names = ["east", "west", "far"]
    far = st.sampled_from([0, 0.125, 0.25, 0.5, 1])
    trips = {area: {name: draw(far) for name in names} for area in ("north", "south")}
    trips |= {"east": {"west": draw(far), "far": draw(far)}, "west": {"far": draw(far)}}
    services = {one.of: one.service.replace(exchanges=draw(st.sampled_from([1, 2]))) for one in system.hosted}
    hosted = {name: draw(plans(trace.span_s, names)) for name in services}
    for name, plan in hosted.items():
        names = [of for of, keys in plan.only.regions.items() if "rollouts" not in keys]
        if plan.only.rollouts and names and draw(st.booleans()):
            order = draw(st.permutations(names))[: draw(st.integers(1, 3))]
            by_turns = {"regions": order, "pause": draw(st.sampled_from([0, 1]))}
            hosted[name] = plan.replace(rollouts=[one.replace(**by_turns) for one in plan.only.rollouts])
        if draw(st.integers(0, 2)) == 0:
            losses = draw(st.lists(region_losses(trace.span_s, list(plan.only.regions)), min_size=1, max_size=2))
            hosted[name] = hosted[name].replace(faults=[*plan.only.faults, *losses])
    edge = None
    if draw(st.integers(0, 2)) == 0:
        hit = draw(st.sampled_from([0.25, {"/a": 1, "*": 0.5}]))
        edge = Edge(hit=hit, time=draw(st.sampled_from([0, 0.5])), miss_time=draw(st.sampled_from([0, 0.25])))
    return trace, System.of(services, Plan(services=hosted, edge=edge), RoundTrips(trips))


@st.composite
def cases(draw: st.DrawFn) -> tuple[Trace, System]:
    trace = draw(traces())
    n = draw(st.integers(2, 4))
    names = [*NAMES[: n - 1], "letters"]
    found = {name: draw(services(name, names[place + 1 :])) for place, name in enumerate(names)}
    # All but the last are called by the first, or nobody would know where a request goes.
    called = {call.to for service in found.values() for call in service.calls}
    for name in names[1:-1]:
        if name not in called:
            first = found[names[0]]
            found[names[0]] = first.replace(calls=[*first.calls, {"to": name, "cpu": 0.25}])
    return trace, System.of(found, {name: draw(plans(trace.span_s)) for name in names})


def replayed(case: tuple[Trace, System], plane: Any, **values: Any) -> tuple[Run, dict[str, np.ndarray]]:
    kept = Kept()
    runs = simulation.run(case[0], case[1], data_plane=plane, window_s=1.0, sink=kept, spends=True, **values)
    return runs, kept.columns()


def check(case: tuple[Trace, System]) -> None:
    (runs, visits), (others, theirs) = replayed(case, "compiled"), replayed(case, "plain")
    for name, run in runs.services.items():
        other = others.services[name]
        for mine, another in zip(run.replicas, other.replicas, strict=True):
            assert [stage for _, stage in mine.stages] == [stage for _, stage in another.stages]
            np.testing.assert_allclose([t for t, _ in mine.stages], [t for t, _ in another.stages], atol=1e-9)
        assert len(run.decisions) == len(other.decisions)
        np.testing.assert_allclose(run.integrals, other.integrals, rtol=1e-12, atol=1e-8)
        assert run.unsent == other.unsent
        n = min(len(run.moved), len(other.moved))
        assert run.moved[:n].tolist() == other.moved[:n].tolist()
        assert run.moved[n:].sum() == other.moved[n:].sum() == 0
    for name in ("ending", "replica", "attempts", "server"):
        np.testing.assert_array_equal(getattr(runs.kept, name), getattr(others.kept, name))
    for name in ("latency_s", "queued_s", "before_s", "spent_s"):
        np.testing.assert_allclose(getattr(runs.kept, name), getattr(others.kept, name), atol=1e-9)
    for name in ("ending", "replica", "attempts", "id", "call", "server"):
        np.testing.assert_array_equal(visits[name], theirs[name], err_msg=name)
    for name in ("latency_s", "queued_s", "before_s", "at_s", "cpu_s", "wait_s", "called_s", "connecting_s", "trip_s"):
        np.testing.assert_allclose(visits[name], theirs[name], atol=1e-9, err_msg=name)
    # Every request ends once, and where one was answered its latency is where its time went.
    assert np.sort(visits["id"][visits["call"] < len(case[1].hosted)]).tolist() == list(range(len(case[0])))
    ok = (runs.kept.ending == 0) & (runs.kept.server != AT_THE_EDGE)
    if runs.kept.spent_s.shape[1]:
        np.testing.assert_allclose(runs.kept.spent_s[ok].sum(axis=(1, 2)), runs.kept.latency_s[ok], atol=1e-8)


@settings(max_examples=max(50, settings().max_examples))
@given(cases())
def test_both_planes_agree_on_every_visit(case: tuple[Trace, System]) -> None:
    check(case)


@settings(max_examples=max(30, settings().max_examples))
@given(placed())
def test_both_planes_agree_where_places_matter(case: tuple[Trace, System]) -> None:
    check(case)


def _passing(case: tuple[Trace, System]) -> tuple[Trace, System]:
    """The same, with faults at times alone that all pass, releases that do not crash, and 400 s after all of that."""
    trace, system = case
    services: dict[str, Hosting] = {}
    for name, hosting in system.plan.services.items():
        at_times = [one for one in hosting.faults if one.every_about is None]
        lasting = [one.replace(lasts=3) if "lasts" in type(one).model_fields else one for one in at_times]
        stocks = [one.model_copy(update={"tier": _kept(one.tier)}) for one in hosting.stocks]
        where: dict[str, Any] = {"mix": stocks} if hosting.mix else {"tier": stocks[0].tier}
        rollouts = [one.replace(crashes_after=None) for one in hosting.rollouts]
        services[name] = hosting.replace(faults=lasting, rollouts=rollouts, **where)
    found = {one.of: one.service for one in system.hosted}
    plan = Plan(services=services, edge=system.plan.edge)
    return replace(trace, span_s=trace.span_s + 400), System.of(found, plan, system.round_trips)


def _kept(tier: Tier) -> Tier:
    return tier.model_copy(update={"reclaimed_every": None})


@given(st.one_of(cases(), placed()))
def test_a_fixed_fleet_is_whole_again_after_everything(case: tuple[Trace, System]) -> None:
    trace, system = _passing(case)
    runs = simulation.run(trace, system)
    # Where nobody will ever take what is held, fleets that call there may wait for ever with a release.
    waits = any(one.hosting.tier.holds_requests and not one.hosting.replicas_used for one in system.hosted)
    for run, hosted in zip(runs.services.values(), system.hosted, strict=True):
        if not hosted.hosting.scaling.decides and not waits:
            there = [one.stage for one in run.replicas if one.gone_s is None]
            serving = [one for one in run.replicas if one.is_ready and one.is_serving]
            assert len(serving) == hosted.hosting.replicas_used
            assert len(there) == hosted.hosting.replicas_used + hosted.hosting.standing_by
