"""Fees that are a share of other lines, such as support."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction

from libramen.prices.fees import Scope, line_of_share, scopes
from libramen.prices.lines import Charge, Part, shares_of
from libramen.prices.price import Bought, Price

_RANKS = (1, 2, 3)


@dataclass(frozen=True)
class _Base:
    """What a share is on."""

    parts: tuple[Part, ...]

    def of(self, service: str) -> Fraction:
        """What of it is a service's."""
        return sum(
            (
                part.charge.amount * part.charge.shares.get(service, Fraction(0))
                for part in self.parts
                if part.service in {None, service}
            ),
            Fraction(0),
        )


class Shares(Price):
    """Fees that are a share: of sizes and plans first, then of tiers, then of the study.

    Each is on what was there before its rank: of a size or a plan on all lines of its service, and on its part of the
    tier's lines of quantity; of a tier on all its lines and those of its services; of the study on all lines.
    """

    stage = 90

    def charges(self, bought: Bought) -> Iterator[Charge]:
        """A line each."""
        for rank in _RANKS:
            made = []
            for scope in scopes(bought):
                if scope.rank != rank:
                    continue
                for fee in scope.fees:
                    if fee.share is not None:
                        base = _Base(tuple(_parts(bought, scope)))
                        services = [fleet.service for fleet in scope.fleets]
                        mine = {service: base.of(service) for service in services}
                        of = {"service": scope.service, "tier": scope.tier, "key": scope.key}
                        charge = line_of_share(fee, sum(mine.values(), Fraction(0)), bought.currency, **of)
                        made.append(charge._replace(shares=shares_of(mine), on=base.parts))
            yield from made


def _parts(bought: Bought, scope: Scope) -> Iterator[Part]:
    services = [fleet.service for fleet in scope.fleets]
    for charge in bought.charges:
        line = charge.line
        if scope.rank == _RANKS[-1] or line.service in services or (scope.tier and line.tier == scope.tier):
            yield Part(charge, None)
        elif scope.rank == 1 and charge.of_quantity:
            yield from (Part(charge, service) for service in services if service in charge.shares)
