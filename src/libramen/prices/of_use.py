"""What prices of use have in common: something that the services of a tier used, beyond a free allowance."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Mapping
from fractions import Fraction
from typing import ClassVar

from libramen.prices.lines import Charge, Spread, beyond, priced, shares_of
from libramen.prices.price import Bought, OnTier, Price


class OfUse(Price):
    """What all services of a tier used together, beyond what is free of it.

    Attributes:
        key: of the price, in `tiers.T`; `free_key`: of the allowance, in `tiers.T.free`.
        item, unit: as the bill calls them.
        spread: how a line is shared out, see `Charge`.
        per: how many of what people count are one unit.
    """

    key: ClassVar[str]
    free_key: ClassVar[str]
    item: ClassVar[str]
    unit: ClassVar[str]
    spread: ClassVar[Spread]
    per: ClassVar[int] = 1

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
