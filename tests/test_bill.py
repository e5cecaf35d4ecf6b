"""Bills by hand: quantities to 6 places, amounts to the cent, half to even, and lines that add up."""

from __future__ import annotations

from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import make_plan, make_tier, make_trace
from libramen import Outcome, Service, Terms, Tier, Trace, replay
from libramen.bill.account import charges_of
from libramen.bill.month import month_of
from libramen.bill.usage import seconds_by_hour
from libramen.bill.use import Known

DAY = 86400.0


def _bill(tier: Tier, *, span_s: float = DAY, trace: Trace | None = None, **plan: Any) -> dict[str, tuple[Any, ...]]:
    trace = trace or make_trace([0], wait=1, span_s=span_s)
    outcome = replay(trace, Service(slots=5), make_plan(tier, **plan))
    _adds_up(outcome)
    return {line.item: (line.quantity, line.unit, line.unit_price, line.amount) for line in outcome.bill.lines}


def _adds_up(outcome: Outcome) -> None:
    for line in outcome.bill.lines:
        assert line.quantity == line.quantity.quantize(Decimal("0.000001"))
        assert line.amount == (line.quantity * line.unit_price).quantize(Decimal("0.01"), rounding="ROUND_HALF_EVEN")
    assert outcome.bill.month == sum(line.amount for line in outcome.bill.lines)


def test_a_fixed_fleet_runs_730_hours() -> None:
    """3 replicas for a day, 730 / 24 days in a month: 2190 replica-hours at 0.031 = 67.89."""
    line = _bill(make_tier(sizes={"s": {"cores": 1, "per_hour": "0.031"}}), replicas=3)["replicas of size s"]
    assert line == (Decimal(2190), "replica-h", Decimal("0.031"), Decimal("67.89"))


def test_half_to_even() -> None:
    """730 h at 0.0005 is 0.365, which is 0.36; at 0.0015 it is 1.095, which is 1.10."""
    for price, amount in (("0.0005", "0.36"), ("0.0015", "1.10")):
        line = _bill(make_tier(sizes={"s": {"cores": 1, "per_hour": price}}))["replicas of size s"]
        assert line[3] == Decimal(amount)


def test_balancer_zones_and_fixed_fees_do_not_depend_on_the_trace() -> None:
    """730 h at 0.017 = 12.41; two zones of 0.01: 1460 zone-hours = 14.60; 5 once. A zone without a replica is not paid."""
    tier = make_tier(balancer_per_hour="0.017", zone_per_hour="0.01", zones=["a", "b"], fixed_per_month=5)
    for span_s in (3600.0, DAY):
        lines = _bill(tier, span_s=span_s, replicas=2)
        assert lines["balancer"][3] == Decimal("12.41")
        assert lines["zones"] == (Decimal(1460), "zone-h", Decimal("0.01"), Decimal("14.60"))
        assert lines["fixed fee"][3] == Decimal("5.00")
        assert _bill(tier, span_s=span_s)["zones"][0] == 730


def test_the_allowance_is_of_the_month() -> None:
    """1 GB in a day is 30.416667 GB a month; 20 are free: 10.416667 GB at 0.06 = 0.625 and a little, so 0.63."""
    trace = make_trace([0, 1], wait=1, span_s=DAY, bytes_out=[0.4e9, 0.6e9])
    lines = _bill(make_tier(egress_per_gb="0.06", free={"egress_gb": 20}), trace=trace)
    assert lines["egress beyond 20 GB"] == (Decimal("10.416667"), "GB", Decimal("0.06"), Decimal("0.63"))


def test_only_answers_are_sent() -> None:
    """The second of two at once is refused (no backlog): 1 GB of 3, in 73 h, so 10 a month."""
    trace = make_trace([0, 0], wait=1, span_s=73 * 3600, bytes_out=[1e9, 2e9])
    plan = make_plan(make_tier(egress_per_gb=1))
    outcome = replay(trace, Service(slots=1, backlog=0), plan)
    assert outcome.bill.lines[1].amount == Decimal("10.00")


def _short_life(**tier: Any) -> tuple[Any, ...]:
    """A second replica that lives from 100 to 200, ordered by a rule that then finds nothing to do: 100 s of a day."""
    rule = {"rule": "target", "measure": "in_progress", "target": 1, "every": 100, "floor": 1, "ceiling": 5}
    trace = make_trace([0, 0], wait=90, span_s=DAY)
    return _bill(make_tier(**tier), trace=trace, scaling=rule)["replicas of size s"]


def test_billing_by_the_second_and_by_the_hour() -> None:
    """Mean in progress 1.8 over 0..100: #2 is ordered at 100 and drained at 200, when nothing is in progress.
    A month has 730 / 24 such days. By the second: 730 h + 100 s x 30.416667 = 730.844907 h. With 150 s at least: 730 h +
    150 s x 30.416667. By the hour: 730 h + 1 h x 30.416667. A life that goes on at the end is not rounded up."""
    times = Decimal(730) / 24
    for tier, extra_h in (
        ({"billing": "per_second"}, Decimal(100) / 3600),
        ({"billing": "per_second", "minimum_billed": "150s"}, Decimal(150) / 3600),
        ({"billing": "per_hour"}, Decimal(1)),
    ):
        assert _short_life(**tier)[0] == (730 + times * extra_h).quantize(Decimal("0.000001"))


def test_billed_from_ready() -> None:
    """As above, but the 40 s of provision are free: 60 s of the second replica's life."""
    quantity = _short_life(billing="per_second", billed_from="ready", provision=40)[0]
    assert quantity == (730 + Decimal(730) / 24 * 60 / 3600).quantize(Decimal("0.000001"))


def test_per_month_pays_for_the_most_at_once() -> None:
    """Two at once for 100 s: two flat prices, not scaled."""
    line = _short_life(billing="per_month", sizes={"s": {"cores": 1, "per_month": 7}})
    assert line == (Decimal(2), "replica", Decimal(7), Decimal("14.00"))


def test_one_that_goes_when_another_comes_is_not_two_at_once() -> None:
    """In place, stop_start: the new one is ordered at the instant at which the old one is gone."""
    tier = make_tier(billing="per_month", sizes={"s": {"cores": 1, "per_month": 7}})
    lines = _bill(tier, rollouts=[{"at": 100, "strategy": "stop_start"}])
    assert lines["replicas of size s"][0] == 1


def test_a_week_is_laid_over_the_month_by_the_hour() -> None:
    """Eight days from a Monday with one gigabyte at 00:30 of each. The hour that two Mondays have counts by its mean: seven
    hours of the week have 1 GB, and a month has each 730 / 168 times: 30.416667 GB."""
    at = np.arange(8) * DAY + 1800
    trace = Trace.from_arrays(
        at_s=at,
        cpu_s=np.zeros(8),
        wait_s=np.ones(8),
        bytes_out=np.full(8, 1e9),
        span_s=8 * DAY,
        start="2031-06-02",
    )
    lines = _bill(make_tier(egress_per_gb=1), trace=trace)
    assert lines["egress"][0] == Decimal("30.416667")
    assert lines["replicas of size s"][0] == 730


def test_the_hours_of_the_week_are_local() -> None:
    """From Saturday 2031-10-25 00:00 in Lisbon, 9 days: clocks go back on the Sunday. A cost at 12:00 local every day falls
    into seven hours of the week, each with mean 1."""
    start = Trace.from_arrays(at_s=[0, 1], cpu_s=[0, 0], start="2031-10-25", time_zone="Europe/Lisbon").start
    at_s = np.array([12 * 3600.0 + day * DAY + (3600 if day >= 1 else 0) for day in range(9)])
    month = month_of(9 * DAY, start).weights
    by_hour = seconds_by_hour(at_s, at_s, np.ones(9), 9 * DAY, start)
    assert float(month.of_hours(by_hour)) == pytest.approx(7 * 730 / 168)


@given(
    st.lists(st.tuples(st.floats(0, 3e5), st.floats(0, 4e5)), min_size=1, max_size=8),
    st.sampled_from([3e5, 7 * DAY, 9e5]),
)
def test_a_month_is_linear_and_bounded(lives: list[tuple[float, float]], span_s: float) -> None:
    """Lives add up, and none is longer than the month."""
    month = month_of(span_s, None).weights
    starts = np.array([start for start, _ in lives])
    ends = starts + np.array([length for _, length in lives])

    def of(some: slice) -> float:
        none = np.zeros(len(starts[some]))
        return float(month.of_hours(seconds_by_hour(starts[some], np.minimum(ends[some], span_s), none, span_s, None)))

    whole = of(slice(None))
    single = [of(slice(i, i + 1)) for i in range(len(lives))]
    assert whole == pytest.approx(sum(single), abs=1e-3)
    assert all(0 <= one <= 730 * 3600 * 1.0000001 for one in single)


def _lantern(**values: Any) -> Tier:
    size = {"cores": 0.5, "memory": "2 GB"}
    return make_tier(
        **{"billing": "per_request", "per_core_second": "0.001", "sizes": {"s": size}, "holds_requests": True} | values
    )


def test_use_is_billed_in_whole_granules() -> None:
    """One replica, waits of 1.05 s at 0 and 0.5 (together busy to 1.55), and of exactly 0.3 s at 10; granules of 0.1 s: 1.6 + 0.3 =
    1.9 s, of half a core 0.95 core-s and of 2 GB 3.8 GB-s a day; 730 / 24 days a month: 28.895833 and 115.583333; three
    requests 91.25, so 0.000091 million."""
    trace = make_trace([0, 0.5, 10], wait=[1.05, 1.05, 0.3], span_s=DAY)
    tier = _lantern(granularity="100ms", per_gb_second="0.01", per_million_requests=4)
    lines = _bill(tier, trace=trace)
    assert lines["cores in use"] == (Decimal("28.895833"), "core-s", Decimal("0.001"), Decimal("0.03"))
    assert lines["memory in use"] == (Decimal("115.583333"), "GB-s", Decimal("0.01"), Decimal("1.16"))
    assert lines["requests"] == (Decimal("0.000091"), "million", Decimal(4), Decimal("0.00"))


def test_a_slot_handed_on_at_one_instant_is_one_period() -> None:
    """One slot: waits of 1.5 at 0 and at 0.5 follow each other without a gap, and one at 3, when the second has just ended, too:
    one period of 4.5 s, 5 with granules of a second; another at 4.6 of 0.5 is one more second."""
    trace = make_trace([0, 0.5, 3, 4.6], wait=[1.5, 1.5, 1.5, 0.5], span_s=2628000)
    tier = _lantern(granularity="1s", per_core_second=1)
    for data_plane in ("compiled", "plain"):
        outcome = replay(trace, Service(slots=1), make_plan(tier), data_plane=data_plane)
        assert outcome.run.only.use.sum() == 6


def test_free_allowances_of_use_are_of_the_month() -> None:
    """As above without granules: 1.85 s a day, 28.135417 core-s, 112.541667 GB-s and 91.25 requests a month; free are 8, 100 and 90."""
    trace = make_trace([0, 0.5, 10], wait=[1.05, 1.05, 0.3], span_s=DAY)
    free = {"requests": 90, "core_seconds": 8, "gb_seconds": 100}
    lines = _bill(_lantern(per_gb_second="0.01", per_million_requests=4, free=free), trace=trace)
    assert lines["cores in use beyond 8 core-s"][0] == Decimal("20.135417")
    assert lines["memory in use beyond 100 GB-s"][0] == Decimal("12.541667")
    assert lines["requests beyond 90"][0] == Decimal("0.000001")  # 1.25 requests


def test_use_goes_on_to_the_end_of_the_span_and_attempts_are_counted() -> None:
    """A wait of 100 s from 50, in a span of 60: 10 s are measured, nothing rounded. The one at 55 finds no slot, and is tried again
    at 56: three attempts."""
    trace = make_trace([50, 55], wait=[100, 1], span_s=60)
    tier = _lantern(granularity="7s", per_core_second=1, per_million_requests=1_000_000, holds_requests=False)
    plan = make_plan(tier)
    service = Service(slots=1, backlog=0, retries=1)
    lines = {line.item: line for line in replay(trace, service, plan).bill.lines}
    times = Decimal(730 * 60)
    assert lines["cores in use"].quantity == 5 * times
    assert lines["requests"].quantity * 10**6 == 3 * times
    told = replay(trace, service, plan, keep_requests=False).bill
    assert told.lines == tuple(lines.values())


def test_a_week_of_use_is_laid_over_the_month() -> None:
    """One request an hour of 36 s, for two weeks: each hour of the week has 36 s, a month 730 of them: 26,280 s of half a core."""
    at = 3600.0 * np.arange(14 * 24) + 10
    trace = make_trace(at.tolist(), wait=36, span_s=14 * DAY, start="2031-06-02T00:00:00")
    lines = _bill(_lantern(), trace=trace)
    assert lines["cores in use"][0] == Decimal(13140)


def test_a_running_life_is_not_rounded_up() -> None:
    """One replica throughout an hour and a half, billed by started hours: 1.5 h of 1.5 h are 730 in a month; started hours
    would make it 973.33. One that is gone after 90 min of 3 h is billed 2 h of them."""
    trace = make_trace([0], span_s=5400)
    assert replay(trace, Service(slots=1), make_plan()).bill.month == Decimal("730.00")
    gone = make_plan(
        replicas=2,
        scaling={
            "rule": "fixed",
            "timetable": [{"at": "00:00", "floor": 2, "ceiling": 2}, {"at": "01:30", "floor": 1, "ceiling": 1}],
        },
    )
    bill = replay(make_trace([0], span_s=10800, start="2031-06-05"), Service(slots=1), gone).bill
    assert bill.lines[0].quantity == Decimal("1216.666667")  # (3 + 2) / 3 * 730


def test_what_is_known_of_use_is_enough_for_a_bill() -> None:
    """A zone at 0.01 an hour: 7.30, and one replica 730. By use: 0.5 core-s of each of 3,600,000 requests at 0.0001."""
    standing = Known({}, {"service": (Fraction(730 * 3600),)}, {"service": 1}, {"service": Fraction(730)})
    tier = make_tier(zones=["east", "west"], zone_per_hour="0.01")
    lines = charges_of(make_plan(tier, replicas=1).services, standing, Terms())
    assert sum(charge.line.amount for charge in lines) == Decimal("737.30")
    used = Known({"service": {"in_use": Fraction(3_600_000)}}, {}, {}, {})
    lines = charges_of(make_plan(_lantern(per_core_second="0.0001"), replicas=1).services, used, Terms())
    assert sum(charge.line.amount for charge in lines) == Decimal("180.00")
