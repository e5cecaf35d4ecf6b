"""A fixed fee."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import Money, Table
from libramen.prices.lines import Charge, line_of, shares_of
from libramen.prices.price import Bought, Price


class _OfTier(Table):
    fixed_per_month: Money = Field(
        Decimal(0), description="fixed fee for a month, once for all services of a plan on the tier"
    )


class Fixed(Price):
    """A fixed fee of the tier, once for all services of a plan."""

    stage = 60
    of_tier = _OfTier

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the tier."""
        for on in bought.tiers:
            if price := on.tier.fixed_per_month:
                line = line_of("fixed fee", Fraction(1), "month", price, tier=on.tier.name, key="fixed_per_month")
                yield Charge(line, "standing", shares_of(dict.fromkeys(on.services, Fraction(0))))
