"""Fees: of a tier, a size, a plan or the whole study."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction
from typing import Annotated, Final, Literal, NamedTuple, Self

from pydantic import Field, model_validator

from libramen.base.fields import Bytes, Fraction as ShareOf, Money, NonNegativeNumber, Table
from libramen.prices.lines import HOURS, Charge, Spread, Step, Stepped, line_of, priced, shares_of
from libramen.prices.price import Bought, Fleet, Price

_GB = 10**9
KINDS: Final = (
    "per_month", "per_year", "per_hour", "per_replica_hour", "per_replica_month", "per_million_requests", "per_gb",
    "once", "share",
)  # fmt: skip
_NEEDS: Final = {"once": ("over",), "per_gb": ("bytes_per_request", "gb"), "share": ()}
_ONLY_WITH: Final = {
    "over": "once", "bytes_per_request": "per_gb", "gb": "per_gb", "each": "gb", "least": "share", "most": "share",
}  # fmt: skip
_Months = Annotated[float, Field(gt=0, le=1200, allow_inf_nan=False)]


class Fee(Table):
    """A fee: what it is called, and one way in which it is reckoned.

    Example:
        >>> Fee(name="monitoring", per_replica_month="3.50").kind
        'per_replica_month'
    """

    name: str = Field(description="what it is for")
    per_month: Money | None = Field(None, description="so much a month")
    per_year: Money | None = Field(None, description="so much a year, a twelfth of it a month")
    per_hour: Money | None = Field(None, description="so much an hour, all 730 of the month")
    per_replica_hour: Stepped | None = Field(
        None, description="for each replica-hour as it is billed; where replicas are not paid by time, as they lived"
    )
    per_replica_month: Stepped | None = Field(
        None, description="for the greatest number of replicas at one instant, of all that it is about"
    )
    per_million_requests: Stepped | None = Field(None, description="for a million attempts at the balancers")
    per_gb: Stepped | None = Field(
        None, description="for a gigabyte: of bytes_per_request (such as logs), or of gb (such as disk)"
    )
    bytes_per_request: Bytes | None = Field(None, description="per_gb: bytes of each attempt")
    gb: NonNegativeNumber | None = Field(None, description="per_gb: gigabytes, all month")
    each: Literal["replica"] | None = Field(None, description='gb: "replica", so much for each, by its time')
    once: Money | None = Field(None, description="so much once, spread over some months")
    over: _Months | None = Field(None, description="once: over how many months")
    share: ShareOf | None = Field(None, description="so much of what it is on")
    least: Money | None = Field(None, description="share: at least")
    most: Money | None = Field(None, description="share: at most")

    @property
    def kind(self) -> str:
        """How it is reckoned."""
        return next(kind for kind in KINDS if getattr(self, kind) is not None)

    @model_validator(mode="after")
    def _is_of_one_kind(self) -> Self:
        there = [kind for kind in KINDS if getattr(self, kind) is not None]
        if len(there) != 1:
            found = " and ".join(there) or "none of them"
            raise ValueError(f"fee {self.name!r}: found {found}; allowed: one of {', '.join(KINDS)}")
        for key, needed in _ONLY_WITH.items():
            if getattr(self, key) is not None and getattr(self, needed) is None:
                raise ValueError(f"fee {self.name!r}: {key} needs {needed}, which is missing")
        wanted = _NEEDS.get(there[0], ())
        has = [key for key in wanted if getattr(self, key) is not None]
        if wanted and len(has) != 1:
            raise ValueError(f"fee {self.name!r}: {there[0]} needs {' or '.join(wanted)}; allowed: one of them")
        if self.least is not None and self.most is not None and self.least > self.most:
            raise ValueError(f"fee {self.name!r}: least = {self.least} is above most = {self.most}")
        return self


class _Fees(Table):
    fees: tuple[Fee, ...] = Field((), description="fees, each with a name and one way in which it is reckoned")

    @model_validator(mode="after")
    def _are_told_apart(self) -> Self:
        names = [fee.name for fee in self.fees]
        if twice := next((name for name in names if names.count(name) > 1), None):
            raise ValueError(
                f"fees: {twice!r} stands there twice; allowed: a name of its own for each line of the bill"
            )
        return self


class Scope(NamedTuple):
    """Where fees stand, and what they are about."""

    fees: tuple[Fee, ...]
    key: str
    rank: int
    fleets: tuple[Fleet, ...]
    service: str | None = None
    tier: str | None = None


def scopes(bought: Bought) -> Iterator[Scope]:
    """All tables that may have fees: of sizes and plans, of tiers, of the study."""
    for fleet in bought.fleets:
        yield Scope(fleet.size.fees, "sizes.fees", 1, (fleet,), service=fleet.service)
        if fleet.of == fleet.service:  # those of a plan are of all entries of a mix together
            parts = tuple(one for one in bought.fleets if one.of == fleet.service)
            yield Scope(fleet.plan.fees, "plans.fees", 1, parts, service=fleet.service)
    for on in bought.tiers:
        yield Scope(on.tier.fees, "tiers.fees", 2, on.fleets, tier=on.tier.name)
    yield Scope(bought.study.fees, "study.fees", 3, bought.fleets)


class Fees(Price):
    """Fees, all but those that are a share: of a tier once for a plan, of a size and a plan once a service."""

    stage = 70
    of_tier = _Fees
    of_size = _Fees
    of_plan = _Fees
    of_study = _Fees

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line each."""
        for scope in scopes(bought):
            for fee in scope.fees:
                if fee.share is None:
                    yield from self._of(bought, scope, fee)

    def _of(self, bought: Bought, scope: Scope, fee: Fee) -> Iterator[Charge]:
        quantity, unit, price, spread, amounts = _reckoned(bought, scope, fee)
        for line in priced(fee.name, quantity, unit, price, service=scope.service, tier=scope.tier, key=scope.key):
            yield Charge(line, spread, shares_of(amounts), is_fee=True)


_Reckoned = tuple[Fraction, str, "Decimal | tuple[Step, ...]", Spread, dict[str, Fraction]]


def _reckoned(bought: Bought, scope: Scope, fee: Fee) -> _Reckoned:
    """Of a fee the quantity, its unit, the price, how it is spread, and how much of it is each service's."""
    services = [fleet.service for fleet in scope.fleets]
    evenly = dict.fromkeys(services, Fraction(0))
    months = {"per_month": Decimal(1), "per_year": Decimal(12), "once": Decimal(str(fee.over or 1))}
    for kind, over in months.items():
        if (amount := getattr(fee, kind)) is not None:
            return Fraction(1), "month", amount / over, "standing", evenly
    if fee.per_hour is not None:
        return Fraction(HOURS), "h", fee.per_hour, "standing", evenly
    if fee.per_replica_month is not None:
        most = Fraction(bought.use.most_at_once(tuple(services)))
        return most, "replica", fee.per_replica_month, "standing", evenly
    if fee.per_replica_hour is not None:
        hours = {fleet.service: bought.replica_s(fleet) / 3600 for fleet in scope.fleets}
        return sum(hours.values(), Fraction(0)), "replica-h", fee.per_replica_hour, "lived", hours
    sent = {service: bought.use.amount(service, "requests") for service in services}
    requests = sum(sent.values(), Fraction(0))
    if fee.per_million_requests is not None:
        return requests / 10**6, "million", fee.per_million_requests, "requests", sent
    assert fee.per_gb is not None
    if fee.bytes_per_request is not None:
        return requests * fee.bytes_per_request / _GB, "GB", fee.per_gb, "requests", sent
    gb = Fraction(str(fee.gb))
    if fee.each is None:
        return gb, "GB", fee.per_gb, "standing", evenly
    hours = {fleet.service: bought.replica_s(fleet) / 3600 for fleet in scope.fleets}
    return gb * sum(hours.values(), Fraction(0)) / HOURS, "GB", fee.per_gb, "lived", hours


def line_of_share(fee: Fee, base: Fraction, currency: str, **of: str | None) -> Charge:
    """The line of a fee that is a share of an amount; its `shares` are still to be said."""
    assert fee.share is not None
    line = line_of(fee.name, base, currency, Decimal(str(fee.share)), **of)
    held = line.amount
    if fee.least is not None:
        held = max(held, fee.least)
    if fee.most is not None:
        held = min(held, fee.most)
    if held != line.amount:
        line = line_of(fee.name, Fraction(1), "month", held, **of)
    return Charge(line, "lines", {}, is_fee=True)
