"""What a price is: keys in a study, and the lines that it makes of what was used in a month."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any, ClassVar, Protocol

from libramen.base.fields import Table
from libramen.prices.lines import Charge


class Use(Protocol):
    """What the services of a plan used in a month."""

    def amount(self, service: str, item: str) -> Fraction:
        """Of one thing, by its name.

        "requests": attempts that the balancer got. "egress" [bytes]. "crossed" [bytes], answers to
        calls from other regions. "in_use": replicas while a request holds a slot,
        rounded up [s].
        """

    def ranks_s(self, service: str) -> tuple[Fraction, ...]:
        """For how long at least one replica was paid, at least two, ... [s], roundings included."""

    def zone_hours(self, services: tuple[str, ...]) -> Mapping[str, Fraction]:
        """Hours of the clock in which a replica was paid in a zone, over all zones; of each service its share."""

    def most_at_once(self, services: tuple[str, ...]) -> int:
        """The greatest number of replicas that were paid at one instant, of these services together."""


@dataclass(frozen=True)
class Fleet:
    """What a service of a plan runs on.

    Attributes:
        service: its name.
        tier, size, plan: tables of the study, with the keys of all prices.
    """

    service: str
    tier: Any
    size: Any
    plan: Any

    @property
    def of(self) -> str:
        """The fleet of which it is a part: itself, or where it is an entry of a mix, that whole fleet."""
        return self.plan.part_of or self.service

    @property
    def replicas(self) -> str:
        """What its replicas are called in a bill."""
        told = f"replicas of size {self.size.name}"
        return told if self.plan.part_of is None else f"{told} on {self.tier.plain_name}"


@dataclass(frozen=True)
class OnTier:
    """A tier, and the services of a plan that are on it."""

    tier: Any
    fleets: tuple[Fleet, ...]

    @property
    def services(self) -> tuple[str, ...]:
        """Their names."""
        return tuple(fleet.service for fleet in self.fleets)


@dataclass
class Bought:
    """What a plan buys: the services by tier, what they used in a month, and the lines made so far.

    Attributes:
        tiers: each with the services on it.
        study: keys of prices in the study's own tables.
        currency: of all prices.
        use: what was used.
        charges: made so far.
    """

    tiers: tuple[OnTier, ...]
    study: Any
    currency: str
    use: Use
    charges: list[Charge] = field(default_factory=list)

    @property
    def fleets(self) -> tuple[Fleet, ...]:
        """Of all tiers."""
        return tuple(fleet for on in self.tiers for fleet in on.fleets)

    def used(self, on: OnTier, item: str) -> dict[str, Fraction]:
        """Of one thing by each service on a tier; see `Use.amount`."""
        return {service: self.use.amount(service, item) for service in on.services}

    def replica_s(self, fleet: Fleet, beyond: int = 0) -> Fraction:
        """For how long replicas of a service were paid [s], roundings included; `beyond` so many at each instant."""
        return sum(self.use.ranks_s(fleet.service)[beyond:], Fraction(0))


class Price(ABC):
    """One kind of price.

    A subclass declares its keys as tables, by where they stand, and overrides `charges`. One that has a `stage` enters
    itself.

    Attributes:
        stage: prices are reckoned in the order of it: amounts of use, then fees, what fills up, shares, tax.
        of_tier, of_size, of_free, of_plan, of_study: its keys in `tiers.T`, `tiers.T.sizes.S`, `tiers.T.free`,
            `plans.P` and `study`, None: it has none there.
    """

    entered: ClassVar[list[type[Price]]] = []
    """All prices whose files are loaded."""
    stage: ClassVar[int]
    of_tier: ClassVar[type[Table] | None] = None
    of_size: ClassVar[type[Table] | None] = None
    of_free: ClassVar[type[Table] | None] = None
    of_plan: ClassVar[type[Table] | None] = None
    of_study: ClassVar[type[Table] | None] = None

    def __init_subclass__(cls) -> None:
        """It is a price from now on, if it says when it is reckoned."""
        if "stage" in vars(cls):
            Price.entered.append(cls)

    @abstractmethod
    def charges(self, bought: Bought) -> Iterator[Charge]:
        """The lines of a month, those of `bought.charges` being there already."""

    def least(self, bought: Bought) -> Iterator[Charge]:
        """Lines that cost no more than those of anybody who uses as much as `bought.use` or more, for searching.

        As `charges`, where more of anything never costs less: so it is while every unit price is 0 or more.
        """
        return self.charges(bought)
