"""The lean variant of the compiled functions: taken where it may be, and the same to the last bit."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import make_plan, make_tier
from libramen import Service, Trace
from libramen.engine import simulation
from libramen.engine.border.gather import spec_of
from libramen.engine.border.records import Results
from libramen.engine.kernel import layout, reach, state
from libramen.study.system import System


def _is_lean(service: Service, **plan: Any) -> bool:
    spec = spec_of(System.of(service, make_plan(**plan)), seed=0)
    made = state.KernelState(spec, Results.of(4))
    return reach.is_lean(made._record, made._fleets)


@pytest.mark.skipif(reach.CHECKED, reason="nothing is compiled")
@pytest.mark.parametrize(
    ("service", "plan"),
    [
        ({"slots": 3}, {"replicas": 2}),
        ({"slots": 2, "threads": 1, "backlog": 3}, {"replicas": 3, "balancer": "two_choices"}),
        ({"slots": 2, "timeout": 1.5, "retries": 2, "retry_after": 0.3, "retry_jitter": 0.5}, {"replicas": 2}),
        (
            {"slots": 4, "memory_per_request": "10MB"},
            {"replicas": 2, "tier": make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "memory": "15MB"}})},
        ),
        (
            {"slots": 4, "start": 2},
            {"replicas": 2, "scaling": {"rule": "target", "measure": "cpu", "target": 0.5, "every": 5, "ceiling": 4}},
        ),
    ],
)
def test_both_variants_give_the_same_bytes(
    service: dict[str, Any], plan: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = np.random.default_rng(5)
    at_s = np.round(np.cumsum(rng.exponential(0.1, 2000)), 1)  # with many ties
    trace = Trace.from_arrays(at_s=at_s, cpu_s=rng.choice([0, 0.1, 0.2], 2000), wait_s=rng.exponential(0.3, 2000))
    assert _is_lean(Service(**service), **plan)

    def replayed() -> simulation.Run:
        return simulation.run(trace, System.of(Service(**service), make_plan(**plan)))

    lean = replayed()
    monkeypatch.setattr(reach, "is_lean", lambda _world, _fleets: False)
    full = replayed()
    assert lean.results is not None
    assert full.results is not None
    assert lean.results.records.tobytes() == full.results.records.tobytes()
    assert lean.only.integrals.tobytes() == full.only.integrals.tobytes()
    assert lean.results.attempts.max() > (2 if "retries" in service else 0)


@pytest.mark.parametrize(
    ("service", "plan"),
    [
        ({}, {"tier": make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "steady_cores": 0.2, "bank": 60}})}),
        ({"timeout": 1.0, "on_timeout": "drop"}, {}),
        ({"slots": 2, "warm_up": 3, "warm_up_factor": 2}, {}),
        ({"slots": 2}, {"balancer": "shared_queue"}),
        ({"slots": 2}, {"rollouts": [{"at": "00:00:01", "strategy": "switch", "error_rate": 0.1}]}),
        ({"slots": 2}, {"scaling": {"rule": "target", "measure": "latency", "target": 1, "ceiling": 2}}),
    ],
)
def test_what_needs_more_gets_more(service: dict[str, Any], plan: dict[str, Any]) -> None:
    assert not _is_lean(Service(**{"slots": 2} | service), **plan)


def test_every_known_field_is_looked_at() -> None:
    spec = spec_of(System.of(Service(slots=2), make_plan()), seed=0)
    made = state.KernelState(spec, Results.of(4))
    assert reach.is_lean(made._record, made._fleets)
    for name, records in (("WORLD", made._record), ("FLEET", made._fleets)):
        for field, value in reach.LEAN[name].items():
            changed = records.copy()
            changed[field] = value + 1
            some = {"WORLD": made._record, "FLEET": made._fleets} | {name: changed}
            assert not reach.is_lean(some["WORLD"], some["FLEET"]), field
    for name in ("REPLICA", "VISIT"):
        assert set(reach.LEAN[name]) <= set(getattr(layout, name).names)
