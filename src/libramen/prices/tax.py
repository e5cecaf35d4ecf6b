"""Tax on everything."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction

from pydantic import Field

from libramen.base.fields import Fraction as ShareOf, Table
from libramen.prices.lines import Charge, Part, line_of, shares_of
from libramen.prices.price import Bought, Price


class _OfStudy(Table):
    tax: ShareOf = Field(0.0, description="tax on the sum of all lines; objectives and bills include it")


class Tax(Price):
    """Tax, the last line, on the sum of all others."""

    stage = 100
    of_study = _OfStudy

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the study."""
        if not bought.study.tax:
            return
        whole = sum((charge.amount for charge in bought.charges), Fraction(0))
        mine = {
            fleet.service: sum(
                (charge.amount * charge.shares.get(fleet.service, Fraction(0)) for charge in bought.charges),
                Fraction(0),
            )
            for fleet in bought.fleets
        }
        line = line_of("tax", whole, bought.currency, Decimal(str(bought.study.tax)), key="study.tax")
        yield Charge(line, "lines", shares_of(mine), on=tuple(Part(charge, None) for charge in bought.charges))
