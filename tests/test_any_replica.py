"""Faults that strike any replica of those that are ready, and a share of the fleet that is taken back at random."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import both, make_plan, make_tier
from libramen import Service, Trace
from libramen.base.errors import StudyError

TRACE = Trace.from_arrays(at_s=[0.0], cpu_s=[0.0], span_s=1000)


def struck(fault: dict[str, Any], *more: dict[str, Any], seed: int = 0, **values: Any) -> list[Any]:
    """When and whom the first fault has struck."""
    tier = values.pop("tier", make_tier())
    plan = make_plan(tier, **{"replicas": 4} | values, faults=[fault, *more])
    found = both(TRACE, Service(slots=1, start="1s"), plan, seed=seed).run.only.faults
    return [(one.at_s, one.target) for one in found if one.entry == 0]


def test_any_of_those_ready_is_struck() -> None:
    """Over forty seeds each of four replicas about ten times; the same seed strikes the same one."""
    crash = {"kind": "crash", "at": "5s", "replica": "any"}
    targets = [struck(crash, seed=seed)[0][1] for seed in range(40)]
    assert targets[:5] == [struck(crash, seed=seed)[0][1] for seed in range(5)]
    assert all(3 <= targets.count(number) <= 20 for number in (1, 2, 3, 4))


def test_only_those_that_really_work() -> None:
    """Two have crashed at 4, of which nobody knows, and one that was ordered is on its way: 3 or 4 it is."""
    dead = [{"kind": "crash", "at": "4s", "replica": number, "detect": "1m"} for number in (1, 2)]
    tier = make_tier(provision="1m")
    assert {
        struck({"kind": "crash", "at": "4.75s", "replica": "any"}, *dead, seed=seed, tier=tier)[0][1]
        for seed in range(12)
    } == {3, 4}
    gone = [{"kind": "crash", "at": "4s", "replica": number} for number in (1, 2, 3, 4)]
    assert struck({"kind": "crash", "at": "4.5s", "replica": "any"}, *gone) == []


def test_a_pause_of_one_process_again_and_again() -> None:
    """About every ten seconds for two: a thousand seconds have some 1000 / 12 of them, of all replicas, one at a time."""
    found = struck({"kind": "slow", "every_about": "10s", "lasts": "2s", "slower": 1000, "replica": "any"})
    assert 55 < len(found) < 115
    assert {target for _, target in found} == {1, 2, 3, 4}
    assert np.diff([at_s for at_s, _ in found]).min() > 2


def test_who_waits_on_the_paused_one() -> None:
    """From 5 to 6 one of two replicas takes a hundred times as long for what begins then: one of two requests."""
    trace = Trace.from_arrays(at_s=[5.5, 5.5, 7.0, 7.0], cpu_s=[0.01] * 4, span_s=20)
    slow = {"kind": "slow", "at": "5s", "lasts": "1s", "slower": 100, "replica": "any"}
    outcome = both(trace, Service(slots=1), make_plan(replicas=2, faults=[slow]))
    assert sorted(outcome.run.kept.latency_s.round(9).tolist()) == [0.01, 0.01, 0.01, 1.0]
    one = outcome.run.only.faults[0].target
    assert outcome.run.kept.replica[outcome.run.kept.latency_s > 0.5].tolist() == [one]


def test_crashes_of_anybody_come_again() -> None:
    found = struck({"kind": "crash", "every_about": "20s", "replica": "any"})
    assert 25 < len(found) < 80
    assert {target for _, target in found} == {1, 2, 3, 4}


def test_a_share_is_taken_back_at_random() -> None:
    tier = make_tier(interruptible=True, notice="1s")
    found = struck({"kind": "reclaim", "every_about": "100s", "share": "50%"}, tier=tier)
    assert 3 <= len(found) <= 20
    assert {target for _, target in found} == {None}
    with pytest.raises(StudyError, match="share: it strikes a share of the fleet; allowed: without replica"):
        make_plan(tier, faults=[{"kind": "reclaim", "at": "1s", "share": "50%", "replica": "any"}])
    with pytest.raises(StudyError, match="replica: found 'all'; allowed: a whole number from 1 on, or \"any\""):
        make_plan(faults=[{"kind": "crash", "at": "1s", "replica": "all"}])
