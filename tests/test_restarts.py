"""A process that has died is started again: at once, or when its death is found. By hand, on both data planes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service
from libramen.base.streams import stream


def _steady(start: float, faults: list[dict[str, Any]], *, tier: dict[str, Any], n: int = 1, **plan: Any) -> Outcome:
    """Ten requests a second for 100 s, each of a twentieth."""
    trace = make_trace([k / 10 for k in range(1000)], wait=0.05, span_s=100)
    return both(trace, Service(slots=9, start=start), make_plan(make_tier(**tier), replicas=n, faults=faults, **plan))


def _stages(outcome: Outcome) -> list[tuple[float, str]]:
    return [(pytest.approx(at_s), stage) for at_s, stage in outcome.run.only.replicas[0].stages]


def test_a_process_is_started_again_at_once_or_when_its_death_is_found() -> None:
    """It dies at 10 and needs 5 s to start, the balancer 30 s to find out. At once: the 50 requests of those 5 s are
    lost and nobody has noticed. When found: 300 are lost until 40, and 50 refused until 45."""
    crash = [{"kind": "crash", "at": 10}]
    found = _steady(5, crash, tier={"detect": 30})
    assert (found.endings["lost"], found.endings["refused"]) == (50, 0)
    assert _stages(found) == [(0, "coming"), (0, "ready")]
    lives = found.stages[["stage", "from_s", "to_s"]].to_numpy().tolist()
    assert lives == [["ready", 0, 10], ["down", 10, 15], ["ready", 15, np.inf]]
    found = _steady(5, crash, tier={"detect": 30, "restarts": "when_found"})
    assert (found.endings["lost"], found.endings["refused"]) == (300, 50)
    assert _stages(found) == [(0, "coming"), (0, "ready"), (40, "coming"), (45, "ready")]


@pytest.mark.parametrize("detect", [0, 2, 5, 6])
def test_a_death_that_is_found_before_the_process_works(detect: float) -> None:
    """It works at 15. Found before that it is out until then; found at that very instant it is not, for what is ready
    comes first."""
    found = _steady(5, [{"kind": "crash", "at": 10}], tier={"detect": detect})
    lost = min(detect, 5)
    assert (found.endings["lost"], found.endings["refused"]) == (10 * lost, 50 - 10 * lost)
    out = [(10 + detect, "coming"), (15, "ready")] if detect < 5 else []
    assert _stages(found) == [(0, "coming"), (0, "ready"), *out]


def test_each_death_is_found_by_itself() -> None:
    """Dead in [10, 12) and [13, 15), and both times it is found 5 s after it died: by then it works, for the death of 10
    is not that of 13. The one of 30 comes too late for a second one at 31: nobody can die who does not live."""
    faults = [{"kind": "crash", "at": at} for at in (10, 13, 30, 31)]
    found = _steady(2, faults, tier={"detect": 5})
    assert found.endings["lost"] == 60
    assert _stages(found) == [(0, "coming"), (0, "ready")]
    assert [death.at_s for death in found.run.only.deaths] == [10, 13, 30]
    down = found.stages[found.stages["stage"] == "down"]
    assert down[["from_s", "to_s"]].to_numpy().tolist() == [[10, 12], [13, 15], [30, 32]]


def test_a_dead_one_that_is_drained_does_not_come_back() -> None:
    """Found at 40 it would be; it is drained at 12 by the update, which takes it for ready, and is gone at once."""
    plan = {"rollouts": [{"at": 12, "strategy": "stop_start"}]}
    found = _steady(5, [{"kind": "crash", "at": 10}], tier={"detect": 30}, **plan)
    assert _stages(found) == [(0, "coming"), (0, "ready"), (12, "draining"), (12, "gone")]
    assert found.endings == {"ok": 930, "lost": 20, "refused": 50, "timed_out": 0, "cut": 0, "errored": 0}


def test_a_version_that_crashes_again_and_again_is_unnoticed() -> None:
    """New at 11, it dies 4 s after it works and works 1 s later: at 15, 20, 25, ... up to 95, found 3 s after, never."""
    plan = {"rollouts": [{"at": 10, "strategy": "stop_start", "in_place": True, "crashes_after": 4}]}
    found = _steady(1, [], tier={"detect": 3}, **plan)
    assert [death.at_s for death in found.run.only.deaths][:17] == list(range(15, 100, 5))
    assert found.endings["lost"] == 170
    assert {stage for _, stage in found.run.only.replicas[1].stages} == {"coming", "ready"}
    assert len(found.run.only.replicas[1].stages) == 2


@pytest.mark.parametrize(
    ("start", "first", "stages"),
    [
        # Checks at p, p + 8, ...: it dies at 50, those at p + 48 and p + 56 fail, or the second meets one that works.
        pytest.param(5.0, 2, [], id="a check in between is good, and nobody has noticed"),
        # It works between the check and its time-out of 6 s: out at p + 62, ready after good checks of its own.
        pytest.param(14.0, 0, ["coming", "ready"], id="works between the last failed check and its time-out"),
        pytest.param(14.0, 2, ["coming", "ready"], id="works then, and two good checks are wanted"),
        pytest.param(20.0, 0, ["coming", "ready"], id="works after that"),
        pytest.param(20.0, 1, ["coming", "ready"], id="works after that, and one good check is wanted"),
    ],
)
def test_checks_go_on_in_the_rhythm_of_the_old_process(start: float, first: int, stages: list[str]) -> None:
    health = {"every": 8, "after": 2, "timeout": 6, "first": first}
    found = _steady(start, [{"kind": "crash", "at": 50}], tier={"health": health})
    luck = stream(0, "health", 1)
    phase_s, again_s = 8 * luck.random(), 8 * luck.random()
    failed_s = [phase_s + 8 * k for k in range(20) if phase_s + 8 * k >= 50][:2]
    assert 55 < failed_s[1] < 64 < failed_s[1] + 6 < 70  # or this seed tells nothing
    works_s, out_s = 50 + start, failed_s[1] + 6
    ready_s = works_s
    if works_s < out_s:
        ready_s = max(out_s, works_s + again_s + 8 * (max(first, 1) - 1))
    elif first:
        ready_s = works_s + again_s + 8 * (first - 1)
    assert found.fleet["deaths"].tolist() == [1]
    expected = [(0, "coming"), (0, "ready"), *zip([out_s, ready_s], stages, strict=False)]
    assert _stages(found) == expected
    refused = np.ceil(10 * ready_s - 1e-6) - np.ceil(10 * out_s - 1e-6) if stages else 0
    lost = np.ceil(10 * min(works_s, out_s) - 1e-6) - 500
    assert (found.endings["lost"], found.endings["refused"]) == (lost, refused)


def test_what_is_taken_out_finishes_what_it_has() -> None:
    """It dies at 50 and works at 64, and is out at p + 62: a request of 60 s that came between them ends at its time;
    so does the held one, when it is ready."""
    health = {"every": 8, "after": 2, "timeout": 6}
    tier = make_tier(health=health, holds_requests=True)
    luck = stream(0, "health", 1)
    phase_s = 8 * luck.random()
    out_s = phase_s + 8 * (np.ceil((50 - phase_s) / 8) + 1) + 6
    ready_s = max(out_s, 64 + 8 * luck.random())
    trace = make_trace([64.5, out_s + 1e-3], wait=60.0, span_s=100)
    plan = make_plan(tier, replicas=1, faults=[{"kind": "crash", "at": 50}])
    found = both(trace, Service(slots=9, start=14), plan)
    assert found.requests["latency_s"].tolist() == pytest.approx([60, 60 + max(0.0, ready_s - out_s - 1e-3)])


def test_checks_that_fail_in_a_row_may_be_of_two_deaths() -> None:
    """Half a second before a check it dies, and works 5 s later; before the next check it dies again. That is the second one
    that fails, though no process was dead at both: out a second later, and ready when the process works after another
    one. Had the row begun anew the check after that would be good."""
    phase_s = 8 * stream(0, "health", 1).random()
    check_s = phase_s + 8 * np.ceil((50 - phase_s) / 8)
    faults = [{"kind": "crash", "at": f"{at_s:.9f}s"} for at_s in (check_s - 0.5, check_s + 5)]
    found = _steady(5, faults, tier={"health": {"every": 8, "after": 2, "timeout": 1}})
    out = [(pytest.approx(check_s + 9), "coming"), (pytest.approx(check_s + 10), "ready")]
    assert _stages(found) == [(0, "coming"), (0, "ready"), *out]


def test_a_good_check_ends_the_row() -> None:
    """As above, but the second death comes when a check has succeeded: each has one that fails, and nobody notices any."""
    phase_s = 8 * stream(0, "health", 1).random()
    check_s = phase_s + 8 * np.ceil((50 - phase_s) / 8)
    faults = [{"kind": "crash", "at": f"{at_s:.9f}s"} for at_s in (check_s - 0.5, check_s + 15.5)]
    found = _steady(5, faults, tier={"health": {"every": 8, "after": 2, "timeout": 1}})
    assert _stages(found) == [(0, "coming"), (0, "ready")]
    assert found.endings["lost"] == 102  # of each five seconds, and one that was in it
