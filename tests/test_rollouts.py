"""Releases by hand: each docstring has the arithmetic. Every case runs on both data planes."""

from __future__ import annotations

from typing import Any

import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service


def _release(n: int = 3, *, every: float = 1.0, wait: float = 0.5, provision: float = 0, **rollout: Any) -> Outcome:
    """A fleet of n with a start of 10 s, a request every second that waits 0.5 s, a release at 100."""
    at = [k * every for k in range(int(400 / every))]
    plan = make_plan(make_tier(provision=provision), replicas=n, rollouts=[{"at": 100, **rollout}])
    return both(make_trace(at, wait=wait, span_s=400), Service(slots=9, start=10), plan)


def _lives(outcome: Outcome) -> list[tuple[float, float | None, float | None]]:
    return [(r.ordered_s, r.ready_s, r.gone_s) for r in outcome.run.only.replicas]


def test_stop_start() -> None:
    """All three drain at 100. The request of 100 comes after that and is refused; nobody is inside, so all are gone at
    100, three start on their machines (no provision) and are ready at 110: the ten requests of 100..109 are refused."""
    outcome = _release(strategy="stop_start", provision=50)
    assert _lives(outcome) == [(0, 0, 100)] * 3 + [(100, 110, None)] * 3
    assert outcome.endings["refused"] == 10
    assert [(u.began_s, u.ended_s, u.replicas, u.mixed_s) for u in outcome.run.only.updates] == [(100, 110, 3, 0)]


def test_stop_start_on_new_machines() -> None:
    """in_place = false: 50 s of provision come before the 10 s of start."""
    outcome = _release(strategy="stop_start", in_place=False, provision=50)
    assert _lives(outcome)[3:] == [(100, 160, None)] * 3
    assert outcome.endings["refused"] == 60


def test_stop_start_waits_for_what_is_inside() -> None:
    """Waits of 1.5 s every second: at 100 the one of 99 is inside its replica until 100.5. Only then do all start."""
    outcome = _release(strategy="stop_start", wait=1.5)
    assert [r.ready_s for r in outcome.run.only.replicas[3:]] == [110.5] * 3


def test_rolling_one_at_a_time() -> None:
    """spare 1, keep all of 3: #4 ordered at 100 is ready at 110; then #1 drains and is gone at once (the request of 110
    comes after). The next round begins at 110: #5 ready at 120, #2 goes; #6 ready at 130, #3 goes. Mixed 110..130."""
    outcome = _release(strategy="rolling")
    assert _lives(outcome) == [
        (0, 0, 110),
        (0, 0, 120),
        (0, 0, 130),
        (100, 110, None),
        (110, 120, None),
        (120, 130, None),
    ]
    assert outcome.endings["ok"] == 400
    assert [(u.ended_s, u.mixed_s) for u in outcome.run.only.updates] == [(130, 20)]
    assert outcome.replicas_min == 3


def test_rolling_without_spare_takes_one_away() -> None:
    """spare 0, keep 2 of 3: #1 goes at 100, #4 takes over its machine (in place: 10 s, else 10 + 50 s), and so on."""
    outcome = _release(strategy="rolling", spare=0, keep=2, provision=50, in_place=True)
    assert _lives(outcome)[3:] == [(100, 110, None), (110, 120, None), (120, 130, None)]
    assert outcome.replicas_min == 2
    outcome = _release(strategy="rolling", spare=0, keep=2, provision=50)
    assert _lives(outcome)[3:] == [(100, 160, None), (160, 220, None), (220, 280, None)]


def test_rolling_in_batches() -> None:
    """batch 2, spare 0, keep half of 4 (2): #1 and #2 go at 100; #5 and #6 are ready at 110, then #3, #4 go, ready at 120."""
    outcome = _release(4, strategy="rolling", batch=2, spare=0, keep="50%")
    assert _lives(outcome)[:4] == [(0, 0, 100)] * 2 + [(0, 0, 110)] * 2
    assert _lives(outcome)[4:] == [(100, 110, None)] * 2 + [(110, 120, None)] * 2


def test_a_draining_replica_counts_until_it_is_gone() -> None:
    """Waits of 30 s on two replicas, one request to each at 95 (the rest come later): spare 0, keep 1. #1 drains at 100
    and is gone at 125; until then there are n = 2, so #3 is ordered at 125, ready at 135; then #2 has long been empty."""
    plan = make_plan(replicas=2, rollouts=[{"at": 100, "strategy": "rolling", "spare": 0, "keep": 1}])
    outcome = both(make_trace([95, 95], wait=30, span_s=400), Service(slots=9, start=10), plan)
    assert _lives(outcome) == [(0, 0, 125), (0, 0, 135), (125, 135, None), (135, 145, None)]


def test_the_last_round_uses_its_spare_too() -> None:
    """n 3, batch 2, spare 2, keep 3. Round 1 orders #4, #5 (ready 110), then drains #1, #2 (gone 110). Round 2 orders the
    one that is missing, #6 (ready 120), and drains #3: three new ones, never more."""
    outcome = _release(strategy="rolling", batch=2, spare=2)
    assert _lives(outcome) == [(0, 0, 110)] * 2 + [(0, 0, 120)] + [(100, 110, None)] * 2 + [(110, 120, None)]


def test_a_second_release_waits_for_the_first() -> None:
    """Due at 100 and at 105, one replica, spare 1: the first is over at 110, the second runs 110..120."""
    rollouts = [{"at": 105, "strategy": "rolling"}, {"at": 100, "strategy": "rolling"}]
    outcome = both(
        make_trace([0, 390], wait=1, span_s=400),
        Service(slots=1, start=10),
        make_plan(replicas=1, rollouts=rollouts),
    )
    assert [(u.due_s, u.began_s, u.ended_s) for u in outcome.run.only.updates] == [
        (105, 110, 120),
        (100, 100, 110),
    ]
    assert [r.version for r in outcome.run.only.replicas] == [1, 2, 3]


def test_an_update_holds_the_rule() -> None:
    """The floor of 2 orders #2 at 30, ready at 50. The release at 100 runs until 100 + 20 + 20 = 140 (one at a time), so
    the decision at 120 is held back, and those at 90 and 150 are not."""
    rule = {
        "rule": "target",
        "measure": "cpu",
        "target": 0.5,
        "every": 30,
        "floor": 2,
        "ceiling": 4,
        "lag": 80,
    }
    plan = make_plan(replicas=1, scaling=rule, rollouts=[{"at": 100, "strategy": "rolling"}])
    outcome = both(make_trace([0, 390], wait=1, span_s=400), Service(slots=1, start=20), plan)
    held = {d.at_s: d.held_by for d in outcome.run.only.decisions}
    assert outcome.run.only.updates[0].ended_s == 140
    assert [held[at] == "update" for at in (90, 120, 150)] == [False, True, False]
    assert [r.why for r in outcome.run.only.replicas] == ["start", "scaling", "update", "update"]


def test_what_is_coming_at_a_release_is_cancelled_and_counted() -> None:
    """Decisions at 95, 190, ...: one request of 1 s in 95 passes 0.01, so #2 is ordered at 95, and on its way at 100."""
    rule = {"rule": "steps", "measure": "in_progress", "up": [{"above": 0.01, "add": 1}], "every": 95, "ceiling": 4}
    plan = make_plan(replicas=1, scaling=rule, rollouts=[{"at": 100, "strategy": "rolling"}])
    outcome = both(make_trace([0, 390], wait=1, span_s=400), Service(slots=1, start=20), plan)
    # n = 2 and at most 3 at once: batch 1 orders #3 at 100; keep is 2 and one is ready, so nothing drains yet.
    # At 120 two are ready: still not more than keep; the next round orders #4, ready at 140, and drains #1.
    assert _lives(outcome) == [(0, 0, 140), (95, None, 100), (100, 120, None), (120, 140, None)]
    assert [(u.replicas, u.began_s, u.ended_s) for u in outcome.run.only.updates] == [(2, 100, 140)]


def test_a_release_of_nothing_comes_with_the_next_order() -> None:
    plan = make_plan(
        replicas=0, scaling={"rule": "on_arrival", "idle": 50}, rollouts=[{"at": 100, "strategy": "stop_start"}]
    )
    outcome = both(make_trace([390], wait=1, span_s=400), Service(slots=1), plan)
    assert [(r.version, r.ordered_s) for r in outcome.run.only.replicas] == [(2, 390)]
    assert outcome.run.only.updates[0].replicas == 0


@pytest.mark.parametrize(("at", "due"), [("quietest 2m", 120.0), ("2m", 120.0), (0, 0.0)])
def test_when_a_release_is_due(at: object, due: float) -> None:
    """Arrivals in minutes 0, 1 and 4, and a fourth and fifth minute: minutes 2 and 3 are the quietest two."""
    plan = make_plan(replicas=2, rollouts=[{"at": at, "strategy": "stop_start"}])
    outcome = both(make_trace([1, 61, 241, 301], wait=1, span_s=360), Service(slots=1), plan)
    assert outcome.run.only.updates[0].due_s == due


def test_a_replica_that_has_died_is_cancelled_at_its_turn() -> None:
    """Two of 100 MB and 50 MB a request in 200 MB, so the third request in one kills it; start is 100 s. The release at 10 orders
    a third, ready at 110; nothing may drain meanwhile, since `keep` asks for two. At 20 five requests come: 1 gets three and dies,
    to be ready again at 120. But it is the lowest old one, so it is its turn: cancelled at once, though `keep` asks for two. At 110
    the first round is over, and a fourth is ordered, ready at 210, when 2 may drain."""
    size = {"cores": 8, "per_hour": 1, "memory": "200 MB"}
    service = Service(slots=8, start=100, memory_base="100 MB", memory_per_request="50 MB")
    plan = make_plan(make_tier(sizes={"s": size}), replicas=2, rollouts=[{"at": 10, "strategy": "rolling"}])
    outcome = both(make_trace([20.0] * 5, wait=5, span_s=400), service, plan)
    first, second, third, fourth = outcome.run.only.replicas
    assert first.stages == [(0, "coming"), (0, "ready"), (20, "coming"), (20, "gone")]
    assert second.times("draining", "gone")[0][0] == 210
    assert (third.ready_s, fourth.ordered_s, fourth.ready_s) == (110, 110, 210)
    assert outcome.run.only.updates[0].ended_s == 210


def test_a_dead_replica_that_nobody_has_missed_yet_is_gone_at_once_when_drained() -> None:
    """As above with one replica, 50 s until a death is noticed, and a stop_start at 25: what died at 20 is gone at 25, and
    a new one begins on its machine: ready at 25 + 100."""
    size = {"cores": 8, "per_hour": 1, "memory": "200 MB"}
    service = Service(slots=8, start=100, memory_base="100 MB", memory_per_request="50 MB")
    tier = make_tier(sizes={"s": size}, detect=50, provision=30)
    plan = make_plan(tier, rollouts=[{"at": 25, "strategy": "stop_start"}])
    outcome = both(make_trace([20.0] * 3 + [22, 30], wait=5, span_s=400), service, plan)
    assert outcome.run.only.replicas[0].stages[-2:] == [(25, "draining"), (25, "gone")]
    assert outcome.run.only.replicas[1].ready_s == 125
    assert list(outcome.requests["ending"]) == ["lost"] * 4 + ["refused"]


def test_a_release_goes_on_while_requests_are_held() -> None:
    """The only replica of a tier that holds requests is replaced, all at once, from 100 to 110: the ten that come
    meanwhile wait for the new one, and nothing is refused."""
    plan = make_plan(make_tier(holds_requests=True), rollouts=[{"at": 100, "strategy": "stop_start"}])
    outcome = both(make_trace([float(k) for k in range(200)], wait=0.5, span_s=300), Service(slots=20, start=10), plan)
    assert outcome.endings["ok"] == 200
    assert outcome.run.results.queued_s[100:110].tolist() == [10, 9, 8, 7, 6, 5, 4, 3, 2, 1]
