"""What holds for every replay: splitting changes nothing, time may be scaled, the same seed gives the same bytes."""

from __future__ import annotations

import itertools
import pickle
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from builders import make_plan, make_tier
from libramen import Service, Trace, load_study, replay
from libramen.base import streams
from libramen.engine.border.records import Chunk, Results, Signal
from libramen.engine.border.specs import ClientSpec, ServerSpec, SystemSpec
from libramen.engine.kernel.state import KernelState
from libramen.engine.plain.state import PlainState
from libramen.study.balancers import BALANCERS

if TYPE_CHECKING:
    from pathlib import Path

SPEC = SystemSpec((ServerSpec(3, 2, 4, 1.5, overhead_s=0.01),), (ClientSpec(0, timeout_s=2.0),))
EVERYTHING = SystemSpec(
    (
        ServerSpec(
            3, 2, 4, 1.5, balancer="two_choices", overhead_s=0.01, drops=True, warm_up_s=3.0, warm_up_factor=2.0,
            steady_cores=0.5, bank=2.0, bank_at_start=1.0, holds=True, queue_limit=3,
        ),
        ServerSpec(2, 2, 3, 1.0, balancer="shared_queue", overhead_s=0.02),
    ),
    (
        ClientSpec(0, timeout_s=1.0, retries=2, retry_after_s=0.25, retry_jitter=0.5),
        ClientSpec(1),
        ClientSpec(
            1, 0, timeout_s=0.4, retries=1, retry_after_s=0.1, times=2, share=0.7, source="drawn", cpu_median_s=0.05,
            cpu_sigma=0.5, wait_median_s=0.1, pool=0, pool_limit=2, pool_timeout_s=0.5, place=1,
        ),
    ),
    parts=((0, 2), (1, 2)),
    spends=True,
)  # fmt: skip


def _arrays(seed: int, n: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    rng = np.random.default_rng(seed)
    return np.cumsum(rng.exponential(0.1, n)), rng.exponential(0.3, n), rng.exponential(0.3, n)


def _run(
    kind: type[KernelState | PlainState],
    spec: SystemSpec,
    arrays: tuple[np.ndarray, ...],
    cuts: list[int],
    stops: list[float],
    **sizes: int,
) -> bytes:
    """Replay on three replicas, the trace in chunks cut at `cuts`, stopping at `stops` for nothing."""
    n, edges = len(arrays[0]), np.arange(0.0, 15.0)
    results = Results.of(n, services=len(spec.servers) * spec.spends)
    plane = kind(spec, results, **sizes)
    for server in plane.servers:
        for number in (1, 2, 3):
            server.add(number, 0.0)
    bounds = [0, *sorted(cuts), n]
    waiting = sorted(stops)
    for first, end in itertools.pairwise(bounds):
        chunk = Chunk(
            *(np.ascontiguousarray(array[first:end]) for array in arrays),
            first=first,
            last=end == n,
            server=np.zeros(end - first, np.int32),
            applies=np.ones((len(spec.clients), 1), np.int64),
        )
        plane.hand_in(chunk, edges)
        while True:
            signal = plane.advance(waiting[0] if waiting else np.inf)
            if signal is not Signal.CONTROL:
                break
            stop_s = waiting.pop(0)
            for server in plane.servers:
                server.integrals(stop_s)
    series = b"".join(server.series().tobytes() for server in plane.servers)
    return results.records.tobytes() + results.spent_s.tobytes() + series


@pytest.mark.parametrize("spec", [SPEC, EVERYTHING])
@pytest.mark.parametrize("kind", [KernelState, PlainState])
@settings(max_examples=max(10, settings().max_examples // 3))
@given(cuts=st.lists(st.integers(1, 119), max_size=5), stops=st.lists(st.floats(0.0, 14.0), max_size=5))
def test_splitting_a_replay_changes_no_byte(
    kind: type[KernelState], spec: SystemSpec, cuts: list[int], stops: list[float]
) -> None:
    arrays = _arrays(3, 120)
    assert _run(kind, spec, arrays, cuts, stops) == _run(kind, spec, arrays, [], [])


@pytest.mark.parametrize("spec", [SPEC, EVERYTHING])
def test_small_arrays_change_no_byte(spec: SystemSpec) -> None:
    """The table of visits and that of replicas overflow all the time."""
    arrays = _arrays(4, 3000)
    assert _run(KernelState, spec, arrays, [], [], visits=2) == _run(KernelState, spec, arrays, [], [])


def test_a_backlog_longer_than_the_first_table_of_requests() -> None:
    """5000 at once on one slot: 1 s each, first come, first served."""
    trace = Trace.from_arrays(at_s=np.zeros(5000), cpu_s=np.ones(5000), span_s=6000)
    latency = replay(trace, Service(slots=1), make_plan()).run.results.latency_s
    np.testing.assert_array_equal(latency, np.arange(1.0, 5001.0))


def test_rows_are_given_back() -> None:
    """Forty replicas one after the other need the rows of two."""
    plane = KernelState(SPEC, Results.of(1))
    for number in range(1, 41):
        [server] = plane.servers
        server.add(number, float(number))
        server.drain(number, number + 0.5)
        server.remove(number, number + 0.5)
    assert len(server._sides[0]._replicas) == 2


@given(st.integers(0, 10**6), st.sampled_from([0.25, 2.0, 1024.0]))
def test_time_and_work_scaled_by_a_give_latency_scaled_by_a(seed: int, a: float) -> None:
    at, cpu, wait = _arrays(seed, 60)
    plan = make_plan(make_tier(cores=0.75), replicas=2)

    def latencies(scale: float) -> np.ndarray:
        trace = Trace.from_arrays(at_s=at * scale, cpu_s=cpu * scale, wait_s=wait * scale)
        return replay(trace, Service(slots=2, timeout=1.5 * scale), plan).run.results.latency_s

    np.testing.assert_allclose(latencies(a), a * latencies(1.0), rtol=1e-9)


@given(st.integers(0, 10**6), st.integers(0, 6))
def test_with_equal_work_more_backlog_never_refuses_more(seed: int, backlog: int) -> None:
    at, _, _ = _arrays(seed, 80)
    trace = Trace.from_arrays(at_s=at, cpu_s=np.full(80, 0.3))
    refused = [
        replay(trace, Service(slots=1, backlog=b), make_plan()).endings["refused"] for b in (backlog, backlog + 1)
    ]
    assert refused[1] <= refused[0]


def test_the_seed_moves_stamps_within_their_seconds(hour_study: Path) -> None:
    study = load_study(hour_study)
    one, same, other = study.trace(seed=1), study.trace(seed=1), study.trace(seed=2)
    assert one.at_s.tobytes() == same.at_s.tobytes()
    assert one.at_s.tobytes() != other.at_s.tobytes()
    assert len(one) == len(other)


def test_a_strided_or_other_array_is_taken_as_it_is() -> None:
    at = np.arange(20, dtype=np.float32)[::2]
    at.setflags(write=False)
    trace = Trace.from_arrays(at_s=at, cpu_s=[1] * 10, span_s=30)
    assert replay(trace, Service(slots=1), make_plan()).latency_s["max"] == 1


def test_an_outcome_can_be_sent_to_another_process() -> None:
    trace = Trace.from_arrays(at_s=[0.0, 1.0], cpu_s=[1.0, 1.0], span_s=30)
    rollout = {"at": "5s", "strategy": "rolling"}
    outcome = replay(trace, Service(slots=1), make_plan(rollouts=[rollout]))
    assert pickle.loads(pickle.dumps(outcome)).to_dict() == outcome.to_dict()


def test_a_span_that_is_no_round_number_ends() -> None:
    """100 hundredths of this span are less than it, which once kept a rule deciding for ever."""
    trace = Trace.from_arrays(at_s=[0.5], cpu_s=[0.1], span_s=21.309112263348418)
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": 0.5}
    assert len(replay(trace, Service(slots=1), make_plan(scaling=rule)).run.only.decisions) == 42


@given(st.integers(0, 10**6), st.sampled_from([0.25, 2.0, 1024.0]))
def test_everything_that_has_a_time_scaled_by_a_gives_times_scaled_by_a(seed: int, a: float) -> None:
    """Also with what is lent, warm-up, retries and an overhead: only counts of requests and of bytes have no time."""
    at, cpu, wait = _arrays(seed, 60)

    def replayed(scale: float) -> Any:
        size = {"cores": 1.5, "per_hour": 1, "steady_cores": 0.5, "bank": 2 * scale, "memory": 1000}
        tier = make_tier(
            sizes={"s": size}, overhead=0.01 * scale, detect=0.5 * scale, holds_requests=True, queue_limit=5
        )
        service = Service(
            slots=3, backlog=2, start=scale, timeout=1.5 * scale, retries=2, retry_after=0.25 * scale, retry_jitter=0.5,
            warm_up=3 * scale, warm_up_factor=2, memory_base=200, memory_per_request=300, on_timeout="drop",
        )  # fmt: skip
        trace = Trace.from_arrays(at_s=at * scale, cpu_s=cpu * scale, wait_s=wait * scale)
        return replay(trace, service, make_plan(tier, replicas=2, balancer="two_choices")).run.results

    one, other = replayed(1.0), replayed(a)
    np.testing.assert_array_equal(one.ending, other.ending)
    np.testing.assert_array_equal(one.attempts, other.attempts)
    np.testing.assert_allclose(other.latency_s, a * one.latency_s, rtol=1e-9, atol=1e-9 * a)


@pytest.mark.parametrize("balancer", BALANCERS)
@given(seed=st.integers(0, 10**6), n=st.integers(1, 5), limit=st.integers(0, 6))
def test_held_requests_are_handed_out_in_order(balancer: str, seed: int, n: int, limit: int) -> None:
    """Nothing is refused while the queue has room, nobody overtakes in it, and no slot is free while somebody waits."""
    at, cpu, _ = _arrays(seed, 80)
    trace = Trace.from_arrays(at_s=at, cpu_s=cpu * n, span_s=at[-1] + 400)
    tier = make_tier(holds_requests=True, queue_limit=limit)
    results = replay(trace, Service(slots=1, backlog=0), make_plan(tier, replicas=n, balancer=balancer)).run.results
    begin = at + results.queued_s
    served = results.ending == 0
    waited = served & (results.queued_s > 0)
    assert (np.diff(begin[waited]) >= -1e-9).all()
    for i in np.flatnonzero(~served):  # refused: n in slots, `limit` in the queue
        inside = served & (at <= at[i]) & (np.arange(80) < i) & (at + results.latency_s > at[i] + 1e-9)
        assert inside.sum() == n + limit
    for i in np.flatnonzero(waited):
        busy = served & (begin <= at[i]) & (np.arange(80) < i) & (at + results.latency_s > at[i] + 1e-9)
        assert busy.sum() == n


def test_a_request_has_its_random_numbers_from_its_number_and_the_seed_alone() -> None:
    """The compiled generator is NumPy's Philox: block (request, attempt) of the seed's key for the balancer."""
    n = 200
    trace = Trace.from_arrays(at_s=np.arange(float(n)), cpu_s=np.full(n, 0.5))
    chosen = replay(trace, Service(slots=1), make_plan(replicas=7, balancer="random"), seed=5).run.results.replica
    key = streams.key(5, "balancer")
    for request in range(n):
        counter = np.array([0, request, 1, 0], np.uint64)
        u = np.random.Generator(np.random.Philox(key=key, counter=counter)).random()
        assert chosen[request] == 1 + int(7 * u)
