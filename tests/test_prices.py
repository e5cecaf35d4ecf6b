"""Bills by hand of every kind of price, alone and together; and what holds of all of them."""

from __future__ import annotations

from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import given, strategies as st

from builders import make_plan, make_tier, make_trace
from libramen import Outcome, Plan, Service, StudyError, Terms, Tier, Trace, replay
from libramen.bill.account import by_largest_remainder, charges_of, least_of
from libramen.bill.use import Known
from priced import DAY, SWITCH, catalogues, fees, months, of_everything, two_services

TENTH = 73 * 3600.0
"""A trace of a tenth of a month: what is used in it is billed ten times."""


def _paid(plan: Plan, terms: Terms | None = None, *, trace: Trace | None = None, **of: Any) -> dict[str, Decimal]:
    """The amounts of a month, by item."""
    outcome = _replayed(plan, terms, trace=trace, **of)
    amounts = {line.item: line.amount for line in outcome.bill.lines}
    assert len(amounts) == len(outcome.bill.lines)
    return amounts


def _replayed(
    plan: Plan, terms: Terms | None = None, *, trace: Trace | None = None, services: Any = None, **of: Any
) -> Outcome:
    trace = make_trace([0], wait=1, span_s=TENTH) if trace is None else trace
    outcome = replay(trace, services or Service(slots=5), plan, terms=terms, **of)
    _adds_up(outcome)
    return outcome


def _adds_up(outcome: Outcome) -> None:
    """Lines to the total, services to the bill, and every table of costs to it as well."""
    month = outcome.bill.month
    assert month == sum(line.amount for line in outcome.bill.lines)
    assert month == sum(one.bill.month for one in outcome.services.values())
    costs = outcome.costs
    for table in (costs.lines, costs.services, costs.routes, costs.hours, costs.kinds):
        assert sum(one.amount for one in table) == month
    for line in costs.lines:
        assert sum(line.kinds.values()) == line.amount


def _sends(gb: float, **values: Any) -> Trace:
    """So many gigabytes in a month, in four answers."""
    return make_trace([0, 1, 2, 3], wait=0.5, bytes_out=[gb * 1e8 / 4] * 4, span_s=TENTH, **values)


def _sends_to_two(gb: float) -> Trace:
    return _sends(gb, route=["/a", "/a", "/b", "/a"])


EGRESS = [{"up_to": 10, "price": "0.09"}, {"up_to": 50, "price": "0.07"}, {"price": "0.05"}]


@pytest.mark.parametrize(
    ("gb", "amounts"),
    [
        (4, {"egress, up to 10 GB": "0.36"}),
        (10, {"egress, up to 10 GB": "0.90"}),
        (10.1, {"egress, up to 10 GB": "0.90", "egress, 10 to 50 GB": "0.01"}),
        (50, {"egress, up to 10 GB": "0.90", "egress, 10 to 50 GB": "2.80"}),
        (
            80,
            {"egress, up to 10 GB": "0.90", "egress, 10 to 50 GB": "2.80", "egress, beyond 50 GB": "1.50"},
        ),
    ],
)
def test_each_step_at_its_own_price(gb: float, amounts: dict[str, str]) -> None:
    """10 x 0.09 = 0.90; 0.1 x 0.07 = 0.007; 40 x 0.07 = 2.80; 30 x 0.05 = 1.50. What a step has none of has no line."""
    found = _paid(make_plan(make_tier(egress_per_gb=EGRESS)), trace=_sends(gb))
    assert {item: amount for item, amount in found.items() if "egress" in item} == {
        item: Decimal(amount) for item, amount in amounts.items()
    }


def test_steps_begin_beyond_what_is_free() -> None:
    """17 GB, of which 5 are free: 12, of which 10 x 0.09 and 2 x 0.07 = 0.14. Nothing beyond it: one line of nothing."""
    tier = make_tier(egress_per_gb=EGRESS, free={"egress_gb": 5})
    found = _paid(make_plan(tier), trace=_sends(17))
    assert found["egress beyond 5 GB, up to 10 GB"] == Decimal("0.90")
    assert found["egress beyond 5 GB, 10 to 50 GB"] == Decimal("0.14")
    assert _paid(make_plan(tier), trace=_sends(2))["egress beyond 5 GB, up to 10 GB"] == 0


def test_requests_in_steps() -> None:
    """Steps are in the unit of the line, millions. 4 requests in 1 s of a trace that stands 2,628,000 times: 10.512 million;
    the first 3 at 2, then 7.512 at 1."""
    tier = make_tier(
        billing="per_request", per_million_requests=[{"up_to": 3, "price": 2}, {"price": 1}], sizes={"s": {"cores": 1}}
    )
    found = _paid(make_plan(tier), trace=make_trace([0, 0.1, 0.2, 0.3], wait=0.1, span_s=1))
    assert found == {"requests, up to 3,000,000": Decimal(6), "requests, beyond 3,000,000": Decimal("7.51")}


def test_replica_hours_in_steps_are_over_all_of_a_size_on_the_tier() -> None:
    """Two services with two replicas each: 2920 h, of which 2000 at 1 and 920 at 0.5 = 460. Each pays half of both."""
    tier = make_tier(sizes={"s": {"cores": 1, "per_hour": [{"up_to": 2000, "price": 1}, {"price": "0.5"}]}})
    plan, services = two_services(tier, replicas=2)
    outcome = _replayed(plan, trace=_sends_to_two(0), services=services)
    lines = {line.item: (line.amount, line.tier, line.service) for line in outcome.bill.lines}
    assert lines == {
        "replicas of size s, up to 2,000 replica-h": (Decimal(2000), "tier", None),
        "replicas of size s, beyond 2,000 replica-h": (Decimal(460), "tier", None),
    }
    assert {name: one.bill.month for name, one in outcome.services.items()} == {"a": Decimal(1230), "b": Decimal(1230)}


def test_balancers_in_steps_are_over_all_fleets() -> None:
    """Two fleets, 1460 h: 1000 at 0.02 = 20, and 460 at 0.01 = 4.60. At a single price each pays 730 x 0.02 = 14.60."""
    plan, services = two_services(make_tier(balancer_per_hour=[{"up_to": 1000, "price": "0.02"}, {"price": "0.01"}]))
    lines = _replayed(plan, trace=_sends_to_two(0), services=services).bill.lines
    found = {line.item: line.amount for line in lines}
    assert found["balancers, up to 1,000 h"] == 20
    assert found["balancers, beyond 1,000 h"] == Decimal("4.60")
    plan, services = two_services(make_tier(balancer_per_hour="0.02"))
    outcome = _replayed(plan, trace=_sends_to_two(0), services=services)
    assert [line.amount for line in outcome.bill.lines if line.item == "balancer"] == [Decimal("14.60")] * 2


def test_what_is_of_a_tier_is_paid_once() -> None:
    """Two services: one fixed fee of 9, 5 GB free once: 8 GB less 5 at 0.1 = 0.30, three quarters of it a's. By hand a has
    730 + 4.50 + 0.225, which is 0.23 by the larger remainder in the order of the services, b the rest."""
    plan, services = two_services(make_tier(fixed_per_month=9, egress_per_gb="0.1", free={"egress_gb": 5}))
    outcome = _replayed(plan, trace=_sends_to_two(8), services=services)
    amounts = {line.item: line.amount for line in outcome.bill.lines if line.tier}
    assert amounts == {"fixed fee": Decimal(9), "egress beyond 5 GB": Decimal("0.30")}
    assert [one.bill.month for one in outcome.services.values()] == [Decimal("734.73"), Decimal("734.57")]


def test_a_zone_with_two_services_is_paid_once() -> None:
    """Both have a replica in the zone east, a another in west: 1460 zone-hours at 0.01, of which a has 730 + 365."""
    tier = make_tier(zones=["east", "west"], zone_per_hour="0.01")
    plan, services = two_services(tier, replicas=2)
    plan = plan.replace(services={**plan.services, "b": plan.of("b").replace(replicas=1)})
    outcome = _replayed(plan, trace=_sends_to_two(0), services=services)
    (line,) = (line for line in outcome.bill.lines if line.item == "zones")
    assert (line.quantity, line.amount) == (Decimal(1460), Decimal("14.60"))
    assert outcome.services["a"].bill.month == Decimal(1460) + Decimal("10.95")


def test_an_hour_with_a_replica_for_a_minute_is_a_zone_hour() -> None:
    """Of a day the second replica, in west, is there from 12:00 to 12:01 and from 13:30 to 14:00: 2 of 24 hours, 60.833333
    a month; the first is in east all the time."""
    tier = make_tier(billing="per_second", zones=["east", "west"], zone_per_hour=1)
    table = [
        {"at": "00:00", "floor": 1, "ceiling": 1}, {"at": "12:00", "floor": 2, "ceiling": 2},
        {"at": "12:01", "floor": 1, "ceiling": 1}, {"at": "13:30", "floor": 3, "ceiling": 3},
        {"at": "14:00", "floor": 1, "ceiling": 1},
    ]  # fmt: skip
    plan = make_plan(tier, scaling={"rule": "fixed", "timetable": table})
    trace = make_trace([0], wait=1, span_s=DAY, start="2031-06-05")
    outcome = _replayed(plan, trace=trace)
    (line,) = (line for line in outcome.bill.lines if line.item == "zones")
    assert line.quantity == Decimal("790.833333")


def test_a_commitment_above_what_is_used() -> None:
    """Four committed at 0.7, two used: 4 x 730 x 0.7 = 2044; beyond it nothing. 300 once for 12 months are 25. Half of it is
    not used."""
    plan = make_plan(replicas=2, committed=[{"replicas": 4, "off": "30%", "upfront": 300, "months": 12}])
    outcome = _replayed(plan)
    assert {line.item: line.amount for line in outcome.bill.lines} == {
        "replicas of size s, committed": Decimal(2044),
        "replicas of size s, committed, upfront": Decimal(25),
        "replicas of size s, beyond 4 committed": Decimal(0),
    }
    kinds = {one.name: one.amount for one in outcome.costs.kinds}
    assert kinds["committed"] == Decimal("1034.50")


def test_commitments_below_what_is_used() -> None:
    """One at half, one at 0.8, and a third at the full price: 365 + 584 + 730."""
    plan = make_plan(replicas=3, committed=[{"replicas": 1, "off": "50%"}, {"replicas": 1, "off": "20%"}])
    assert _paid(plan) == {
        "replicas of size s, entry 1, committed": Decimal(365),
        "replicas of size s, entry 2, committed": Decimal(584),
        "replicas of size s, beyond 2 committed": Decimal(730),
    }


def test_beyond_a_commitment_lives_are_rounded_by_themselves() -> None:
    """Three hours, by started hours: the second replica goes after 90 min and is billed 2 h. One committed: the second is beyond
    it, 2 of 3 h, 486.67 a month. Two committed: nothing is beyond."""
    table = [{"at": "00:00", "floor": 2, "ceiling": 2}, {"at": "01:30", "floor": 1, "ceiling": 1}]
    trace = make_trace([0], wait=1, span_s=3 * 3600, start="2031-06-05")
    for n, beyond in ((1, "486.67"), (2, "0.00")):
        plan = make_plan(replicas=2, scaling={"rule": "fixed", "timetable": table}, committed=[{"replicas": n}])
        assert _paid(plan, trace=trace)[f"replicas of size s, beyond {n} committed"] == Decimal(beyond)


def test_a_rounding_counts_at_the_rank_of_its_number() -> None:
    """A release at half past replaces number 1 by number 2: number 1 is billed to the full hour beside it. With one committed
    it is number 1 that is committed up to there, number 2 is paid for half an hour of the three: 121.67."""
    plan = make_plan(replicas=1, committed=[{"replicas": 1}], rollouts=[{"at": 1800, "strategy": "rolling"}])
    trace = make_trace([0], wait=1, span_s=3 * 3600)
    found = _paid(plan, Terms(month={"events": "as_traced"}), trace=trace)
    assert found["replicas of size s, beyond 1 committed"] == Decimal("121.67")


def test_the_least_of_a_month_fills_up() -> None:
    """730 + a fee of the size of 3 + the fixed fee of 7 are 740; 800 are asked for: 60 more. The plan's own fee of 5 does not
    count. Where 700 are asked for nothing is added."""
    size = {"cores": 1, "per_hour": 1, "fees": [{"name": "image", "per_month": 3}]}
    for least, more in ((800, {"up to the least of a month": Decimal(60)}), (700, {})):
        tier = make_tier(sizes={"s": size}, fixed_per_month=7, least_per_month=least)
        found = _paid(make_plan(tier, fees=[{"name": "pager", "per_month": 5}]))
        assert found == {
            "replicas of size s": Decimal(730), "fixed fee": Decimal(7), "image": Decimal(3), "pager": Decimal(5),
        } | more  # fmt: skip


def test_fees_by_time() -> None:
    """120 a year are 10 a month; 0.01 an hour 7.30; 90 once over 18 months 5; 2 a month."""
    fees = [
        {"name": "name", "per_year": 120}, {"name": "watch", "per_hour": "0.01"},
        {"name": "move", "once": 90, "over": 18}, {"name": "mail", "per_month": 2},
    ]  # fmt: skip
    found = _paid(make_plan(), Terms(fees=fees))
    assert found == {
        "replicas of size s": Decimal(730), "name": Decimal(10), "watch": Decimal("7.30"), "move": Decimal(5),
        "mail": Decimal(2),
    }  # fmt: skip


def test_fees_by_replica() -> None:
    """Two services with two replicas: 2920 replica-h, of which 1000 at 0.02 = 20 and 1920 at 0.01 = 19.20; at most 4 at once,
    at 3 each 12; of the plan of a 2 x 5."""
    tier = make_tier(
        fees=[
            {"name": "agent", "per_replica_hour": [{"up_to": 1000, "price": "0.02"}, {"price": "0.01"}]},
            {"name": "seat", "per_replica_month": 3},
        ]
    )
    plan, services = two_services(tier, replicas=2)
    mine = plan.of("a").replace(fees=[{"name": "key", "per_replica_month": 5}])
    plan = plan.replace(services={**plan.services, "a": mine})
    outcome = _replayed(plan, trace=_sends_to_two(0), services=services)
    fees = {line.item: line.amount for line in outcome.bill.lines if "replicas" not in line.item}
    assert fees == {
        "agent, up to 1,000 replica-h": Decimal(20), "agent, beyond 1,000 replica-h": Decimal("19.20"),
        "seat": Decimal(12), "key": Decimal(10),
    }  # fmt: skip


def test_where_nothing_is_billed_by_time_replicas_are_counted_as_they_lived() -> None:
    """By use: one replica all month, 730 replica-h at 0.1. By the month: two at once, 1460 h."""
    fee = {"fees": [{"name": "agent", "per_replica_hour": "0.1"}]}
    used = make_tier(billing="per_request", per_core_second=1, sizes={"s": {"cores": 1}}, **fee)
    assert _paid(make_plan(used))["agent"] == Decimal(73)
    flat = make_tier(billing="per_month", sizes={"s": {"cores": 1, "per_month": 9}}, **fee)
    assert _paid(make_plan(flat, replicas=2)) == {"replicas of size s": Decimal(18), "agent": Decimal(146)}


def test_fees_by_requests_and_by_size() -> None:
    """4 attempts in a second of a trace that stands 2,628,000 times: 10.512 million; at 2 a million 21.02; logs of 500 bytes
    each are 5.256 GB at 0.5 = 2.63; 20 GB of disk at 0.1 = 2; 10 GB for each of two replicas at 0.1 = 2."""
    fees = [
        {"name": "filter", "per_million_requests": 2},
        {"name": "logs", "per_gb": "0.5", "bytes_per_request": 500},
        {"name": "files", "per_gb": "0.1", "gb": 20},
        {"name": "disks", "per_gb": "0.1", "gb": 10, "each": "replica"},
    ]
    trace = make_trace([0, 0.1, 0.2, 0.3], wait=0.1, span_s=1)
    found = _paid(make_plan(replicas=2, fees=fees), trace=trace)
    assert found == {
        "replicas of size s": Decimal(1460), "filter": Decimal("21.02"), "logs": Decimal("2.63"), "files": Decimal(2),
        "disks": Decimal(2),
    }  # fmt: skip


@pytest.mark.parametrize(
    ("limits", "amount"), [({}, "73.00"), ({"least": 100}, "100.00"), ({"most": 50}, "50.00"), ({"least": 20}, "73.00")]
)
def test_a_share_of_the_bill(limits: dict[str, int], amount: str) -> None:
    """A tenth of 730, at least or at most."""
    support = {"name": "support", "share": "10%"} | limits
    assert _paid(make_plan(), Terms(fees=[support]))["support"] == Decimal(amount)


def test_shares_of_shares_and_tax() -> None:
    """Of the plan: a tenth of 730 + 4 GB at 1 = 73.40, not of the fixed fee of 6. Of the tier: a tenth of 730 + 4 + 6 + 73.40 =
    81.34. Of the study: a tenth of all, 894.74: 89.47. Tax: a fifth of 984.21 = 196.84."""
    tenth = {"share": "10%"}
    tier = make_tier(egress_per_gb=1, fixed_per_month=6, fees=[{"name": "second"} | tenth])
    plan = make_plan(tier, fees=[{"name": "first"} | tenth])
    found = _paid(plan, Terms(fees=[{"name": "third"} | tenth], tax="20%"), trace=_sends(4))
    assert found == {
        "replicas of size s": Decimal(730), "egress": Decimal(4), "fixed fee": Decimal(6), "first": Decimal("73.40"),
        "second": Decimal("81.34"), "third": Decimal("89.47"), "tax": Decimal("196.84"),
    }  # fmt: skip


def test_two_shares_of_one_rank_are_not_on_each_other() -> None:
    """Both a tenth of 730."""
    fees = [{"name": name, "share": "10%"} for name in ("one", "two")]
    assert _paid(make_plan(), Terms(fees=fees)) == {
        "replicas of size s": Decimal(730), "one": Decimal(73), "two": Decimal(73),
    }  # fmt: skip


def test_three_services_on_two_tiers() -> None:
    """a and b on one tier with a fixed fee of 10, c on another with 20: 10 and 20, once each; replicas 730, 730 and 2 x 1460.
    c has its own lines after those of the first tier."""
    near, far = make_tier(name="near", fixed_per_month=10), make_tier(name="far", fixed_per_month=20, cores=2)
    plan = Plan(
        name="three",
        services={
            "a": make_plan(near).only,
            "c": make_plan(far, replicas=2).only,
            "b": make_plan(near).only,
        },
    )
    services = {name: Service(slots=5, routes=[f"/{name}"], cpu_share=1) for name in "acb"}
    trace = make_trace([0, 1, 2], wait=1, route=["/a", "/b", "/c"], span_s=TENTH)
    outcome = _replayed(plan, trace=trace, services=services)
    assert [(line.service, line.tier, line.amount) for line in outcome.bill.lines] == [
        ("a", None, Decimal(730)), ("b", None, Decimal(730)), (None, "near", Decimal(10)), ("c", None, Decimal(1460)),
        (None, "far", Decimal(20)),
    ]  # fmt: skip
    assert {name: one.bill.month for name, one in outcome.services.items()} == {
        "a": Decimal(735), "c": Decimal(1480), "b": Decimal(735),
    }  # fmt: skip


# -- months ------------------------------------------------------------------------------------------


def _two_days() -> Trace:
    """Wednesday 4 June with one gigabyte at noon, and Thursday 5 June with ten."""
    return Trace.from_arrays(
        at_s=[43200, DAY + 43200], cpu_s=[0, 0], wait_s=[1, 1], bytes_out=[1e9, 1e10], span_s=2 * DAY,
        start="2031-06-04",
    )  # fmt: skip


@pytest.mark.parametrize(
    ("days", "egress"),
    [
        (None, "167.29"),  # 11 GB in 48 of 730 h
        ({"2031-06-05": 1, "other": 29}, "39.54"),  # (10 + 29 x 1) x 730 / 720
        ({"thu": 1, "2031-06-04": 29}, "39.54"),
        ({"2031-06-05": 4, "wed": 26}, "66.92"),  # (40 + 26) x 730 / 720
        ({"2031-06-04": 1}, "30.42"),  # that day all month: the other counts nothing
    ],
)
def test_a_special_day_and_ordinary_ones(days: dict[str, float] | None, egress: str) -> None:
    """Each day so many times, all scaled to 730 h; replicas are there all month whatever the days."""
    month = {"days": [{"day": day, "times": times} for day, times in (days or {}).items()]}
    found = _paid(make_plan(make_tier(egress_per_gb=1)), Terms(month=month), trace=_two_days())
    assert found == {"replicas of size s": Decimal(730), "egress": Decimal(egress)}


def test_a_change_of_clocks_takes_no_days_place() -> None:
    """Sunday 26 October has 25 hours, two of them from 01:00 to 02:00: with 1 GB in each of these the hour counts 1 GB, beside one
    at noon: 2 GB a day, of which 30 are the month: 60 x 730 / 720 = 60.83."""
    trace = Trace.from_arrays(
        at_s=[1.5 * 3600, 2.5 * 3600, 13 * 3600], cpu_s=np.zeros(3), wait_s=np.ones(3), bytes_out=np.full(3, 1e9),
        span_s=25 * 3600, start="2031-10-26", time_zone="Europe/Lisbon",
    )  # fmt: skip
    terms = Terms(month={"days": [{"day": "sun", "times": 30}]})
    assert _paid(make_plan(make_tier(egress_per_gb=1)), terms, trace=trace)["egress"] == Decimal("60.83")


def test_a_day_cut_short_takes_no_others_place() -> None:
    """Half of Thursday: its hours stand once each, the 24 of Wednesday 29 times: 708 h, scaled to 730. 1 GB x 29 x 730 / 708."""
    trace = Trace.from_arrays(
        at_s=[43200], cpu_s=[0], wait_s=[1], bytes_out=[1e9], span_s=1.5 * DAY, start="2031-06-04"
    )
    terms = Terms(month={"days": [{"day": "2031-06-05", "times": 1}, {"day": "other", "times": 29}]})
    assert _paid(make_plan(make_tier(egress_per_gb=1)), terms, trace=trace)["egress"] == Decimal("29.90")


def test_an_event_happens_once() -> None:
    """A second replica for two hours of a day of 24: once a month 2 h more than 730, as traced 30.42 times, 60.83."""
    plan, trace = make_plan(make_tier(billing="per_second"), rollouts=[SWITCH]), make_trace([0], wait=1, span_s=DAY)
    assert _paid(plan, trace=trace) == {"replicas of size s": Decimal(732)}
    assert _paid(plan, Terms(month={"events": "as_traced"}), trace=trace) == {"replicas of size s": Decimal("790.83")}
    daily = make_plan(make_tier(billing="per_second"), rollouts=[SWITCH | {"daily": True, "at": "01:00"}])
    dated = make_trace([0], wait=1, span_s=DAY, start="2031-06-05")
    assert _paid(daily, trace=dated) == {"replicas of size s": Decimal("790.83")}


def test_what_counts_at_once_counts_in_both_replays() -> None:
    """Two at once during the release: two months of a replica."""
    tier = make_tier(billing="per_month", sizes={"s": {"cores": 1, "per_month": 9}})
    assert _paid(make_plan(tier, rollouts=[SWITCH]), trace=make_trace([0], wait=1, span_s=DAY)) == {
        "replicas of size s": Decimal(18)
    }


def test_two_halves_of_a_month_make_the_month() -> None:
    """A trace that is the same twice over costs what it costs once."""
    at = np.sort(np.random.default_rng(1).uniform(0, TENTH / 2, 50))
    once = make_trace(at.tolist(), wait=60, bytes_out=[1e8] * 50, span_s=TENTH / 2)
    twice = make_trace([*at.tolist(), *(at + TENTH / 2).tolist()], wait=60, bytes_out=[1e8] * 100, span_s=TENTH)
    tier = make_tier(egress_per_gb=EGRESS, fixed_per_month=3, billing="per_second")
    terms = Terms(tax="20%")
    assert _paid(make_plan(tier), terms, trace=once) == _paid(make_plan(tier), terms, trace=twice)


# -- everything at once ------------------------------------------------------------------------------


def _everything(**more: Any) -> Tier:
    return make_tier(
        billing="per_second", egress_per_gb=EGRESS, free={"egress_gb": 5}, balancer_per_hour="0.01", fixed_per_month=6,
        zone_per_hour="0.02", fees=[{"name": "agent", "per_replica_hour": "0.01"}], **more,
    )  # fmt: skip


@pytest.mark.parametrize(
    ("keys", "terms", "total"),
    [
        # 730 + 7.30 + 14.60 + (25 - 5 = 20 GB: 0.90 + 0.70) + 6 + 7.30
        ({}, {}, "766.80"),
        # + a tenth of the service's lines and of egress and zones, 730 + 7.30 + 14.60 + 1.60 = 753.50: 75.35
        ({"fees": [{"name": "care", "share": "10%"}]}, {}, "842.15"),
        # committed at 0.9: 657 instead of 730, beyond it nothing: 693.80
        ({"committed": [{"replicas": 1, "off": "10%"}]}, {}, "693.80"),
        # tax of a fifth on 766.80: 153.36
        ({}, {"tax": "20%"}, "920.16"),
        # a month of 30 such days: 25 GB in a month of 730 h are 25 / 730 x 24 a day; the same
        ({}, {"fees": [{"name": "support", "share": "3%", "least": 29}]}, "795.80"),
        # support 29, then tax on 795.80: 159.16
        ({}, {"fees": [{"name": "support", "share": "3%", "least": 29}], "tax": "20%"}, "954.96"),
    ],
)
def test_everything_at_once(keys: dict[str, Any], terms: dict[str, Any], total: str) -> None:
    outcome = _replayed(make_plan(_everything(), **keys), Terms(**terms), trace=_sends(25))
    assert outcome.bill.month == Decimal(total)


def test_everything_up_to_the_least() -> None:
    """766.80 filled up to 900 by 133.20; a tax of a tenth: 990."""
    outcome = _replayed(make_plan(_everything(least_per_month=900)), Terms(tax="10%"), trace=_sends(25))
    assert outcome.bill.month == Decimal(990)


# -- what holds of all -------------------------------------------------------------------------------


@given(*months)
def test_all_tables_add_up(
    keys: dict[str, Any], own: list[Any], tax: float, together: bool, committed: int, events: Any
) -> None:
    """To the cent: lines to the bill, the shares of services, routes, hours and kinds to each line."""
    _adds_up(of_everything(keys, own, tax, together, committed, events))


amounts = st.fixed_dictionaries(
    {"requests": st.integers(0, 10**8), "egress": st.integers(0, 10**12), "in_use": st.integers(0, 10**7)}
)


@given(catalogues, fees, amounts, amounts, st.integers(0, 5), st.integers(0, 5), st.integers(0, 3))
def test_more_of_anything_never_costs_less(
    keys: dict[str, Any], own: list[Any], used: dict[str, int], more: dict[str, int], n: int, extra: int, committed: int
) -> None:
    """So the lines of the least use are a lower bound, of all services together."""
    tier = make_tier(zones=["east", "west"], **keys)
    of = {"fees": own, "committed": [{"replicas": committed}] if committed else []}
    services = {"a": make_plan(tier, **of).only, "b": make_plan(tier).only}

    def known(amounts: dict[str, int], replicas: int) -> Known:
        month_s = Fraction(730 * 3600)
        return Known(
            {name: {item: Fraction(amount) for item, amount in amounts.items()} for name in services},
            dict.fromkeys(services, (month_s,) * replicas),
            dict.fromkeys(services, replicas),
            {name: Fraction(730 * min(2, replicas)) for name in services},
        )

    terms = Terms(fees=own, tax=0.2)
    least = least_of(services, known(used, n), terms)
    added = {item: used[item] + more[item] for item in used}
    lines = charges_of(services, known(added, n + extra), terms)
    assert least <= sum(charge.line.amount for charge in lines)


@given(st.decimals(0, 1000, places=2), st.lists(st.integers(0, 100), min_size=1, max_size=6))
def test_cents_by_largest_remainder(amount: Decimal, parts: list[int]) -> None:
    """They add up, and none is a cent or more away from its exact share."""
    whole = sum(parts)
    if not whole:
        return
    shares = {str(place): Fraction(part, whole) for place, part in enumerate(parts)}
    found = by_largest_remainder(amount, shares)
    assert sum(found.values()) == amount
    assert all(abs(Fraction(found[name]) - shares[name] * Fraction(amount)) < Fraction(1, 100) for name in shares)


MISTAKES: list[tuple[dict[str, Any], dict[str, Any], str]] = [
    ({"egress_per_gb": [{"up_to": 5, "price": 1}, {"up_to": 5, "price": 2}, {"price": 3}]}, {}, "steps whose up_to rises"),
    ({"egress_per_gb": [{"price": 1}, {"up_to": 5, "price": 2}]}, {}, "steps whose up_to rises"),
    ({"egress_per_gb": [{"up_to": 5, "price": 1}]}, {}, "the last without one"),
    ({"egress_per_gb": []}, {}, "steps whose up_to rises"),
    ({"egress_per_gb": [{"price": 1, "colour": 2}]}, {}, "steps whose up_to rises"),
    ({"fees": [{"name": "x", "share": "130%"}]}, {}, "at most 100%"),
    ({"fees": [{"name": "x"}]}, {}, "fee 'x': found none of them; allowed: one of per_month"),
    ({"fees": [{"name": "x", "per_month": 1, "share": 0.1}]}, {}, "found per_month and share"),
    ({"fees": [{"name": "x", "once": 5}]}, {}, "once needs over"),
    ({"fees": [{"name": "x", "per_gb": 5}]}, {}, "per_gb needs bytes_per_request or gb"),
    ({"fees": [{"name": "x", "per_gb": 5, "gb": 1, "bytes_per_request": 1}]}, {}, "allowed: one of them"),
    ({"fees": [{"name": "x", "per_month": 5, "over": 3}]}, {}, "over needs once"),
    ({"fees": [{"name": "x", "share": 0.1, "least": 5, "most": 3}]}, {}, "least = 5 is above most = 3"),
    ({"fees": [{"name": "x", "per_month": 1}, {"name": "x", "per_year": 9}]}, {}, "fees: 'x' stands there twice"),
    ({}, {"committed": [{"replicas": -1}]}, "at least 0"),
    ({}, {"committed": [{"replicas": 1, "off": "120%"}]}, "at most 100%"),
    (
        {"sizes": {"s": {"cores": 1, "per_hour": [{"up_to": 5, "price": 1}, {"price": 2}]}}},
        {"committed": [{"replicas": 1}]},
        "committed: size 's' has its per_hour in steps; allowed: a single price",
    ),
    (
        {"billing": "per_month", "sizes": {"s": {"cores": 1, "per_month": 1}}},
        {"committed": [{"replicas": 1}]},
        "has billing = 'per_month'; allowed: per_second or per_hour",
    ),
]  # fmt: skip


@pytest.mark.parametrize(("tier", "plan", "sentence"), MISTAKES)
def test_mistakes_in_prices(tier: dict[str, Any], plan: dict[str, Any], sentence: str) -> None:
    with pytest.raises(StudyError) as error:
        make_plan(make_tier(**tier), **plan)
    assert sentence in str(error.value)


@pytest.mark.parametrize(
    ("month", "sentence"),
    [
        ({"days": [{"day": "2031-06-07", "times": 1}]}, "'2031-06-07', of which the trace (2031-06-04 to 2031-06-05)"),
        ({"days": [{"day": "sat", "times": 1}]}, "found 'sat', of which the trace"),
        ({"days": [{"day": day, "times": 1} for day in ("wed", "thu", "other")]}, "found 'other', of which the trace"),
        ({"days": [{"day": "wed", "times": 1}, {"day": "wed", "times": 2}]}, "'wed' stands there twice"),
        ({"days": [{"day": "wed", "times": 0}]}, "times are 0 in all"),
        ({"days": [{"day": "wed", "times": -1}]}, "at least 0"),
        ({"days": [{"day": "someday", "times": 1}]}, "'someday'; allowed: a date such as"),
        ({"days": [{"day": "wed", "times": 1}], "events": "once"}, 'events = "once" beside days'),
        ({"events": "never"}, "'never'; allowed"),
    ],
)
def test_mistakes_in_months(month: dict[str, Any], sentence: str) -> None:
    with pytest.raises(StudyError) as error:
        replay(_two_days(), Service(slots=5), make_plan(), terms=Terms(month=month))
    assert sentence in str(error.value)


def test_days_need_dates() -> None:
    terms = Terms(month={"days": [{"day": "wed", "times": 30}]})
    with pytest.raises(StudyError, match="this trace does not say when it starts"):
        replay(make_trace([0], span_s=DAY), Service(slots=5), make_plan(), terms=terms)
