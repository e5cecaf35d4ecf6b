"""Lost zones, machines taken back, slow and failing dependencies, checks of health, tiers without stock, by hand."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import both, make_plan, make_tier, make_trace
from libramen import Outcome, Service, StudyError, replay
from libramen.base.streams import stream
from libramen.questions.repeats import Spread


def _steady(n: int, faults: list[dict[str, Any]], *, tier: Any = None, wait: float = 0.5, **plan: Any) -> Outcome:
    """A request every second, n replicas with a start of 10 s, 300 s."""
    trace = make_trace([float(k) for k in range(300)], wait=wait, span_s=300)
    return both(
        trace, Service(slots=9, start=10), make_plan(make_tier(**(tier or {})), replicas=n, faults=faults, **plan)
    )


def _when(outcome: Outcome, ending: str) -> list[int]:
    return [k for k, found in enumerate(outcome.requests["ending"]) if found == ending]


def test_a_lost_zone_is_replaced_in_the_other_when_it_is_found() -> None:
    """#1 and #3 are in the east, which is lost at 100. They look empty, so each of the four
    has its turn until 105: #1 at 100, #3 at 102, #1 at 104. At 105
    two are ordered, in the west, and are ready at 115. The lost ones are paid for until 100, the new from 105 on."""
    fault = {"kind": "zone_loss", "zone": "east", "at": 100, "detect": 5, "lasts": 50}
    found = _steady(4, [fault], tier={"zones": ["east", "west"]})
    assert _when(found, "lost") == [100, 102, 104]
    lives = [(r.zone, r.ordered_s, r.ready_s, r.gone_s, r.lost_s) for r in found.run.only.replicas]
    assert lives == [
        ("east", 0, 0, 105, 100),
        ("west", 0, 0, None, None),
        ("east", 0, 0, 105, 100),
        ("west", 0, 0, None, None),
        ("west", 105, 115, None, None),
        ("west", 105, 115, None, None),
    ]
    assert found.fleet["paid_s"].tolist() == [100, 300, 100, 300, 195, 195]


def test_with_no_zone_left_replacements_wait_until_one_opens() -> None:
    """Both in one zone, lost at 100 for 50 s and found at once: refused from 100 until 160, ordered at 150."""
    fault = {"kind": "zone_loss", "zone": "east", "at": 100, "lasts": 50, "detect": 0}
    found = _steady(2, [fault], tier={"zones": ["east", "west"]}, zones=["east"])
    assert [(r.ordered_s, r.ready_s) for r in found.run.only.replicas[2:]] == [(150, 160), (150, 160)]
    assert _when(found, "refused") == list(range(100, 160))


def test_a_machine_is_taken_back_after_a_notice() -> None:
    """Requests of 8 s at 0 (to #1) and 1 (to #2). #1 is the lowest ready one at 2, has 3 s to drain: its request is cut
    at 5. #3 is ordered at the notice and ready at 12."""
    tier = make_tier(interruptible=True, notice=3)
    plan = make_plan(tier, replicas=2, faults=[{"kind": "reclaim", "at": 2}])
    found = both(make_trace([0, 1], wait=8, span_s=30), Service(slots=2, start=10), plan)
    assert found.requests["ending"].tolist() == ["cut", "ok"]
    assert found.requests["latency_s"].tolist() == [5, 8]
    assert [(r.ordered_s, r.ready_s, r.gone_s) for r in found.run.only.replicas] == [
        (0, 0, 5),
        (0, 0, None),
        (2, 12, None),
    ]


def test_half_of_the_fleet_is_taken_back() -> None:
    """ceil(0.5 * 5) = 3, the lowest numbers; nobody is inside, so they are gone at once."""
    fault = {"kind": "reclaim", "at": 100, "share": 0.5}
    found = _steady(5, [fault], tier={"interruptible": True, "notice": 20, "on_notice": "drain"})
    assert [r.gone_s for r in found.run.only.replicas] == [100, 100, 100, None, None, None, None, None]
    with pytest.raises(StudyError, match="the tier is not interruptible"):
        _steady(5, [fault])


def test_an_order_fails_until_there_is_stock() -> None:
    """Draws below 0.75 fail, and are tried again every 7 s. The number's own stream says how often: the replica is
    ready so many times 7 s and its start of 10 s after the order, and paid for from the try that succeeded."""
    draws = [stream(3, "stock", number).random(50) for number in (2, 3)]
    failed = [int(np.argmax(draw >= 0.75)) for draw in draws]
    assert max(failed) > 0
    trace = make_trace([float(k) for k in range(300)], wait=0.5, span_s=300)
    tier = make_tier(order_fails=0.75, order_again=7)
    rule = {"rule": "target", "measure": "in_progress", "target": 0.5, "floor": 3, "ceiling": 3}
    found = both(trace, Service(slots=9, start=10), make_plan(tier, scaling=rule), seed=3)
    assert [r.ready_s for r in found.run.only.replicas[1:]] == [7 * k + 10 for k in failed]
    assert found.fleet["paid_s"].tolist()[1:] == [300 - 7 * k for k in failed]
    (finding,) = [finding for finding in found.findings if finding.kind == "out_of_stock"]
    assert f"the slowest for {7 * max(failed)} s" in finding.text


def test_checks_of_health_find_a_dead_process() -> None:
    """Checks every 8 s from a phase of the process's own on. It dies at 100: the first check at or after that fails, so
    does the next; it is out at the second and 1.5 s, and starts again then, for 10 s."""
    phase_s = 8 * float(stream(0, "health", 1).random())
    found_s = phase_s + 8 * (np.ceil((100 - phase_s) / 8) + 1) + 1.5
    tier = {"health": {"every": 8, "after": 2, "timeout": 1.5}, "restarts": "when_found"}
    found = _steady(1, [{"kind": "crash", "at": 100}], tier=tier)
    stages = found.run.only.replicas[0].stages
    assert [at_s for at_s, stage in stages] == pytest.approx([0, 0, found_s, found_s + 10])
    assert len(_when(found, "lost")) == int(np.ceil(found_s)) - 100


def test_a_replica_is_ready_after_good_checks() -> None:
    """A start of 10 s, then two good checks: the first at the phase, the second 8 s later."""
    tier = {"health": {"every": 8, "first": 2}}
    rule = {"rule": "target", "measure": "in_progress", "target": 0.5, "floor": 2, "ceiling": 2}
    found = _steady(1, [], tier=tier, scaling=rule)
    assert found.run.only.replicas[1].ready_s == pytest.approx(10 + 8 * float(stream(0, "health", 2).random()) + 8)
    with pytest.raises(StudyError, match="detect, health: both say"):
        make_tier(health={"every": 8}, detect=3)


def test_a_dependency_is_slow_and_fails() -> None:
    """Waits of 0.5 s that begin in [100, 150) take three times as long; with all failing there is nobody who waits."""
    slow = _steady(1, [{"kind": "dependency", "at": 100, "lasts": 50, "slower": 3}])
    assert [k for k, took in enumerate(slow.requests["latency_s"]) if took == 1.5] == list(range(100, 150))
    broken = _steady(1, [{"kind": "dependency", "at": 100, "lasts": 50, "errors": 1}])
    assert _when(broken, "errored") == list(range(100, 150))
    assert broken.requests["latency_s"][100] == 0
    half = _steady(1, [{"kind": "dependency", "at": 0, "errors": 0.5}])
    assert 110 < len(_when(half, "errored")) < 190


def test_slow_replicas_and_zones() -> None:
    """CPU work of 0.2 s that begins in [100, 150) takes twice as long on #1, which has every second request; two
    faults at once multiply; of another zone nothing is felt."""
    trace = make_trace([float(k) for k in range(200)], cpu=0.2, span_s=200)
    one = {"kind": "slow", "at": 100, "lasts": 50, "slower": 2}

    def replayed(*faults: dict[str, Any]) -> list[float]:
        plan = make_plan(make_tier(zones=["east", "west"]), replicas=2, faults=list(faults))
        return both(trace, Service(slots=9), plan).requests["latency_s"].tolist()

    assert replayed(one | {"replica": 1})[99:151] == pytest.approx([0.2] + [0.4, 0.2] * 25 + [0.2])
    assert replayed(one, one | {"zone": "east"})[120] == pytest.approx(0.8)
    # Of two that overlap the one that is over is taken away, also where the other began first.
    assert replayed(one | {"lasts": 80, "slower": 3}, one)[140:182:20] == pytest.approx([1.2, 0.6, 0.2])
    assert replayed(one | {"zone": "west"})[120] == pytest.approx(0.2)


def test_one_fault_may_be_there_twice() -> None:
    """A day has two noons here: the fault of 36 h is there once from the first, twice from the second on for 12 h."""
    at = [k * 3600.0 for k in range(72)]
    trace = make_trace(
        at, cpu=0.1, wait=1.0, span_s=72 * 3600.0, start="2031-06-05T00:00:00", time_zone="Europe/Lisbon"
    )
    common = {"at": "12:00", "daily": True, "lasts": "36h", "slower": 2}
    slow = both(trace, Service(slots=9), make_plan(faults=[{"kind": "slow", **common}]))
    factors = (slow.requests["latency_s"] - 1.0) / 0.1
    wanted = [1] * 12 + [2] * 24 + [4] * 12 + [2] * 12 + [4] * 12  # the third begins as the first is over for 12 h
    assert factors.round(6).tolist() == wanted
    waits = both(trace, Service(slots=9), make_plan(faults=[{"kind": "dependency", **common}]))
    assert (waits.requests["latency_s"] - 0.1).round(6).tolist() == wanted


def test_no_fault_begins_after_the_trace() -> None:
    """A request that arrives at 9 and waits 2000 s is served on: nothing breaks at random after the span of 10 s."""
    plan = make_plan(faults=[{"kind": "crash", "every_about": 100}])
    found = both(make_trace([9.0], wait=2000, span_s=10), Service(slots=1), plan)
    assert found.run.only.faults == []
    assert found.endings["ok"] == 1


def test_an_old_replica_that_is_dead_is_cancelled_at_its_turn() -> None:
    """n 3, spare 1, keep all. #2 dies at 95 and counts as ready until it is found at 115. #4 is ready at 110: four are,
    so #1 drains. #5 is ordered at 110; #2 starts again at 115, which is cancelled: it is its turn, whatever `keep` says.
    #5 is ready at 120, #6 is ordered then and ready at 130, when #3 drains."""
    found = _steady(
        3,
        [{"kind": "crash", "at": 95, "replica": 2, "detect": 20}],
        tier={"restarts": "when_found"},
        rollouts=[{"at": 100, "strategy": "rolling"}],
    )
    assert [(r.ordered_s, r.ready_s, r.gone_s) for r in found.run.only.replicas] == [
        (0, 0, 110),
        (0, 0, 115),
        (0, 0, 130),
        (100, 110, None),
        (110, 120, None),
        (120, 130, None),
    ]


@pytest.mark.parametrize("rule", ["fixed", "target"])
def test_after_every_fault_the_fleet_comes_back(rule: str) -> None:
    """Whatever strikes, 200 s later there are as many as the rule wants."""
    faults = [
        {"kind": "crash", "at": 20, "detect": 5},
        {"kind": "zone_loss", "zone": "west", "at": 30, "lasts": 40, "detect": 3},
        {"kind": "reclaim", "at": 35, "share": 0.5},
        {"kind": "zone_loss", "zone": "east", "at": 60, "lasts": 5},
        {"kind": "reclaim", "at": 64},
    ]
    scaling = {} if rule == "fixed" else {
        "scaling": {"rule": "target", "measure": "rate", "target": 0.25, "floor": 4, "ceiling": 4, "every": 5}
    }  # fmt: skip
    found = _steady(4, faults, tier={"zones": ["east", "west"], "interruptible": True, "notice": 4}, **scaling)
    assert sum(r.is_ready for r in found.run.only.replicas) == 4
    assert sum(found.endings.values()) == 300


def test_a_release_ends_with_as_many_as_it_began_with_though_a_zone_is_lost() -> None:
    """Of two replicas one is lost at 10, which is found at 20. The release has ordered two new ones by then."""
    loss = {"kind": "zone_loss", "zone": "west", "at": 10, "lasts": 50, "detect": 10}
    rolling = {"strategy": "rolling", "at": 15, "batch": 2, "spare": 1, "keep": 1}
    found = _steady(2, [loss], tier={"zones": ["east", "west"]}, rollouts=[rolling])
    assert [update.result for update in found.run.only.updates] == ["done"]
    assert sum(r.is_ready for r in found.run.only.replicas) == 2


@pytest.mark.parametrize("strategy", ["stop_start", "rolling"])
def test_a_release_counts_what_cannot_be_ordered_yet(strategy: str) -> None:
    """Both zones are lost at 10, which is found at once of the one, and at 40 of the other; nothing is ordered until 60. Of
    two replicas one is dead then, and one owed: the release at 20 leaves two all the same."""
    loss = {"kind": "zone_loss", "at": 10, "lasts": 50}
    faults = [loss | {"zone": "west", "detect": 30}, loss | {"zone": "east", "detect": 0}]
    release = {"strategy": strategy, "at": 20}
    found = _steady(2, faults, tier={"zones": ["east", "west"]}, rollouts=[release])
    assert [update.replicas for update in found.run.only.updates] == [2]
    assert sum(r.is_ready for r in found.run.only.replicas) == 2


def _available(seed: int) -> float:
    """Two replicas that live 40 s on average and are found at once and back in 20: of the requests, how many."""
    arrivals = np.cumsum(np.random.default_rng(1000 + seed).exponential(1.0, 1500))
    tier = make_tier()
    plan = make_plan(tier, replicas=2, faults=[{"kind": "crash", "every_about": 40}])
    trace = make_trace(arrivals.tolist(), span_s=float(arrivals[-1]))
    availability = replay(trace, Service(slots=2, start=20), plan, seed=seed, settle=200).availability
    assert availability is not None
    return availability


def test_availability_is_binomial() -> None:
    """Each is there with probability 40 / (40 + 20), so one or both with 1 - (1/3)**2: alternating renewal, Barlow and
    Proschan, Statistical Theory of Reliability and Life Testing (1975). The interval of 8 repeats holds that in 95 % of
    studies: in 35 to 40 of 40, which is where 95 % of such counts are and more."""
    truth = 1 - 1 / 9
    found = np.array([_available(seed) for seed in range(320)]).reshape(40, 8)
    held = 0
    for row in found:
        spread = Spread.of(row)
        assert spread.low is not None
        assert spread.high is not None
        held += spread.low <= truth <= spread.high
    assert 35 <= held <= 40
    assert found.mean() == pytest.approx(truth, abs=0.007)


def test_three_of_four_with_detection() -> None:
    """Each is there with probability 200 / (200 + 5 + 15): at least three of four, by time."""
    plan = make_plan(make_tier(detect=5), replicas=4, faults=[{"kind": "crash", "every_about": 200}])
    found = replay(make_trace([0.0], span_s=100_000), Service(slots=2, start=15), plan)
    stages = found.stages
    up = stages[stages["stage"] == "ready"]
    instants = np.arange(1000, 100_000, 7.0)
    there = sum(((up["from_s"].values[:, None] <= instants) & (instants < up["to_s"].values[:, None])).astype(int))
    p = 200 / 220
    assert np.mean(there >= 3) == pytest.approx(p**4 + 4 * p**3 * (1 - p), abs=0.015)
