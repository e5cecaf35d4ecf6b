"""Each finding appears where it should and stays away where it should not; and the figures it says are right."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from builders import make_plan, make_tier, make_trace
from libramen import Outcome, Service, Trace, replay


def _kinds(outcome: Outcome) -> set[str]:
    return {finding.kind for finding in outcome.findings}


def _text(outcome: Outcome, kind: str) -> str:
    (text,) = [finding.text for finding in outcome.findings if finding.kind == kind]
    return text


def _loads(*parts: tuple[float, float]) -> list[float]:
    """Arrivals evenly: (until, a second) one after the other."""
    at: list[float] = []
    begin = 0.0
    for until, rate in parts:
        at += np.arange(begin, until, 1 / rate).tolist()
        begin = until
    return at


def _scaled(at: list[float], *, span_s: float | None = None, service: Any = (), n: int = 1, **rule: Any) -> Outcome:
    """Work of half a core-second each, a cold start of 30 s, one core."""
    rule = {"rule": "target", "measure": "cpu", "target": 0.6, "every": 20, "floor": 1, "ceiling": 20} | rule
    trace = make_trace(at, cpu=0.5, span_s=span_s or at[-1] + 1)
    return replay(
        trace,
        Service(**{"slots": 20, "timeout": 5} | dict(service)),
        make_plan(make_tier(provision=30), replicas=n, scaling=rule),
    )


def test_reacted_late() -> None:
    """The load passes the target at 600. Decisions are 300 s apart, a window of 300 s and a lag of 60 s: the one at 900 sees 540
    to 840 and orders, 5 min later; what it ordered comes 30 s after."""
    at = _loads((600, 1), (1500, 4))
    late = _scaled(at, every=300, lag=60)
    assert _kinds(late) >= {"reacted_late", "cold_starts_cost"}
    assert "5 min later the first replica that came was ordered, and 5 min 30 s after" in _text(late, "reacted_late")
    (reaction,) = late.scaling.reactions[:1]
    assert reaction == (600, 900, 930)
    failed = next(finding.requests for finding in late.findings if finding.kind == "reacted_late")
    rows = (late.trace.at_s >= 600) & (late.trace.at_s <= 930)
    assert failed == np.count_nonzero(late.requests["ending"][rows] != "ok") > 0
    assert "reacted_late" not in _kinds(_scaled(at))


def test_flapping() -> None:
    """Every minute is busy for 20 s and quiet for 40: ordered at 20, ready at 50, taken away at 60, and again; a pause stops it."""
    at = [60 * minute + second for minute in range(20) for second in np.arange(0, 20, 1 / 2)]
    restless = _scaled(at, span_s=1200)
    assert "flapping" in _kinds(restless)
    finding = next(f for f in restless.findings if f.kind == "flapping")
    assert finding.replicas == len(restless.scaling.undone) >= 19
    assert "flapping" not in _kinds(_scaled(at, span_s=1200, pause_down=300))


def test_never_scaled_down() -> None:
    """Busy for ten minutes, then quiet for an hour and a half. `steps` without a way down has no target to say what was needed; a
    pause of a day is as good as never."""
    at = _loads((600, 4), (6000, 0.2))
    forgotten = _scaled(at, pause_down="1d")
    assert "never_scaled_down" in _kinds(forgotten)
    assert "removed none" in _text(forgotten, "never_scaled_down")
    assert "never_scaled_down" not in _kinds(_scaled(at))


def test_at_the_ceiling() -> None:
    """Four a second of work 0.5 want two cores at 60 %: four replicas. With two it stays at the ceiling to the end."""
    at = _loads((600, 1), (1500, 4))
    short = _scaled(at, ceiling=2)
    finding = next(f for f in short.findings if f.kind == "at_the_ceiling")
    assert finding.seconds == pytest.approx(1500 - 620, abs=41)
    assert "its ceiling" in finding.text
    assert "at_the_ceiling" not in _kinds(_scaled(at))
    tier = make_tier(provision=30, replicas={"least": 1, "most": 2})
    rule = {"rule": "target", "measure": "cpu", "target": 0.6}
    outcome = replay(make_trace(at, cpu=0.5), Service(slots=20), make_plan(tier, scaling=rule))
    assert "the most that its tier allows" in _text(outcome, "at_the_ceiling")
    assert outcome.scaling.held_by["tier_most"] > 10


def test_at_the_ceiling_on_arrival() -> None:
    """The third request at 10 finds two slots taken and nothing may be ordered: the fleet stays so until the replica drains at
    10 + 100 + 5 s idle."""
    rule = {"rule": "on_arrival", "idle": 5, "floor": 0, "ceiling": 1}
    trace = make_trace([10, 10, 10], wait=[100, 100, 1], span_s=300)
    outcome = replay(trace, Service(slots=2), make_plan(scaling=rule))
    assert next(f.seconds for f in outcome.findings if f.kind == "at_the_ceiling") == pytest.approx(101 + 5)


def test_floor_never_left() -> None:
    at = _loads((600, 0.5))
    assert "floor_never_left" in _kinds(_scaled(at, n=4, floor=4))
    assert "floor_never_left" not in _kinds(_scaled(_loads((600, 4)), n=1))
    assert "floor_never_left" not in _kinds(replay(make_trace(at, cpu=0.5), Service(slots=20), make_plan(replicas=4)))


def test_first_visitor_waited() -> None:
    """Two visits an hour apart to a fleet of none with a cold start of 7 s; not where one is always there."""
    tier = make_tier(provision=7, holds_requests=True)
    trace = make_trace([10, 12, 3600], wait=1, span_s=4000)
    rule = {"rule": "on_arrival", "idle": 60, "ceiling": 3}
    outcome = replay(trace, Service(slots=5), make_plan(tier, replicas=0, scaling=rule))
    text = _text(outcome, "first_visitor_waited")
    assert "2 times a request came when no replica was ready, and 3 requests waited" in text
    assert "6.33 s on average and 7 s at most" in text
    outcome = replay(trace, Service(slots=5), make_plan(tier, replicas=1, scaling=rule | {"floor": 1}))
    assert "first_visitor_waited" not in _kinds(outcome)
    assert not len(outcome.waits.wait_s)


def test_cold_starts_cost() -> None:
    """One slot, no backlog, one request a second of 4 s: three of four are refused until more is there. With no cold start none."""
    trace = make_trace(_loads((100, 1)), wait=4, span_s=200)
    rule = {"rule": "on_arrival", "idle": 60, "ceiling": 9}

    def run(provision: float) -> Outcome:
        plan = make_plan(make_tier(provision=provision), scaling=rule)
        return replay(trace, Service(slots=1, backlog=0), plan)

    slow = run(10)
    finding = next(f for f in slow.findings if f.kind == "cold_starts_cost")
    assert finding.requests == slow.endings["refused"] > 0
    assert "cold_starts_cost" not in _kinds(run(0))


def test_bank_empty() -> None:
    """Ten core-seconds saved, a tenth earned, 0.5 used: empty after 10 / 0.4 = 25 s. Where as much is earned as used, never."""

    def run(steady: float) -> Outcome:
        size = {"cores": 1, "per_hour": 1, "steady_cores": steady, "bank": 10}
        trace = make_trace(_loads((600, 1)), cpu=0.5, span_s=600)
        return replay(trace, Service(slots=200), make_plan(make_tier(sizes={"s": size})))

    short = run(0.1)
    finding = next(f for f in short.findings if f.kind == "bank_empty")
    assert finding.seconds == pytest.approx(600 - 24.5, abs=1.5)
    assert "bank_empty" not in _kinds(run(0.5))


def test_a_measure_that_cannot_see_the_bottleneck() -> None:
    """Two slots, waits of 2 s and next to no CPU, two requests a second: both slots are full and a queue grows, while one request a
    second gets through, and CPU is at 1 %.
    `in_progress` sees it; and with slots enough there is nothing to be seen."""
    at = _loads((600, 2))
    trace = Trace.from_arrays(at_s=at, cpu_s=np.full(len(at), 0.01), wait_s=np.full(len(at), 2.0), span_s=600)

    def run(slots: int, **rule: Any) -> Outcome:
        rule = {"rule": "target", "every": 20, "floor": 1, "ceiling": 20} | rule
        return replay(trace, Service(slots=slots), make_plan(make_tier(provision=30), scaling=rule))

    blind = run(2, measure="cpu", target=0.6)
    assert "cpu was 1.0 %" in _text(blind, "blind_measure")
    assert next(one for one in blind.findings if one.kind == "blind_measure").figures["cpu"] == pytest.approx(
        0.01, 0.05
    )
    assert "blind_measure" not in _kinds(run(2, measure="in_progress", target=1.5))
    assert "blind_measure" not in _kinds(run(9, measure="cpu", target=0.6))


def test_findings_are_the_same_everywhere_and_ranked() -> None:
    outcome = _scaled(_loads((600, 1), (1500, 4)), every=300, lag=60)
    document = outcome.to_dict()["findings"]
    assert [entry["text"] for entry in document] == [finding.text for finding in outcome.findings]
    requests = [finding.requests or 0 for finding in outcome.findings]
    assert requests == sorted(requests, reverse=True)
    texts = " ".join(text.get_text() for text in outcome.plot().texts)
    assert outcome.findings[0].text.split(":")[0] in texts


def test_surplus_is_what_the_target_did_not_need() -> None:
    """One request every two seconds of work 0.5: a quarter of a core, of a target of 60 %: one replica needed, four there: three too
    many for 600 s, 0.5 replica-hours, at 1 an hour and 730 h / 600 s: 3 * 730."""
    surplus = _scaled(_loads((600, 0.5)), span_s=600, n=4, floor=4).scaling.surplus
    assert surplus == (600, pytest.approx(1800), 2190)


def test_an_order_that_the_tier_never_met_was_never_on_its_way() -> None:
    tier = make_tier(provision=2, order_fails=0.999, order_again=500)
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "every": 1, "floor": 1, "ceiling": 3}
    outcome = replay(make_trace([0.0, 1, 2, 3], cpu=2.25, span_s=20), Service(slots=9), make_plan(tier, scaling=rule))
    assert [one.bought_s for one in outcome.scaling.ordered] == [None]
    assert outcome.scaling.coming == []


def test_what_is_said_of_a_rule_is_about_the_measure_that_it_looks_at() -> None:
    """Half a core for a request every two seconds: with a fleet of one a quarter of a core is in use, 0.5 arrive a second,
    and each takes half a second."""
    at = _loads((600, 0.5))
    for rule, measured, needed in (
        ({"rule": "ahead", "measure": "rate", "target": 0.1}, 0.5, 5),
        ({"rule": "ahead", "measure": "cpu", "target": 0.05}, 0.25, 5),
        ({"measure": "latency", "percentile": "p50", "target": 0.1}, 0.5, None),
        ({"measure": "in_progress", "target": 0.05}, 0.25, 5),
    ):
        scaling = _scaled(at, span_s=600, ceiling=1, **rule).scaling
        assert scaling.threshold == pytest.approx(
            rule["target"] * (1 if "rule" in rule else 1.1)
        )  # the tolerance of a target
        assert scaling.measured is not None
        assert scaling.measured[:9] == pytest.approx(measured)
        assert (None if scaling.needed is None else scaling.needed[:9].tolist()) == (needed and [needed] * 9)
    both_ways = [{"measure": "cpu", "target": 0.6, "lag": 20}, {"measure": "waiting", "target": 1, "lag": 5}]
    greatest = replay(
        make_trace(at, cpu=0.5, span_s=600),
        Service(slots=20),
        make_plan(scaling={"rule": "greatest", "rules": both_ways, "every": 20, "ceiling": 3}),
    )
    assert greatest.scaling.rule.lag_s == 5
    assert greatest.scaling.needed is None


def test_why_a_fixed_fleet_is_full() -> None:
    """Two slots. Waits of 1 s fill the slots with next to no CPU in use; work of 1 s on one core fills the CPU first."""
    at = _loads((600, 3))
    for cpu, wait, kind in ((0.001, 1.0, "slots_full"), (0.5, 0.0, "cpu_full")):
        trace = Trace.from_arrays(at_s=at, cpu_s=np.full(len(at), cpu), wait_s=np.full(len(at), wait), span_s=600)
        outcome = replay(trace, Service(slots=2, backlog=3), make_plan(make_tier(), replicas=1))
        assert _kinds(outcome) & {"slots_full", "cpu_full"} == {kind}
    assert "all 2 slots of every replica were taken while 0 % of the CPU" in _text(
        replay(Trace.from_arrays(at_s=at, cpu_s=np.full(len(at), 0.001), wait_s=np.full(len(at), 1.0), span_s=600),
               Service(slots=2, backlog=3), make_plan(make_tier(), replicas=1)), "slots_full",
    )  # fmt: skip
    enough = replay(trace, Service(slots=9), make_plan(make_tier(), replicas=9))
    assert not _kinds(enough) & {"slots_full", "cpu_full"}


def test_why_a_fixed_fleet_runs_out_of_memory() -> None:
    tier = make_tier(sizes={"s": {"cores": 1, "per_hour": 1, "memory": 1000}})
    trace = Trace.from_arrays(at_s=[0, 0.1, 0.2, 0.3], cpu_s=[1] * 4, span_s=60)
    outcome = replay(trace, Service(slots=9, memory_per_request=400), make_plan(tier, replicas=1))
    assert "hold 2 requests in progress, and a replica has 9 slots" in _text(outcome, "out_of_memory")


def test_a_tier_without_stock_is_no_cold_start() -> None:
    """As above, and no order is met in the first minute: those who are refused then lack stock. On their way are replicas
    from 60 to 70 at the most, so often as they are ordered again."""
    trace = make_trace(_loads((100, 1)), wait=4, span_s=200)
    rule = {"rule": "on_arrival", "idle": 60, "ceiling": 9}
    tier = make_tier(provision=10, order_again=30)
    plan = make_plan(tier, scaling=rule, faults=[{"kind": "no_stock", "at": 0, "lasts": 60}])
    outcome = replay(trace, Service(slots=1, backlog=0), plan)
    (finding,) = (one for one in outcome.findings if one.kind == "cold_starts_cost")
    assert finding.seconds is not None
    assert finding.seconds < 60
    assert finding.requests is not None
    assert finding.requests < outcome.endings["refused"] - 30
