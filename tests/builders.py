"""Short ways to the objects that tests are about."""

from __future__ import annotations

import os
import shutil
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import tomli_w

from libramen import Objectives, Outcome, Plan, Service, Tier, Trace, replay
from libramen.demo.write import write_demo
from libramen.runs.cases import Case
from libramen.study.system import System

if TYPE_CHECKING:
    from libramen.engine.record import ServiceRun


def make_tier(**values: Any) -> Tier:
    """An autoscaled tier that costs 1 an hour, with one size of one core, and no times of its own."""
    size = {"cores": 1, "per_hour": 1} | {key: values.pop(key) for key in ("cores", "speed") if key in values}
    return Tier(
        **{
            "billing": "per_hour",
            "autoscaling": True,
            "replicas": {"least": 0, "most": 50},
            "sizes": {"s": size},
        }
        | values
    )


def make_plan(tier: Tier | None = None, **values: Any) -> Plan:
    return Plan(**{"tier": tier or make_tier(), "size": "s", "replicas": 1} | values)


SOLD: dict[str, Any] = {
    "convoy": {
        "billing": "per_hour",
        "autoscaling": True,
        "replicas": {"least": 1, "most": 8},
        "sizes": {"small": {"cores": 1, "per_hour": 0.03}, "medium": {"cores": 2, "per_hour": 0.06}},
    },
    "tidal": {
        "billing": "per_second",
        "autoscaling": True,
        "replicas": {"least": 1, "most": 8},
        "sizes": {"small": {"cores": 1, "per_hour": 0.03}},
    },
}
"""Tiers of study files."""
BY_CPU: dict[str, Any] = {"rule": "target", "measure": "cpu", "target": "60%", "every": "10s", "ceiling": 8}


def write_study(
    folder: Path, columns: dict[str, np.ndarray], tiers: dict[str, Any], plans: dict[str, Any], **tables: Any
) -> Path:
    """A study file and its table of requests; each plan says only what is not `size = "small"`."""
    np.savetxt(
        folder / "t.csv", np.column_stack([*columns.values()]), "%.6f", ",", header=",".join(columns), comments=""
    )
    path = folder / "study.toml"
    named = {name: {"size": "small"} | plan for name, plan in plans.items()}
    path.write_text(tomli_w.dumps({"trace": {"files": "t.csv"}} | tables | {"tiers": tiers, "plans": named}))
    return path


def plain_study(
    path: Path,
    trace: dict[str, Any],
    plans: dict[str, Any] | None = None,
    *,
    tier: dict[str, Any] | None = None,
    size: dict[str, Any] | None = None,
    **tables: Any,
) -> Path:
    """A study file, or one in a folder: a tier with one size of one core; all says only what is not usual."""
    path = path if path.suffix == ".toml" else path / "study.toml"
    sold = {"billing": "per_hour", "sizes": {"s": {"cores": 1, "per_hour": 1} | (size or {})}} | (tier or {})
    named = {name: {"tier": "t", "size": "s"} | plan for name, plan in (plans or {"p": {}}).items()}
    path.write_text(
        tomli_w.dumps({"trace": trace, "service": {"slots": 2}} | tables | {"tiers": {"t": sold}, "plans": named})
    )
    return path


def make_case(services: Any, plan: Any, objectives: Objectives, *more: Any, **values: Any) -> Case:
    return Case(System.of(services, plan), objectives, *more, **values)


def make_trace(
    at: list[float], cpu: float | list[float] = 0.0, wait: float | list[float] = 0.0, **values: Any
) -> Trace:
    """A trace of arrivals `at`; one number of work is that of every request."""
    return Trace.from_arrays(
        at_s=at, cpu_s=np.broadcast_to(cpu, len(at)), wait_s=np.broadcast_to(wait, len(at)), **values
    )


def both(trace: Trace, service: Service, plan: Plan, **values: Any) -> Outcome:
    """Replay on both data planes, assert that they agree, and return the outcome."""
    compiled = replay(trace, service, plan, **values)
    plain = replay(trace, service, plan, data_plane="plain", **values)
    assert_agree(compiled, plain)
    return compiled


def assert_agree(one: Outcome, other: Outcome) -> None:
    """Every request, every replica's time stamps, every decision and every integral: the same to 1e-9."""
    a, b = one.run.results, other.run.results
    np.testing.assert_array_equal(a.ending, b.ending)
    np.testing.assert_array_equal(a.replica, b.replica)
    np.testing.assert_array_equal(a.attempts, b.attempts)
    np.testing.assert_allclose(a.latency_s, b.latency_s, rtol=0, atol=1e-9)
    np.testing.assert_allclose(a.before_s, b.before_s, rtol=0, atol=1e-9)
    np.testing.assert_allclose(a.queued_s, b.queued_s, rtol=0, atol=1e-9)
    for first, second in zip(one.run.services.values(), other.run.services.values(), strict=True):
        _assert_fleets_agree(first, second)


def _assert_fleets_agree(one: ServiceRun, other: ServiceRun) -> None:
    for mine, theirs in zip(one.replicas, other.replicas, strict=True):
        assert [stage for _, stage in mine.stages] == [stage for _, stage in theirs.stages], (mine, theirs)
        for (x, _), (y, _) in zip(mine.stages, theirs.stages, strict=True):
            assert abs(x - y) <= 1e-9, (mine, theirs)
    for mine, theirs in zip(one.decisions, other.decisions, strict=True):
        assert mine.measure == theirs.measure
        for a_figure, another in zip(mine, theirs, strict=True):
            assert a_figure == another or abs(a_figure - another) <= 1e-9, (mine, theirs)
    for mine, theirs in zip(one.replicas, other.replicas, strict=True):
        assert (mine.decision, mine.ended_by, mine.why, mine.why_gone) == (
            theirs.decision, theirs.ended_by, theirs.why, theirs.why_gone,
        )  # fmt: skip
        assert abs(mine.core_s - theirs.core_s) <= 1e-8, (mine, theirs)
    np.testing.assert_allclose(one.use, other.use, rtol=1e-12, atol=1e-8)
    np.testing.assert_allclose(one.lasted, other.lasted, rtol=1e-12, atol=1e-8)
    # Late in a day a time is a multiple of 1.5e-11 s, and an integral adds thousands of differences of times.
    np.testing.assert_allclose(one.integrals, other.integrals, rtol=1e-12, atol=1e-8)


def shared_demo(name: str) -> Path:
    """The study file of a demo that all workers use: whoever comes first writes it."""
    folder = Path(os.environ["LIBRAMEN_CACHE"]) / "demos" / name
    folder.parent.mkdir(parents=True, exist_ok=True)
    done = folder.with_suffix(".done")
    try:
        folder.with_suffix(".begun").touch(exist_ok=False)
    except FileExistsError:
        while not done.exists():
            time.sleep(0.1)
        return folder / "study.toml"
    write_demo(folder, study=name)
    done.touch()
    return folder / "study.toml"


def demo_in(folder: Path, name: str) -> Path:
    """The study file of a demo of its own, for what changes it."""
    shutil.copytree(shared_demo(name).parent, folder)
    return folder / "study.toml"
