"""Requests need not be kept: histograms within their bound, the same counts, chunks like one piece."""

from __future__ import annotations

import itertools
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import make_plan, make_tier
from libramen import Objectives, Outcome, Service, Terms, Trace, replay
from libramen.base.errors import ReplayError, StudyError, TraceError
from libramen.base.ranks import PERCENTILES, nearest_rank
from libramen.engine.kernel.bins import BINS
from libramen.outcome.counts import bin_of, percentile_of

if TYPE_CHECKING:
    from collections.abc import Iterator

SERVICE = Service(slots=3, backlog=4, timeout=3, retries=1, retry_after=0.5, retry_jitter=0.2)
PLAN = make_plan(
    make_tier(egress_per_gb="0.1", overhead=0.01),
    replicas=2,
    scaling={"rule": "target", "measure": "cpu", "target": 0.6, "every": 15, "ceiling": 4},
)
OBJECTIVES = Objectives(
    p95="1s", p50="400ms", max="2s", mean="1s", availability="90%",
    routes={"b": {"p99": "3s", "availability_minutes": 0.5}},
)  # fmt: skip
WINDOWS = [{"at": ["10:25", "10:40"], "p90": "1s", "availability": "50%"}, {"at": ["23:00", "10:22"], "p99": "5s"}]


def _trace(seed: int = 1, n: int = 6000, **values: Any) -> Trace:
    rng = np.random.default_rng(seed)
    at = np.cumsum(rng.exponential(0.1, n))
    return Trace.from_arrays(
        at_s=at, cpu_s=rng.exponential(0.25, n), wait_s=rng.exponential(0.1, n), route=rng.choice(["a", "b", "c"], n),
        bytes_out=rng.integers(1, 10**6, n), span_s=float(at[-1]) + 7.5, **values,
    )  # fmt: skip


def _same(one: Outcome, other: Outcome) -> None:
    """All that is a count or a sum is equal; percentiles are within 0.5 % of each other."""
    mine, theirs = one.to_dict(), other.to_dict()
    # What is found of single requests is not there where they are not kept; the rest is.
    found = [{finding["kind"] for finding in document.pop("findings")} for document in (mine, theirs)]
    assert found[0] - found[1] <= {"cold_starts_cost", "first_visitor_waited"}
    assert found[1] <= found[0]
    for document in (mine, theirs):
        figures = [document, document["month"], *document["routes"]]
        latencies = [place.pop("latency_s") for place in figures]
        document["answered"] = np.array([list(place.pop("answered_s").values()) for place in figures], float)
        times = [tuple(place.pop("time_s").values()) for place in (document, *document["routes"])]
        document["flat"] = np.array([value for latency in latencies for value in latency.values()], float)
        document["means"] = np.array([(latency["mean"], latency["max"]) for latency in latencies], float)
        document["times"] = np.array(times)
        document["goals"] = [
            (goal["name"], goal["met"], goal["within"], goal["minutes"]) for goal in document.pop("objectives")
        ]
    np.testing.assert_allclose(mine.pop("flat"), theirs.pop("flat"), rtol=0.005)
    np.testing.assert_allclose(mine.pop("answered"), theirs.pop("answered"), rtol=0.005)
    np.testing.assert_allclose(mine.pop("means"), theirs.pop("means"), rtol=1e-12)
    np.testing.assert_allclose(mine.pop("times"), theirs.pop("times"), rtol=1e-9, atol=1e-9)
    assert mine == theirs
    mine_s, theirs_s = one.series_arrays(), other.series_arrays()
    for name, values in mine_s.items():
        rtol = 0.005 if name in {"p50_s", "p95_s", "p99_s"} else 1e-12
        np.testing.assert_allclose(values, theirs_s[name], rtol=rtol, err_msg=name)
    assert one.fleet.equals(other.fleet)
    assert one.failures == other.failures


@pytest.mark.parametrize("data_plane", ["compiled", "plain"])
def test_what_is_not_kept_comes_to_the_same(data_plane: Any) -> None:
    trace = _trace(n=1500 if data_plane == "plain" else 20_000, start="2031-06-07T10:20:30+00:00")
    objectives = OBJECTIVES.model_copy(update={"windows": Objectives(windows=WINDOWS).windows})
    options = {"objectives": objectives, "settle": 40.0, "window_s": 13.0, "data_plane": data_plane}
    _same(
        replay(trace, SERVICE, PLAN, **options),
        replay(trace, SERVICE, PLAN, **options, keep_requests=False),
    )


@given(cuts=st.lists(st.integers(1, 1999), max_size=4, unique=True), seed=st.integers(0, 3))
def test_chunks_come_to_the_same_as_one_piece(cuts: list[int], seed: int) -> None:
    """The same bytes, and not only nearly the same."""
    trace = _trace(seed, 2000)
    bounds = [0, *sorted(cuts), 2000]
    chunks = (trace.part(slice(first, end)) for first, end in itertools.pairwise(bounds))
    one = replay(trace, SERVICE, PLAN, OBJECTIVES, keep_requests=False)
    other = replay(chunks, SERVICE, PLAN, OBJECTIVES)
    assert one.to_dict() == other.to_dict()
    for name, values in one.series_arrays().items():
        assert values.tobytes() == other.series_arrays()[name].tobytes(), name


def test_chunks_may_have_routes_of_their_own() -> None:
    """The routes of a chunk are known by their names, whatever their numbers in it."""
    first = Trace.from_arrays(at_s=[0, 1], cpu_s=[0, 0], route=["x", "y"], span_s=2)
    second = Trace.from_arrays(at_s=[2, 3, 4], cpu_s=[0, 0, 0], route=["z", "y", "y"], span_s=9)
    outcome = replay([first, second], Service(slots=1), make_plan())
    assert dict(zip(outcome.routes["route"], outcome.routes["requests"], strict=True)) == {"x": 1, "y": 3, "z": 1}
    assert outcome.run.span_s == 9


def test_chunks_may_have_starts_of_their_own() -> None:
    """A file a day: the second begins at 0 again, an hour after the first did."""
    rng = np.random.default_rng(1)
    at = np.sort(rng.random(200) * 7200)
    whole = Trace.from_arrays(at_s=at, cpu_s=np.ones(200), span_s=7200, start="2031-06-07T10:00")
    first, second = at < 3600, at >= 3600
    files = [
        Trace.from_arrays(at_s=at[first], cpu_s=np.ones(first.sum()), span_s=3600, start="2031-06-07T10:00"),
        Trace.from_arrays(at_s=at[second] - 3600, cpu_s=np.ones(second.sum()), span_s=3600, start="2031-06-07T11:00"),
    ]
    together = replay(iter(files), Service(slots=1), make_plan())
    assert together.run.span_s == 7200
    _same(together, replay(whole, Service(slots=1), make_plan(), keep_requests=False))


def test_chunks_are_laid_on_real_time_over_a_change_of_clocks() -> None:
    """In Lisbon 02:00 on 26 October 2031 is an hour later than the clock says: 00:00 to 02:00 is three hours."""
    zone = {"time_zone": "Europe/Lisbon"}
    files = [
        Trace.from_arrays(at_s=[1.0], cpu_s=[1], span_s=60, start="2031-10-26T00:00", **zone),
        Trace.from_arrays(at_s=[1.0], cpu_s=[1], span_s=60, start="2031-10-26T02:00", **zone),
    ]
    together = replay(iter(files), Service(slots=1), make_plan())
    assert together.run.span_s == 3 * 3600 + 60


@given(st.lists(st.floats(1.01e-9, 1e6), min_size=1, max_size=60), st.sampled_from(list(PERCENTILES.values())))
def test_a_percentile_of_a_histogram_is_within_half_a_percent(latencies: list[float], share: float) -> None:
    ascending = np.sort(latencies)
    histogram = np.bincount(bin_of(ascending), minlength=BINS)
    assert percentile_of(histogram, share) == pytest.approx(nearest_rank(ascending, share), rel=0.005)


def test_zero_latencies_stay_zero() -> None:
    assert percentile_of(np.bincount(bin_of(np.zeros(3)), minlength=BINS), 0.5) == 0


def test_a_release_in_chunks() -> None:
    """Its time is looked up in the span that is given, and it does what it does in one piece."""
    trace = _trace(n=2000, start="2031-06-07T10:00")
    plan = make_plan(make_tier(provision=5), replicas=2, rollouts=[{"at": "10:01", "strategy": "rolling"}])
    chunks = [trace.part(slice(0, 900)), trace.part(slice(900, 2000))]
    one = replay(trace, SERVICE, plan, keep_requests=False)
    other = replay(chunks, SERVICE, plan, span_s=trace.span_s)
    assert one.to_dict() == other.to_dict()
    assert other.run.only.updates[0].began_s == 60
    assert other.run.only.updates[0].ended_s is not None
    with pytest.raises(ReplayError, match="chunks that can be gone through only once, and a plan with single events"):
        replay(iter(chunks), SERVICE, plan, span_s=trace.span_s)
    as_traced = Terms(month={"events": "as_traced"})
    assert replay(iter(chunks), SERVICE, plan, span_s=trace.span_s, terms=as_traced).attempts == one.attempts


def test_many_windows_are_summed_up_on_the_way() -> None:
    """300,000 windows of a request each, so that bins are merged and windows closed again and again."""
    n = 300_000
    trace = Trace.from_arrays(at_s=np.arange(n) * 0.5, cpu_s=np.linspace(0.01, 0.4, n), span_s=n * 0.5)
    outcome = replay(trace, Service(slots=1), make_plan(), window_s=0.5, keep_requests=False)
    np.testing.assert_allclose(outcome.series_arrays()["p50_s"], trace.cpu_s, rtol=0.005)


def test_mistakes_with_chunks() -> None:
    trace = _trace(n=100)
    chunks = [trace.part(slice(50, 100)), trace.part(slice(0, 50))]
    with pytest.raises(TraceError, match="the one before it ends at"):
        replay(chunks, SERVICE, PLAN)
    with pytest.raises(ReplayError, match="keep_requests: found True with chunks"):
        replay(iter(chunks), SERVICE, PLAN, keep_requests=True)
    with pytest.raises(StudyError, match='"quietest" needs the whole trace'):
        replay([trace], SERVICE, make_plan(rollouts=[{"at": "quietest 2s", "strategy": "stop_start"}]), span_s=99)
    with pytest.raises(StudyError, match="needs to know its end: give span_s"):
        replay([trace], SERVICE, make_plan(rollouts=[{"at": "2s", "strategy": "stop_start"}]))
    with pytest.raises(TraceError, match="trace: found None; allowed: a Trace"):
        replay([], SERVICE, PLAN)
    with pytest.raises(ReplayError, match="were not kept; allowed: keep_requests=True"):
        _ = replay(trace, SERVICE, PLAN, keep_requests=False).requests
    with pytest.raises(ReplayError, match="came in chunks, which are gone"):
        _ = replay([trace], SERVICE, PLAN).trace
    wanted = Objectives(routes={"tickets": {"p95": 1}})
    with pytest.raises(StudyError, match=r"objectives\.routes: the trace has no route 'tickets'; allowed: a, b, c"):
        replay(trace, SERVICE, PLAN, wanted)
    with pytest.raises(ReplayError, match="no request of the trace has the route 'tickets'"):
        _ = replay([trace], SERVICE, PLAN, wanted).objectives


def test_a_long_trace_needs_no_more_memory_than_a_short_one() -> None:
    """Twenty chunks of which each is made when the one before it is done with; no more than two live at a time."""
    alive: list[int] = []
    most = 0

    class Chunk(Trace):
        def __del__(self) -> None:
            alive.pop()

    def chunks() -> Iterator[Trace]:
        nonlocal most
        for k in range(20):
            whole = _trace(k, 500)
            alive.append(k)
            most = max(most, len(alive))
            at_s = 100.0 * k + whole.at_s
            yield Chunk(at_s, whole.cpu_s, whole.wait_s, at_s[-1] + 1, None, whole.route_codes, whole.routes)

    assert replay(chunks(), SERVICE, PLAN).n_requests == 10_000
    assert most <= 4


@pytest.mark.parametrize("keep", [True, False])
def test_hours_are_those_of_the_clock(keep: bool) -> None:
    """From 09:50 on: ok at 09:50 and 09:55, refused at 10:05 (a request of 09:59 takes ten minutes): the worst hour begins at
    10:00. Egress of 09:50 counts for nine o'clock, which nine days have nine times, the last hour but twice as long."""
    trace = Trace.from_arrays(
        at_s=[0, 300, 540, 900], cpu_s=0 * np.ones(4), wait_s=[1, 1, 600, 1], bytes_out=[1e9, 0, 0, 0],
        start="2031-06-05T09:50", span_s=9 * 86400,
    )  # fmt: skip
    plan = make_plan(make_tier(egress_per_gb=1))
    outcome = replay(trace, Service(slots=1, backlog=0), plan, keep_requests=keep)
    assert outcome.endings["refused"] == 1
    assert outcome.worst_hour.at_s == 600
    egress = next(line for line in outcome.bill.lines if line.item == "egress")
    # Thursday, nine o'clock: ten minutes of the first day, the whole hour a week later: 1 GB / (70 min) * 730 h / 168.
    assert float(egress.quantity) == pytest.approx(730 / 168 / (70 / 60), abs=2e-6)
