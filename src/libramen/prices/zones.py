"""Zones in which there are replicas."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import Table
from libramen.prices.lines import Charge, Stepped, priced, shares_of
from libramen.prices.price import Bought, Price


class _OfTier(Table):
    zone_per_hour: Stepped = Field(
        Decimal(0),
        description="price of a zone for an hour of the clock in which a replica is paid there; may be in steps",
    )


class Zones(Price):
    """Each hour of the clock in which a replica of the tier is paid in a zone, for however short, counts whole."""

    stage = 40
    of_tier = _OfTier

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the tier."""
        for on in bought.tiers:
            if not (price := on.tier.zone_per_hour):
                continue
            hours = bought.use.zone_hours(on.services)
            quantity = sum(hours.values(), Fraction(0))
            for line in priced("zones", quantity, "zone-h", price, tier=on.tier.name, key="zone_per_hour"):
                yield Charge(line, "standing", shares_of(hours), of_quantity=True)
