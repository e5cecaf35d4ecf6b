"""Demand by hand, and on a queue whose work is known."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pytest

from builders import make_plan, make_tier
from libramen import Service, Trace, TraceError, replay
from libramen.trace.demand import quiet_work, with_demand

if TYPE_CHECKING:
    from libramen.trace.source import RouteDemand


def _observed(at_s: list[float], latency_s: list[float], **values: object) -> Trace:
    n = len(at_s)
    return Trace.from_arrays(at_s=at_s, cpu_s=np.zeros(n), latency_s=latency_s, span_s=max(at_s) + 60, **values)


def _quiet(trace: Trace) -> tuple[np.ndarray, list[str]]:
    work, notes, _ = _worked(trace, trace.latency_s)
    return work, notes


def _worked(
    trace: Trace, latency_s: np.ndarray, seed: int = 0
) -> tuple[np.ndarray, list[str], tuple[RouteDemand, ...]]:
    work = latency_s.copy()
    return work, *quiet_work(trace, work, seed)


def _two_minutes(busy: list[float], *, quiet: int = 40) -> Trace:
    """Eight minutes: minutes 0 and 1 with `quiet` / 2 requests each of latencies 1, 2, ..., the others busier."""
    at = [60 * (k % 2) + k for k in range(quiet)]
    latency = [float(k + 1) for k in range(quiet)]
    for minute in range(2, 8):
        at += [60 * minute + k * 59 / 100 for k in range(60)]
        latency += [100.0] * 60 if minute < 7 else [*busy, *[100.0] * (60 - len(busy))]
    order = np.argsort(at, kind="stable")
    return _observed(np.array(at)[order].tolist(), np.array(latency)[order].tolist())


def test_quiet_minutes_keep_their_own_latency_and_busy_ones_take_a_sample() -> None:
    """Quiet are 2 of 8 minutes, with latencies 1..40. The 360 requests of the busy ones, that took 50 to 100, take one of
    these 40 each, whatever they took: each is drawn 9 times on average, and both the longest and the shortest are."""
    trace = _two_minutes(busy=[50.0, 70.0])
    work, notes = _quiet(trace)
    assert notes == []
    quiet = trace.at_s < 120
    assert sorted(work[quiet]) == [float(k) for k in range(1, 41)]
    drawn = work[~quiet]
    assert set(drawn) == {float(k) for k in range(1, 41)}
    assert drawn.mean() == pytest.approx(20.5, abs=4 * 11.5 / np.sqrt(360))  # 4 standard errors
    assert (_worked(trace, trace.latency_s, seed=1)[0][~quiet] != drawn).any()


def test_whoever_queued_longest_is_not_given_the_most_work() -> None:
    """In busy minutes the latency grows from request to request, as in a queue; the work that is found does not."""
    trace = _two_minutes(busy=[])
    latency = np.where(trace.at_s < 120, trace.latency_s, 100 + trace.at_s)
    work = _worked(trace, latency)[0]
    busy = trace.at_s >= 120
    assert abs(np.corrcoef(work[busy], latency[busy])[0, 1]) < 4 / np.sqrt(busy.sum())


def test_failed_requests_are_no_samples() -> None:
    trace = _two_minutes(busy=[])
    status = np.where(trace.at_s < 120, [500, 408, 499, 429] * 100, 200)[: len(trace)]
    with_status = Trace.from_arrays(
        at_s=trace.at_s, cpu_s=trace.cpu_s, latency_s=trace.latency_s, status=status, span_s=trace.span_s
    )
    work, notes = _quiet(with_status)
    # No answer in a quiet minute: half of the minutes are taken, 0..3, whose answers all took 100.
    assert "half of the minutes" in notes[0]
    assert (work[trace.at_s >= 240] == 100).all()


def test_a_rare_route_takes_half_of_the_minutes_then_all() -> None:
    """20 quiet requests in the quarter of the minutes are fewer than 30; half of the minutes have 20 + 120."""
    _, notes = _quiet(_two_minutes(busy=[], quiet=20))
    assert notes == [
        "route 'all' has fewer than 30 answers in quiet minutes: its work is taken from half of the minutes"
    ]
    work, notes = _quiet(_observed([0.0, 100.0], [1.0, 2.0]))
    assert "all minutes" in notes[0]
    assert work.tolist() == [1, 2]


def test_the_three_kinds() -> None:
    trace = _two_minutes(busy=[])
    observed = with_demand(trace, "observed", cpu_share=0.25, recorded_speed=2.0, has_cpu=False)
    np.testing.assert_allclose(observed.cpu_s, 0.25 * trace.latency_s * 2)
    np.testing.assert_allclose(observed.wait_s, 0.75 * trace.latency_s)
    assert "counted twice" in observed.source.notes[-1]
    assert with_demand(trace, None, has_cpu=False).demand.kind == "quiet"
    assert with_demand(trace, None, has_cpu=True) is trace
    with pytest.raises(TraceError, match="needs a column cpu_s"):
        with_demand(trace, "given", has_cpu=False)
    for values in ({"cpu_share": 0.4}, {"recorded_speed": 2.0}):
        with pytest.raises(TraceError, match="has no effect"):
            with_demand(trace, "given", has_cpu=True, **values)


def test_quiet_finds_the_work_that_observed_does_not() -> None:
    """A day's sine of load between 5 % and 75 % of one slot, log-normal work of mean 1 s: `quiet` finds the mean work within
    10 %, where what was observed is more than twice of it."""
    rng = np.random.default_rng(8)
    grid = np.arange(0, 86400, 10.0)
    count = rng.poisson(10 * (0.4 - 0.35 * np.cos(2 * np.pi * grid / 86400)))
    at = np.sort(np.repeat(grid, count) + rng.uniform(0, 10, count.sum()))
    work = rng.lognormal(-0.125, 0.5, len(at))
    true = Trace.from_arrays(at_s=at, cpu_s=work, span_s=86400)
    latency = replay(true, Service(slots=1), make_plan(make_tier())).run.results.latency_s
    found, _ = _quiet(_observed(at.tolist(), latency.tolist()))
    assert latency.mean() > 2 * work.mean()
    assert found.mean() == pytest.approx(work.mean(), rel=0.10)
