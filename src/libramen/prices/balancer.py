"""The balancer of each fleet."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import Table
from libramen.prices.lines import HOURS, Charge, Stepped, in_steps, priced, shares_of
from libramen.prices.price import Bought, Price


class _OfTier(Table):
    balancer_per_hour: Stepped = Field(
        Decimal(0), description="price of the balancer of each fleet for an hour; may be in steps, over all fleets"
    )


class Balancer(Price):
    """The balancer of each fleet, all 730 hours of the month."""

    stage = 30
    of_tier = _OfTier

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of each service; in steps of the tier."""
        key = "balancer_per_hour"
        for on in bought.tiers:
            if not (price := on.tier.balancer_per_hour):
                continue
            if in_steps(price):
                hours = {fleet.service: Fraction(HOURS) for fleet in on.fleets if fleet.of == fleet.service}
                whole = sum(hours.values(), Fraction(0))
                for line in priced("balancers", whole, "h", price, tier=on.tier.name, key=key):
                    yield Charge(line, "standing", shares_of(hours), of_quantity=True)
                continue
            for service in (fleet.service for fleet in on.fleets if fleet.of == fleet.service):
                for line in priced("balancer", Fraction(HOURS), "h", price, service=service, key=key):
                    yield Charge(line, "standing", {service: Fraction(1)}, of_quantity=True)
