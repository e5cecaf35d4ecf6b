"""Bounds that leave combinations out of a search: never above what the whole replay comes to."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from builders import make_case, make_plan, make_tier
from libramen import Objectives, Plan, Service, Terms, Trace, replay
from libramen.outcome.replay import replay_system
from libramen.questions.bounds import (
    NOTHING,
    HourWeights,
    LeastUse,
    Overload,
    Spent,
    Stopped,
    Watch,
    Weighed,
    about_all,
    fewest,
    least_cost,
    likely_cost,
)
from libramen.study.system import System

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.engine.control.fleet import Fleet
    from libramen.questions.bounds import UsedAtLeast
    from libramen.runs.cases import Case

DAY_S = 86400.0

plans = st.sampled_from(
    [
        {"replicas": 2},
        {"replicas": 1, "scaling": {"rule": "target", "measure": "cpu", "target": 0.5, "every": 600, "ceiling": 5}},
        {"replicas": 3, "scaling": {"rule": "on_arrival", "idle": 900, "floor": 1, "ceiling": 5}},
        {"replicas": 2, "rollouts": [{"at": 3600, "strategy": "rolling", "spare": 1}]},
        {"replicas": 2, "rollouts": [{"at": 3600, "strategy": "stop_start"}]},
        {"replicas": 2, "faults": [{"kind": "crash", "at": 3600}]},
    ]
)
tiers = st.sampled_from(
    [
        {"billing": "per_hour"},
        {"billing": "per_second", "minimum_billed": 7200},
        {"billing": "per_second", "billed_from": "ready", "provision": 300},
        {"billing": "per_month", "sizes": {"s": {"cores": 1, "per_month": 9}}},
        {"billing": "per_hour", "balancer_per_hour": "0.02", "fixed_per_month": 3},
        {"billing": "per_request", "per_core_second": "0.001", "sizes": {"s": {"cores": 1}}},
        {"billing": "per_request", "per_core_second": "0.001", "granularity": 60, "sizes": {"s": {"cores": 1}}},
    ]
)


def _trace(days: float, number: int = 0, *, gap_s: float = 600.0, start: str | None = None) -> Trace:
    rng = np.random.default_rng(number)
    at_s = np.cumsum(rng.exponential(gap_s, int(2 * days * DAY_S / gap_s) + 20))
    at_s = at_s[at_s < days * DAY_S]
    n = len(at_s)
    return Trace.from_arrays(
        at_s=at_s, cpu_s=rng.exponential(300, n), wait_s=rng.exponential(5, n), span_s=days * DAY_S, start=start,
        time_zone="Europe/Lisbon" if start else None,
    )  # fmt: skip


class _Seeing:
    """Notes at each look what is spent."""

    def __init__(self, trace: Trace, case: Case, used: UsedAtLeast) -> None:
        self._once, self._spent = HourWeights(trace, case).once, Spent(trace, case, used)
        self.seen: list[Decimal] = []

    def begin(self, *, with_events: bool) -> tuple[None, Callable[[float, list[Fleet]], None]]:
        part = int(self._once and not with_events)

        def look(now_s: float, fleets: list[Fleet]) -> None:
            self.seen.append(self._spent.month(part, now_s, fleets))

        return None, look


def _spent(trace: Trace, case: Case, used: UsedAtLeast = NOTHING) -> tuple[list[Decimal], Decimal]:
    """What is spent while a case is replayed, and what it comes to."""
    seeing = _Seeing(trace, case, used)
    outcome = replay_system(
        trace, case.system, case.objectives, settle=case.settle_s, terms=case.terms, watched=seeing
    )  # fmt: skip
    return seeing.seen, outcome.bill.month


@settings(max_examples=max(16, settings().max_examples // 2))
@given(plans, tiers, st.sampled_from([0.5, 3.0, 7.0, 9.5]), st.sampled_from([None, "2031-10-24T10:20"]))
def test_what_is_spent_is_never_more_than_the_bill(
    plan: dict[str, Any], tier: dict[str, Any], days: float, start: str | None
) -> None:
    """At every instant; nor is the least cost. Over a week and more each hour of the week counts by itself."""
    trace, made = _trace(days, start=start), Plan(tier=make_tier(**tier), size="s", **plan)
    case = make_case({"service": Service(slots=4)}, made, Objectives())
    seen, bill = _spent(trace, case)
    assert len(seen) == (200 if HourWeights(trace, case).once else 100)
    assert max(seen) <= bill
    assert least_cost(case) <= min(bill, likely_cost(case))
    assert seen[0] >= least_cost(case) - Decimal("0.02")


SENDING: list[dict[str, Any]] = [
    {"billing": "per_second", "egress_per_gb": "0.5", "free": {"egress_gb": 3}},
    {"billing": "per_request", "per_million_requests": 900, "egress_per_gb": "0.5", "sizes": {"s": {"cores": 1}}},
]


@settings(max_examples=max(16, settings().max_examples // 2))
@given(
    st.sampled_from(SENDING),
    st.sampled_from([0.5, 7.0, 9.5]),
    st.integers(0, 100),
    st.sampled_from([0.0, 7200.0]),
    st.sampled_from(["availability", "latency"]),
    st.sampled_from([700.0, 4000.0]),
)
def test_what_is_sent_is_never_less_than_what_must_be(
    tier: dict[str, Any], days: float, number: int, settle_s: float, kind: str, gap_s: float
) -> None:
    """Some are refused, of whatever size, and just as many may fail."""
    start = "2031-10-24T10:20"
    trace = _trace(days, number, gap_s=gap_s, start=start)
    trace = Trace.from_arrays(
        at_s=trace.at_s, cpu_s=trace.cpu_s, bytes_out=np.random.default_rng(number).exponential(1e8, len(trace)),
        span_s=trace.span_s, start=start, time_zone="Europe/Lisbon",
    )  # fmt: skip
    made = Plan(tier=make_tier(**tier), size="s", replicas=1)
    services = {"service": Service(slots=1, backlog=0)}
    ok = replay(trace, services, made, settle=settle_s).availability
    percentile = next(name for name, share in {"p99": 0.99, "p90": 0.9, "p50": 0.5}.items() if ok >= share)
    objectives = Objectives(**({"availability": ok - 1e-9} if kind == "availability" else {percentile: "300d"}))
    case = make_case(services, made, objectives, settle_s=settle_s)
    sent = LeastUse(Weighed(trace)).of(case)
    seen, bill = _spent(trace, case, sent)
    assert least_cost(case) <= least_cost(case, sent) <= bill
    assert max(seen) <= bill


@pytest.mark.parametrize("tier", SENDING)
@pytest.mark.parametrize("days", [2.0, 9.5])
def test_where_nothing_may_fail_all_is_known_that_is_sent(tier: dict[str, Any], days: float) -> None:
    """Also where some hours of the week were there twice, and others once."""
    at_s = _trace(2.0).at_s
    trace = Trace.from_arrays(
        at_s=at_s, cpu_s=np.zeros(len(at_s)), bytes_out=np.full(len(at_s), 5e7), span_s=days * DAY_S
    )
    made, services = Plan(tier=make_tier(**tier), size="s", replicas=1), {"service": Service(slots=9)}

    def least(**objectives: Any) -> Decimal:
        case = make_case(services, made, Objectives(**objectives))
        return least_cost(case, LeastUse(Weighed(trace)).of(case))

    bill = replay(trace, services, made).bill.month
    assert bill - Decimal("0.02") <= least(availability="100%") <= bill
    standing = least_cost(make_case(services, made, Objectives()))
    assert float(least(p99="1s")) == pytest.approx(float(bill - (bill - standing) / 100), rel=0.02)
    assert least(month=5) == least(mean="1s") == standing < bill - 1  # everything may fail


def test_before_it_counts_everything_may_fail() -> None:
    """Half of the requests, all at once, and a backlog of none."""
    at_s = np.concatenate([np.zeros(100), np.linspace(4000, 86000, 100)])
    trace = Trace.from_arrays(at_s=at_s, cpu_s=np.full(200, 9.0), bytes_out=np.full(200, 1e9), span_s=DAY_S)
    made = Plan(tier=make_tier(egress_per_gb="0.5"), size="s", replicas=1)
    services, wanted = {"service": Service(slots=1, backlog=0)}, Objectives(availability="100%")
    outcome = replay(trace, services, made, wanted, settle=3600)
    assert outcome.meets_all
    case = make_case(services, made, wanted, settle_s=3600)
    sent = LeastUse(Weighed(trace)).of(case)
    assert outcome.bill.month - Decimal(16) < least_cost(case, sent) <= outcome.bill.month


def test_what_is_likely_does_not_look_at_what_may_break() -> None:
    """A fleet of two at 0.1 an hour; a crash, a tier that sells no replacement, a release that stops first."""
    plan = Plan(tier=make_tier(sizes={"s": {"cores": 1, "per_hour": "0.1"}}), size="s", replicas=2)
    crash: dict[str, Any] = {"faults": [{"kind": "crash", "at": 60}]}
    stop: dict[str, Any] = {"rollouts": [{"at": 60, "strategy": "stop_start"}]}
    fixed, breaks, stops = (
        make_case({"service": Service(slots=1)}, plan.replace(**keys), Objectives()) for keys in ({}, crash, stop)
    )
    assert least_cost(fixed) == likely_cost(fixed) == Decimal("145.995")
    assert (least_cost(breaks), likely_cost(breaks)) == (0, Decimal("145.995"))
    assert least_cost(stops) == likely_cost(stops) == 0


@settings(deadline=None)
@given(plans, tiers)
def test_no_fewer_replicas_are_paid_than_the_fewest(plan: dict[str, Any], tier: dict[str, Any]) -> None:
    trace, made = _trace(0.5), Plan(tier=make_tier(**tier), size="s", **plan)
    found = replay(trace, Service(slots=4), made)
    assert found.paid_s >= fewest(made.only) * trace.span_s - 1e-6


@settings(deadline=None)
@given(
    st.integers(0, 1000),
    st.sampled_from([0.05, 0.2, 0.5, 2.0]),
    st.integers(1, 3),
    st.sampled_from([0.5, 3.0, 30.0]),
    st.sampled_from(["least_busy", "shared_queue"]),
)
def test_as_many_are_late_as_an_overload_says(
    number: int, gap_s: float, replicas: int, limit_s: float, balancer: str
) -> None:
    """At least: however a fleet serves them, in whatever order, it has only so many cores."""
    rng = np.random.default_rng(number)
    at_s = np.cumsum(rng.exponential(gap_s, 400))
    trace = Trace.from_arrays(at_s=at_s, cpu_s=rng.exponential(0.6, 400), span_s=float(at_s[-1]) + 1)
    plan = Plan(tier=make_tier(), size="s", replicas=replicas, balancer=balancer)
    latency_s = replay(trace, Service(slots=20), plan).requests["latency_s"].to_numpy()
    hour_weights = HourWeights(trace, make_case({"service": Service(slots=20)}, plan, Objectives()))
    overload = Overload(Weighed(trace))
    minutes = overload._minutes_of(np.arange(400))
    late = overload._late(minutes, hour_weights, float(replicas), limit_s) / hour_weights.of_hour[0]
    assert late <= np.count_nonzero(latency_s > limit_s) + 1e-6


def test_no_more_are_late_than_must_be() -> None:
    """205 s of work come in a minute, of which 70 can be done in time: the one that takes 200 is late, and the other is not."""
    trace = Trace.from_arrays(at_s=[0.0, 59.0], cpu_s=[5.0, 200.0], span_s=3600)
    services, plan = {"service": Service(slots=5)}, make_plan(replicas=1)
    for wanted, is_met in ((Objectives(p50="10s"), True), (Objectives(p90="10s"), False)):
        assert Overload(Weighed(trace)).rules_out(make_case(services, plan, wanted)) is not is_met
        assert replay(trace, services["service"], plan, wanted).meets_all is is_met


@pytest.mark.parametrize(
    "plan",
    [
        {"scaling": {"rule": "target", "measure": "cpu", "target": 0.5, "every": 60, "ceiling": 5}},
        {"rollouts": [{"at": 30, "strategy": "rolling"}]},
        {"faults": [{"kind": "crash", "at": 30}]},
    ],
)
def test_a_fleet_that_changes_is_never_ruled_out(plan: dict[str, Any]) -> None:
    at_s = np.linspace(0, 59, 400)
    trace = Trace.from_arrays(at_s=at_s, cpu_s=np.full(400, 1.0), span_s=3600)
    service, wanted = {"service": Service(slots=5)}, Objectives(p95="1s")
    made = Plan(tier=make_tier(), size="s", replicas=1, name="p")
    assert Overload(Weighed(trace)).rules_out(make_case(service, made, wanted))
    assert not Overload(Weighed(trace)).rules_out(make_case(service, made.replace(**plan), wanted))
    assert not Overload(Weighed(trace)).rules_out(make_case(service, made, wanted, settle_s=10))
    assert not Overload(Weighed(trace)).rules_out(make_case(service, made, Objectives(month=1)))


def test_the_budget_of_objectives_on_all_requests() -> None:
    wanted = Objectives(
        p95="1s", p99="2s", availability="99%", month=5, mean="1s", routes={"a": {"p50": "1ms"}},
        windows=[{"at": ["09:00", "10:00"], "p50": "1ms"}],
    )  # fmt: skip
    assert [goal.name for goal in wanted.goals() if about_all(goal)] == ["p95", "p99", "availability"]
    made = Plan(tier=make_tier(), size="s", replicas=1)
    trace = Trace.from_arrays(at_s=np.arange(1000.0), cpu_s=np.zeros(1000), span_s=7300)  # 360 times in a month
    _, budgets = Weighed(trace).of(make_case({"service": Service(slots=5)}, made, wanted))
    assert budgets.failed == pytest.approx(10 * 360)
    assert [(limit_s, round(most / 360)) for limit_s, most in budgets.late] == [(1.0, 50), (2.0, 10)]


@pytest.mark.parametrize(("objective", "stops"), [({"p95": "1s"}, True), ({"availability": "50%"}, False)])
def test_a_replay_is_stopped_when_nothing_can_save_it(objective: dict[str, Any], *, stops: bool) -> None:
    """All are late, none fails: halfway through the trace at the latest."""
    at_s = np.arange(0.0, 3600, 10)
    trace = Trace.from_arrays(at_s=at_s, cpu_s=np.zeros(360), wait_s=np.full(360, 5.0), span_s=3600)
    case = make_case(
        {"service": Service(slots=5)}, Plan(tier=make_tier(), size="s", replicas=2), Objectives(**objective)
    )
    seen: list[float] = []

    class Seeing(Watch):
        def begin(self, *, with_events: bool) -> tuple[np.ndarray, Callable[[float, list[Fleet]], None]]:
            records, look = super().begin(with_events=with_events)

            def look_too(now_s: float, fleets: list[Fleet]) -> None:
                seen.append(now_s)
                look(now_s, fleets)

            return records, look_too

    def run() -> None:
        replay_system(trace, case.system, case.objectives, watched=Seeing(trace, case))

    if not stops:
        run()
        assert len(seen) == 100
        return
    with pytest.raises(Stopped) as stopped:
        run()
    assert stopped.value.peak == 2
    assert seen[-1] < 360  # 18 late ones of 360 are one too many, and they have arrived by then


@pytest.mark.parametrize("granularity", [0, 60])
def test_what_is_used_by_now_is_spent(granularity: float) -> None:
    """On a tier that is paid by use: at the end nearly the bill, and half of it is too much halfway."""
    trace = _trace(2.0)
    tier = make_tier(billing="per_request", per_core_second="0.001", granularity=granularity, sizes={"s": {"cores": 1}})
    made, services = Plan(tier=tier, size="s", replicas=2), {"service": Service(slots=4)}
    case = make_case(services, made, Objectives())
    seen, bill = _spent(trace, case)
    assert seen == sorted(seen)
    assert float(seen[-1]) == pytest.approx(float(bill), rel=0.01)
    with pytest.raises(Stopped):
        replay_system(trace, case.system, case.objectives, watched=Watch(trace, case, bill / 2))


def test_a_replay_is_stopped_when_the_money_is_spent() -> None:
    trace = _trace(8.0)
    tier = make_tier(sizes={"s": {"cores": 1, "per_hour": 1}})
    made = Plan(tier=tier, size="s", replicas=4)
    case = make_case({"service": Service(slots=5)}, made, Objectives())
    whole = replay(trace, case.system.only.service, made).bill.month
    assert whole == 4 * 730
    for most, is_stopped in ((whole, False), (whole - 1, True)):
        watch = Watch(trace, case, most)
        if is_stopped:
            with pytest.raises(Stopped):
                replay_system(trace, case.system, case.objectives, watched=watch)
        else:
            replay_system(trace, case.system, case.objectives, watched=watch)


def test_below_its_floor_for_want_of_room_it_costs_less() -> None:
    """A floor of five is wanted, and the account allows four in all."""
    scaling = {"rule": "fixed", "timetable": [{"at": "00:00", "floor": 5, "ceiling": 5}]}
    made = Plan(tier=make_tier(), size="s", replicas=3, scaling=scaling)
    services, trace = {"service": Service(slots=9)}, _trace(0.5, start="2031-06-05")
    terms = Terms(account={"replicas": 4})
    case = make_case(services, made, Objectives(), terms=terms)
    bill = replay(trace, services, made, terms=terms).bill.month
    assert least_cost(case) <= bill < least_cost(make_case(services, made, Objectives()))


def test_what_a_single_event_fails_counts_once() -> None:
    """A twelfth of an hour's requests fail in a release: a month has 730 such hours, and the release once."""
    trace = Trace.from_arrays(at_s=np.arange(3600.0), cpu_s=np.full(3600, 0.01), span_s=3600)
    made = Plan(tier=make_tier(), size="s", replicas=2, rollouts=[{"at": 1200, "strategy": "stop_start"}])
    case = make_case({"service": Service(slots=2, start=300, backlog=0)}, made, Objectives(availability="99.9%"))
    watch = Watch(trace, case, None, NOTHING)
    found = replay_system(trace, case.system, case.objectives, watched=watch)  # it is not stopped
    assert found.endings["ok"] == 3300
    assert found.month.availability == pytest.approx(1 - 300 / (730 * 3600))


def test_cases_with_and_without_single_events_are_weighed_by_themselves() -> None:
    trace = Trace.from_arrays(at_s=np.arange(100.0), cpu_s=np.zeros(100), span_s=7300)
    weighed, service = Weighed(trace), {"service": Service(slots=5)}
    plain = make_plan(make_tier())
    case = make_case(service, plain, Objectives(availability="90%"))
    eventful = replace(case, system=System.of(service, plain.replace(rollouts=[{"at": 60, "strategy": "rolling"}])))
    for one in (case, eventful, case):
        assert weighed.of(one)[0].once == (one is eventful)
    assert weighed.of(case) is not weighed.of(eventful)


@settings(max_examples=max(16, settings().max_examples // 2))
@given(st.integers(0, 1000), st.sampled_from(SENDING), st.sampled_from([0.2, 1.0, 5.0]), st.integers(1, 3))
def test_of_several_services_each_that_requests_come_to_is_bounded(
    number: int, tier: dict[str, Any], gap_s: float, replicas: int
) -> None:
    """`c` is only called, so nothing is sure of it; what is ruled out misses its objective when it is replayed."""
    rng = np.random.default_rng(number)
    at_s = np.cumsum(rng.exponential(gap_s, 300))
    trace = Trace.from_arrays(
        at_s=at_s, cpu_s=rng.exponential(0.6, 300), bytes_out=rng.exponential(1e8, 300), span_s=float(at_s[-1]) + 60,
        route=np.array(["/a", "/a", "/b"])[rng.integers(0, 3, 300)],
    )  # fmt: skip
    slots = {"slots": 9, "backlog": 9}
    services = {
        "a": Service(routes=["/a"], calls=[{"to": "c", "share": 0.5, "cpu": "10ms"}], **slots),
        "b": Service(routes=["/b"], **slots),
        "c": Service(slots=50),
    }
    hosting = make_plan(make_tier(**tier), replicas=replicas).only
    plan = Plan(services=dict.fromkeys(services, hosting))
    case = make_case(services, plan, Objectives(p90="2s"))
    sent = LeastUse(Weighed(trace)).of(case)
    assert set(sent) == {"a", "b"}
    seen, bill = _spent(trace, case, sent)
    assert least_cost(case) <= least_cost(case, sent) <= bill
    assert max(seen) <= bill
    if Overload(Weighed(trace)).rules_out(case):
        assert not replay(trace, services, plan, case.objectives).meets_all


def test_an_overload_of_one_of_several_services_is_seen() -> None:
    """Half of the requests come to a service that can do a third of their work; with another one it holds."""
    at_s = np.linspace(0, 590, 1200)
    trace = Trace.from_arrays(
        at_s=at_s, cpu_s=np.full(1200, 3.0), span_s=600, route=np.array(["/a", "/b"])[np.arange(1200) % 2]
    )
    services = {name: Service(slots=5, routes=[f"/{name}"]) for name in ("a", "b")}
    wide, narrow = make_plan(replicas=5).only, make_plan(replicas=1).only
    wanted = Objectives(p90="30s")

    def is_out(**hosted: Any) -> bool:
        return Overload(Weighed(trace)).rules_out(make_case(services, Plan(services=hosted), wanted))

    assert is_out(a=wide, b=narrow)
    assert is_out(a=narrow, b=wide)
    assert not is_out(a=wide, b=wide)
    assert not replay(trace, services, Plan(services={"a": wide, "b": narrow}), wanted).meets_all
    assert replay(trace, services, Plan(services={"a": wide, "b": wide}), wanted).meets_all
