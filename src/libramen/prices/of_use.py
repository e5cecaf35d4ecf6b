"""What prices of use have in common: something that the services of a tier used, beyond a free allowance."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Mapping
from decimal import Decimal
from fractions import Fraction
from typing import Any, ClassVar, Final

from pydantic import Field, create_model

from libramen.base.fields import NonNegativeNumber, Table
from libramen.prices.lines import Charge, Spread, Stepped, beyond, priced, shares_of
from libramen.prices.price import Bought, OnTier, Price

GB: Final = 10**9
"""Bytes."""


class OfUse(Price):
    """What all services of a tier used together, beyond what is free of it.

    Attributes:
        price_is, free_is: what the price of it and the allowance are, for the study file.
        key: of the price, in `tiers.T`; `free_key`: of the allowance, in `tiers.T.free`.
        item, unit: as the bill calls them.
        spread: how a line is shared out, see `Charge`.
        per: how many of what people count are one unit.
    """

    price_is: ClassVar[str]
    free_is: ClassVar[str]
    key: ClassVar[str]
    free_key: ClassVar[str]
    item: ClassVar[str]
    unit: ClassVar[str]
    spread: ClassVar[Spread]
    per: ClassVar[int] = 1

    def __init_subclass__(cls) -> None:
        """Its keys are those that it names."""
        price: Any = (Stepped, Field(Decimal(0), description=cls.price_is))
        free: Any = (NonNegativeNumber, Field(0.0, description=cls.free_is))
        cls.of_tier = create_model("_OfTier", __base__=Table, **{cls.key: price})
        cls.of_free = create_model("_Free", __base__=Table, **{cls.free_key: free})
        super().__init_subclass__()

    @abstractmethod
    def used(self, bought: Bought, on: OnTier) -> Mapping[str, Fraction]:
        """How much each service of a tier used, in the unit of the free allowance."""

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line of the tier, or of steps one for each that it reaches into."""
        for on in bought.tiers:
            price, free = getattr(on.tier, self.key), getattr(on.tier.free, self.free_key)
            # Use of a mixed fleet is paid on the tier of its first entry.
            if not price or all(fleet.of != fleet.service for fleet in on.fleets):
                continue
            used = self.used(bought, on)
            quantity = max(Fraction(0), sum(used.values(), Fraction(0)) - Fraction(free)) / self.per
            item = beyond(self.item, free, self.unit, self.per)
            for line in priced(item, quantity, self.unit, price, self.per, tier=on.tier.name, key=self.key):
                yield Charge(line, self.spread, shares_of(used), of_quantity=True)
