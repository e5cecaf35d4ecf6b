"""Start-up times that vary: fitted exactly, and the same for every plan."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import both, make_plan, make_tier, make_trace
from libramen import Delay, Outcome, Service, StudyError, replay

STARTS = {"p50": "6s", "p95": "14s"}
seconds = st.floats(1e-3, 1e4)


@given(
    seconds,
    st.floats(1, 50),
    st.sampled_from([("p50", 0.5), ("p90", 0.9)]),
    st.sampled_from([("p95", 0.95), ("p99", 0.99)]),
)
def test_two_percentiles_are_met(low_s: float, times: float, low: tuple[str, float], high: tuple[str, float]) -> None:
    delay = Delay.of(**{low[0]: low_s, high[0]: low_s * times})
    assert delay.percentile(low[1]) == pytest.approx(low_s, rel=1e-9)
    assert delay.percentile(high[1]) == pytest.approx(low_s * times, rel=1e-9)


@pytest.mark.parametrize(
    ("start", "message"),
    [
        ({"p50": "6s"}, "allowed: two of p50, p90, p95, p99, p999"),
        ({"p50": "6s", "p96": "9s"}, "allowed: two of p50"),
        ({"p50": "6s", "p95": "5s"}, "allowed: p50 above 0, and p95 not below it"),
        ({"p50": 0, "p95": "5s"}, "allowed: p50 above 0"),
        ("soon", "start: found 'soon'; allowed: a duration"),
    ],
)
def test_what_is_no_start_up_time(start: object, message: str) -> None:
    with pytest.raises(StudyError, match=message):
        Service(slots=1, start=start)


def _lives(outcome: Outcome) -> dict[int, tuple[float, float]]:
    """How long each ordered replica booted and started."""
    return {
        r.number: (r.started_s - r.ordered_s, r.ready_s - r.started_s)
        for r in outcome.run.only.replicas
        if r.why != "start" and r.ready_s is not None
    }


def _replayed(floor: int, seed: int = 0, **plan: object) -> Outcome:
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": 10, "floor": floor, "ceiling": 900}
    tier = make_tier(provision={"p50": 40, "p99": 90}, replicas={"least": 0, "most": 999})
    trace = make_trace([0.0, 500.0], wait=1, span_s=500)
    return replay(trace, Service(slots=1, start=STARTS), make_plan(tier, scaling=rule, **plan), seed=seed)


def test_the_nth_replica_takes_the_nth_time_whatever_the_plan() -> None:
    """Plans that order differently: their n-th replicas take the same time."""
    many, few = _lives(_replayed(700)), _lives(_replayed(12, replicas=3))
    common = set(many) & set(few)
    assert len(common) >= 9
    assert all(many[n] == pytest.approx(few[n]) for n in common)
    assert _lives(_replayed(12, seed=1))[5] != few[5]
    # 699 of them: the median and the 95th percentile are near what the study said (4 standard errors of a share).
    starts = np.array([start for _, start in many.values()])
    for share, value in ((0.5, 6), (0.95, 14)):
        assert np.mean(starts <= value) == pytest.approx(share, abs=4 * np.sqrt(share * (1 - share) / len(starts)))


def test_a_crashed_replica_draws_anew_and_changes_no_other() -> None:
    """#1 dies of its second request, twice, and starts again with times of its own; what #2 takes is the same without."""
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": 10, "floor": 2, "ceiling": 2}
    tier = make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "memory": 1}})
    plan = make_plan(tier, scaling=rule)
    service = Service(slots=5, start=STARTS, memory_per_request=1)
    dies = both(make_trace([0, 1, 2, *range(60, 66), 300], wait=400, span_s=300), service, plan)
    lives = both(make_trace([0, 300], wait=1, span_s=300), service, plan)
    assert _lives(dies)[2] == _lives(lives)[2]
    stages = dies.stages.query("number == 1 and stage == 'starting'")
    again = (stages["to_s"] - stages["from_s"]).tolist()
    assert len(again) >= 2
    nth = [start for _, start in _lives(_replayed(30)).values()]
    assert len({*again, *nth}) == len(again) + len(nth)
