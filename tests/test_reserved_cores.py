"""Cores that the platform takes on every replica, by hand, on both data planes."""

from __future__ import annotations

from typing import Any

import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service, StudyError


def replayed(at: list[float], cpu: float, size: dict[str, Any], *, threads: int = 2, **tier: Any) -> Outcome:
    """A rule that looks at the CPU every second, in ten seconds."""
    sold = make_tier(sizes={"s": size | {"per_hour": 1}}, **tier)
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "floor": 1, "ceiling": 1, "every": 1}
    return both(
        make_trace(at, cpu=cpu, span_s=10), Service(slots=2, threads=threads), make_plan(sold, replicas=1, scaling=rule)
    )


def test_requests_have_the_rest() -> None:
    """Two share 1.5 of two cores: 0.75 core-seconds take each a second. With the half core of the platform two are in
    use for a second and half a one for nine: 6.5 of 20 core-seconds."""
    outcome = replayed([0, 0], 0.75, {"cores": 2}, reserved_cores=0.5)
    assert outcome.requests["latency_s"].tolist() == [1, 1]
    assert outcome.utilisation == pytest.approx(6.5 / 20)
    assert [decision.measured for decision in outcome.run.only.decisions][:2] == pytest.approx([1.0, 0.25])
    series = outcome.series_of_counts()["utilisation"]
    assert series[0] == pytest.approx(6.5 / 20)


def test_of_lent_cores_too() -> None:
    """Half a core is earned and half taken by the platform of a steady one; the bank of a core-second lasts two seconds,
    then a request has half a core: 3 core-seconds take 2 + 2."""
    size = {"cores": 1.5, "steady_cores": 1, "bank": 1, "reserved_cores": 0.5}
    assert replayed([0], 3.0, size).requests["latency_s"].tolist() == [4]


def test_that_of_the_size_wins() -> None:
    size = {"cores": 1, "reserved_cores": 0}
    assert replayed([0], 1.0, size, reserved_cores=0.5).requests["latency_s"].tolist() == [1]


def test_something_must_be_left() -> None:
    says = "reserved_cores: {} on size 's', which has {} = {}; allowed: less, so that something is left for requests"
    with pytest.raises(StudyError, match=says.format("1", "cores", "1")):
        make_tier(sizes={"s": {"cores": 1, "per_hour": 1}}, reserved_cores=1)
    size = {"cores": 2, "steady_cores": 0.5, "bank": 9, "per_hour": 1}
    with pytest.raises(StudyError, match=says.format("0.5", "steady_cores", "0.5")):
        make_tier(sizes={"s": size}, reserved_cores=0.5)
