"""The lines of a bill, and prices in steps."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from decimal import ROUND_HALF_EVEN, Decimal
from fractions import Fraction
from typing import Annotated, Any, Final, Literal, NamedTuple, Protocol

from pydantic import BeforeValidator, Field

from libramen.base import units
from libramen.base.errors import UnitError
from libramen.base.fields import Money, Table, text_or_number
from libramen.base.results import Cents, Millionths, Price, Result

HOURS: Final = 730
"""Hours of a month."""


@dataclass(frozen=True)
class BillLine(Result):
    """One line: `amount` is quantity times unit price, to the cent.

    Attributes:
        item: what is paid for.
        quantity, unit, unit_price, amount: of it.
        service, tier: whose line it is; neither: that of the whole study.
        key: where the price stands in the study, such as `egress_per_gb`.
    """

    item: str
    quantity: Millionths
    unit: str
    unit_price: Price
    amount: Cents
    service: str | None = None
    tier: str | None = None
    key: str = ""


Spread = Literal[
    "replicas", "months", "committed", "requests", "egress", "crossed", "in_use", "lived", "lines", "standing"
]
"""By what a line goes to routes, hours and kinds: see `bill.costs`."""


class Part(NamedTuple):
    """A line on which another one is a share; `service`: only what is that service's of it, None: all."""

    charge: Charge
    service: str | None


class Charge(NamedTuple):
    """A line, and whose it is.

    Attributes:
        line: it.
        spread: by what it goes to routes, hours and kinds.
        shares: how much of it is each service's, adding up to 1.
        on: of a share of other lines those.
        is_fee: whether it is a fee; `of_quantity`: whether it is for an amount of use.
        ranks: of replicas which they are, at each instant from the lowest number on: from, to; None: all beyond.
    """

    line: BillLine
    spread: Spread
    shares: Mapping[str, Fraction]
    on: tuple[Part, ...] = ()
    is_fee: bool = False
    of_quantity: bool = False
    ranks: tuple[int, int | None] = (0, None)

    @property
    def amount(self) -> Fraction:
        """Of the line."""
        return Fraction(self.line.amount)


class _Owned(Protocol):
    @property
    def item(self) -> str: ...

    @property
    def service(self) -> str | None: ...

    @property
    def tier(self) -> str | None: ...


def named(line: _Owned, services: Collection[Any], *, short: bool = False) -> str:
    """A line as it is called: where there are several services with whose it is, unless it is that of the whole study.

    Of an entry of a mixed fleet, which the item says, that is the fleet.

    Args:
        line: of a bill, or of what it is paid for.
        services: all that there are.
        short: for a picture.
    """
    whose = line.tier if line.service is None else line.service
    if not (len(services) > 1 and whose):
        return line.item
    fleet, _, tier = whose.rpartition(" on ")
    if fleet and line.item.endswith(f" on {tier}"):
        whose = fleet
    return f"{whose}: {line.item.removeprefix('replicas of size ') if short else line.item}"


def total(lines: tuple[BillLine, ...]) -> Decimal:
    """The sum of the rounded lines."""
    return sum((line.amount for line in lines), Decimal("0.00"))


def line_of(item: str, quantity: Fraction, unit: str, unit_price: Decimal, **of: Any) -> BillLine:
    """A line: the quantity to a millionth, the amount to the cent; `of`: service, tier, key."""
    rounded = (Decimal(quantity.numerator) / Decimal(quantity.denominator)).quantize(
        Decimal("0.000001"), rounding=ROUND_HALF_EVEN
    )
    return BillLine(item, rounded, unit, unit_price, units.to_cent(rounded * unit_price), **of)


def shares_of(amounts: Mapping[str, Fraction]) -> dict[str, Fraction]:
    """Each as a share of their sum; of nothing equal parts."""
    whole = sum(amounts.values(), Fraction(0))
    if not whole:
        return dict.fromkeys(amounts, Fraction(1, max(1, len(amounts))))
    return {name: amount / whole for name, amount in amounts.items()}


# -- steps -------------------------------------------------------------------------------------------


class Step(Table):
    """One step of a price: for what lies between the step before and `up_to`."""

    up_to: Annotated[float, Field(gt=0, le=1e15, allow_inf_nan=False)] | None = Field(
        None, description="up to this quantity of a month, in the unit of the line; only the last step has none"
    )
    price: Money = Field(description="price of one unit in this step")


_STEPS: Final = (
    f"{units.MONEY}, or steps whose up_to rises, the last without one, such as "
    "[{ up_to = 10_000, price = 0.09 }, { price = 0.07 }]"
)


def _steps(value: object) -> object:
    """A price, or steps.

    Raises:
        UnitError: it is neither.
    """
    if not isinstance(value, list | tuple):
        return units.parse_money(value)
    for step in value:
        if not isinstance(step, Step) and not (isinstance(step, dict) and set(step) <= set(Step.model_fields)):
            raise UnitError(value, _STEPS)
    steps = [step if isinstance(step, Step) else Step(**step) for step in value]
    limits = [step.up_to for step in steps]
    rises = all(limit is not None for limit in limits[:-1]) and sorted(set(limits[:-1])) == limits[:-1]  # type: ignore[type-var]
    if not steps or not rises or limits[-1] is not None:
        raise UnitError(value, _STEPS)
    return tuple(steps)


Stepped = Annotated[
    Decimal | tuple[Step, ...],
    BeforeValidator(_steps),
    text_or_number(_STEPS, units.MONEY_PATTERN, {"type": "array", "items": Step.model_json_schema(), "minItems": 1}),
]
"""A price of a quantity, which may be in steps."""


def in_steps(price: Decimal | tuple[Step, ...]) -> bool:
    """Whether it is."""
    return isinstance(price, tuple)


def priced(
    item: str, quantity: Fraction, unit: str, price: Decimal | tuple[Step, ...], per: int = 1, **of: Any
) -> Iterator[BillLine]:
    """The lines of a quantity: one, or of steps one for each that it reaches into.

    Args:
        item: what it is.
        quantity: of a month.
        unit: of the quantity.
        price: of one unit.
        per: how many of what people count are one unit, for the names of steps.
        **of: service, tier and key of the lines.
    """
    if not isinstance(price, tuple):
        yield line_of(item, quantity, unit, price, **of)
        return
    below = Fraction(0)
    for place, step in enumerate(price):
        upper = None if step.up_to is None else Fraction(str(step.up_to))
        part = max(Fraction(0), (quantity if upper is None else min(quantity, upper)) - below)
        if part or not place:
            yield line_of(_named(item, below, upper, unit, per), part, unit, step.price, **of)
        below = below if upper is None else upper


def _named(item: str, below: Fraction, upper: Fraction | None, unit: str, per: int) -> str:
    def shown(edge: Fraction) -> str:
        return units.show_count(float(edge * per))

    what = "" if per > 1 else f" {unit}"
    if upper is None:
        return f"{item}, beyond {shown(below)}{what}" if below else item
    return f"{item}, {shown(below)} to {shown(upper)}{what}" if below else f"{item}, up to {shown(upper)}{what}"


def beyond(what: str, free: float, unit: str, per: int = 1) -> str:
    """What is paid for beyond the free allowance of a month, in words."""
    return f"{what} beyond {units.show_count(free)}{f' {unit}' if per == 1 else ''}" if free else what
