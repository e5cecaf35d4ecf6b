"""The bill of a month: lines that say quantity, unit, unit price and amount, and that add up."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import ROUND_HALF_EVEN, Decimal
from fractions import Fraction
from typing import TYPE_CHECKING

import numpy as np

from libramen import units
from libramen.bill.month import HOURS, Month
from libramen.engine.plane import EPSILON_S

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.engine.fleet import Replica
    from libramen.engine.run import Run
    from libramen.study.plan import Plan


@dataclass(frozen=True)
class BillLine:
    """One line: `amount` is quantity times unit price, to the cent."""

    item: str
    quantity: Decimal
    unit: str
    unit_price: Decimal
    amount: Decimal


@dataclass(frozen=True)
class Bill:
    """What a plan costs in a month of 730 hours."""

    currency: str
    lines: tuple[BillLine, ...]
    note: str
    """How the month was made of the trace."""

    @property
    def month(self) -> Decimal:
        """The total: the sum of the rounded lines."""
        return sum((line.amount for line in self.lines), Decimal("0.00"))


def bill(run: Run, plan: Plan, egress: Callable[[Month], Fraction], currency: str = "EUR") -> Bill:
    """What a run costs in a month.

    Args:
        run: the replay.
        plan: its tier has the prices.
        egress: says how many bytes the answers of a month had, given how the trace becomes a month.
        currency: name of the money, for the reader.
    """
    tier, month = plan.tier, Month(run.span_s, run.start)
    lines = [_replicas(run, plan, month)]
    if tier.balancer_per_hour:
        lines.append(_line("balancer", Fraction(HOURS), "h", tier.balancer_per_hour))
    if tier.zone_per_hour:
        lines.append(_line("zones", Fraction(HOURS * len(plan.zones_used)), "zone-h", tier.zone_per_hour))
    if tier.egress_per_gb:
        lines.append(_egress(plan, egress(month)))
    if tier.fixed_per_month:
        lines.append(_line("fixed fee", Fraction(1), "month", tier.fixed_per_month))
    return Bill(currency, tuple(lines), _note(run.span_s, month))


def _line(item: str, quantity: Fraction, unit: str, unit_price: Decimal) -> BillLine:
    rounded = (Decimal(quantity.numerator) / Decimal(quantity.denominator)).quantize(
        Decimal("0.000001"), rounding=ROUND_HALF_EVEN
    )
    return BillLine(item, rounded, unit, unit_price, units.to_cent(rounded * unit_price))


def paid_from(replica: Replica, plan: Plan) -> float | None:
    """When the meter of a replica starts [s]; None: never."""
    return replica.ready_s if plan.tier.billed_from == "ready" else replica.ordered_s


def _replicas(run: Run, plan: Plan, month: Month) -> BillLine:
    tier, size = plan.tier, plan.size
    item = f"replicas of size {size.name}"
    lives = [
        (start, run.span_s if replica.gone_s is None else min(replica.gone_s, run.span_s), replica.gone_s)
        for replica in run.replicas
        if (start := paid_from(replica, plan)) is not None and start < run.span_s
    ]
    from_s = np.array([start for start, _, _ in lives])
    to_s = np.array([end for _, end, _ in lives])
    if tier.billing == "per_month":
        assert size.per_month is not None
        return _line(item, Fraction(_most_at_once(from_s, to_s)), "replica", size.per_month)
    assert size.per_hour is not None
    # A life that goes on at the end of the trace is not over, and nothing of it is rounded up.
    over = np.array([gone_s is not None and gone_s <= run.span_s for _, _, gone_s in lives], bool)
    life_s = to_s - from_s
    if tier.billing == "per_hour":
        billed_s = np.ceil(life_s / 3600 - EPSILON_S) * 3600
    else:
        billed_s = np.maximum(life_s, tier.minimum_billed)
    extra_s = np.where(over, billed_s - life_s, 0.0)
    seconds = month.of_intervals(from_s, to_s) + month.of_amounts(to_s, extra_s)
    return _line(item, seconds / 3600, "replica-h", size.per_hour)


def _most_at_once(from_s: np.ndarray, to_s: np.ndarray) -> int:
    """The greatest number of lives at one time; one that ends when another begins does not overlap it."""
    at_s = np.concatenate([to_s, from_s])
    change = np.concatenate([np.full(len(to_s), -1), np.full(len(from_s), 1)])
    order = np.lexsort((change, at_s))
    return max(0, int(np.max(np.cumsum(change[order]), initial=0)))


def _egress(plan: Plan, sent: Fraction) -> BillLine:
    gigabytes = sent / 10**9
    free = Fraction(plan.tier.free.egress_gb)
    item = f"egress beyond {plan.tier.free.egress_gb:g} GB" if free else "egress"
    return _line(item, max(Fraction(0), gigabytes - free), "GB", plan.tier.egress_per_gb)


def _note(span_s: float, month: Month) -> str:
    if month.by_hour_of_week:
        return f"each hour of the week in the trace, laid over a month of {HOURS} h"
    times = HOURS * 3600 / span_s
    return (
        f"the trace of {units.show_duration(span_s)}, {times:.4g} times over, as a month of {HOURS} h: "
        "what happens in it once happens so often"
    )
