"""The month as rows of the open cost and usage specification (FOCUS), version 1.0: a row a charge.

Each line of the bill is divided by service, zone and day of the trace, a commitment also by whether it was used.
Amounts are to the cent by largest remainder, so that the rows add up to the bill.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from decimal import ROUND_HALF_EVEN, Decimal
from fractions import Fraction
from typing import Any, Final, Literal, NamedTuple

import numpy as np

from libramen.base.errors import OutputError
from libramen.bill.account import by_largest_remainder
from libramen.bill.bill import Bill
from libramen.bill.costs import COMMITTED, Spreading
from libramen.bill.month import clock_hours, local_times
from libramen.bill.use import MonthOfUse
from libramen.prices.lines import Charge
from libramen.study.hosting import Hosting

Kind = Literal["text", "decimal", "time", "json"]


class CostColumn(NamedTuple):
    """A column of the specification, or of ours.

    Attributes:
        name: exactly as written.
        kind: of its values.
        nullable: whether it may be empty.
    """

    name: str
    kind: Kind
    nullable: bool


def _columns() -> Iterator[CostColumn]:
    said = """
        AvailabilityZone text null; BilledCost decimal; BillingAccountId text; BillingAccountName text null;
        BillingCurrency text; BillingPeriodEnd time; BillingPeriodStart time; ChargeCategory text;
        ChargeClass text null; ChargeDescription text null; ChargeFrequency text; ChargePeriodEnd time;
        ChargePeriodStart time; CommitmentDiscountCategory text null; CommitmentDiscountId text null;
        CommitmentDiscountName text null; CommitmentDiscountStatus text null; CommitmentDiscountType text null;
        ConsumedQuantity decimal null; ConsumedUnit text null; ContractedCost decimal;
        ContractedUnitPrice decimal null; EffectiveCost decimal; InvoiceIssuerName text; ListCost decimal;
        ListUnitPrice decimal null; PricingCategory text null; PricingQuantity decimal null; PricingUnit text null;
        ProviderName text; PublisherName text; RegionId text null; RegionName text null; ResourceId text null;
        ResourceName text null; ResourceType text null; ServiceCategory text; ServiceName text; SkuId text null;
        SkuPriceId text null; SubAccountId text null; SubAccountName text null; Tags json null;
        x_Line text; x_TraceDay text null; x_Weight decimal null
    """
    for one in said.split(";"):
        name, kind, *null = one.split()
        yield CostColumn(name, kind, bool(null))  # type: ignore[arg-type]


COLUMNS: Final = tuple(_columns())
"""Those of the specification in their order, then ours: the line of the bill, the day of the trace that a row is from,
and how often that day stands in the month."""

_QUANTITY: Final = Decimal("0.000000001")
_COST: Final = Decimal("0.0000000001")
_CENT: Final = Decimal("0.00")
_OF_REPLICAS: Final = {"replicas", "lived", "months", "committed", "in_use"}
"""Lines that are of replicas, and so of zones."""
_NETWORK: Final = {"egress_per_gb", "between_regions_per_gb", "balancer_per_hour", "zone_per_hour"}
_FIRST_YEAR, _LAST_YEAR = 1900, 9998
_LEAST_SHARE: Final = 1e-12


@dataclass(frozen=True)
class Account:
    """Whose costs they are.

    Attributes:
        study, plan: their names.
        services: what is paid for, by name, and what each runs on.
        month: first day of the billing period.
        whose: by these names the service, where it is called otherwise: it has several regions, or a mixed fleet.
    """

    study: str
    plan: str
    services: Mapping[str, Hosting]
    month: date
    whose: Mapping[str, str] = field(default_factory=dict)

    @property
    def period(self) -> tuple[datetime, datetime]:
        """From the begin of the month to that of the next, UTC."""
        first = datetime(self.month.year, self.month.month, 1, tzinfo=UTC)
        return first, (first + timedelta(days=32)).replace(day=1)


def billing_month(said: str | None, start: datetime | None) -> date:
    """The calendar month of a bill: the one that is said, or the one (UTC) in which the trace starts.

    Raises:
        OutputError: it is no month; nobody says which.

    Example:
        >>> billing_month("2031-06", None)
        datetime.date(2031, 6, 1)
    """
    if said is None:
        if start is None:
            raise OutputError("costs: this trace does not say when it starts; allowed: --month, such as 2031-06")
        return start.astimezone(UTC).date().replace(day=1)
    found = re.fullmatch(r"(\d{4})-(0[1-9]|1[0-2])", said)
    if found is None or not _FIRST_YEAR <= int(found[1]) <= _LAST_YEAR:
        raise OutputError(f"--month: found {said!r}; allowed: a month such as 2031-06")
    return date(int(found[1]), int(found[2]), 1)


def rows_of(
    bill: Bill, use: MonthOfUse, span_s: float, start: datetime | None, account: Account
) -> Iterator[dict[str, Any]]:
    """The rows of a bill.

    Args:
        bill: of all services.
        use: what they used.
        span_s: the time that the trace covers.
        start: its begin as a real time, None: not known.
        account: whose costs they are.
    """
    parts = _Parts(use, span_s, start)
    for charge in bill.charges:
        yield from _Rows(bill, charge, parts, account).rows()


class _Part(NamedTuple):
    """What a row is of: a service, a zone, a day, by its place; and of a commitment, whether it was used."""

    service: str
    zone: str | None
    day: int
    is_used: bool | None


class _Parts:
    """Divides lines by service, zone, day, and use of commitments."""

    def __init__(self, use: MonthOfUse, span_s: float, start: datetime | None) -> None:
        self._spreading = Spreading(use, use.services, span_s, start)
        self._use = use
        edges_s = clock_hours(span_s, start)
        hours = len(edges_s) - 1
        dates: list[date | None] = [None] * hours
        if start is not None:
            dates = [when.date() for when in local_times(edges_s, start)]
        self.days = list(dict.fromkeys(dates))
        self._of_hour = np.array([self.days.index(one) for one in dates])
        length_s = np.diff(edges_s)
        laid = sum((part.weights.floats * length_s for part in use.parts), np.zeros(hours))
        covered, counted = (np.bincount(self._of_hour, of, len(self.days)) for of in (length_s, laid))
        self.weights = np.divide(counted, covered, out=np.zeros(len(self.days)), where=covered > 0).tolist()
        self._zones: dict[str, tuple[list[str], np.ndarray]] = {}

    def of(self, charge: Charge) -> dict[_Part, Fraction]:
        """The shares of a line, which add up to 1."""
        found: dict[_Part, float] = {}
        for service, share in charge.shares.items():
            cells = float(share) * self._spreading.of_service(charge, service)
            if not cells.any():
                continue
            is_committed = charge.spread == "committed"
            unused = cells[:, COMMITTED].copy()
            used = cells.sum(axis=1) - (unused if is_committed else 0.0)
            for zone, of_hour in self._by_zone(charge, service, used):
                self._put(found, _Part(service, zone, 0, True if is_committed else None), of_hour)
            if is_committed:
                self._put(found, _Part(service, None, 0, False), unused)
        least = _LEAST_SHARE * sum(found.values())
        kept = {part: Fraction(share) for part, share in found.items() if share > least}
        whole = sum(kept.values(), Fraction(0))
        if not whole:
            return {_Part(next(iter(charge.shares)), None, 0, None): Fraction(1)}
        return {part: share / whole for part, share in kept.items()}

    def _put(self, found: dict[_Part, float], of: _Part, by_hour: np.ndarray) -> None:
        for day, share in enumerate(np.bincount(self._of_hour, by_hour, len(self.days)).tolist()):
            if share > 0:
                part = of._replace(day=day)
                found[part] = found.get(part, 0.0) + share

    def _by_zone(self, charge: Charge, service: str, by_hour: np.ndarray) -> Iterator[tuple[str | None, np.ndarray]]:
        """What is of replicas by where they were in that hour; where there were none it is of no zone."""
        if charge.spread not in _OF_REPLICAS:
            yield None, by_hour
            return
        zones, shares = self._shares_of_zones(service)
        for zone, share in zip(zones, shares, strict=True):
            yield zone, by_hour * share
        yield None, by_hour * (1.0 - shares.sum(axis=0) if len(zones) else 1.0)

    def _shares_of_zones(self, service: str) -> tuple[list[str], np.ndarray]:
        """Of the replicas of each hour the share of each zone: float64 (zones, hours)."""
        if service not in self._zones:
            there: dict[str, np.ndarray] = {}
            for part in self._use.parts:
                for row in part.usage[service].of("replicas"):
                    laid = part.weights.floats * part.weights.folded(row.amount)
                    there[row.zone] = there.get(row.zone, 0.0) + laid
            amounts = np.array(list(there.values())).reshape(len(there), len(self._of_hour))
            whole = amounts.sum(axis=0)
            shares = np.divide(amounts, whole, out=np.zeros_like(amounts), where=whole > 0)
            self._zones[service] = list(there), shares
        return self._zones[service]


class _Rows:
    """The rows of one line."""

    def __init__(self, bill: Bill, charge: Charge, parts: _Parts, account: Account) -> None:
        self._bill, self._charge, self._parts, self._account = bill, charge, parts, account
        self._line = charge.line

    def rows(self) -> Iterator[dict[str, Any]]:
        """Of a commitment what is paid, then what it is used for; else a row a part."""
        shares = self._parts.of(self._charge)
        amounts = _to_cents(self._line.amount, shares)
        if self._charge.spread == "committed":
            service = next(iter(self._charge.shares))
            yield self._bought(service)
            for part, share in shares.items():
                yield self._covered(part, share, amounts[part])
            return
        for part, share in shares.items():
            if amounts[part] or self._line.quantity * _decimal(share, _QUANTITY):
                yield self._of(part, share, amounts[part])

    def _of(self, part: _Part, share: Fraction, amount: Decimal) -> dict[str, Any]:
        line, category = self._line, self._category()
        quantity = _decimal(Fraction(line.quantity) * share, _QUANTITY)
        row = self._common(part) | {
            "BilledCost": amount,
            "EffectiveCost": amount,
            "ChargeCategory": category,
            "ChargeFrequency": "Usage-Based" if category in {"Usage", "Tax"} else "Recurring",
        }
        if category in {"Tax", "Adjustment"}:
            return row | {"ListCost": amount, "ContractedCost": amount}
        if category == "Usage":
            row |= {"ConsumedQuantity": quantity, "ConsumedUnit": line.unit}
        return row | self._priced(quantity, line.unit, line.unit_price)

    def _bought(self, service: str) -> dict[str, Any]:
        """What is paid for a commitment, which is spread over what it is used for."""
        line = self._line
        priced = self._priced(_decimal(Fraction(line.quantity), _QUANTITY), line.unit, line.unit_price)
        return self._common(_Part(service, None, -1, None)) | priced | self._commitment() | {
            "BilledCost": line.amount,
            "EffectiveCost": _CENT,
            "ChargeCategory": "Purchase",
            "ChargeFrequency": "Recurring",
        }  # fmt: skip

    def _covered(self, part: _Part, share: Fraction, amount: Decimal) -> dict[str, Any]:
        """What a commitment is used for, or not: nothing is billed for it, and its price is spread over it."""
        line = self._line
        quantity = _decimal(Fraction(line.quantity) * share, _QUANTITY)
        in_time = line.unit == "replica-h"  # else what was paid upfront, over the same hours
        row = self._common(part) | self._commitment() | {
            "BilledCost": _CENT,
            "EffectiveCost": amount,
            "ChargeCategory": "Usage",
            "ChargeFrequency": "Usage-Based",
            "PricingCategory": "Committed",
            "PricingQuantity": quantity,
            "PricingUnit": line.unit,
            "ListCost": _CENT,
            "ContractedCost": _CENT,
            "CommitmentDiscountStatus": "Used" if part.is_used else "Unused",
        }  # fmt: skip
        if not part.is_used or not in_time:
            return row
        without = self._account.services[part.service].size.per_hour
        price = self._priced(quantity, line.unit, without) | {"PricingCategory": "Committed"}
        return row | price | {"ConsumedQuantity": quantity, "ConsumedUnit": line.unit}

    def _priced(self, quantity: Decimal, unit: str, price: Decimal) -> dict[str, Any]:
        cost = (quantity * price).quantize(_COST, rounding=ROUND_HALF_EVEN)
        return {
            "PricingQuantity": quantity,
            "PricingUnit": unit,
            "ListUnitPrice": price,
            "ContractedUnitPrice": price,
            "ListCost": cost,
            "ContractedCost": cost,
        }

    def _category(self) -> str:
        line = self._line
        if line.key == "study.tax":
            return "Tax"
        if line.key == "least_per_month":
            return "Adjustment"
        return "Purchase" if line.unit == "month" or line.key == "per_month" else "Usage"

    def _commitment(self) -> dict[str, Any]:
        name = self._line.item.removesuffix(", upfront")
        place = f"{self._account.plan}/{self._line.service}/{name}"
        return {
            "CommitmentDiscountCategory": "Usage",
            "CommitmentDiscountId": place,
            "CommitmentDiscountName": name,
            "CommitmentDiscountType": "committed replicas",
        }

    def _common(self, part: _Part) -> dict[str, Any]:
        """What every row has."""
        account, line = self._account, self._line
        first, last = account.period
        hosting = account.services[part.service]
        tier = line.tier or (hosting.tier.name if line.service is not None else None)
        issuer = account.study if tier is None else hosting.tier.plain_name if tier == hosting.tier.name else tier
        region = None if tier is None else hosting.region
        service, fleet = account.whose.get(part.service, part.service), hosting.part_of or part.service
        is_of_size = line.service is not None and not line.key.startswith(("plans.", "balancer"))
        sku = f"{issuer}/{hosting.size.name}" if is_of_size else issuer
        is_tax = line.key == "study.tax"
        key = line.key if region is None else f"{region}/{line.key}"
        price = f"{sku}/{key}" + (f"/{line.item}" if line.key.endswith("fees") else "")
        empty: dict[str, Any] = dict.fromkeys(column.name for column in COLUMNS)
        day = None if part.day < 0 else self._parts.days[part.day]
        return empty | {
            "AvailabilityZone": part.zone,
            "BillingAccountId": account.study,
            "BillingAccountName": account.study,
            "BillingCurrency": self._bill.currency,
            "BillingPeriodStart": first,
            "BillingPeriodEnd": last,
            "ChargePeriodStart": first,
            "ChargePeriodEnd": last,
            "ChargeDescription": line.item,
            "InvoiceIssuerName": issuer,
            "ProviderName": issuer,
            "PublisherName": issuer,
            "PricingCategory": None if is_tax else self._pricing(hosting),
            "RegionId": region,
            "RegionName": region,
            "ResourceId": f"{account.plan}/{fleet}",
            "ResourceName": f"fleet of {fleet}",
            "ResourceType": "fleet",
            "ServiceCategory": self._service_category(hosting, tier),
            "ServiceName": issuer,
            "SkuId": None if is_tax else sku,
            "SkuPriceId": None if is_tax else price,
            "SubAccountId": service,
            "SubAccountName": service,
            "Tags": json.dumps({"plan": account.plan, "service": service}),
            "x_Line": line.item,
            "x_TraceDay": None if day is None else day.isoformat(),
            "x_Weight": None if part.day < 0 else _decimal(Fraction(self._parts.weights[part.day]), _QUANTITY),
        }

    def _pricing(self, hosting: Hosting) -> str:
        if self._charge.spread == "lines" or self._line.key == "least_per_month":
            return "Other"
        return "Dynamic" if hosting.tier.interruptible and self._charge.spread in _OF_REPLICAS else "Standard"

    def _service_category(self, hosting: Hosting, tier: str | None) -> str:
        line = self._line
        if line.key in _NETWORK:
            return "Networking"
        if line.key.endswith("fees") or tier is None:
            return "Storage" if line.unit == "GB" else "Other"
        return hosting.tier.category


def _decimal(value: Fraction, places: Decimal) -> Decimal:
    return (Decimal(value.numerator) / Decimal(value.denominator)).quantize(places, rounding=ROUND_HALF_EVEN)


def _to_cents(amount: Decimal, shares: Mapping[_Part, Fraction]) -> dict[_Part, Decimal]:
    """An amount by shares, to the cent by largest remainder."""
    named = {str(place): share for place, share in enumerate(shares.values())}
    return dict(zip(shares, by_largest_remainder(amount, named).values(), strict=True))
