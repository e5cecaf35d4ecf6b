"""What a machine does between the notice that it is taken back and its end, by hand, on both data planes."""

from __future__ import annotations

from typing import Any

import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service, StudyError

NOTICE = {"kind": "reclaim", "at": 10, "replica": 1}


def _steady(
    *faults: dict[str, Any],
    n: int = 1,
    tier: dict[str, Any] | None = None,
    service: dict[str, Any] | None = None,
    **plan: Any,
) -> Outcome:
    """Ten requests a second for 200 s, each of a twentieth; a minute of provision, two of notice."""
    trace = make_trace([k / 10 for k in range(2000)], wait=0.05, span_s=200)
    sold = make_tier(**{"provision": 60, "interruptible": True, "notice": 120} | (tier or {}))
    return both(trace, Service(slots=9, **(service or {})), make_plan(sold, replicas=n, faults=list(faults), **plan))


def _lives(outcome: Outcome) -> list[tuple[float | None, ...]]:
    """When each was ordered, was ready, began to drain, and was gone."""
    return [(r.ordered_s, r.ready_s, r.draining_s, r.gone_s) for r in outcome.run.only.replicas]


def test_a_machine_under_notice_serves_until_another_is_ready() -> None:
    """The notice comes at 10, another one is there at 70, and the end would be at 130: nothing is lost. Draining from 10 on,
    there is nobody for a minute: 600 requests are refused."""
    found = _steady(NOTICE)
    assert found.endings["ok"] == 2000
    assert _lives(found) == [(0, 0, 70, pytest.approx(70)), (10, 70, None, None)]
    found = _steady(NOTICE, tier={"on_notice": "drain"})
    assert (found.endings["ok"], found.endings["refused"]) == (1400, 600)


def test_it_drains_in_time_where_the_service_says_how_long_that_takes() -> None:
    """Notice of 50 s, and a drain of 30: it takes requests until 30, and another one is there at 70."""
    found = _steady(NOTICE | {"notice": 50}, service={"drain": 30})
    assert _lives(found) == [(0, 0, 30, pytest.approx(30)), (10, 70, None, None)]
    assert found.endings["refused"] == 400
    # Without it, it takes them to its end at 60, when nothing is in it that arrived before.
    assert _steady(NOTICE | {"notice": 50}).endings["refused"] == 100


def test_what_is_in_it_is_cut_at_its_end_though_it_has_a_longer_drain() -> None:
    """Drained by the rule at 5 with 100 s to go; the notice of 10 ends that at 30. It is not replaced."""
    trace = make_trace([1.0, 1.0], wait=150.0, span_s=200)
    sold = make_tier(interruptible=True, notice=20)
    rule = {"rule": "fixed", "timetable": [{"at": "06:00", "floor": 2}, {"at": "07:00:05", "floor": 1, "ceiling": 1}]}
    trace = make_trace([1.0, 1.0], wait=150.0, span_s=200, start="2031-06-05T07:00:00", time_zone="Europe/Lisbon")
    plan = make_plan(sold, replicas=2, scaling=rule, faults=[NOTICE | {"replica": 2}])
    found = both(trace, Service(slots=1, drain=100), plan)
    assert _lives(found) == [(0, 0, None, None), (0, 0, 5, 30)]
    assert found.requests["ending"].tolist() == ["ok", "cut"]


def test_no_rule_counts_it_and_none_drains_it() -> None:
    """Floor and ceiling are 2. It has 2 at every decision: 3 are there while the second one is coming, and from 70 on."""
    rule = {"rule": "target", "measure": "in_progress", "target": 0.25, "floor": 2, "ceiling": 2, "every": 20}
    found = _steady(NOTICE, n=2, scaling=rule)
    assert [(d.ready, d.coming, d.leaving, d.have) for d in found.run.only.decisions][:4] == [
        (2, 1, 1, 2),
        (2, 1, 1, 2),
        (2, 1, 1, 2),
        (2, 0, 0, 2),
    ]
    assert not any(decision.acted for decision in found.run.only.decisions)


def test_an_idle_one_under_notice_is_not_drained_for_that() -> None:
    """One request at 0: idle for 5 s at 5.05, and the floor of 1 keeps it. Under notice from 10 on it does not count, and
    is drained at 70 for its replacement's sake, which is idle then and the last."""
    trace = make_trace([0.0, 199.0], wait=0.05, span_s=200)
    sold = make_tier(provision=60, interruptible=True, notice=120)
    rule = {"rule": "on_arrival", "idle": 5, "floor": 1, "ceiling": 3}
    found = both(trace, Service(slots=9), make_plan(sold, replicas=1, faults=[NOTICE], scaling=rule))
    assert _lives(found) == [(0, 0, 70, 70), (10, 70, None, None)]


def test_the_replacement_of_a_replacement_stands_for_the_first() -> None:
    """#2 is taken back at 20 while it is coming, and gone at once; #3 is ready at 80, when #1 drains."""
    found = _steady(NOTICE, NOTICE | {"at": 20, "replica": 2})
    assert _lives(found) == [(0, 0, 80, pytest.approx(80)), (10, None, None, 20), (20, 80, None, None)]


def test_without_its_replacement_it_serves_to_its_end() -> None:
    """The release cancels #2 at 20 and orders #3, which is ready at 80: it is over then, without #1, which goes at 130."""
    found = _steady(NOTICE, rollouts=[{"at": 20, "strategy": "rolling"}])
    assert _lives(found) == [(0, 0, None, 130), (10, None, None, 20), (20, 80, None, None)]
    (release,) = found.run.only.updates
    assert (release.replicas, release.ended_s) == (1, 80)


def test_one_that_dies_under_notice_is_started_again() -> None:
    """Dead in [30, 35), it drains at 70 as if nothing had been. Dead at 68, it is gone at 70, when it should drain."""
    service = {"start": 5}
    found = _steady(NOTICE, {"kind": "crash", "at": 30}, service=service, tier={"provision": 55, "detect": 9})
    assert _lives(found)[0] == (0, 0, 70, pytest.approx(70))
    assert found.endings["lost"] == 50
    found = _steady(NOTICE, {"kind": "crash", "at": 68}, service=service, tier={"provision": 55, "detect": 9})
    assert _lives(found)[0] == (0, 0, None, 70)
    assert found.endings["lost"] == 20


def test_a_second_notice_moves_the_end_and_orders_nothing() -> None:
    """The first ends at 130, the second at 50: the earlier holds. A third of 500 s changes nothing."""
    found = _steady(NOTICE, NOTICE | {"at": 20, "notice": 30}, NOTICE | {"at": 25, "notice": 500})
    assert _lives(found) == [(0, 0, None, 50), (10, 70, None, None)]
    # Without a number it is the lowest that is not under notice; a share counts those that are.
    found = _steady(NOTICE, {"kind": "reclaim", "at": 20}, n=2)
    assert [r.notice_s for r in found.run.only.replicas] == [130, 140, None, None]
    found = _steady(NOTICE, {"kind": "reclaim", "at": 20, "share": 0.5}, n=3)
    assert [r.notice_s for r in found.run.only.replicas] == [130, 140, None, None, None]


def test_one_under_notice_that_is_lost_with_its_zone_is_not_replaced_again() -> None:
    """#1 is in the east, its replacement #3, too; #4 is ordered in the place of that one alone."""
    loss = {"kind": "zone_loss", "zone": "east", "at": 20, "detect": 0, "lasts": 10}
    found = _steady(NOTICE, loss, n=2, tier={"zones": ["east", "west"]})
    assert [(r.zone, r.ordered_s, r.gone_s) for r in found.run.only.replicas] == [
        ("east", 0, 20),
        ("west", 0, None),
        ("east", 10, 20),
        ("west", 20, None),
    ]


@pytest.mark.parametrize("strategy", ["stop_start", "switch"])
def test_a_release_that_leaves_nothing_behind_drains_it_too(strategy: str) -> None:
    """At 20 #2 is cancelled. A new one is ready at 80; `stop_start` has drained #1 at 20, on whose machine it may not
    be, the switch does at 80."""
    found = _steady(NOTICE, rollouts=[{"at": 20, "strategy": strategy}])
    draining_s = 20 if strategy == "stop_start" else 80
    assert _lives(found) == [
        (0, 0, draining_s, pytest.approx(draining_s, abs=0.1)),
        (10, None, None, 20),
        (20, 80, None, None),
    ]


def test_the_drain_in_time_follows_the_earlier_end() -> None:
    """A drain of 30 s before an end at 130, then at 50: it takes requests until 20 and not until 100."""
    found = _steady(NOTICE, NOTICE | {"at": 15, "notice": 35}, service={"drain": 30}, tier={"provision": 150})
    assert _lives(found)[0] == (0, 0, 20, pytest.approx(20))
    # Known at 15, a drain of 60 s begins at once; the first notice would have it begin at 70.
    found = _steady(NOTICE, NOTICE | {"at": 15, "notice": 35}, service={"drain": 60}, tier={"provision": 150})
    assert _lives(found)[0] == (0, 0, 15, pytest.approx(15))


def test_a_rule_drains_another_one() -> None:
    """#3 is under notice from 10 to 130. At 80 the timetable wants one of the two that count, #1, #2 and what stands for #3:
    three, so #4 and #2 drain, and #3 has, as #4 was ready at 70."""
    entries = [{"at": "06:00", "floor": 3}, {"at": "07:00:40", "floor": 1, "ceiling": 1}]
    trace = make_trace([0.0, 199.0], wait=0.05, span_s=200, start="2031-06-05T07:00:00", time_zone="Europe/Lisbon")
    sold = make_tier(provision=60, interruptible=True, notice=120)
    rule = {"rule": "fixed", "timetable": entries}
    plan = make_plan(sold, replicas=3, faults=[NOTICE | {"replica": 3}], scaling=rule)
    found = both(trace, Service(slots=9), plan)
    # Of four at 40 three count, one of which is coming: it is cancelled, then #2 drains; #3 serves to its end at 130.
    assert _lives(found) == [(0, 0, None, None), (0, 0, 40, 40), (0, 0, None, 130), (10, None, None, 40)]


def test_idle_ones_under_notice_and_the_floor() -> None:
    """Nobody comes after 0. #1 is under notice from 10 on. Of the two that are ready #2 alone counts, so a floor of 1 keeps
    it when it has been idle for 20 s; with a floor of 0 it goes then, and #1, idle as long, does not: it serves until
    its replacement is ready at 70, which goes at 90 itself."""
    trace = make_trace([0.0, 0.0, 199.0], wait=0.0, span_s=200)
    sold = make_tier(provision=60, interruptible=True, notice=120)

    def drained(floor: int) -> list[float | None]:
        rule = {"rule": "on_arrival", "idle": 20, "floor": floor, "ceiling": 3}
        found = both(trace, Service(slots=9), make_plan(sold, replicas=2, faults=[NOTICE], scaling=rule))
        return [r.draining_s for r in found.run.only.replicas[:3]]

    assert drained(1) == [70, 70, None]
    assert drained(0) == [70, 20, 90]


@pytest.mark.parametrize("strategy", ["stop_start", "switch"])
def test_a_new_one_under_notice_is_not_one_that_the_update_wants(strategy: str) -> None:
    """Two are renewed at 10, and in the west there is no stock until 70: #3 is ready at 69, #4 at 129. Called back at 75,
    #3 is nobody that the update waits for any more, but what stands for it is, and that is ready at 134."""
    faults = [
        {"kind": "no_stock", "at": 5, "lasts": 40, "zone": "west"},
        {"kind": "reclaim", "at": 75, "replica": 3, "notice": 100},
    ]
    tier = {"provision": 59, "zones": ["east", "west"], "order_again": 60}
    rollouts = [{"at": 10, "strategy": strategy} | ({"in_place": False} if strategy == "stop_start" else {})]
    found = _steady(*faults, n=2, rollouts=rollouts, tier=tier)
    assert found.run.only.updates[0].ended_s == 134


def test_nothing_is_called_back_where_nothing_may_be() -> None:
    with pytest.raises(StudyError, match="reclaimed_every, notice, on_notice: they need interruptible = true"):
        make_tier(on_notice="drain")


def test_an_order_without_stock_has_no_machine_to_be_called_back() -> None:
    """#3 is called back at 1, and what stands for it is not to be had. A third of the three that have machines is one, and
    #4 has none to be called back."""
    stock = {"kind": "no_stock", "at": 0, "lasts": 100}
    third = {"kind": "reclaim", "at": 10, "share": 0.3333}
    found = _steady(stock, NOTICE | {"at": 1, "replica": 3}, third, NOTICE | {"at": 20, "replica": 4}, n=3)
    assert [r.number for r in found.run.only.replicas if r.is_reclaimed] == [1, 3]
    assert found.run.only.replicas[3].gone_s is None


def test_a_death_that_is_found_at_once_while_one_is_being_found() -> None:
    """The tier finds deaths after 30 s; it dies at 10, works at 12, and dies at 20 with nothing to be found out: out at once."""
    crash = {"kind": "crash", "at": 20, "detect": 0}
    found = _steady(crash | {"at": 10, "detect": None}, crash, service={"start": 2}, tier={"detect": 30})
    assert [(at_s, stage) for at_s, stage in found.run.only.replicas[0].stages[2:]] == [(20, "coming"), (22, "ready")]
