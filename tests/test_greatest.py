"""The rule `greatest`: what wants most decides, each with its own measure, window and lag."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import both, make_plan
from libramen import Service, Trace
from libramen.base.errors import StudyError
from libramen.rules.scaling import Greatest, Observation

CPU, WAITING = {"measure": "cpu", "target": "50%"}, {"measure": "waiting", "target": 1}
LIMITS = {"every": "10s", "floor": 1, "ceiling": 40}


def decided(scaling: dict[str, Any], *, slots: int = 4, n: int = 60) -> list[tuple[Any, ...]]:
    """Of each decision within a minute: wanted, held by, measure, measured, its window, ordered, drained."""
    rng = np.random.default_rng(1)
    trace = Trace.from_arrays(
        at_s=np.sort(rng.uniform(0, 40, n)), cpu_s=np.full(n, 0.25), wait_s=rng.uniform(0, 2, n), span_s=60
    )
    outcome = both(trace, Service(slots=slots), make_plan(replicas=2, scaling=LIMITS | scaling))
    return [
        (
            one.wanted,
            one.held_by,
            one.measure,
            one.measured,
            one.window_from_s,
            one.window_to_s,
            one.ordered,
            one.drained,
        )
        for one in outcome.run.only.decisions
        if one.at_s <= 60
    ]


def test_the_greatest_number_wins() -> None:
    def seen(cpu: float | None, waiting: float | None) -> list[Observation]:
        return [Observation(ready=4, coming=1, measures=one) for one in ({"cpu": cpu}, {"waiting": waiting})]

    rule = Greatest(rules=[CPU, WAITING])
    assert rule.greatest(seen(0.8, 1.0)) == (7, "", 0)  # 4 x 0.8 / 0.5 = 6.4
    assert rule.greatest(seen(0.1, 3.0)) == (12, "", 1)
    assert rule.greatest(seen(0.1, 1.05)) == (5, "dead_band", 1)  # the second wants what there is
    assert rule.greatest(seen(0.1, None)) == (1, "", 0)  # without a measure it is left out
    assert rule.greatest(seen(None, None)) == (5, "no measure", 0)
    assert rule.replace(step_up=2).greatest(seen(0.1, 3.0)) == (7, "step_up", 1)
    assert rule.replace(step_down=1).greatest(seen(0.1, 0.1)) == (4, "step_down", 0)


@pytest.mark.parametrize("one", [CPU, WAITING, {"measure": "latency", "target": "1s", "percentile": "p90"}])
@pytest.mark.parametrize("view", [{}, {"window": "25s"}, {"lag": "3s"}, {"window": "30s", "lag": "7s"}])
def test_of_one_rule_it_is_that_rule(one: dict[str, Any], view: dict[str, Any]) -> None:
    assert decided({"rule": "greatest", "rules": [one | view]}) == decided({"rule": "target"} | one | view)


@given(st.permutations([CPU | {"window": "25s"}, WAITING | {"lag": "3s"}, {"measure": "rate", "target": 0.5}]))
def test_each_looks_at_its_own_window(rules: list[dict[str, Any]]) -> None:
    found = decided({"rule": "greatest", "rules": rules}, slots=1)
    assert {measure for _, _, measure, *_ in found} >= {"rate"}
    for k, (_, _, measure, measured, from_s, to_s, *_) in enumerate(found, start=1):
        window_s, lag_s = {"cpu": (25, 0), "waiting": (10, 3), "rate": (10, 0)}[measure]
        if measured is not None:
            assert (from_s, to_s) == (max(0, 10 * k - lag_s - window_s), max(0, 10 * k - lag_s))


def test_steps_may_be_one_of_them() -> None:
    """Above half a request that waits, three more; when nobody waits any more, nothing: then CPU decides."""
    steps = {
        "rule": "steps",
        "measure": "waiting",
        "up": [{"above": 0.5, "add": 3}],
        "down": [{"below": 0.4, "remove": 9}],
    }
    found = decided({"rule": "greatest", "rules": [{"measure": "cpu", "target": "90%"}, steps]}, slots=1)
    assert any(measure == "waiting" and ordered == 3 for _, _, measure, *_, ordered, _ in found)
    assert {measure for _, _, measure, *_ in found} == {"cpu", "waiting"}


def test_mistakes_get_a_sentence() -> None:
    for values, said in (
        ({"rules": []}, "rules: found \\[\\]; allowed: one or more"),
        ({"rules": [CPU | {"every": "5s"}]}, r"rules\[1\]\] found every; allowed: measure, percentile, window"),
        ({"rules": [CPU], "window": "1m"}, "window: each of the rules has its own; allowed: to leave it out"),
        ({"rules": [{"measure": "cpu"}]}, "target"),
        ({"rules": [CPU | {"rule": "on_arrival"}]}, "rule: found 'on_arrival'; allowed: 'target', 'steps'"),
        ({"rules": [{"measure": "cpu", "target": "1s"}]}, "a share"),
    ):
        with pytest.raises(StudyError, match=said) as error:
            make_plan(scaling={"rule": "greatest"} | LIMITS | values)
        assert "\n" not in str(error.value)
        assert "more mistake" not in str(error.value)
