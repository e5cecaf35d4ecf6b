"""Mixed fleets: which tier an order goes to, what is taken back, what is paid, and what a search finds over them."""

from __future__ import annotations

import json
from decimal import Decimal
from itertools import product
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
import tomli_w
from hypothesis import given, settings, strategies as st

from builders import both, make_case, make_plan, make_tier, make_trace
from libramen import Objectives, Outcome, Plan, Service, Tier, Trace, compare, events, load_study, replay, search
from libramen.base.errors import StudyError
from libramen.cli import run
from libramen.prices.lines import named
from libramen.questions.bounds import least_cost, likely_cost
from libramen.questions.check import check
from libramen.runs.store import Store
from libramen.study.schema import schema_of_output
from libramen.study.system import System
from libramen.study.terms import Account, Terms
from libramen.study.written import plan_toml

if TYPE_CHECKING:
    from pathlib import Path

SERVICE = Service(slots=4)


def lasting(**values: Any) -> Tier:
    return make_tier(name="lasting", **{"provision": 1} | values)


def lent(**values: Any) -> Tier:
    """Half the price, and its machines may be taken back."""
    values = {"provision": 1, "interruptible": True, "sizes": {"s": {"cores": 1, "per_hour": "0.5"}}} | values
    return make_tier(name="lent", **values)


def mixed(first: int = 2, one: Tier | None = None, other: Tier | None = None, **values: Any) -> Plan:
    entries = [{"tier": one or lasting(), "size": "s", "replicas": first}, {"tier": other or lent(), "size": "s"}]
    return Plan(mix=entries, **{"replicas": 4} | values)


def quiet(span_s: float = 60) -> Trace:
    return make_trace([0.0, 1.0], span_s=span_s)


def entries(outcome: Outcome) -> list[int]:
    """Of each replica ever ordered the entry of which its machine is."""
    return [replica.entry for replica in outcome.only.run.replicas]


def lives(outcome: Outcome) -> list[tuple[int, float, float | None]]:
    """Of each replica its entry, from when it was paid, and when it was gone."""
    return [(one.entry, one.bought_s or 0.0, one.gone_s) for one in outcome.only.run.replicas]


# -- which tier ----------------------------------------------------------------------------------------


def test_orders_fill_the_first_entry_that_is_short_and_drains_empty_the_last() -> None:
    rule = {"rule": "target", "measure": "in_progress", "target": 1, "every": "1s", "ceiling": 5}
    trace = make_trace([0.0] * 5, cpu=[1.0, 1.0, 1.0, 1.0, 9.0], span_s=60)
    found = both(trace, Service(slots=9), mixed(replicas=1, scaling=rule))
    assert entries(found) == [0, 0, 1, 1, 1]
    # Down again: the last entry, newest first, then the first.
    gone = sorted((one.gone_s, -one.number, one.entry) for one in found.only.run.replicas if one.gone_s is not None)
    assert [entry for _, _, entry in gone] == [1, 1, 1, 0, 0]


def test_what_an_entry_has_beyond_its_number_is_drained_first() -> None:
    """Of the fleet of four all four came to be of the first tier, while the other had none."""
    scaling = between(("00:00", 4), ("00:01", 2))
    shortage = {"kind": "no_stock", "tier": "lent", "at": 0, "lasts": 50}
    back = {"kind": "reclaim", "tier": "lent", "share": 1, "at": 5}
    plan = mixed(1, replicas=4, replacement="other", scaling=scaling, faults=[shortage, back])
    found = both(day(), SERVICE, plan)
    assert entries(found) == [0, 1, 1, 1, 0, 0, 0]
    assert [one.number for one in found.only.run.replicas if one.why_gone == "scaling"] == [6, 7]


def day(span_s: float = 300) -> Trace:
    return Trace.from_arrays(at_s=[0.0], cpu_s=[0.0], wait_s=[0.0], span_s=span_s, start="2031-06-05T00:00:00+00:00")


def between(*steps: tuple[str, int]) -> dict[str, Any]:
    """A fleet whose size follows the clock."""
    return {"rule": "fixed", "timetable": [{"at": at, "floor": n, "ceiling": n} for at, n in steps]}


def test_beyond_its_number_goes_before_the_last_entry_and_coming_before_ready() -> None:
    shortage = {"kind": "no_stock", "tier": "lent", "at": 0, "lasts": 50}
    back = {"kind": "reclaim", "tier": "lent", "share": 1, "at": 5}
    steps = between(("00:00", 4), ("00:01", 6), ("00:02", 3))
    found = both(day(), SERVICE, mixed(1, replacement="other", faults=[shortage, back], scaling=steps))
    # Four of the first tier came to be there; two lent ones came at 60 and stay, three of the four go.
    assert entries(found) == [0, 1, 1, 1, 0, 0, 0, 1, 1]
    assert [one.number for one in found.only.run.replicas if one.why_gone == "scaling"] == [5, 6, 7]
    slow = mixed(1, other=lent(provision=60), replicas=3, scaling=between(("00:00", 3), ("00:01", 4), ("00:01:10", 3)))
    found = both(day(), SERVICE, slow)
    assert [(one.number, one.ready_s) for one in found.only.run.replicas if one.gone_s is not None] == [(4, None)]


def test_what_starts_on_a_freed_machine_keeps_its_tier() -> None:
    shortage = {"kind": "no_stock", "tier": "lent", "at": 0, "lasts": 50}
    back = {"kind": "reclaim", "tier": "lent", "share": 1, "at": 5}
    release = {"strategy": "rolling", "at": 60, "spare": 0, "keep": 3, "in_place": True}
    plan = mixed(1, replacement="other", faults=[shortage, back], rollouts=[release])
    found = both(quiet(200), SERVICE, plan)
    assert entries(found) == [0, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0]


def test_each_tier_restarts_and_takes_back_in_its_own_way() -> None:
    one = lasting(restarts="at_once", detect=5)
    other = lent(restarts="when_found", detect=5, on_notice="drain", notice=20)
    crashes = [{"kind": "crash", "at": 10, "replica": number} for number in (1, 4)]
    back = {"kind": "reclaim", "at": 30, "replica": 3}
    found = both(quiet(), Service(slots=1, start=2), mixed(one=one, other=other, faults=[*crashes, back]))
    first, _, third, fourth, *_ = found.only.run.replicas
    assert [round(to_s, 9) for _, to_s in first.down] == [12.0]
    assert [round(to_s, 9) for _, to_s in fourth.down] == [17.0]
    assert (third.draining_s, third.gone_s) == (30.0, 30.0)


def test_an_order_that_cannot_be_met_waits_or_moves_and_is_not_moved_back() -> None:
    shortage = {"kind": "no_stock", "tier": "lent", "at": 5, "lasts": 30}
    back = {"kind": "reclaim", "tier": "lent", "share": 1, "at": 10, "notice": 4}
    other = lent(order_again=7)
    # Tried at 10, 17, 24, 31 and 38; the shortage is over at 35.
    waits = both(quiet(), SERVICE, mixed(other=other, faults=[shortage, back]))
    assert lives(waits)[2:] == [(1, 0.0, 14.0), (1, 0.0, 14.0), (1, 38.0, None), (1, 38.0, None)]
    moves = both(quiet(), SERVICE, mixed(other=other, faults=[shortage, back], replacement="other"))
    # There a second after the notice, in whose place they are: the old ones drain then.
    assert lives(moves)[2:] == [(1, 0.0, 11.0), (1, 0.0, 11.0), (0, 10.0, None), (0, 10.0, None)]
    told = next(finding for finding in moves.findings if finding.kind == "mixed")
    assert (told.figures["taken"], told.figures["moved"]) == ({"lent": 2}, {"lent": 2})
    assert told.text.startswith("Mixed fleet: 2 machines of lent were taken back; 2 orders of lent could not be met")


def test_all_are_out_of_stock_where_no_tier_is_named() -> None:
    shortage = {"kind": "no_stock", "at": 5, "lasts": 30}
    back = {"kind": "reclaim", "share": 1, "at": 10}
    tiers = {"one": lasting(order_again=100), "other": lent(order_again=20)}
    found = both(quiet(), SERVICE, mixed(**tiers, faults=[shortage, back], replacement="other"))
    # Later tries go to the other tier too, but begin with its own.
    assert lives(found)[4:] == [(1, 50.0, None), (1, 50.0, None)]


def test_an_entry_at_its_most_cannot_be_ordered() -> None:
    trace = Trace.from_arrays(at_s=[0.0], cpu_s=[0.0], wait_s=[0.0], span_s=30, start="2031-06-05T00:00:00+00:00")
    for replacement, wanted in (("same", [0, 1, 1, 1, 1]), ("other", [0, 1, 1, 0, 0])):
        plan = mixed(
            1, other=lent(replicas={"least": 0, "most": 2}), replicas=1, replacement=replacement,
            scaling=between(("00:00", 5)),
        )  # fmt: skip
        found = both(trace, SERVICE, plan)
        assert entries(found) == wanted
        bought = [one.entry for one in found.only.run.replicas if one.bought_s is not None]
        assert bought == ([0, 1, 1] if replacement == "same" else wanted)


def test_a_reclaim_takes_of_one_entry_or_of_those_that_may_be_taken() -> None:
    for fault, taken in (
        ({"share": 1}, [3, 4]),
        ({"share": "50%", "tier": "lent"}, [3]),
        ({}, [3]),
        ({"replica": 1}, []),
        ({"replica": 4}, [4]),
    ):
        found = both(quiet(), SERVICE, mixed(faults=[{"kind": "reclaim", "at": 10, **fault}]))
        assert [one.number for one in found.only.run.replicas if one.is_reclaimed] == taken
    drawn = mixed(faults=[{"kind": "reclaim", "at": 10, "replica": "any"}])
    for seed in range(8):
        found = both(quiet(), SERVICE, drawn, seed=seed)
        assert [one.entry for one in found.only.run.replicas if one.is_reclaimed] == [1]


def test_machines_taken_at_random_are_of_the_tier_that_takes_them() -> None:
    """Each of two machines is taken about once in 100 s, for 10,000 s: 200 times, give or take some fourteen."""
    found = replay(quiet(10_000), SERVICE, mixed(other=lent(reclaimed_every=100, provision=0)))
    taken = [one.entry for one in found.only.run.replicas if one.is_reclaimed]
    assert set(taken) == {1}
    assert len(found.only.run.faults) == len(taken)
    assert 150 < len(taken) < 250
    both_take = mixed(one=lasting(interruptible=True, reclaimed_every=400), other=lent(reclaimed_every=100))
    taken = [one.entry for one in replay(quiet(10_000), SERVICE, both_take).only.run.replicas if one.is_reclaimed]
    assert 25 < taken.count(0) < 80 < 140 < taken.count(1)


def test_each_tier_has_its_own_times() -> None:
    """Four die at once of the zone; each comes back when its own tier has one."""
    one, other = lasting(provision=5, zones=["a", "b"]), lent(provision=2, billed_from="ready", zones=["a", "b"])
    loss = {"kind": "zone_loss", "zone": "a", "at": 10, "lasts": 1, "detect": 0}
    found = both(quiet(), SERVICE, mixed(one=one, other=other, faults=[loss]))
    new = [(one.entry, one.ready_s) for one in found.only.run.replicas[4:]]
    assert new == [(0, 15.0), (1, 12.0)]
    assert found.only.fleet["tier"].tolist() == ["lasting", "lasting", "lent", "lent", "lasting", "lent"]
    paid = found.only.fleet["paid_s"].tolist()
    assert paid == [10, 60, 10, 60, 50, 48]


def test_idle_ones_that_an_entry_asks_for_stay() -> None:
    rule = {"rule": "on_arrival", "idle": 5, "floor": 0, "ceiling": 9}
    trace = make_trace([0.0] * 4, cpu=1.0, span_s=60)
    tiers = {"one": lasting(holds_requests=True), "other": lent(holds_requests=True)}
    found = both(trace, Service(slots=1), mixed(2, **tiers, replicas=0, scaling=rule))
    assert entries(found) == [0, 0, 1, 1]
    assert [one.gone_s is None for one in found.only.run.replicas] == [True, True, False, False]


def test_numbers_hold_within_each_version_and_a_freed_machine_keeps_its_tier() -> None:
    switch = both(quiet(), SERVICE, mixed(rollouts=[{"strategy": "switch", "at": 10}]))
    assert entries(switch) == [0, 0, 1, 1] * 2
    in_place = {"strategy": "rolling", "at": 10, "spare": 0, "keep": 3, "in_place": True}
    found = both(quiet(), SERVICE, mixed(rollouts=[in_place]))
    assert entries(found) == [0, 0, 1, 1] * 2
    # Beside the old ones the first new one is beyond the first entry's number.
    spare = both(quiet(), SERVICE, mixed(rollouts=[{"strategy": "rolling", "at": 10, "spare": 1}]))
    alive = [one.entry for one in spare.only.run.replicas if one.gone_s is None]
    assert sorted(alive) == [0, 0, 1, 1]


def test_a_release_has_no_room_beside_an_entry_that_is_full() -> None:
    full = lent(replicas={"most": 2})
    for strategy, needs, allowed in (("switch", 8, 6), ("rolling", 5, 4)):
        releases = [{"strategy": strategy, "at": 10}]
        with pytest.raises(StudyError, match=f"{needs}.*allowed: up to {allowed}"):
            mixed(other=full, rollouts=releases)
        assert mixed(other=full, rollouts=releases, replacement="other")  # the first entry takes any number
    # A rule is not held to that: a release that finds no room is skipped.
    rule = {"rule": "target", "measure": "rate", "target": 0.001, "floor": 4, "ceiling": 4}
    found = replay(quiet(), SERVICE, mixed(other=full, scaling=rule, rollouts=[{"strategy": "switch", "at": 10}]))
    assert [update.result for update in found.run.only.updates] == ["skipped"]


def test_a_list_of_how_many_there_were_is_made_up_alike() -> None:
    found = both(quiet(), SERVICE, mixed(replicas=[["0s", 3], ["10s", 5], ["20s", 1]]))
    assert entries(found) == [0, 0, 1, 1, 1]
    assert [one.number for one in found.only.run.replicas if one.gone_s is None] == [1]


def test_a_mix_in_regions_is_one_in_each() -> None:
    tiers = {"one": lasting(regions={"east": {}, "west": {"prices": 2}}), "other": lent()}
    back = {"kind": "reclaim", "tier": "lent", "share": 1, "at": 10}
    plan = mixed(1, **tiers, replicas=2, regions={"east": {}, "west": {"replicas": 3}}, faults=[back])
    trace = make_trace([0.0], area=["north"], span_s=3600)
    found = replay(trace, SERVICE, plan, round_trips={"north": {"east": 0.1, "west": 0.2}, "east": {"west": 0.1}})
    of = {name: [one.entry for one in there.run.replicas] for name, there in found.services.items()}
    assert of == {"east": [0, 1, 1], "west": [0, 1, 1, 1, 1]}
    prices = {(line.service, line.item): line.unit_price for line in found.bill.lines}
    assert prices["west", "replicas of size s on lasting"] == 2
    assert prices["west on lent", "replicas of size s on lent"] == Decimal("0.5")
    assert sum(one.bill.month for one in found.services.values()) == found.bill.month
    assert [named(line, ["web", "other"]) for line in found.bill.lines] == [
        "east: replicas of size s on lasting",
        "east: replicas of size s on lent",
        "west: replicas of size s on lasting",
        "west: replicas of size s on lent",
    ]


# -- money ---------------------------------------------------------------------------------------------


def test_each_entry_is_paid_for_at_its_own_price() -> None:
    """Two by the hour at 1, two by the second at 0.5; the balancer is one, the first tier's."""
    one = lasting(balancer_per_hour="0.01", egress_per_gb=1)
    other = lent(billing="per_second", balancer_per_hour=9, egress_per_gb=9)
    trace = make_trace([0.0, 1.0], bytes_out=[500_000, 500_000], span_s=3600)
    found = replay(trace, SERVICE, mixed(one=one, other=other))
    amounts = {(line.service, line.tier, line.key): line.amount for line in found.bill.lines}
    assert amounts == {
        ("service", None, "per_hour"): Decimal(1460),
        ("service", None, "balancer_per_hour"): Decimal("7.30"),
        (None, "lasting", "egress_per_gb"): Decimal("0.73"),
        ("service on lent", None, "per_hour"): Decimal(730),
    }
    assert found.only.bill.month == found.bill.month
    assert [row.name for row in found.costs.services] == ["service"]
    assert sum(row.amount for row in found.costs.kinds) == found.bill.month


def test_fees_of_a_plan_are_of_all_entries_and_commitments_of_the_first() -> None:
    fees = [
        {"name": "watching", "per_replica_hour": "0.1"},
        {"name": "at most", "per_replica_month": 3},
        {"name": "support", "share": "10%"},
        {"name": "counted", "per_million_requests": 1_000_000},
    ]
    plan = mixed(fees=fees, committed=[{"replicas": 2, "off": "50%"}])
    found = replay(quiet(3600), SERVICE, plan)
    amounts = {line.item: line.amount for line in found.bill.lines}
    assert amounts["replicas of size s on lasting, committed"] == 730
    assert amounts["replicas of size s on lasting, beyond 2 committed"] == 0
    assert amounts["replicas of size s on lent"] == 730
    assert amounts["watching"] == 292
    assert amounts["at most"] == 12
    assert amounts["counted"] == 1460
    assert amounts["support"] == Decimal("322.40")
    assert found.only.bill.month == found.bill.month == Decimal("3546.40")


def test_what_is_rounded_up_and_in_steps_goes_by_the_tier() -> None:
    """Lives of 601 and 3,000 s, by the second with a minimum of 900 s; two hours at the one price, then at the other."""
    steps = [{"up_to": 730, "price": 1}, {"price": "0.5"}]
    other = lent(billing="per_second", minimum_billed=900, sizes={"s": {"cores": 1, "per_hour": steps}})
    back = {"kind": "reclaim", "at": 600, "share": 1, "tier": "lent"}
    plan = mixed(other=other, faults=[back], fees=[{"name": "support", "share": "10%"}])
    found = replay(quiet(3600), SERVICE, plan, terms=Terms(month={"events": "as_traced"}))
    amounts = [(line.tier, line.quantity, line.amount) for line in found.bill.lines if line.key == "per_hour"]
    hours = Decimal(7800) / 3600 * 730
    assert [(tier, float(quantity)) for tier, quantity, _ in amounts] == [
        (None, 1460), ("lent", 730), ("lent", pytest.approx(float(hours - 730)))
    ]  # fmt: skip
    lines = {line.item: line.amount for line in found.bill.lines}
    whole = 1460 + 730 + (hours - 730) / 2
    assert float(lines["support"]) == pytest.approx(float(whole / 10), abs=0.01)
    assert found.only.bill.month == found.bill.month


def test_the_least_of_a_mix_that_is_renewed_is_not_made_of_entries() -> None:
    """While the first new one is beyond the first entry's number, that entry has one fewer."""
    one = lasting(billing="per_second", sizes={"s": {"cores": 1, "per_hour": 100}}, provision=300)
    plan = mixed(one=one, other=lent(billing="per_second", provision=300),
                 rollouts=[{"strategy": "rolling", "at": 900, "spare": 1}])  # fmt: skip
    case = make_case(SERVICE, plan, Objectives(), terms=Terms(month={"events": "as_traced"}))
    assert least_cost(case) <= case.replay(quiet(3600)).bill.month
    still = make_case(SERVICE, mixed(), Objectives())
    assert least_cost(still) == pytest.approx(Decimal(2190), abs=Decimal("0.02"))


def test_what_stands_beyond_the_need_is_of_the_last_entry() -> None:
    rule = {"rule": "target", "measure": "in_progress", "target": 1, "every": "60s", "floor": 4, "ceiling": 5}
    found = replay(quiet(3600), SERVICE, mixed(scaling=rule))
    surplus = found.only.scaling.surplus
    assert surplus is not None
    assert float(surplus.month or 0) == pytest.approx(730 * surplus.replica_s / 3600 * 0.5, abs=0.01)


def test_rows_of_costs_say_the_tier(study: Path) -> None:
    loaded = load_study(study)
    rows = loaded.replay("both").cost_rows("s", "2031-06")
    by_name: dict[str, Decimal] = {}
    for row in rows:
        key = f"{row['SkuId']} {row['PricingCategory']}"
        by_name[key] = by_name.get(key, Decimal(0)) + row["BilledCost"]
    assert set(by_name) == {"lasting/s Standard", "lent/s Dynamic"}
    assert {row["ResourceId"] for row in rows} == {"both/service"}
    assert {row["SubAccountId"] for row in rows} == {"service"}
    assert sum(by_name.values()) == loaded.replay("both").bill.month


prices = st.sampled_from(["0.1", "0.5", "1", "2"])


@st.composite
def plans(draw: st.DrawFn) -> Plan:
    """Mixed fleets of all kinds, as far as money is concerned."""
    least = draw(st.integers(0, 1))

    def tier(name: str) -> Tier:
        interruptible = draw(st.booleans())
        return make_tier(
            name=name,
            billing=draw(st.sampled_from(["per_hour", "per_second"])),
            billed_from=draw(st.sampled_from(["ordered", "ordered", "ready"])),
            provision=draw(st.sampled_from([0, 60, 400])),
            order_fails=draw(st.sampled_from([0, 0, 0.5])),
            interruptible=interruptible,
            reclaimed_every=draw(st.sampled_from([None, 600])) if interruptible else None,
            replicas={"least": least, "most": draw(st.sampled_from([None, 6]))},
            balancer_per_hour=draw(st.sampled_from([0, "0.1"])),
            sizes={"s": {"cores": 1, "per_hour": draw(prices)}},
        )

    values: dict[str, Any] = {
        "replicas": draw(st.integers(1, 5)),
        "replacement": draw(st.sampled_from(["same", "other"])),
    }
    if draw(st.booleans()):
        floor = draw(st.integers(least, 2))
        values["scaling"] = {
            "rule": "target", "measure": "in_progress", "target": draw(st.sampled_from([0.2, 1])), "every": 60,
            "floor": floor, "ceiling": draw(st.integers(max(1, floor), 6)),
        }  # fmt: skip
    if draw(st.booleans()):
        values["rollouts"] = [{"strategy": draw(st.sampled_from(["rolling", "switch"])), "at": 900}]
    if draw(st.booleans()):
        kind = draw(st.sampled_from(["zone_loss", "no_stock"]))
        values["faults"] = [{"kind": kind, "at": 700, "lasts": 300, "zone": "one"}]
    if draw(st.booleans()):
        values["fees"] = [{"name": "each", "per_replica_hour": "0.05"}]
    return mixed(draw(st.integers(0, 4)), tier("lasting"), tier("lent"), **values)


@settings(max_examples=max(25, settings().max_examples - 15))
@given(plans(), st.integers(0, 2**32))
def test_a_bound_is_below_the_bill_and_tables_add_up_to_it(plan: Plan, seed: int) -> None:
    trace = make_trace(np.sort(np.random.default_rng(seed).uniform(0, 3600, 300)).tolist(), cpu=5.0, span_s=3600)
    terms = Terms(month={"events": "as_traced"}) if seed % 2 else Terms()
    case = make_case(SERVICE, plan, Objectives(), seed, terms=terms)
    found = case.replay(trace)
    assert least_cost(case) <= found.bill.month
    assert likely_cost(case) >= least_cost(case)
    assert found.only.bill.month == found.bill.month
    for table in (found.costs.services, found.costs.kinds, found.costs.hours, found.costs.lines):
        assert sum(row.amount for row in table) == found.bill.month
    assert sum(row["BilledCost"] for row in found.cost_rows("s", "2031-06")) == found.bill.month


# -- studies, searches, what is asked of them ----------------------------------------------------------

TIERS = {
    "lasting": {
        "billing": "per_hour", "autoscaling": True, "provision": 60, "replicas": {"least": 0},
        "sizes": {"s": {"cores": 1, "per_hour": 1}},
    },
    "lent": {
        "billing": "per_second", "autoscaling": True, "provision": 60, "interruptible": True, "notice": 30,
        "replicas": {"least": 0, "most": 8}, "sizes": {"s": {"cores": 1, "per_hour": 0.25}},
    },
}  # fmt: skip
BOTH: dict[str, Any] = {
    "mix": [{"tier": "lasting", "size": "s", "replicas": 2}, {"tier": "lent", "size": "s"}],
    "replicas": 4,
    "faults": [{"kind": "reclaim", "at": "20m", "share": "100%"}],
}


def write(folder: Path, plans: dict[str, Any], tiers: dict[str, Any] | None = None) -> Path:
    at_s = np.sort(np.random.default_rng(5).uniform(0, 3600, 6000))
    np.savetxt(
        folder / "t.csv", np.column_stack([at_s, np.full(6000, 1.0)]), "%.3f", ",", header="at_s,cpu_s", comments=""
    )
    path = folder / "study.toml"
    tables = {"trace": {"files": "t.csv"}, "service": {"slots": 4, "drain": "20s"}, "tiers": tiers or TIERS}
    path.write_text(tomli_w.dumps(tables | {"objectives": {"p95": "4s", "availability": 0.999}, "plans": plans}))
    return path


@pytest.fixture
def study(tmp_path: Path) -> Path:
    return write(tmp_path, {"both": BOTH, "plain": {"tier": "lasting", "size": "s", "replicas": 4}})


def test_a_search_over_a_mix_finds_what_brute_force_finds(study: Path) -> None:
    loaded = load_study(study).replace(month={"events": "as_traced"})
    plan = loaded.plans["both"]
    ranges: dict[str, list[Any]] = {
        "mix.1.replicas": [0, 1, 2, 3],
        "replicas": [2, 3, 4],
        "replacement": ["same", "other"],
    }
    found = search(loaded, plan, vary=ranges)
    months = []
    for first, n, replacement in product(*ranges.values()):
        stocks = [plan.only.mix[0].replace(replicas=first), plan.only.mix[1]]
        outcome = loaded.replay(plan.replace(mix=stocks, replicas=n, replacement=replacement))
        if all(objective.met for objective in outcome.objectives):
            months.append(outcome.bill.month)
    assert found.cheapest is not None
    assert found.cheapest.bill.month == min(months)
    other = search(loaded, plan, vary={"mix.2.tier": ["lent"], "mix.1.size": ["s"]})
    assert len(other.figures) == 1


def test_a_mix_is_checked_written_and_kept(study: Path, capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    loaded = load_study(study)
    alone, plain = check(loaded).plans
    assert (alone.hosting.tier_name, alone.hosting.size_name) == ("lasting + lent", "s")
    assert float(alone.least_month) == 2 * 730 * 1.25
    assert float(plain.least_month) == 4 * 730
    study.write_text(study.read_text() + plan_toml(loaded.plans["both"], "again", loaded.tiers))
    again = load_study(study)
    assert again.plans["again"].only.model_dump() == loaded.plans["both"].only.model_dump()
    store = Store(tmp_path / "store.sqlite")
    first = compare(again, plans=["both"], store=store).figures[0]
    assert (first.tier, first.size) == ("lasting + lent", "s")
    dear = json.loads(json.dumps(TIERS))
    dear["lent"]["sizes"]["s"]["per_hour"] = 0.5
    second = compare(load_study(write(study.parent, {"both": BOTH}, dear)), plans=["both"], store=store).figures[0]
    assert store.size().entries == 1  # prices do not change what is replayed
    assert second.bill.month == replay_of(study).bill.month != first.bill.month
    assert run(["replay", str(study), "--plan", "both"]) == 0
    assert "lasting + lent" in capsys.readouterr().out


def replay_of(path: Path) -> Outcome:
    return load_study(path).replay("both")


def test_events_say_what_it_costs_when_all_are_taken_back(study: Path, capsys: pytest.CaptureFixture[str]) -> None:
    found = events(load_study(study), "both")
    (taken,) = found.tiers
    assert (taken.tier, taken.machines, taken.ready, taken.whole_s) == ("lent", 2, (4, 2), 60.0)
    assert taken.p95_s is not None
    assert taken.p95_without_s is not None
    assert taken.p95_s > taken.p95_without_s
    document = json.loads(json.dumps(found.to_dict()))
    assert document["tiers"][0]["machines"] == 2
    assert set(document["tiers"][0]) == set(schema_of_output("events")["properties"]["tiers"]["items"]["required"])
    assert run(["events", str(study), "--plan", "both"]) == 0
    out = capsys.readouterr().out
    assert "2 of 4 replicas are left; as many are ready again after 1 min" in out


def test_the_account_counts_machines_of_all_tiers() -> None:
    rule = {"rule": "target", "measure": "in_progress", "target": 1, "every": "1s", "ceiling": 9}
    trace = make_trace(np.arange(0.0, 60.0, 0.25).tolist(), cpu=1.0)
    terms = Terms(account=Account(replicas=3))
    found = replay(trace, SERVICE, mixed(replicas=1, scaling=rule), terms=terms)
    assert found.only.run.peak == 3
    assert entries(found)[:3] == [0, 0, 1]


MISTAKES: list[tuple[dict[str, Any], str]] = [
    ({"mix": []}, r"mix: found \[\]; allowed: entries, each with tier, size and replicas"),
    ({"mix": BOTH["mix"][1:]}, r"mix: found one entry; allowed: two or more, or tier and size instead"),
    ({"tier": "lent", "size": "s"}, r"mix, tier and size: found both; allowed: mix, or tier and size"),
    ({"mix": [{"tier": "nix", "size": "s"}]}, r"\[plans.both.mix.1\] tier: found 'nix'"),
    (
        {"mix": [{"tier": "lent", "size": "l"}]},
        r"\[plans.both.mix.1\] size: found 'l', which tier 'lent' does not sell",
    ),
    ({"mix": [{"tier": "lent"}]}, r"\[plans.both.mix.1\] size: it is missing; allowed: the name of a size"),
    ({"mix": [{"tier": "lent", "size": "s"}] * 2}, r"mix.1.replicas is missing; allowed: how many are of it before"),
    ({"mix": [BOTH["mix"][0]] * 2}, r"mix.2.replicas: found 2; allowed: none of the last entry"),
    (
        {"mix": [{"tier": "lent", "size": "s", "replicas": 2}, {"tier": "lent", "size": "s"}]},
        r"mix.2: tier 'lent' has an entry already; allowed: an entry for each tier",
    ),
    (
        {"mix": [{"tier": "lent", "size": "s", "replicas": 9}, {"tier": "lasting", "size": "s"}]},
        r"mix.1.replicas: found 9; allowed: up to 8, the most of 'lent'",
    ),
    ({"mix": [{"tier": "lent", "size": "s", "replicas": -1}, {"tier": "lasting", "size": "s"}]}, r"replicas"),
    (
        {"mix": [{**BOTH["mix"][0], "replicas": True}, BOTH["mix"][1]]},
        r"mix.1\] replicas: found True; allowed: a whole num",
    ),
    ({"replicas": 12}, r"replicas: 10 of 12 would be of 'lent'; allowed: up to 8 there"),
    ({"standby": 1, "faults": []}, r"standby, mix: which entry would stand by is not said; allowed: one of the two"),
    ({"replacement": "any"}, r"replacement"),
    ({"faults": [{"kind": "reclaim", "at": 1, "tier": "lasting"}]}, r"tier 'lasting' is not interruptible; allowed"),
    ({"faults": [{"kind": "reclaim", "at": 1, "tier": "nix"}]}, r"faults\[1\]: tier: found 'nix'"),
    ({"faults": [{"kind": "no_stock", "at": 1, "tier": "nix"}]}, r"faults\[1\]: tier: found 'nix'"),
]


@pytest.mark.parametrize(("keys", "said"), MISTAKES)
def test_a_mistake_in_a_mix_is_one_sentence(keys: dict[str, Any], said: str, tmp_path: Path) -> None:
    with pytest.raises(StudyError, match=said) as raised:
        load_study(write(tmp_path, {"both": BOTH | keys}))
    assert "\n" not in str(raised.value)


@pytest.mark.parametrize(
    ("tier", "size", "said"),
    [
        ({"overhead": 1}, {}, r"mix.2: overhead of 'lent' is 1, that of the first entry 0; allowed: machines that are"),
        ({"holds_requests": True}, {}, r"mix.2: holds_requests of 'lent' is True"),
        ({"queue_limit": 3}, {}, r"mix.2: queue_limit of 'lent' is 3, that of the first entry none"),
        ({"zones": ["a", "b"]}, {}, r"mix.2: zones of 'lent'"),
        ({}, {"cores": 2}, r"mix.2: cores of 'lent' is 2, that of the first entry 1"),
        ({}, {"speed": 2}, r"mix.2: speed of 'lent' is 2"),
        ({}, {"memory": "1 GB"}, r"mix.2: memory of 'lent' is 1000000000, that of the first entry none"),
        ({"billing": "per_request", "interruptible": False, "notice": 0, "per_million_requests": 1}, {"per_hour": None},
         r"mix.2: tier 'lent' has billing = 'per_request'"),
        ({"autoscaling": False}, {}, r"tier 'lent'"),
        ({"replicas": {"least": 5, "most": 8}}, {}, r"found 4; tiers 'lasting' and 'lent' allow 5 to any number"),
    ],
)  # fmt: skip
def test_entries_that_are_not_alike_are_refused(
    tier: dict[str, Any], size: dict[str, Any], said: str, tmp_path: Path
) -> None:
    tiers = json.loads(json.dumps(TIERS))
    tiers["lent"] |= tier
    tiers["lent"]["sizes"]["s"] |= size
    tiers["lent"]["sizes"]["s"] = {
        key: value for key, value in tiers["lent"]["sizes"]["s"].items() if value is not None
    }
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "ceiling": 4}
    with pytest.raises(StudyError, match=said):
        load_study(write(tmp_path, {"both": {**BOTH, "faults": [], "scaling": rule}}, tiers))


def test_two_things_that_are_paid_for_have_two_names() -> None:
    plan = Plan(services={"web": mixed().only, "web on lent": mixed().only})
    services = {"web": Service(slots=1, routes=["/a"]), "web on lent": Service(slots=1)}
    with pytest.raises(StudyError, match=r"two lines of its bill would be called 'web on lent'"):
        System.of(services, plan)
    plain = Plan(services={"edge": make_plan().only}, edge={"hit": 0.5})
    with pytest.raises(StudyError, match=r"would be called 'edge', that of the service and that of the edge"):
        System.of({"edge": Service(slots=1)}, plain)


def test_a_mix_has_at_most_what_its_tiers_sell_together(tmp_path: Path) -> None:
    tiers = json.loads(json.dumps(TIERS))
    tiers["lasting"]["replicas"]["most"] = 2
    rule = {"rule": "target", "measure": "cpu", "target": 0.5, "ceiling": 11}
    with pytest.raises(StudyError, match=r"ceiling: found 11; tiers 'lasting' and 'lent' allow 0 to 10"):
        load_study(write(tmp_path, {"both": {**BOTH, "scaling": rule}}, tiers))


def test_what_has_no_effect_without_a_mix_is_refused(tmp_path: Path) -> None:
    plain = {"tier": "lasting", "size": "s"}
    with pytest.raises(StudyError, match=r"replacement has no effect without mix; allowed: a mix, or to leave it out"):
        load_study(write(tmp_path, {"one": {**plain, "replacement": "other"}}))
    loaded = load_study(write(tmp_path, {"both": BOTH, "one": plain}))
    for plan, key, said in (
        ("one", "mix.1.replicas", r"plan 'one' has 0 entries in mix; allowed: mix.N.KEY"),
        ("both", "mix.3.replicas", r"plan 'both' has 2 entries in mix"),
        ("one", "part_of", r"unknown key 'part_of'; allowed: fees, committed, .* promote, or scaling"),
        ("both", "mix.1.cores", r"unknown key 'cores' of mix"),
    ):
        with pytest.raises(StudyError, match=said):
            search(loaded, plan, vary={key: [1]})
    with pytest.raises(
        StudyError, match=r"plan 'both' has a mix; allowed: that of one of its entries, as in mix.1.tier"
    ):
        search(loaded, "both", vary={"tier": ["lasting"]})
    for key, value, said in (
        ("mix.2.tier", "lasting", r"mix.2: tier 'lasting' has an entry already"),
        ("mix.2.replicas", 3, r"mix.2.replicas: found 3; allowed: none of the last entry"),
        ("mix.1.size", "nix", r"size: found 'nix'"),
    ):
        with pytest.raises(StudyError, match=said):
            search(loaded, "both", vary={key: [value]})
