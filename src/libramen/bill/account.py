"""The account of a plan: from what all its services used in a month to the lines of one bill."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from decimal import Decimal
from fractions import Fraction

from libramen.prices import PRICES
from libramen.prices.lines import Charge
from libramen.prices.price import Bought, Fleet, OnTier, Price, Use
from libramen.study.hosting import Hosting
from libramen.study.terms import Terms

HALF_A_CENT = Decimal("0.005")


def charges_of(services: Mapping[str, Hosting], use: Use, terms: Terms) -> tuple[Charge, ...]:
    """The lines of a month: tier by tier, then those of the study.

    Args:
        services: what each service of a plan runs on.
        use: what they used.
        terms: what holds for all plans.
    """
    return _reckoned(services, use, terms, Price.charges)


def least_of(services: Mapping[str, Hosting], use: Use, terms: Terms) -> Decimal:
    """What a month costs at the least, if no less than this is used.

    The sum of exact lines may be rounded down by half a cent each.
    """
    charges = _reckoned(services, use, terms, lambda price, bought: price.least(bought))
    whole = sum((charge.line.amount for charge in charges), Decimal(0))
    return max(Decimal(0), whole - HALF_A_CENT * len(charges))


def _reckoned(
    services: Mapping[str, Hosting], use: Use, terms: Terms, lines: Callable[[Price, Bought], Iterator[Charge]]
) -> tuple[Charge, ...]:
    bought = Bought(tuple(_by_tier(services)), terms, terms.currency, use)
    for price in PRICES:
        made = price.charges(bought) if lines is Price.charges else lines(price, bought)
        for charge in made:
            bought.charges.append(charge)
    place = {on.tier.name: number for number, on in enumerate(bought.tiers)}
    of_service = {fleet.service: place[fleet.tier.name] for fleet in bought.fleets}
    last = len(place)

    def where(charge: Charge) -> int:
        line = charge.line
        if line.service is not None:
            return of_service[line.service]
        return last if line.tier is None else place[line.tier]

    return tuple(sorted(bought.charges, key=where))


def _by_tier(services: Mapping[str, Hosting]) -> Iterator[OnTier]:
    """The services of a plan by their tier, in the order of the first of each."""
    together: list[tuple[object, list[Fleet]]] = []
    for name, hosting in services.items():
        fleet = Fleet(name, hosting.tier, hosting.size, hosting)
        for tier, fleets in together:
            if tier == hosting.tier and fleets[0].tier.name == hosting.tier.name:
                fleets.append(fleet)
                break
        else:
            together.append((hosting.tier, [fleet]))
    for tier, fleets in together:
        yield OnTier(tier, tuple(fleets))


def divided(charge: Charge, services: tuple[str, ...]) -> dict[str, Decimal]:
    """A line's amount by service, to the cent by largest remainder, ties in the order of the services."""
    return by_largest_remainder(charge.line.amount, {name: charge.shares.get(name, Fraction(0)) for name in services})


def by_largest_remainder(amount: Decimal, shares: Mapping[str, Fraction]) -> dict[str, Decimal]:
    """An amount in cents by shares that add up to 1: each rounded down, the rest to the largest remainders."""
    cents = int(amount * 100)
    exact = {name: share * cents for name, share in shares.items()}
    whole = {name: part.numerator // part.denominator for name, part in exact.items()}
    left = cents - sum(whole.values())
    order = sorted(exact, key=lambda name: whole[name] - exact[name])  # the largest remainder first; stable
    for name in order[:left]:
        whole[name] += 1
    return {name: Decimal(part).scaleb(-2) for name, part in whole.items()}
