"""What holds of every release and every fault, whatever the fleet."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from hypothesis import given, strategies as st

from builders import make_plan, make_tier, make_trace
from libramen import Outcome, Service, replay
from troubles import ZONES, faults, rollouts, tiers

if TYPE_CHECKING:
    from libramen.engine.replica import Stage


def _replayed(n: int, *, tier: Any = None, **plan: Any) -> Outcome:
    """A request every half second for 400 s, whose work is at most 0.9 s."""
    rng = np.random.default_rng(n)
    at = np.arange(0.0, 400.0, 0.5)
    trace = make_trace(at.tolist(), cpu=rng.uniform(0, 0.4, len(at)), wait=rng.uniform(0, 0.5, len(at)), span_s=400)
    service = Service(slots=3, start={"p50": 2, "p95": 5}, timeout=3, retries=1, drain=5)
    return replay(trace, service, make_plan(make_tier(**(tier or {})), replicas=n, **plan))


def _number(outcome: Outcome, *stages: Stage) -> np.ndarray:
    """Replicas in these stages just after each change."""
    instants = sorted({at_s for replica in outcome.run.only.replicas for at_s, _ in replica.stages})
    lives = [life for replica in outcome.run.only.replicas for life in replica.times(*stages)]
    return np.array([sum(from_s <= at_s < to_s for from_s, to_s in lives) for at_s in instants])


@given(st.integers(1, 5), st.integers(1, 3), st.integers(0, 3), st.integers(0, 5), st.booleans())
def test_a_rolling_release_keeps_and_spares(n: int, batch: int, spare: int, keep: int, in_place: bool) -> None:
    keep = min(keep, n if spare else n - 1)
    release = {"at": 100, "strategy": "rolling", "batch": batch, "spare": spare, "keep": keep, "in_place": in_place}
    outcome = _replayed(n, rollouts=[release])
    assert _number(outcome, "ready").min() >= keep
    assert _number(outcome, "coming", "ready", "draining").max() <= n + spare
    assert [update.result for update in outcome.run.only.updates] == ["done"]


@given(st.integers(1, 4), st.data())
def test_a_release_ends_with_one_version_and_as_many_replicas(n: int, data: st.DataObject) -> None:
    """Undone ones with the old version, all others with the new one; nothing is lost by the way."""
    release = data.draw(rollouts(400, n, fixed=True)) | {"at": 50}
    release.pop("crashes_after", None)
    outcome = _replayed(n, rollouts=[release])
    (update,) = outcome.run.only.updates
    there = [replica for replica in outcome.run.only.replicas if replica.gone_s is None]
    assert update.result in {"done", "undone"}
    assert {replica.version for replica in there} == {1 if update.result == "undone" else 2}
    assert len(there) == n
    assert sum(outcome.endings.values()) == 800
    if release["strategy"] in {"switch", "canary"} and not release.get("error_rate"):
        assert _number(outcome, "ready").min() >= n


@given(st.integers(2, 5), st.data())
def test_the_fleet_comes_back(n: int, data: st.DataObject) -> None:
    """After faults that end, whatever they were, there are as many as before, or on their way."""
    tier = data.draw(tiers()) | {"provision": 3}
    tier.pop("reclaimed_every", None)
    struck = [
        data.draw(faults(200, interruptible=bool(tier.get("interruptible"))))
        for _ in range(data.draw(st.integers(1, 4)))
    ]
    struck = [fault | ({"at": 60, "every_about": None} if "every_about" in fault else {}) for fault in struck]
    struck = [fault | ({"lasts": 10} if fault["kind"] == "zone_loss" else {}) for fault in struck]
    outcome = _replayed(n, tier=tier, faults=struck)
    there = [r for r in outcome.run.only.replicas if r.stage in {"coming", "ready"} and not r.is_lost]
    assert len(there) == n
    assert {replica.zone for replica in outcome.run.only.replicas} <= set(ZONES)
    assert sum(outcome.endings.values()) == 800
    # Nobody is paid for before he was there, or after his machine was lost.
    paid = outcome.fleet["paid_s"].to_numpy()
    lives = [400 if r.gone_s is None else min(400.0, r.gone_s) for r in outcome.run.only.replicas]
    assert (paid >= 0).all()
    assert (paid <= np.array(lives) - [min(400.0, r.ordered_s) for r in outcome.run.only.replicas] + 1e-9).all()


@given(st.integers(1, 4), st.data())
def test_what_has_no_effect_changes_nothing(n: int, data: st.DataObject) -> None:
    """A fault that is left out is as if it had never been in the plan, those at random too."""
    struck = [data.draw(faults(200, interruptible=False)) for _ in range(2)]
    whole = _replayed(n, tier={"zones": ZONES}, faults=struck)
    kinds = [("service", "at_random", fault["kind"]) for fault in struck if "every_about" in fault]
    times = [("service", "faults", place) for place, fault in enumerate(struck) if "every_about" not in fault]
    without, plain = whole.without(*kinds, *times), _replayed(n, tier={"zones": ZONES})
    np.testing.assert_array_equal(without.run.results.records, plain.run.results.records)
    assert not without.run.only.faults
