"""The least that a tier asks for in a month."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import Money, Table
from libramen.prices.lines import Charge, line_of, shares_of
from libramen.prices.price import Bought, Price


class _OfTier(Table):
    least_per_month: Money = Field(
        Decimal(0),
        description="least that is paid for a month to the tier, its own lines and those of its services, commitments "
        "and fees of tier and size included, shares, tax and fees of plans not",
    )


class Least(Price):
    """What fills up the lines of a tier and of its services to the least that it asks for."""

    stage = 80
    of_tier = _OfTier

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the tier, where something is missing."""
        for on in bought.tiers:
            there = sum(
                (
                    charge.line.amount
                    for charge in bought.charges
                    if charge.line.key != "plans.fees"
                    and (charge.line.tier == on.tier.name or charge.line.service in on.services)
                ),
                Decimal(0),
            )
            missing = on.tier.least_per_month - there
            if missing > 0:
                of = {"tier": on.tier.name, "key": "least_per_month"}
                line = line_of("up to the least of a month", Fraction(1), "month", missing, **of)
                yield Charge(line, "standing", shares_of(dict.fromkeys(on.services, Fraction(0))))
