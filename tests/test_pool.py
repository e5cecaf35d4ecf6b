"""Where replays are handed in: looked up, made, sent again when a worker dies, and kept."""

from __future__ import annotations

import pickle
from concurrent.futures import CancelledError, Executor, Future, ThreadPoolExecutor
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from builders import make_case, make_plan, make_tier, make_trace
from libramen import Objectives, ReplayError, Service, Store, StudyError, Terms, Trace
from libramen.runs import entries
from libramen.runs.pool import Pool, Whole, in_turn, run_cases
from libramen.runs.store import MISSING

if TYPE_CHECKING:
    from pathlib import Path

    from libramen import Figures
    from libramen.runs.cases import Case


def _trace() -> Trace:
    return make_trace(np.linspace(0, 50, 120).tolist(), cpu=0.3, wait=0.2, span_s=60)


def _case(replicas: int = 1, **objectives: Any) -> Case:
    wanted = Objectives(**({"p95": "1s", "availability": "99%", "month": 900} | objectives))
    return make_case({"service": Service(slots=2, backlog=5)}, make_plan(replicas=replicas, name=f"{replicas}"), wanted)


def test_a_trace_that_was_sent_lies_where_it_is_quick_to_read() -> None:
    """What goes over a network is often put together at any byte."""
    trace = Trace.from_arrays(
        at_s=np.arange(9.0), cpu_s=np.ones(9), bytes_out=np.ones(9), route=["a"] * 9, in_s={"stock": np.ones(9)}, span_s=9
    )  # fmt: skip
    buffers: list[pickle.PickleBuffer] = []
    packed = pickle.dumps(trace, protocol=5, buffer_callback=buffers.append)
    odd = [memoryview(b"?" + bytes(buffer.raw()))[1:] for buffer in buffers]
    assert len(odd) >= 6
    there: Trace = pickle.loads(packed, buffers=odd)
    arrays = [value for value in vars(there).values() if isinstance(value, np.ndarray)] + list(there.in_s.values())
    assert all(array.flags.aligned for array in arrays)
    assert there.at_s.tolist() == trace.at_s.tolist()
    assert there.in_s["stock"].tolist() == [1.0] * 9
    assert there.routes == trace.routes


class _Client:
    """Of a cluster that is not there: it counts what is scattered."""

    status = "running"

    def __init__(self) -> None:
        self.scattered = 0

    def scheduler_info(self) -> dict[str, Any]:
        return {"workers": {"one": 1}}

    def scatter(self, trace: Trace, **_: Any) -> Trace:
        self.scattered += 1
        copy: Trace = pickle.loads(pickle.dumps(trace))
        return copy


class _Cluster(Executor):
    """Like that of a cluster: runs tasks here, after some attempts have failed."""

    def __init__(self, *fails: Exception) -> None:
        self._client, self._fails = _Client(), list(fails)
        self.names: list[str] = []

    def submit(self, function: Any, /, *arguments: Any, **named: Any) -> Future[Any]:
        future: Future[Any] = Future()
        self.names.append(arguments[-1])
        if self._fails:
            future.set_exception(self._fails.pop(0))
        else:
            try:
                future.set_result(function(*arguments, **named))
            except (ValueError, StudyError) as error:
                future.set_exception(error)
        return future


_Cluster.__module__ = "distributed.cfexecutor"


class KilledWorker(Exception):  # noqa: N818  (what the cluster calls it)
    """As of the cluster."""


def test_a_task_whose_worker_has_died_is_sent_again_with_the_trace() -> None:
    here = _case().figures(_trace())
    cluster = _Cluster(KilledWorker("gone"), CancelledError())
    with Pool(_trace(), cluster) as pool:
        assert pool.hand_in(_case(), Whole()).result == here
    assert cluster._client.scattered == 3  # perhaps nobody had it any more
    assert len(set(cluster.names)) == 3  # each attempt has a name of its own


def test_it_is_not_sent_for_ever() -> None:
    cluster = _Cluster(*(KilledWorker(str(k)) for k in range(9)))
    with Pool(_trace(), cluster) as pool:
        ticket = pool.hand_in(_case(), Whole())
        with pytest.raises(ReplayError, match="4 workers died one after the other"):
            _ = ticket.result
    assert len(cluster.names) == 4


@pytest.mark.parametrize("error", [ValueError("a mistake"), StudyError("of the user")])
def test_a_mistake_is_not_taken_for_a_death(error: Exception) -> None:
    cluster = _Cluster(error)
    with Pool(_trace(), cluster) as pool:
        ticket = pool.hand_in(_case(), Whole())
        with pytest.raises(type(error), match=str(error)):
            _ = ticket.result
    assert len(cluster.names) == 1


@pytest.mark.parametrize("status", ["running", "closed"])
def test_a_cluster_without_workers_gets_a_sentence(status: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Before anything is sent to it, and where all have died since."""
    from libramen.runs import pool as module

    monkeypatch.setattr(module, "_PATIENCE_S", 0.1)
    monkeypatch.setattr(module, "_LOOK_S", 0.05)
    cluster = _Cluster()
    cluster._client.status = status
    monkeypatch.setattr(cluster._client, "scheduler_info", lambda: {"workers": {}})
    with Pool(_trace(), cluster) as pool:
        with pytest.raises(ReplayError, match="the cluster has no worker; start one"):
            pool.hand_in(_case(), Whole())
        with pytest.raises(ReplayError, match="has no worker, or cannot be reached any more"):
            pool.wait_for([Future()])


def test_the_trace_goes_there_once_for_all_calls() -> None:
    cluster, trace = _Cluster(), _trace()
    for _ in range(2):
        found = dict(run_cases([_case(n) for n in (1, 2, 3)], Pool(trace, cluster)))
        assert [found[k].plan for k in range(3)] == ["1", "2", "3"]
    assert cluster._client.scattered == 1
    list(run_cases([_case()], Pool(make_trace([1.0, 2.0], cpu=0.1, span_s=9), cluster)))
    assert cluster._client.scattered == 2


def test_what_is_left_is_cancelled() -> None:
    class Slow(Executor):
        def __init__(self) -> None:
            self.futures: list[Future[Any]] = []

        def submit(self, _function: Any, /, *_arguments: Any, **_named: Any) -> Future[Any]:
            self.futures.append(Future())
            return self.futures[-1]

    def interrupted() -> None:
        with Pool(_trace(), slow) as pool:
            for n in (1, 2):
                assert not pool.hand_in(_case(n), Whole()).is_done
            raise KeyboardInterrupt

    slow = Slow()
    with pytest.raises(KeyboardInterrupt):
        interrupted()
    assert all(future.cancelled() for future in slow.futures)


def test_tickets_come_as_they_are_done(tmp_path: Path) -> None:
    """What is in the store first, without a worker; then the others."""
    with Store(tmp_path / "s.sqlite") as store, ThreadPoolExecutor(2) as threads:
        list(run_cases([_case(2)], Pool(_trace(), store=store)))
        with Pool(_trace(), threads, store) as pool:
            tickets = [pool.hand_in(_case(n), Whole()) for n in (1, 2, 3)]
            assert tickets[1].future is None
            order = [ticket.number for ticket in in_turn(pool, tickets)]
            assert order[0] == 1
            assert sorted(order) == [0, 1, 2]
            assert [ticket.result.replicas_max for ticket in tickets] == [1, 2, 3]
        assert store.size().entries == 3


def test_a_worker_without_the_cache_says_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from libramen.runs import pool

    monkeypatch.setenv("LIBRAMEN_CACHE", str(tmp_path))
    with pytest.raises(ReplayError, match="a worker cannot find the trace in the cache; allowed: workers that share"):
        pool._do_there(pickle.dumps((Whole(), _case())), "no such key", "name")


# -- entries ---------------------------------------------------------------------------------------


@settings(deadline=None)
@given(
    st.integers(1, 3),
    st.sampled_from(["0.5s", "2s"]),
    st.sampled_from(["50%", "99.9%", "100%"]),
    st.sampled_from([1, 500, 5000]),
    st.sampled_from(["0.01", "2.5"]),
    st.sampled_from([None, "99%"]),
)
def test_figures_of_an_entry_are_those_of_a_replay(
    replicas: int, p95: str, availability: str, month: int, price: str, minutes: str | None
) -> None:
    """With other prices, names, and limits on money and availability: to the last digit, by the same key."""
    kept = _case(replicas, p95=p95, availability_minutes=minutes and "50%")
    tier = make_tier(name="other", sizes={"s": {"cores": 1, "per_hour": price}}, balancer_per_hour="0.1")
    plan = make_plan(tier, replicas=replicas, name="another")
    wanted = Objectives(p95=p95, availability=availability, month=month, availability_minutes=minutes)
    now = make_case(kept.system.only.service, plan, wanted, terms=Terms(currency="CHF"))
    assert entries.key_of(now, "t") == entries.key_of(kept, "t")
    document = entries.document_of(kept.figures(_trace()))
    assert entries.figures_of(document, now) == now.figures(_trace())


@pytest.mark.parametrize(
    "changed",
    [
        {"p95": "2s"},
        {"p99": "2s"},
        {"mean": "1s"},
        {"routes": {"a": {"p50": "1s"}}},
        {"availability": None},
        {"minute_fails_above": 0.2},
    ],
)
def test_what_is_counted_is_part_of_the_key(changed: dict[str, Any]) -> None:
    assert entries.key_of(_case(**changed), "t") != entries.key_of(_case(), "t")
    assert entries.key_of(_case(), "another trace") != entries.key_of(_case(), "t")
    assert entries.key_of(_case(2), "t") != entries.key_of(_case(1), "t")


@pytest.mark.parametrize("document", [None, {}, {"figures": {}, "used": {}}, {"figures": 1}, [1], "text"])
def test_an_entry_that_is_none_is_replayed(tmp_path: Path, document: Any) -> None:
    """Its checksum may be right all the same."""
    trace, case = _trace(), _case()
    told: list[str] = []
    with Store(tmp_path / "s.sqlite", told.append) as store, Pool(trace, store=store) as pool:
        key = pool.key_of(case)
        assert key is not None
        store.put(key, document)
        assert Whole().look_up(store, key, case) is MISSING
        assert "not ours; it is thrown away" in told[0]
        found: Figures = pool.hand_in(case, Whole()).result
        assert found == case.figures(trace)
        assert Whole().look_up(store, key, case) == found


def test_a_store_that_is_too_large_forgets_what_is_oldest(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from libramen.runs import store as module

    monkeypatch.setattr(module, "_MOST_BYTES", 100_000)
    monkeypatch.setattr(module, "_PRUNE_EVERY", 8)
    rng = np.random.default_rng(1)
    with Store(tmp_path / "s.sqlite") as store:
        for k in range(64):
            store.put(f"{k}", rng.random(500).tolist())
        entries_left = store.size().entries
        assert 4 < entries_left < 60
        assert store.get("63", len) == 500
        assert store.get("0", len) is MISSING
