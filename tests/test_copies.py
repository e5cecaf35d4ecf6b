"""A replay that is cut anywhere, copied, and gone on with in another process comes to the same bytes."""

from __future__ import annotations

import pickle
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from builders import make_plan, make_tier
from libramen import Service, Trace
from libramen.base.errors import ReplayError
from libramen.engine.simulation import Simulation
from libramen.study.system import System
from test_systems_agree import Kept, cases

if TYPE_CHECKING:
    from collections.abc import Iterator

    from libramen.engine.record import Run

HOW: dict[str, Any] = {"window_s": 1.0, "spends": True, "seed": 3}


@pytest.fixture(scope="module")
def elsewhere() -> Iterator[ProcessPoolExecutor]:
    """Another process."""
    with ProcessPoolExecutor(1, get_context("spawn")) as pool:
        yield pool


def came_of(run: Run, kept: Kept) -> bytes:
    """All that a replay has to say, as bytes: those of equal values are equal, whoever made them."""
    services = [
        (
            name, [vars(replica) for replica in one.replicas], list(one.decisions), one.updates, one.faults, one.deaths,
            one.integrals.tobytes(), one.use.tobytes(), one.moved.tobytes(), one.unsent, one.peak,
        )
        for name, one in run.services.items()
    ]  # fmt: skip
    visits = {name: column.tobytes() for name, column in kept.columns().items()}
    return repr((services, visits, run.kept.records.tobytes(), run.kept.spent_s.tobytes())).encode()


def gone_on(snapshot: bytes, trace: Trace, kept: bytes) -> bytes:
    """What comes of a copy, and of the visits that had ended before."""
    sink = pickle.loads(kept)
    return came_of(Simulation.restore(snapshot, trace, sink).finish(), sink)


@pytest.mark.parametrize("plane", ["compiled", "plain"])
@settings(max_examples=14)
@given(case=cases(), shares=st.lists(st.floats(0, 1.5), min_size=1, max_size=3))
def test_a_copy_comes_to_the_same_bytes(
    elsewhere: ProcessPoolExecutor, plane: Any, case: tuple[Trace, System], shares: list[float]
) -> None:
    trace, system = case
    kept = Kept()
    wanted = came_of(Simulation(trace, system, data_plane=plane, sink=kept, **HOW).finish(), kept)
    sink = Kept()
    simulation = Simulation(trace, system, data_plane=plane, sink=sink, **HOW)
    for share in sorted(shares):
        simulation.advance(share * trace.span_s)
        copy = simulation.snapshot(), trace, pickle.dumps(sink)
        assert elsewhere.submit(gone_on, *copy).result() == wanted
    assert came_of(simulation.finish(), sink) == wanted


WAYS: dict[str, dict[str, Any]] = {
    "the zone comes back with others": {
        "tier": make_tier(zones=["a"]),
        "balancer": "random",
        "faults": [{"kind": "zone_loss", "zone": "a", "at": "20s", "lasts": "5s"}],
    },
    "another one is drained": {
        "scaling": {"rule": "target", "measure": "cpu", "target": "60%", "every": "5s", "floor": 1, "ceiling": 4},
        "faults": [{"kind": "crash", "at": "20s", "replica": 1}],
    },
    "it starts again": {"faults": [{"kind": "crash", "at": "20s", "replica": 1}]},
    "it is slow no more": {"faults": [{"kind": "slow", "at": "20s", "lasts": "5s", "slower": 3, "replica": 1}]},
}


@pytest.mark.parametrize("way", WAYS)
def test_two_ways_meet(way: str) -> None:
    rng = np.random.default_rng(1)
    trace = Trace.from_arrays(at_s=np.cumsum(rng.exponential(0.5, 400)), cpu_s=rng.exponential(0.5, 400), span_s=220)
    system = System.of(Service(slots=4, start="2s"), make_plan(replicas=2, **WAYS[way]))
    (name,) = system.names
    one, other = Simulation(trace, system, **HOW), Simulation(trace, system, without=[(name, "faults", 0)], **HOW)
    met_at_s, names = 19.0, {name: {0: 0}}
    # They are not the same while one of them has a fault ahead, but they are again, whatever their replicas are called.
    for at_s in np.arange(19.0, 200.0):
        one.advance(at_s)
        other.advance(at_s)
        found = one.is_same(other)
        if found is not None:
            met_at_s, names = at_s, found
            break
    assert 20 <= met_at_s < 150
    late = trace.at_s > met_at_s
    back = {there: here for here, there in names[name].items()}
    mine, theirs = ends_of(one.finish()), ends_of(other.finish(), back)
    assert [mine[k] for k in np.flatnonzero(late)] == [theirs[k] for k in np.flatnonzero(late)]
    assert mine != theirs


def ends_of(run: Run, names: dict[int, int] | None = None) -> list[Any]:
    """What came of each request; of a service that stands alone with its replicas renamed."""
    kept = run.kept
    replica = [(names or {}).get(number, number) for number in kept.replica.tolist()]
    return [*zip(kept.ending.tolist(), kept.attempts.tolist(), replica, kept.latency_s.round(8).tolist(), strict=True)]


@settings(max_examples=40)
@given(case=cases(), share=st.floats(0, 1.2), data=st.data())
def test_what_is_the_same_goes_on_alike(case: tuple[Trace, System], share: float, data: st.DataObject) -> None:
    trace, system = case
    at_s = share * trace.span_s
    one = Simulation(trace, system, **HOW)
    one.advance(at_s)
    again = Simulation.restore(one.snapshot(), trace)
    if one.is_over:
        return
    names = one.is_same(again)
    assert names is not None
    assert all(mine == theirs for of in names.values() for mine, theirs in of.items())
    keys = [
        (hosted.name, table, place)
        for hosted in system.hosted
        for table, entries in (("faults", hosted.hosting.faults), ("rollouts", hosted.hosting.rollouts))
        for place in range(len(entries))
    ]
    if not keys:
        return
    other = Simulation(trace, system, without=[data.draw(st.sampled_from(keys))], **HOW)
    other.advance(at_s)
    names = None if other.is_over else other.is_same(one)
    if names is None:
        return
    # Renamed or not, what has not ended yet ends alike.
    pending = [request for request in range(len(trace)) if not one.results.attempts[request]]  # type: ignore[union-attr]
    mine, theirs = ends_of(one.finish()), ends_of(other.finish(), names[system.names[0]])
    assert [mine[request] for request in pending] == [theirs[request] for request in pending]


def simple(n: int = 200, seed: int = 0, *, from_s: float = 0.0) -> Trace:
    rng = np.random.default_rng(seed)
    at = from_s + np.cumsum(rng.exponential(0.1, n))
    return Trace.from_arrays(at_s=at, cpu_s=rng.exponential(0.05, n), span_s=from_s + 60)


def one_more(_seen: Any) -> int:
    return 2


def asking(rule: Any) -> System:
    return System.of(Service(slots=2), make_plan(scaling={"rule": rule, "every": "10s", "floor": 1, "ceiling": 3}))


def test_mistakes_with_copies_get_a_sentence() -> None:
    trace = simple()
    simulation = Simulation(trace, asking(one_more))
    simulation.advance(15)
    copy = simulation.snapshot()
    assert Simulation.restore(copy, trace).finish().requests == 200
    for snapshot, other, said in (
        (copy, simple(seed=1), "trace: found another one than the copy was made of; allowed: the same"),
        (copy, simple(20), "trace: found another one"),
        (b"garbage", trace, "snapshot: it cannot be read"),
        (pickle.dumps(3), trace, "snapshot: found 3; allowed: the copy of a simulation"),
    ):
        with pytest.raises(ReplayError, match=said):
            Simulation.restore(snapshot, other)
    with pytest.raises(ReplayError, match=r"this replay cannot be copied: .*; allowed: rules that can be imported"):
        Simulation(trace, asking(lambda _seen: 2)).snapshot()
    plain = Simulation(trace, asking(one_more), data_plane="plain")
    with pytest.raises(ReplayError, match=r"replays on the plain one are not compared; allowed: .compiled."):
        plain.is_same(plain)


def test_copies_of_chunks_and_of_what_is_over() -> None:
    def chunks() -> Iterator[Trace]:
        yield simple()
        yield simple(seed=2, from_s=100.0)

    system, kept = System.of(Service(slots=2), make_plan()), Kept()
    simulation = Simulation(chunks(), system, sink=kept)
    for at_s in (5.0, 110.0, 1e6):
        simulation.advance(at_s)
        copy, so_far = simulation.snapshot(), pickle.loads(pickle.dumps(kept))
        again = Simulation.restore(copy, chunks(), so_far).finish()
        assert again.requests == 400
        assert sum(len(column) for column in so_far.columns().values()) > 0
        if at_s == 1e6:
            assert simulation.is_over
    assert simulation.finish().only.integrals.tolist() == again.only.integrals.tolist()
    assert kept.columns()["id"].tolist() == so_far.columns()["id"].tolist()
