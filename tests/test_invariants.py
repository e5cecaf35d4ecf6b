"""What must hold in every replay, checked against slow and simple ways to compute the same."""

from __future__ import annotations

import itertools
import math
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given, strategies as st

from builders import make_plan, make_tier
from libramen import Outcome, Service, Trace, replay
from libramen.base.ranks import by_group, nearest_rank
from libramen.base.steps import Steps
from libramen.engine.control.agenda import Agenda, Kind
from libramen.outcome.kept_requests import _selected

seeds = st.integers(0, 10**6)


def _trace(seed: int, n: int = 120, gap: float = 0.5, **values: Any) -> Trace:
    rng = np.random.default_rng(seed)
    at = np.cumsum(rng.exponential(gap, n))
    return Trace.from_arrays(
        **{"at_s": at, "cpu_s": rng.exponential(0.4, n), "wait_s": rng.exponential(0.4, n), "span_s": at[-1] + 200}
        | values
    )


# -- releases --------------------------------------------------------------------------------------


@st.composite
def releases(draw: st.DrawFn) -> tuple[int, dict[str, Any]]:
    n = draw(st.integers(1, 6))
    spare = draw(st.integers(0, 3))
    keep = draw(st.integers(0, n - 1 if spare == 0 else n))
    rollout = {"at": 10, "strategy": "rolling", "batch": draw(st.integers(1, 4)), "spare": spare, "keep": keep}
    return n, rollout | {"in_place": draw(st.booleans())}


def _count_at(outcome: Outcome, at_s: float, state: str) -> int:
    """Replicas ready, or there in any way, just after an instant."""
    count = 0
    for r in outcome.run.only.replicas:
        begin = r.ready_s if state == "ready" else r.ordered_s
        ends = [t for t in ((r.draining_s, r.gone_s) if state == "ready" else (r.gone_s,)) if t is not None]
        count += begin is not None and begin <= at_s + 1e-9 and (not ends or min(ends) > at_s + 1e-9)
    return count


@given(releases(), seeds)
def test_a_rolling_release_keeps_its_promises(case: tuple[int, dict[str, Any]], seed: int) -> None:
    """Never fewer than keep ready, never more than n + spare there, at most `batch` ordered at one instant, and at the end
    n of the new version and none of the old."""
    n, rollout = case
    plan = make_plan(make_tier(provision=3), replicas=n, rollouts=[rollout])
    outcome = replay(_trace(seed), Service(slots=4, start=2), plan)
    (update,) = outcome.run.only.updates
    assert update.ended_s is not None
    instants = {
        t for r in outcome.run.only.replicas for t in (r.ordered_s, r.ready_s, r.draining_s, r.gone_s) if t is not None
    }
    for at_s in instants:
        assert _count_at(outcome, at_s, "ready") >= min(rollout["keep"], n)
        assert _count_at(outcome, at_s, "there") <= n + rollout["spare"]
    new = [r for r in outcome.run.only.replicas if r.version == 2]
    assert len(new) == n
    assert all(r.gone_s is None for r in new)
    assert all(r.gone_s is not None for r in outcome.run.only.replicas if r.version == 1)
    # The oldest go first.
    gone = [r.draining_s for r in outcome.run.only.replicas if r.version == 1]
    assert gone == sorted(gone)


@given(st.integers(1, 5), seeds)
def test_a_stop_start_release_has_no_mixed_versions(n: int, seed: int) -> None:
    plan = make_plan(replicas=n, rollouts=[{"at": 10, "strategy": "stop_start"}])
    outcome = replay(_trace(seed), Service(slots=4, start=5), plan)
    (update,) = outcome.run.only.updates
    assert update.mixed_s == 0
    last_gone = max(r.gone_s for r in outcome.run.only.replicas if r.version == 1)
    assert {r.ready_s for r in outcome.run.only.replicas if r.version == 2} == {last_gone + 5}
    at = outcome.trace.at_s
    down = (at >= 10 - 1e-9) & (at < last_gone + 5 - 1e-9)
    assert (outcome.requests["ending"][down] == "refused").all()
    assert (outcome.requests["ending"][~down] == "ok").all()


# -- the fleet and the balancer --------------------------------------------------------------------


def test_replicas_are_spread_over_zones_in_turn() -> None:
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": 10, "floor": 5, "ceiling": 9}
    plan = make_plan(make_tier(zones=["a", "b", "c"]), replicas=2, zones=["c", "a"], scaling=rule)
    outcome = replay(_trace(1), Service(slots=4), plan)
    assert outcome.fleet["zone"].tolist()[:5] == ["c", "a", "c", "a", "c"]


@given(seeds, st.integers(1, 7))
def test_round_robin_gives_each_its_share(seed: int, n: int) -> None:
    outcome = replay(_trace(seed), Service(slots=1), make_plan(replicas=n, balancer="round_robin"))
    counts = np.bincount(outcome.run.results.replica, minlength=n + 1)[1:]
    assert counts.max() - counts.min() <= 1


@given(seeds, st.integers(1, 7))
def test_least_busy_sends_nobody_to_wait_while_a_slot_is_free(seed: int, n: int) -> None:
    """With one slot each: at any arrival that queued, all n replicas had somebody in their slot."""
    trace = _trace(seed, gap=0.8 / n)
    results = replay(trace, Service(slots=1), make_plan(replicas=n)).run.results
    begin = trace.at_s + results.queued_s
    end = trace.at_s + results.latency_s
    for i in np.flatnonzero(results.queued_s > 1e-9):
        at_s = trace.at_s[i]
        assert np.count_nonzero((begin[:i] <= at_s + 1e-9) & (end[:i] > at_s + 1e-9)) == n


@given(seeds, st.integers(1, 4), st.integers(1, 6))
def test_first_come_first_served(seed: int, n: int, slots: int) -> None:
    """On each replica requests take their slots in the order in which they arrived."""
    results = replay(_trace(seed, gap=0.1), Service(slots=slots), make_plan(replicas=n)).run.results
    trace = _trace(seed, gap=0.1)
    for replica in range(1, n + 1):
        begin = (trace.at_s + results.queued_s)[results.replica == replica]
        assert (np.diff(begin) >= -1e-9).all()


@given(seeds, st.floats(0.2, 4))
def test_a_longer_timeout_answers_no_fewer(seed: int, timeout: float) -> None:
    """The server does all the work all the same, so a time-out changes what counts and nothing else."""
    ok = [
        replay(_trace(seed, gap=0.2), Service(slots=2, timeout=t), make_plan()).endings["ok"]
        for t in (timeout, 1.5 * timeout)
    ]
    assert ok[0] <= ok[1]


# -- measures --------------------------------------------------------------------------------------


@given(st.lists(st.floats(0, 100), min_size=1, max_size=60), st.sampled_from([0.5, 0.9, 0.95, 0.99, 0.999]))
def test_nearest_rank_is_the_smallest_with_enough_below(values: list[float], share: float) -> None:
    found = nearest_rank(np.sort(values), share)
    assert sum(value <= found for value in values) >= share * len(values) - 1e-9
    assert sum(value < found for value in values) < share * len(values)


def test_no_latency_of_nothing() -> None:
    assert set(_selected(np.zeros(0), 0).of_ok.values()) == {None}


@given(
    st.lists(st.tuples(st.floats(0, 90), st.floats(0, 90)), max_size=8),
    st.lists(st.floats(0, 100), min_size=2, max_size=6, unique=True),
)
def test_steps_average_as_a_sum_over_intervals_does(lives: list[tuple[float, float]], edges: list[float]) -> None:
    edges = sorted(edges)
    assume(min(np.diff(edges)) > 1e-6)
    begins, ends = [min(a, b) for a, b in lives], [max(a, b) for a, b in lives]
    means = Steps.of(begins, ends, 100.0).mean(np.array(edges))
    for k, (low, high) in enumerate(itertools.pairwise(edges)):
        overlap = sum(max(0.0, min(b, high) - max(a, low)) for a, b in zip(begins, ends, strict=True))
        assert means[k] == pytest.approx(overlap / (high - low), abs=1e-6)


@given(seeds, st.sampled_from([0.7, 1.0, 13.0, 1000.0]))
def test_series_add_up_and_agree_with_simple_sums(seed: int, window_s: float) -> None:
    trace = _trace(seed)
    outcome = replay(trace, Service(slots=2, backlog=1, timeout=3), make_plan(replicas=2), window_s=window_s)
    series, results = outcome.series, outcome.run.results
    assert series["arrivals"].sum() == len(trace)
    for name, count in outcome.endings.items():
        assert series[name].sum() == count
    width = np.diff(np.append(series["at_s"], trace.span_s))
    begin = trace.at_s + results.queued_s
    served = results.ending != 1
    # All ends within the span; what timed out is worked on to its end, which the table does not show.
    if not outcome.endings["timed_out"]:
        in_slots = (trace.at_s + results.latency_s - begin)[served].sum()
        assert (series["in_progress"] * width).sum() == pytest.approx(in_slots, rel=1e-9)
        assert (series["waiting"] * width).sum() == pytest.approx(results.queued_s.sum(), rel=1e-9, abs=1e-9)
    window = np.minimum((trace.at_s // window_s).astype(int), len(series) - 1)
    for k in np.unique(window)[:20]:
        values = np.sort(results.latency_s[(window == k) & (results.ending == 0)])
        expected = nearest_rank(values, 0.95) if len(values) else math.nan
        assert series["p95_s"][k] == expected or (math.isnan(expected) and math.isnan(series["p95_s"][k]))
    assert ((series["utilisation"] >= 0) & (series["utilisation"] <= 1)).all()


@given(seeds)
def test_work_is_conserved(seed: int) -> None:
    """Cores in use, integrated, are the CPU work done over the speed; with fractions of cores and sharing."""
    trace = _trace(seed)
    plan = make_plan(make_tier(cores=1.5, speed=2.0), replicas=2)
    outcome = replay(trace, Service(slots=5), plan)
    done = outcome.run.results.ending == 0
    assert outcome.run.only.integrals[-1, 0] == pytest.approx(trace.cpu_s[done].sum() / 2.0, rel=1e-9)


@given(seeds, st.floats(0, 50))
def test_settle_changes_what_is_measured_and_not_what_happens(seed: int, settle: float) -> None:
    trace = _trace(seed)
    assume(settle < trace.at_s[-1])
    whole = replay(trace, Service(slots=1), make_plan())
    late = replay(trace, Service(slots=1), make_plan(), settle=settle)
    assert whole.run.results.latency_s.tobytes() == late.run.results.latency_s.tobytes()
    assert late.n_requests == np.count_nonzero(trace.at_s >= settle)
    assert late.bill.month == whole.bill.month
    assert late.routes["requests"].sum() == late.n_requests


# -- the agenda ------------------------------------------------------------------------------------


def test_events_of_one_instant_go_by_kind_number_and_order_of_entry() -> None:
    seen: list[str] = []
    agenda = Agenda()

    def note(name: str) -> Any:
        return lambda _now_s: seen.append(name)

    def ready_now(now_s: float) -> None:
        seen.append("decision")
        agenda.add(now_s, Kind.READY, note("ready, caused now"))
        agenda.add(now_s + 1e-10, Kind.ROLLOUT, note("rollout, the same instant"))
        agenda.add(now_s + 1, Kind.READY, note("later"))

    agenda.add(5.0, Kind.DECISION, ready_now)
    agenda.add(5.0 + 5e-10, Kind.READY, note("ready 2"), 2)
    agenda.add(5.0, Kind.READY, note("ready 7"), 7)
    agenda.add(5.0, Kind.READY, note("ready 7 again"), 7)
    agenda.add(5.0, Kind.DRAIN_END, note("drain"), 1)
    agenda.add(4.0, Kind.DECISION, note("before"))
    assert agenda.next_s() == 4.0
    agenda.run(4.0)
    while agenda.next_s() < 6:  # one after the other
        agenda.run(agenda.next_s())
    assert seen == [
        "before", "ready 2", "ready 7", "ready 7 again", "drain", "decision", "ready, caused now", "rollout, the same instant",
    ]  # fmt: skip
    assert agenda.next_s() == 6.0


def test_progress_goes_from_nothing_to_all() -> None:
    shares: list[float] = []
    replay(_trace(1), Service(slots=1), make_plan(), progress=shares.append)
    assert shares[0] == 0
    assert shares[-1] == 1
    assert shares == sorted(shares)


@given(
    st.lists(st.tuples(st.floats(0, 1e6), st.integers(0, 4)), max_size=60),
    st.sampled_from([0.5, 0.95, 0.99]),
    st.integers(1, 4),
)
def test_percentiles_by_group_are_those_of_each_group(pairs: list[tuple[float, int]], share: float, least: int) -> None:
    values, group = np.array([v for v, _ in pairs]), np.array([g for _, g in pairs], np.int64)
    (found,) = by_group(values, group, 5, share, least=least)
    for number in range(5):
        own = np.sort(values[group == number])
        if len(own) < least:
            assert np.isnan(found[number])
        else:
            assert found[number] == nearest_rank(own, share)
