"""From what was used in a month to money: a line a price."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from decimal import Decimal
from fractions import Fraction
from typing import Final

from libramen.bill.lines import BillLine, beyond, line_of, total
from libramen.bill.month import HOURS
from libramen.study.plan import Hosting


def lines_of(hosting: Hosting, used: Mapping[str, Fraction]) -> tuple[BillLine, ...]:
    """The lines of a month.

    Args:
        hosting: its tier and size have the prices.
        used: what was used in the month, by item as in `usage.Used`; what is missing is 0.
    """
    return tuple(line for price in PRICES for line in price(hosting, used))


def _replicas(hosting: Hosting, used: Mapping[str, Fraction]) -> Iterator[BillLine]:
    size, item = hosting.size, f"replicas of size {hosting.size.name}"
    if hosting.tier.billing == "per_request":
        yield from _use(hosting, used)
    elif hosting.tier.billing == "per_month":
        yield line_of(item, used.get("replicas_at_once", Fraction(0)), "replica", size.per_month or Decimal(0))
    else:
        yield line_of(item, used.get("replicas", Fraction(0)) / 3600, "replica-h", size.per_hour or Decimal(0))


def _use(hosting: Hosting, used: Mapping[str, Fraction]) -> Iterator[BillLine]:
    """Requests, and the cores and the memory of replicas while they were in use."""
    tier, size = hosting.tier, hosting.size
    in_use_s = used.get("in_use", Fraction(0))
    if tier.per_million_requests:
        sent, price = used.get("requests", Fraction(0)), tier.per_million_requests
        yield beyond(sent, tier.free.requests, "requests", "million", price, per=10**6)
    if tier.per_core_second:
        core_s = in_use_s * Fraction(str(size.cores))
        yield beyond(core_s, tier.free.core_seconds, "cores in use", "core-s", tier.per_core_second)
    if tier.per_gb_second:
        gb_s = in_use_s * (size.memory or 0) / 10**9
        yield beyond(gb_s, tier.free.gb_seconds, "memory in use", "GB-s", tier.per_gb_second)


def _standing(hosting: Hosting, used: Mapping[str, Fraction]) -> Iterator[BillLine]:  # noqa: ARG001  (one signature for all)
    """What is there all the time, whatever the load."""
    tier = hosting.tier
    if tier.balancer_per_hour:
        yield line_of("balancer", Fraction(HOURS), "h", tier.balancer_per_hour)
    if tier.zone_per_hour:
        yield line_of("zones", Fraction(HOURS * len(hosting.zones_used)), "zone-h", tier.zone_per_hour)


def _egress(hosting: Hosting, used: Mapping[str, Fraction]) -> Iterator[BillLine]:
    tier = hosting.tier
    if tier.egress_per_gb:
        sent_gb = used.get("egress", Fraction(0)) / 10**9
        yield beyond(sent_gb, tier.free.egress_gb, "egress", "GB", tier.egress_per_gb)


def _fee(hosting: Hosting, used: Mapping[str, Fraction]) -> Iterator[BillLine]:  # noqa: ARG001
    if hosting.tier.fixed_per_month:
        yield line_of("fixed fee", Fraction(1), "month", hosting.tier.fixed_per_month)


PRICES: Final[tuple[Callable[[Hosting, Mapping[str, Fraction]], Iterable[BillLine]], ...]] = (
    _replicas,
    _standing,
    _egress,
    _fee,
)
"""What makes lines of a bill, in their order: each looks at the plan's prices and at what was used."""


def least_month(hosting: Hosting, used: Mapping[str, Fraction]) -> Decimal:
    """What a month costs at the least: the fewest replicas all the time, without egress.

    Args:
        hosting: its tier and size have the prices.
        used: what requests need at the least, on tiers that are billed by use; see `usage.Used`.
    """
    fewest = hosting.limits[0]
    standing = {"replicas": Fraction(HOURS * 3600 * fewest), "replicas_at_once": Fraction(fewest)}
    return total(lines_of(hosting, {**used, **standing, "egress": Fraction(0)}))


def price_of_replicas(hosting: Hosting, month_s: float) -> Decimal | None:
    """What so many replica-seconds of a month cost; None: replicas are not paid for by time."""
    if hosting.tier.billing not in {"per_second", "per_hour"}:
        return None
    (line,) = _replicas(hosting, {"replicas": Fraction(month_s)})
    return line.amount
