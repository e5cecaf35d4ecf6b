"""The bill of a month: lines that say quantity, unit, unit price and amount, and that add up."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from fractions import Fraction
from typing import Annotated, Any

from pydantic import Field

from libramen.base import heavy
from libramen.base.results import Result
from libramen.bill.account import charges_of, divided
from libramen.prices.lines import BillLine, Charge, total
from libramen.prices.price import Use
from libramen.study.hosting import Hosting
from libramen.study.terms import Terms


@dataclass(frozen=True)
class Bill(Result):
    """What a plan costs in a month of 730 hours."""

    currency: str
    lines: tuple[BillLine, ...]
    note: str
    """What the month is made of: `the trace of 24 h, 30.42 times over`."""
    assumes: str
    """The same in a clause: what must be true for the amount to be."""
    charges: Annotated[tuple[Charge, ...], Field(exclude=True)] = field(default=(), compare=False, repr=False)
    """The lines, and whose they are."""

    def to_dict(self) -> dict[str, Any]:
        """As the JSON of the command line; `charges` are left out."""
        return super().to_dict() | {"month": float(self.month)}

    @property
    def month(self) -> Decimal:
        """The total: the sum of the rounded lines."""
        return total(self.lines)

    @property
    def table(self) -> heavy.DataFrame:
        """A row a line: item, quantity, unit, unit price, amount, and whose it is where there are several."""
        import pandas as pd

        names = ("service", "tier", "item", "quantity", "unit", "unit_price", "amount")
        frame = pd.DataFrame(
            [{name: getattr(line, name) for name in names} for line in self.lines], columns=list(names)
        )
        money = {name: f"{name} [{self.currency}]" for name in ("unit_price", "amount")}
        return frame.rename(columns=money).dropna(axis="columns", how="all")

    def of_service(self, names: tuple[str, ...], services: tuple[str, ...]) -> Bill:
        """What of it is one service's: its share of every line; those of all services add up to the bill.

        Args:
            names: under which the service is paid for: of a mixed fleet those of its entries.
            services: all names.
        """
        lines = []
        for charge in self.charges:
            of_each = divided(charge, services)
            amount = sum((of_each[name] for name in names), Decimal(0))
            if charge.line.service in names:
                lines.append(charge.line)
            elif amount:
                lines.append(replace(charge.line, quantity=_scaled(charge, names), amount=amount))
        return replace(self, lines=tuple(lines), charges=())


def _scaled(charge: Charge, names: tuple[str, ...]) -> Decimal:
    share = sum((charge.shares.get(name, Fraction(0)) for name in names), Fraction(0))
    return (charge.line.quantity * share.numerator / share.denominator).quantize(Decimal("0.000001"))


def bill_of(services: Mapping[str, Hosting], use: Use, terms: Terms, note: str, assumes: str) -> Bill:
    """What a plan costs in a month.

    Args:
        services: what each service runs on.
        use: what they used in the month.
        terms: what holds for all plans.
        note: what the month is made of.
        assumes: the same in a clause.
    """
    charges = charges_of(services, use, terms)
    return Bill(terms.currency, tuple(charge.line for charge in charges), note, assumes, charges)
