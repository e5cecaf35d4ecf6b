"""Lent CPU, warm-up, memory, death and balancers, by hand. Each case runs on both data planes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service, Size, Tier, replay
from libramen.base.errors import StudyError
from libramen.engine.control.placement import InTurn


def _latencies(outcome: Outcome) -> list[float]:
    return [pytest.approx(latency, abs=1e-9) for latency in outcome.run.results.latency_s]


def _lending(**values: Any) -> Tier:
    return make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "steady_cores": 0.25, "bank": 3, **values}})


def test_lent_cpu_runs_out() -> None:
    """A bank of 3 core-seconds, full; it earns 0.25 a second and one request uses 1: it falls by 0.75 a second and is
    empty after 4 s. Work of 6: 4 done by then, the other 2 at a quarter: 8 s more. The replica used 6 cores-seconds."""
    outcome = both(make_trace([0], cpu=6, span_s=24), Service(slots=2), make_plan(_lending()))
    assert _latencies(outcome) == [12]
    assert outcome.utilisation == pytest.approx(6 / 24)


def test_a_bank_fills_while_nobody_works_and_never_above_its_size() -> None:
    """It begins with 0 and earns 0.25 a second. Work of 1 at 4: the bank has 1, and 1 - 0.75 is left when it is done
    at 5. By 20 it would have 0.25 + 0.25 * 15 = 4, but holds 3: a request of 5 there runs 4 s at full speed, 1 at a quarter: 8 s."""
    tier = _lending(bank_at_start=0)
    outcome = both(make_trace([4, 20], cpu=[1, 5], span_s=40), Service(slots=1), make_plan(tier))
    assert _latencies(outcome) == [1, 8]


def test_with_an_empty_bank_the_cores_are_shared_all_the_same() -> None:
    """Two requests of 1 on one core with nothing in the bank: 0.25 core between them, so 0.125 each: 8 s. A third at 0 with a
    bank of 1 in a size of 2 cores that earns 1.5: two run, using 2, so it falls by 0.5 a second and lasts 2 s."""
    outcome = both(make_trace([0, 0], cpu=1, span_s=20), Service(slots=2), make_plan(_lending(bank_at_start=0)))
    assert _latencies(outcome) == [8, 8]
    tier = _lending(cores=2, steady_cores=1.5, bank_at_start=1)
    # 2 of 5 done each at full speed by 2, then 0.75 each: 3 / 0.75 = 4 s more.
    outcome = both(make_trace([0, 0], cpu=5, span_s=20), Service(slots=2), make_plan(tier))
    assert _latencies(outcome) == [6, 6]


def test_a_cold_replica_is_slower_and_warms_up() -> None:
    """The first fleet is warm: work of 1 takes 1. The new one of the release at 10 is ready at 10 and needs 3 times the
    work at age 0, 1 + 2 * (1 - 2 / 4) = 2 times at age 2 (when the first is not yet done: its own slot), 1 time from age 4."""
    service = Service(slots=9, warm_up=4, warm_up_factor=3)
    tier = make_tier(cores=9)
    trace = make_trace([0, 10, 12, 14, 15], cpu=1, span_s=30)
    outcome = both(trace, service, make_plan(tier, rollouts=[{"at": "10s", "strategy": "stop_start"}]))
    assert _latencies(outcome) == [1, 3, 2, 1, 1]


def _remembering(**values: Any) -> tuple[Service, Tier]:
    """100 MB and 50 MB a request in 200 MB: two fit, a third kills."""
    service = Service(slots=8, start=2, memory_base="100 MB", memory_per_request="50 MB")
    return service, make_tier(sizes={"s": {"cores": 8, "per_hour": 1, "memory": "200 MB"}}, **values)


def test_one_request_too_many_kills_the_replica() -> None:
    """Two are in it; the third at 1 kills it, and all three are lost. detect = 0: it starts again at once and is ready
    at 1 + 2 = 3. At 2 nobody is ready: refused. At 3.5 it serves."""
    service, tier = _remembering()
    outcome = both(make_trace([0, 0, 1, 2, 3.5], cpu=5, span_s=20), service, make_plan(tier))
    assert list(outcome.requests["ending"]) == ["lost", "lost", "lost", "refused", "ok"]
    assert outcome.run.results.latency_s.tolist() == [1, 1, 0, 0, 5]
    assert outcome.run.only.replicas[0].times("ready") == [(0, 1), (3, np.inf)]
    assert [death.to_dict() for death in outcome.run.only.deaths] == [{"at_s": 1, "replica": 1, "why": "out_of_memory"}]
    assert outcome.fleet["deaths"].tolist() == [1]
    assert outcome.cold_starts == 0


def test_until_a_death_is_detected_requests_are_still_sent_there() -> None:
    """Two replicas, detect = 1. At 1 the third and fourth of replica 1... all go in turn to the least busy: 1, 2, 1, 2 at 0; the
    fifth at 1 kills replica 1, which then looks empty: the sixth at 1.5 is sent there and lost at once. From 2 on it is out, and
    the next goes to 2 and kills that too (looking for room in its memory). Ready again at 1 + 2 = 3, paid all the time."""
    service, tier = _remembering(detect=1)
    outcome = both(make_trace([0, 0, 0, 0, 1, 1.5, 2, 4], cpu=9, span_s=20), service, make_plan(tier, replicas=2))
    endings = outcome.requests["ending"].tolist()
    assert endings == ["lost", "lost", "lost", "lost", "lost", "lost", "lost", "ok"]
    assert outcome.requests["replica"].tolist() == [1, 2, 1, 2, 1, 1, 2, 1]
    assert outcome.run.only.replicas[0].times("ready") == [(0, 2), (3, np.inf)]
    assert outcome.run.only.replicas[1].times("ready") == [(0, 3), (4, np.inf)]
    assert outcome.paid_s == 40


def test_held_requests_can_kill_the_replica_that_they_waited_for() -> None:
    """Nothing is ready until 2; four are held by then. Two fit, the third kills the new replica with its two. It starts again at
    once, is ready at 2 + 2 = 4, and serves the fourth."""
    service, tier = _remembering(provision=0, holds_requests=True)
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": 1, "floor": 1}
    outcome = both(make_trace([0, 0, 0, 0], cpu=1, span_s=9), service, make_plan(tier, replicas=0, scaling=rule))
    assert outcome.requests["ending"].tolist() == ["lost", "lost", "lost", "ok"]
    assert outcome.run.results.latency_s.tolist() == [2, 2, 2, 5]


def test_a_bank_stands_still_while_its_replica_is_down() -> None:
    """A bank of 3, earning 0.25. Two requests use the one core from 0 to 2, so it has 3 - 1.5 = 1.5 when the third kills the replica.
    Ready again at 4 with 1.5: a request of 3 there falls by 0.75 a second, runs 2 s, then the last 1 at a quarter: 6 s."""
    size = {"cores": 1, "per_hour": 1, "memory": "200 MB", "steady_cores": 0.25, "bank": 3}
    service, _ = _remembering()
    outcome = both(make_trace([0, 0, 2, 4], cpu=3, span_s=30), service, make_plan(make_tier(sizes={"s": size})))
    assert outcome.requests["ending"].tolist() == ["lost", "lost", "lost", "ok"]
    assert outcome.run.results.latency_s[-1] == pytest.approx(6)


def test_the_shared_queue_gives_a_request_to_whoever_is_free_first() -> None:
    """Two replicas of one slot; work 3, 1, 1, 1. With a queue of their own (round robin) the third waits behind the long one until 3.
    With one queue the third takes the slot of 2 at 1, the fourth at 2."""
    trace, service = make_trace([0, 0, 0, 0], cpu=[3, 1, 1, 1], span_s=9), Service(slots=1)
    own = both(trace, service, make_plan(replicas=2, balancer="round_robin"))
    assert own.run.results.latency_s.tolist() == [3, 1, 4, 2]
    shared = both(trace, service, make_plan(replicas=2, balancer="shared_queue"))
    assert shared.run.results.latency_s.tolist() == [3, 1, 2, 3]
    assert shared.requests["replica"].tolist() == [1, 2, 2, 2]
    limited = both(trace, service, make_plan(make_tier(queue_limit=1), replicas=2, balancer="shared_queue"))
    assert limited.requests["ending"].tolist() == ["ok", "ok", "ok", "refused"]


@pytest.mark.parametrize("balancer", ["random", "two_choices"])
def test_random_balancers_spread_evenly_and_depend_on_the_seed_alone(balancer: str) -> None:
    """9000 requests that never meet, on 9 replicas: 1000 each, with a standard deviation of at most 30."""
    trace = make_trace(list(np.arange(9000.0)), cpu=0.5, span_s=9000)
    plan = make_plan(replicas=9, balancer=balancer)
    first, same, other = (replay(trace, Service(slots=1), plan, seed=seed) for seed in (1, 1, 2))
    counts = np.bincount(first.run.results.replica, minlength=10)[1:]
    if balancer == "random":
        assert np.abs(counts - 1000).max() < 120
    else:  # of two idle ones that which was drawn first
        assert np.abs(counts - 1000).max() < 5 * 30
    assert (first.run.results.replica == same.run.results.replica).all()
    assert (first.run.results.replica != other.run.results.replica).mean() > 0.5


def test_mistakes_about_lent_cpu_and_memory() -> None:
    with pytest.raises(StudyError, match="bank is missing; steady_cores needs it"):
        Size(cores=1, steady_cores=0.2)
    with pytest.raises(StudyError, match=r"bank_at_start = 9 is above bank = 3"):
        Size(cores=1, steady_cores=0.2, bank=3, bank_at_start=9)
    with pytest.raises(StudyError, match="memory: found 'a lot'; allowed: a size such as"):
        Size(cores=1, memory="a lot")


def test_who_earns_more_than_all_cores_is_never_short() -> None:
    """An empty bank at the start, but 1.5 cores earned of 1: two requests of 2 s share the core, and nothing is throttled. Earning
    0.5 of 1 the same takes 8 s, and the replica is short for as long as anything runs."""
    for steady, latency, short in ((1.5, 4, 0), (0.5, 8, 8)):
        size = {"cores": 1, "per_hour": 1, "steady_cores": steady, "bank": 6, "bank_at_start": 0}
        outcome = both(make_trace([0, 0], cpu=2, span_s=20), Service(slots=2), make_plan(make_tier(sizes={"s": size})))
        assert outcome.run.results.latency_s.tolist() == [latency, latency]
        assert outcome.run.only.integrals[-1, 3] == short


def test_replicas_go_to_the_zones_in_turn_and_a_closed_one_is_left_out() -> None:
    placement = InTurn(("east", "west", "north"))
    assert [placement.zone_of(number) for number in (1, 2)] == ["east", "west"]
    placement.close("north")
    assert [placement.zone_of(number) for number in (3, 4, 5)] == ["east", "west", "east"]
    placement.open("north")
    assert [placement.zone_of(number) for number in (6, 7)] == ["west", "north"]
    for zone in ("east", "west", "north"):
        placement.close(zone)
    assert placement.zone_of(8) is None
