"""A cluster of separate processes: the same bytes as on one core, also when a worker dies on the way."""

from __future__ import annotations

import json
import os
import signal
import time
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from typer.testing import CliRunner

from builders import BY_CPU, SOLD, make_case, write_study
from libramen import LibramenError, compare, load_study, search
from libramen.cli import common
from libramen.cli.app import app
from libramen.runs.pool import Pool, Whole

distributed = pytest.importorskip("distributed")
pytestmark = pytest.mark.filterwarnings("ignore")  # what the cluster itself warns of is not ours

if TYPE_CHECKING:
    from collections.abc import Iterator
    from pathlib import Path

    from libramen import Observation

RANGES: dict[str, Any] = {
    "size": ["small", "medium"],
    "replicas": [1, 2, 4],
    "vary": {"scaling.target": ["40%", "50%", "60%", "70%"], "scaling.ceiling": [8, 12]},
}


@pytest.fixture(scope="module")
def study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("cluster")
    rng = np.random.default_rng(3)
    at = np.cumsum(rng.exponential(0.25, 4_000))
    work = rng.exponential(0.4, (2, len(at)))
    tier = SOLD["convoy"] | {"replicas": {"least": 1, "most": 12}}
    tier["sizes"] = SOLD["convoy"]["sizes"] | {"medium": {"cores": 2, "per_hour": 0.055}}
    return write_study(
        folder,
        {"at_s": at, "cpu_s": work[0], "wait_s": work[1]},
        {"convoy": tier},
        {"scaled": {"tier": "convoy", "scaling": BY_CPU | {"every": "5s", "ceiling": 12}}},
        service={"slots": 4, "backlog": 10, "timeout": "6s"},
        objectives={"p95": "2s", "availability": "99%"},
    )


@pytest.fixture(scope="module")
def cluster() -> Iterator[Any]:
    with distributed.LocalCluster(
        n_workers=3, threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50
    ) as there:
        yield there


@pytest.mark.thorough
def test_the_same_bytes_also_when_a_worker_is_killed(study: Path, cluster: Any) -> None:
    loaded = load_study(study)
    here = json.dumps(search(loaded, "scaled", **RANGES).to_dict())
    killed: list[int] = []

    def kill_one(what: str, share: float) -> None:
        if what == "combinations" and share > 0.3 and not killed:
            process = next(iter(cluster.workers.values())).pid
            killed.append(process)
            os.kill(process, signal.SIGKILL)

    with distributed.Client(cluster) as client:
        before = {worker.pid for worker in cluster.workers.values()}
        found = search(loaded, "scaled", executor=client.get_executor(), progress=kill_one, **RANGES)
        assert json.dumps(found.to_dict()) == here
        assert killed
        deadline = time.monotonic() + 30
        while {worker.pid for worker in cluster.workers.values()} == before and time.monotonic() < deadline:
            time.sleep(0.1)
        assert {worker.pid for worker in cluster.workers.values()} != before


def test_the_trace_is_sent_once_to_each_worker(study: Path, cluster: Any) -> None:
    loaded = load_study(study)
    with distributed.Client(cluster) as client:
        sent: list[int] = []
        scatter = client.scatter
        client.scatter = lambda *some, **named: (sent.append(1), scatter(*some, **named))[1]
        executor = client.get_executor()
        assert compare(loaded, executor=executor).figures == compare(loaded).figures
        assert search(loaded, "scaled", executor=executor, replicas=[1, 2, 3]).counts.replayed
        assert len(sent) == 1  # whatever the number of replays and of calls


def test_a_rule_of_the_caller_goes_with_the_case(study: Path, cluster: Any) -> None:
    """Though no module that a worker could import has it."""
    loaded, most = load_study(study), 3

    def by_queue(seen: Observation) -> int:
        return min(most, 2 + seen.waiting // 4)

    plan = loaded.plan("scaled").replace(scaling={"rule": by_queue, "every": "5s"})
    case, trace = make_case(loaded.services, plan, loaded.objectives), loaded.trace()
    with distributed.Client(cluster) as client, Pool(trace, client.get_executor()) as pool:
        ticket = pool.hand_in(case, Whole())
        assert ticket.future is not None
        assert ticket.result == case.figures(trace)
        assert ticket.result.replicas_max == most


def test_the_command(study: Path, cluster: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(common, "_REACHED_S", 1)
    run = CliRunner().invoke
    vary = ["--vary", "replicas=1..3", "--no-store", "--json"]
    here = run(app, ["search", str(study), "--plan", "scaled", *vary])
    there = run(app, ["search", str(study), "--plan", "scaled", *vary, "--cluster", cluster.scheduler_address])
    assert json.loads(there.stdout) == json.loads(here.stdout)
    nowhere = run(app, ["search", str(study), "--plan", "scaled", *vary, "--cluster", "tcp://127.0.0.1:9"])
    assert isinstance(nowhere.exception, LibramenError)
    assert "--cluster tcp://127.0.0.1:9: cannot be reached" in str(nowhere.exception)
