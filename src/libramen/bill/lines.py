"""The lines of a bill: quantity, unit, unit price, amount."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import ROUND_HALF_EVEN, Decimal
from fractions import Fraction

from libramen.base import units
from libramen.base.results import Cents, Millionths, Price, Result


@dataclass(frozen=True)
class BillLine(Result):
    """One line: `amount` is quantity times unit price, to the cent."""

    item: str
    quantity: Millionths
    unit: str
    unit_price: Price
    amount: Cents


def total(lines: tuple[BillLine, ...]) -> Decimal:
    """The sum of the rounded lines."""
    return sum((line.amount for line in lines), Decimal("0.00"))


def line_of(item: str, quantity: Fraction, unit: str, unit_price: Decimal) -> BillLine:
    """A line: the quantity to a millionth, the amount to the cent."""
    rounded = (Decimal(quantity.numerator) / Decimal(quantity.denominator)).quantize(
        Decimal("0.000001"), rounding=ROUND_HALF_EVEN
    )
    return BillLine(item, rounded, unit, unit_price, units.to_cent(rounded * unit_price))


def beyond(quantity: Fraction, free: float, what: str, unit: str, unit_price: Decimal, *, per: int = 1) -> BillLine:
    """A line for what goes beyond the free allowance of a month; the price is that of `per` of them."""
    item = f"{what} beyond {units.show_count(free)}{f' {unit}' if per == 1 else ''}" if free else what
    return line_of(item, max(Fraction(0), quantity - Fraction(free)) / per, unit, unit_price)
