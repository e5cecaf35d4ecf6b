"""Releases that are judged after their end, and undone then."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import both, make_plan, make_tier
from libramen import Outcome, Service, Trace
from libramen.report.story import sentences

BAD = {"at": "1s", "error_rate": 1.0, "rollback_above": "10%", "watch": "5s", "judge_every": "1s", "judge_least": 3}


def replayed(tier: Any = None, *, every_s: float = 0.5, until_s: float = 20.0, n: int = 2, **release: Any) -> Outcome:
    """Requests of a quarter of a second of CPU work, from 0.25 on; two replicas whose start takes a second."""
    at = np.arange(0.25, until_s, every_s)
    trace = Trace.from_arrays(at_s=at, cpu_s=np.full(len(at), 0.125), span_s=until_s + 5)
    rollouts = [BAD | release] if "rollouts" not in release else release["rollouts"]
    return both(trace, Service(slots=4, start="1s"), make_plan(tier or make_tier(), replicas=n, rollouts=rollouts))


def failed_at(outcome: Outcome) -> list[float]:
    frame = outcome.requests
    return frame["at_s"][frame["ending"] == "errored"].tolist()


def test_a_stop_start_is_undone_after_its_end() -> None:
    """Over at 2. Attempts that end at 2.375, 2.875 and 3.375 fail; they are three at 4, the second judgement. Both stop,
    and the old ones are there at 5."""
    outcome = replayed(strategy="stop_start")
    (update,) = outcome.run.only.updates
    assert (update.result, update.undone_s, update.ended_s, update.judged) == ("undone", 4.0, 5.0, (4, 4))
    assert failed_at(outcome) == [2.25, 2.75, 3.25, 3.75]
    assert [one.version for one in outcome.run.only.replicas] == [1, 1, 2, 2, 1, 1]
    # What comes while nobody is there is refused, twice.
    frame = outcome.requests
    assert frame["at_s"][frame["ending"] == "refused"].tolist() == [1.25, 1.75, 4.25, 4.75]


@pytest.mark.parametrize(("keeps", "result"), [(0, "done"), ("1s", "done"), ("2s", "undone"), (None, "undone")])
def test_for_as_long_as_it_is_looked_at(keeps: Any, result: str) -> None:
    """Judged at 3, when two have failed, and at 4 = end + 2, which belongs to the two seconds."""
    values = {} if keeps is None else {"keep_judging": keeps}
    outcome = replayed(strategy="stop_start", **values)
    assert outcome.run.only.updates[0].result == result
    assert (len(failed_at(outcome)) > 10) == (result == "done")


def test_after_a_switch_the_new_ones_serve_until_the_old_ones_are_ready() -> None:
    """Two new ones beside the old at 1, ready at 2: all traffic goes to them, and the old ones are gone. Judged wanting
    at 4; two of the old version are ordered, ready at 5, and everything goes to them."""
    outcome = replayed(strategy="switch")
    (update,) = outcome.run.only.updates
    assert (update.result, update.undone_s, update.ended_s) == ("undone", 4.0, 5.0)
    assert failed_at(outcome) == [2.25, 2.75, 3.25, 3.75, 4.25, 4.75]
    assert outcome.endings["refused"] == 0
    last = outcome.run.only.replicas[4:]
    assert [(one.version, one.ordered_s, one.ready_s) for one in last] == [(1, 4.0, 5.0), (1, 4.0, 5.0)]


def test_a_canary_that_is_over_too() -> None:
    """A step that is over before three have failed: all traffic at 4, over; judged at 7 = first replica + 5."""
    outcome = replayed(strategy="canary", steps=[{"share": "50%", "hold": "1s"}], watch="3s", judge_least=6)
    (update,) = outcome.run.only.updates
    assert update.result == "undone"
    assert update.undone_s is not None
    assert update.undone_s > 4
    assert failed_at(outcome)[-1] < update.undone_s + 1


def test_what_does_not_fit_is_not_undone() -> None:
    """Beside a fleet of two that a rule has made three, there is no room for three more: the tier has four."""
    tier = make_tier(replicas={"least": 1, "most": 4})
    scaling = {"rule": "target", "measure": "rate", "target": 0.7, "every": "1s", "floor": 2, "ceiling": 3}
    at = np.concatenate([np.arange(0.25, 2, 1.0), np.arange(2.25, 20, 0.25)])
    trace = Trace.from_arrays(at_s=at, cpu_s=np.full(len(at), 0.0625), span_s=25.0)
    plan = make_plan(tier, replicas=2, scaling=scaling, rollouts=[BAD | {"strategy": "switch", "judge_least": 5}])
    outcome = both(trace, Service(slots=4), plan)
    (update,) = outcome.run.only.updates
    assert update.result == "not_undone"
    (said,) = (line for line in sentences(outcome) if "not undone" in line)
    assert said.endswith("had failed. It was not undone, since twice the fleet is more than the tier allows.")


def test_the_next_release_ends_it() -> None:
    """The second release begins at 3, before the first could be judged; it is good, and not judged."""
    good = {"at": "3s", "strategy": "stop_start"}
    outcome = replayed(rollouts=[BAD | {"strategy": "stop_start"}, good])
    assert [update.result for update in outcome.run.only.updates] == ["done", "done"]
    assert failed_at(outcome) == [2.25, 2.75]


def test_a_release_of_nobody_is_judged_from_its_first_replica_on() -> None:
    """With nobody there the release is over at once; a replica comes with the first request, at 8.25, and fails."""
    at = np.arange(8.25, 20, 0.5)
    trace = Trace.from_arrays(at_s=at, cpu_s=np.full(len(at), 0.125), span_s=25.0)
    tier = make_tier(holds_requests=True)
    scaling = {"rule": "on_arrival", "floor": 0, "ceiling": 2, "idle": "10m"}
    plan = make_plan(tier, replicas=0, scaling=scaling, rollouts=[BAD | {"strategy": "rolling", "keep": 0}])
    outcome = both(trace, Service(slots=4), plan)
    (update,) = outcome.run.only.updates
    assert (update.result, update.undone_s) == ("undone", 10.25)
    assert failed_at(outcome) == [8.25, 8.75, 9.25, 9.75]


def test_a_release_after_one_that_was_undone_after_its_end() -> None:
    """The first switch is undone from 4 to 5. The canary at 8 is good: from 9 to 13 its one new replica has every
    second request, then all have gone to the new ones."""
    bad = BAD | {"strategy": "switch"}
    good = {"at": "8s", "strategy": "canary", "steps": [{"share": "50%", "hold": "4s"}]}
    outcome = replayed(rollouts=[bad, good])
    assert [update.result for update in outcome.run.only.updates] == ["undone", "done"]
    assert failed_at(outcome) == [2.25, 2.75, 3.25, 3.75, 4.25, 4.75]
    assert [one.version for one in outcome.run.only.replicas] == [1, 1, 2, 2, 1, 1, 3, 3]
    frame = outcome.requests
    held = frame["replica"][(frame["at_s"] > 9) & (frame["at_s"] < 13)].tolist()
    assert [number == 7 for number in held] == [False, True] * 4
    assert set(frame["replica"][frame["at_s"] > 14]) <= {7, 8}
