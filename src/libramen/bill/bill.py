"""The bill of a month: lines that say quantity, unit, unit price and amount, and that add up."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import ROUND_HALF_EVEN, Decimal
from fractions import Fraction
from typing import TYPE_CHECKING, Protocol

import numpy as np

from libramen import units
from libramen.bill.month import HOURS, Month
from libramen.times import EPSILON_S

if TYPE_CHECKING:
    from collections.abc import Iterator

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
    assumes: str
    """The same in a clause: what must be true for the amount to be."""

    @property
    def month(self) -> Decimal:
        """The total: the sum of the rounded lines."""
        return sum((line.amount for line in self.lines), Decimal("0.00"))


class Usage(Protocol):
    """What is billed of the requests of a run, given how the trace becomes a month."""

    def egress(self, month: Month) -> Fraction:
        """Bytes sent out in a month."""

    def sent(self, month: Month) -> Fraction:
        """Attempts that the balancer got in a month."""


def bill(run: Run, plan: Plan, usage: Usage, currency: str = "EUR") -> Bill:
    """What a run costs in a month.

    Args:
        run: the replay.
        plan: its tier has the prices.
        usage: what is billed of its requests.
        currency: name of the money, for the reader.
    """
    tier, month = plan.tier, Month(run.span_s, run.start)
    lines = list(_use(run, plan, month, usage)) if tier.billing == "per_request" else [_replicas(run, plan, month)]
    if tier.balancer_per_hour:
        lines.append(_line("balancer", Fraction(HOURS), "h", tier.balancer_per_hour))
    if tier.zone_per_hour:
        lines.append(_line("zones", Fraction(HOURS * len(plan.zones_used)), "zone-h", tier.zone_per_hour))
    if tier.egress_per_gb:
        lines.append(_beyond(usage.egress(month) / 10**9, tier.free.egress_gb, "egress", "GB", tier.egress_per_gb))
    if tier.fixed_per_month:
        lines.append(_line("fixed fee", Fraction(1), "month", tier.fixed_per_month))
    return Bill(currency, tuple(lines), *_notes(run.span_s, month))


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


def _beyond(quantity: Fraction, free: float, what: str, unit: str, unit_price: Decimal, *, per: int = 1) -> BillLine:
    """A line for what goes beyond the free allowance of a month; the price is that of `per` of them."""
    item = f"{what} beyond {units.show_count(free)}{f' {unit}' if per == 1 else ''}" if free else what
    return _line(item, max(Fraction(0), quantity - Fraction(free)) / per, unit, unit_price)


def _use(run: Run, plan: Plan, month: Month, usage: Usage) -> Iterator[BillLine]:
    """Requests, and the cores and the memory of replicas while they were in use."""
    tier, size = plan.tier, plan.size
    in_use_s = month.of_hours(run.use) * Fraction(str(tier.granularity or 1))
    if tier.per_million_requests:
        sent, price = usage.sent(month), tier.per_million_requests
        yield _beyond(sent, tier.free.requests, "requests", "million", price, per=10**6)
    if tier.per_core_second:
        core_s = in_use_s * Fraction(str(size.cores))
        yield _beyond(core_s, tier.free.core_seconds, "cores in use", "core-s", tier.per_core_second)
    if tier.per_gb_second:
        gb_s = in_use_s * (size.memory or 0) / 10**9
        yield _beyond(gb_s, tier.free.gb_seconds, "memory in use", "GB-s", tier.per_gb_second)


def _notes(span_s: float, month: Month) -> tuple[str, str]:
    """How the trace became a month, and what that assumes."""
    if month.by_hour_of_week:
        return (
            f"each hour of the week in the trace, laid over a month of {HOURS} h",
            "if all weeks of the month are like the trace",
        )
    times = HOURS * 3600 / span_s
    covered = units.show_duration(span_s)
    is_a_day = abs(span_s - 86400) < 1
    return (
        f"the trace of {covered}, {times:.4g} times over, as a month of {HOURS} h: one-off events are scaled too",
        ("if every day of the month is" if is_a_day else f"if every {covered} of the month are")
        + " like the trace, one-off events included",
    )
