"""Numbers that people change by hand, timetables with dates, fleets that do not shrink at every dip; no stock."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import both, make_plan, make_tier
from libramen import Service, Trace
from libramen.base.errors import StudyError
from libramen.rules.scaling.target import Target

SERVICE = Service(slots=100)


def trace_of(at_s: Any, **values: Any) -> Trace:
    known = {"cpu_s": np.zeros(len(at_s)), "wait_s": np.full(len(at_s), 0.5), "span_s": 60.0}
    return Trace.from_arrays(at_s=at_s, start="2031-06-05T07:00:00", time_zone="Europe/Lisbon", **known | values)


def wants_of(rule: dict[str, Any], per_window: list[int]) -> list[tuple[int, str, int, int]]:
    """Of each decision, every 10 s: wanted, held by, ordered, drained; so many requests came in each window."""
    at = np.concatenate([10.0 * k + np.linspace(1, 8, n) for k, n in enumerate(per_window)])
    scaling = {"rule": "target", "measure": "rate", "target": 1, "every": "10s", "floor": 1, "ceiling": 9} | rule
    outcome = both(trace_of(at, span_s=10.0 * len(per_window)), SERVICE, make_plan(replicas=4, scaling=scaling))
    found = [one for one in outcome.run.only.decisions if one.at_s <= 10 * len(per_window)]
    return [(one.wanted, one.held_by, one.ordered, one.drained) for one in found]


def test_a_short_dip_removes_nobody() -> None:
    """Requests a second: 4, 2, 4, 2, 2, 2 for four replicas. With 25 s the dip at 20 s is forgiven, since 4 were wanted
    at 10 s; at 50 s the 4 of 30 s still count (in (25 s, 50 s]), at 60 s they do not."""
    load = [40, 20, 40, 20, 20, 20]
    plain = wants_of({}, load)
    assert [drained for *_, drained in plain] == [0, 2, 0, 2, 0, 0]
    held = wants_of({"down_after": "25s"}, load)
    assert [(held_by, drained) for _, held_by, _, drained in held] == [
        ("dead_band", 0), ("down_after", 0), ("dead_band", 0), ("down_after", 0), ("down_after", 0), ("", 2),
    ]  # fmt: skip


def test_a_want_as_old_as_down_after_counts_no_more() -> None:
    """Four were wanted at 30 s: they count at 40 s, and not at 50 s, for 20 s are (30 s, 50 s]."""
    held = wants_of({"down_after": "20s"}, [40, 40, 40, 20, 20])
    assert [(held_by, drained) for _, held_by, _, drained in held][-2:] == [("down_after", 0), ("", 2)]


def test_down_after_counts_what_was_held_back_and_not_the_fleet_at_the_start() -> None:
    """Two replicas are enough from the first decision on, and four were never wanted: two drain at once. An order that
    a pause holds back counts as wanted."""
    assert [drained for *_, drained in wants_of({"down_after": "10m"}, [20, 20])] == [2, 0]
    held = wants_of({"down_after": "25s", "pause_up": "10m", "ceiling": 8}, [60, 80, 20, 20])
    assert held == [(6, "", 2, 0), (8, "pause_up", 0, 0), (2, "down_after", 0, 0), (2, "down_after", 0, 0)]


@given(st.lists(st.integers(1, 90), min_size=1, max_size=6), st.sampled_from([1, 20, 25, 600]))
def test_no_drain_goes_below_what_was_wanted_lately(load: list[int], after_s: int) -> None:
    found = wants_of({"down_after": after_s}, load)
    have = 4
    goals = [min(max(wanted, 1), 9) for wanted, *_ in found]
    for k, (_, _, up, down) in enumerate(found):
        lately = [goal for j, goal in enumerate(goals[: k + 1]) if 10 * (k - j) < after_s]
        assert not down or have - down >= max(lately)
        have += up - down
    if after_s == 1:
        assert found == wants_of({}, load)


def test_an_entry_with_a_date_holds_once() -> None:
    """At 07:00:20 on that day eight, at 07:00:40 four again; a day later nothing happens at that time."""
    entries = [
        {"at": "2031-06-05T07:00:20", "floor": 8},
        {"at": "2031-06-05T07:00:40", "floor": 0, "ceiling": 4},
    ]
    plan = make_plan(make_tier(provision="5s"), replicas=4, scaling={"rule": "fixed", "timetable": entries})
    trace = trace_of([0.0, 86_420.0], span_s=86_460.0)
    run = both(trace, SERVICE, plan).run.only
    assert [(one.at_s, one.ordered, one.drained) for one in run.decisions] == [(0, 0, 0), (20, 4, 0), (40, 0, 4)]
    assert [one.ready_s for one in run.replicas[4:]] == [25.0] * 4


def test_dates_and_times_of_day_take_turns() -> None:
    """Of two entries at one instant the later in the list holds; a date before the start holds at 0."""
    entries = [
        {"at": "2031-06-01T00:00", "floor": 3},
        {"at": "07:00:20", "floor": 5},
        {"at": "2031-06-05T07:00:20", "floor": 6},
        {"at": "2031-06-05T07:00:30+01:00", "floor": 2},
    ]
    # The time of day of the day before began after the first of June: five at 0.
    run = both(trace_of([0.0]), SERVICE, make_plan(scaling={"rule": "fixed", "timetable": entries})).run.only
    assert [(one.at_s, one.floor) for one in run.decisions] == [(0, 5), (20, 6), (30, 2)]
    assert run.decisions[1].ordered == 1
    swapped = [entries[0], entries[2], entries[1]]
    run = both(trace_of([0.0]), SERVICE, make_plan(scaling={"rule": "fixed", "timetable": swapped})).run.only
    assert [(one.at_s, one.floor) for one in run.decisions] == [(0, 5), (20, 5)]


def test_people_change_the_number_where_nothing_else_does() -> None:
    """A tier without autoscaling takes `fixed` with a timetable; what is ordered takes its provision and its start."""
    tier = make_tier(autoscaling=False, provision="5s")
    timetable = [{"at": "06:00", "floor": 2}, {"at": "07:00:10", "floor": 3}]
    plan = make_plan(tier, replicas=2, scaling={"rule": "fixed", "timetable": timetable})
    run = both(trace_of([0.0]), Service(slots=1, start="2s"), plan).run.only
    assert [(one.ordered_s, one.ready_s) for one in run.replicas[2:]] == [(10.0, 17.0)]
    with pytest.raises(StudyError, match="has no autoscaling; allowed: rule = 'fixed', which people change by hand"):
        make_plan(tier, scaling={"rule": "target", "measure": "cpu", "target": "50%", "ceiling": 3})
    with pytest.raises(StudyError, match="ceiling is missing, and the tier does not say how many it allows at most"):
        make_plan(make_tier(replicas={"least": 0}), scaling={"rule": "target", "measure": "cpu", "target": "50%"})


def test_mistakes_in_an_entry_get_a_sentence() -> None:
    for entry, said in (
        ({"at": "2031-06-05T07:00", "days": ["mon"], "floor": 1}, "has a date; allowed: to leave days out"),
        ({"at": "quietest 5m", "floor": 1}, 'a time of day such as "07:00", or a date and time'),
        ({"at": "Wed 07:00", "floor": 1}, 'a time of day such as "07:00", or a date and time'),
    ):
        with pytest.raises(StudyError, match=said):
            make_plan(scaling={"rule": "fixed", "timetable": [entry]})
    again = Target(measure="cpu", target="60%", timetable=[{"at": "2031-06-05T17:30", "floor": 2}], ceiling=3)
    assert again.model_dump(mode="json")["timetable"][0]["at"] == "2031-06-05T17:30"


def bought(plan: Any, service: Service = SERVICE) -> list[tuple[int, float, float | None, float | None]]:
    """Of what was ordered: number, when, when it was met, and when it was ready."""
    run = both(trace_of([0.0]), service, plan).run.only
    return [(one.number, one.ordered_s, one.bought_s, one.ready_s) for one in run.replicas if one.why != "start"]


def more_at_ten(tier: Any, *faults: dict[str, Any], floor: int = 3, **values: Any) -> Any:
    timetable = [{"at": "06:00", "floor": 1}, {"at": "07:00:10", "floor": floor}]
    return make_plan(tier, scaling={"rule": "fixed", "timetable": timetable}, faults=faults, **values)


def test_no_order_is_met_while_there_is_no_stock() -> None:
    """Two are ordered at 10, and tried again at 13.5 and at 17, when there is stock again: that comes first. They are
    paid from 17, and ready a second later. No try has drawn: the first that draws is the one at 17."""
    out = {"kind": "no_stock", "at": "5s", "lasts": "12s"}
    tier = {"provision": "1s", "order_again": "3.5s"}
    assert bought(more_at_ten(make_tier(**tier), out)) == [(2, 10, 17, 18), (3, 10, 17, 18)]
    lucky = bought(more_at_ten(make_tier(**tier, order_fails="60%")))
    later = bought(more_at_ten(make_tier(**tier, order_fails="60%"), out))
    assert [one[2] - 17 for one in later if one[2]] == [one[2] - 10 for one in lucky if one[2]]


def test_the_other_zone_has_stock() -> None:
    """Orders go to the zones in turn: 2 to west, 3 to east, where there is nothing until the end."""
    tier = make_tier(zones=["east", "west"], order_again="5s")
    out = {"kind": "no_stock", "at": "5s", "zone": "east"}
    assert bought(more_at_ten(tier, out)) == [(2, 10, 10, 10), (3, 10, None, None)]
    with pytest.raises(StudyError, match="zone: found 'north'; allowed: east, west"):
        more_at_ten(tier, out | {"zone": "north"})


def test_what_starts_on_a_machine_that_is_there_needs_no_stock() -> None:
    """A process that dies starts again; a release in place takes over the machine; another one waits for stock."""
    out = {"kind": "no_stock", "at": "0s", "lasts": "30s"}
    crash = {"kind": "crash", "at": "5s"}
    service = Service(slots=1, start="1s")
    tier = make_tier(order_again="10s")
    run = both(trace_of([0.0]), service, make_plan(tier, faults=[out, crash])).run.only
    assert [at_s for at_s, stage in run.replicas[0].stages if stage == "ready"] == [0.0, 6.0]
    for in_place, when in ((True, (10.0, 10.0, 11.0)), (False, (10.0, 30.0, 31.0))):
        release = {"strategy": "stop_start", "at": "10s", "in_place": in_place}
        assert bought(make_plan(tier, faults=[out], rollouts=[release]), service) == [(2, *when)]


def test_a_rule_that_wants_nothing_has_no_down_after() -> None:
    with pytest.raises(
        StudyError, match="down_after: the rule drains what has been idle for `idle`; allowed: to leave"
    ):
        make_plan(scaling={"rule": "on_arrival", "ceiling": 3, "down_after": "1m"})
