"""Releases that are undone since their version is slower, by hand, on both data planes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import both, make_plan, make_tier
from libramen import Outcome, Service, StudyError, Trace
from libramen.report.story import sentences

SLOW = {
    "strategy": "stop_start",
    "at": "1s",
    "cpu_factor": 4,
    "rollback_slower": 3,
    "watch": "5s",
    "judge_every": "1s",
    "judge_least": 3,
}


def replayed(*, faults: tuple[Any, ...] = (), tier: Any = None, service: Any = None, **release: Any) -> Outcome:
    """Requests of an eighth of a second of CPU work, two a second from 0.25 on; two replicas, whose start takes a second."""
    at = np.arange(0.25, 20.0, 0.5)
    trace = Trace.from_arrays(at_s=at, cpu_s=np.full(len(at), 0.125), span_s=25.0)
    plan = make_plan(tier or make_tier(), replicas=2, rollouts=[SLOW | release], faults=list(faults))
    return both(trace, Service(slots=4, start="1s", **(service or {})), plan)


def what_became(outcome: Outcome) -> tuple[str, float | None, tuple[float, float] | None]:
    (update,) = outcome.run.only.updates
    return update.result, update.undone_s, update.slower


def test_a_slower_version_is_undone() -> None:
    """Over at 2. Its requests of 2.25, 2.75 and 3.25 take half a second: three have ended at 4, the second judgement.
    Of the old version two have in the five seconds before, which is too few: those before the release took an eighth."""
    outcome = replayed()
    assert what_became(outcome) == ("undone", 4.0, (0.5, 0.125))
    took_s = outcome.requests["latency_s"][outcome.requests["ending"] == "ok"].tolist()
    assert took_s == [0.125] * 2 + [0.5] * 4 + [0.125] * 30
    said = " ".join(sentences(outcome))
    assert "was undone at 4 s after the start: the p95 of the new version was 500 ms, of the old one 125 ms." in said


def test_as_slow_as_is_allowed() -> None:
    """Four times as slow is not more than four times as slow. That an error rate is asked for, too, changes nothing."""
    assert what_became(replayed(rollback_slower=4, rollback_above="10%"))[0] == "done"


def test_it_is_compared_with_the_old_version_of_the_same_time() -> None:
    """From the release on everything is four times as slow, also the old ones that get half of the traffic beside a canary:
    it is not the version. Where the old ones are too few to tell, it is compared with what was before."""
    slow = ({"kind": "slow", "at": "1s", "slower": 4},)
    canary = {"strategy": "canary", "steps": [{"share": "50%", "hold": "10s"}], "cpu_factor": 1, "keep_judging": 0}
    assert what_became(replayed(faults=slow, **canary))[0] == "done"
    assert what_became(replayed(**canary))[0] == "done"
    few = {"strategy": "canary", "steps": [{"share": "100%", "hold": "10s"}], "cpu_factor": 1}
    assert what_became(replayed(faults=slow, **few)) == ("undone", 6.0, (0.5, 0.125))


def test_without_anything_to_compare_with_there_is_no_judgement() -> None:
    assert what_became(replayed(at="0.25s"))[0] == "done"


def test_only_ok_attempts_count() -> None:
    """All fail, and that is nothing that `rollback_slower` looks at; nor is what its client did not wait for."""
    assert what_became(replayed(error_rate=1.0))[0] == "done"
    assert what_became(replayed(service={"timeout": "0.4s"}))[0] == "done"
    both_keys = what_became(replayed(error_rate=1.0, rollback_above="10%"))
    assert both_keys == ("undone", 4.0, None)


def test_overhead_counts() -> None:
    """0.5 against 0.125 is more than three times as slow; 0.7 against 0.325 is not."""
    assert what_became(replayed(tier=make_tier(overhead="0.2s")))[0] == "done"


def test_a_factor_below_one_gets_a_sentence() -> None:
    with pytest.raises(StudyError, match=r"rollback_slower: found 0\.5"):
        make_plan(make_tier(), replicas=2, rollouts=[SLOW | {"rollback_slower": 0.5}])
