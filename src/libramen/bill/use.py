"""What the services of a plan used in a month: usage by hour, and how often each hour stands in it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import NamedTuple

import numpy as np

from libramen.base.steps import Steps
from libramen.bill.month import Weights
from libramen.bill.usage import Usage


class Part(NamedTuple):
    """A replay, and how often each of its hours stands in the month.

    Attributes:
        weights: of its hours.
        usage: of each service by name.
    """

    weights: Weights
    usage: Mapping[str, Usage]


@dataclass(frozen=True, eq=False)
class MonthOfUse:
    """See `prices.price.Use`: of one replay, or of one with and one without single events."""

    parts: tuple[Part, ...]

    @property
    def services(self) -> tuple[str, ...]:
        """Their names."""
        return tuple(self.parts[0].usage)

    @cached_property
    def _amounts(self) -> dict[tuple[str, str], Fraction]:
        return {}

    def amount(self, service: str, item: str) -> Fraction:
        """Of one thing in the month."""
        known, key = self._amounts, (service, item)
        if key not in known:
            known[key] = sum(
                (part.weights.of_hours(part.usage[service].total(item)) for part in self.parts), Fraction(0)
            )
        return known[key]

    @cached_property
    def _ranks_s(self) -> dict[str, tuple[Fraction, ...]]:
        return {}

    def ranks_s(self, service: str) -> tuple[Fraction, ...]:
        """For how long at least one replica was paid, at least two, ... [s]."""
        if service not in self._ranks_s:
            rows = [part.weights.of_rows(part.usage[service].ranks) for part in self.parts]
            most = max(map(len, rows))
            self._ranks_s[service] = tuple(
                sum((row[rank] for row in rows if rank < len(row)), Fraction(0)) for rank in range(most)
            )
        return self._ranks_s[service]

    def zone_hours(self, services: tuple[str, ...]) -> Mapping[str, Fraction]:
        """Hours in which a replica was paid in a zone, over all zones; one with several services in equal parts."""
        found = dict.fromkeys(services, Fraction(0))
        for part in self.parts:
            by_zone: dict[str, dict[str, np.ndarray]] = {}
            for service in services:
                for row in part.usage[service].of("zones"):
                    by_zone.setdefault(row.zone, {})[service] = row.amount > 0
            for there in by_zone.values():
                together = np.sum(list(there.values()), axis=0)
                for service, hours in there.items():
                    for n in np.unique(together[hours]).tolist():
                        shared = (hours & (together == n)).astype(np.float64)
                        found[service] += part.weights.of_hours(shared) / n
        return found

    def most_at_once(self, services: tuple[str, ...]) -> int:
        """The greatest number of replicas that were paid at one instant, of these services together."""
        return max(_most([part.usage[service].paid for service in services]) for part in self.parts)


def _most(paid: Sequence[Steps]) -> int:
    """The greatest sum of some numbers that change in steps, that lasted."""
    if len(paid) == 1:
        return paid[0].extremes()[1]
    at_s = np.unique(np.concatenate([steps.at_s for steps in paid]))
    count = np.zeros(len(at_s), np.int64)
    for steps in paid:
        place = np.searchsorted(steps.at_s, at_s, side="right") - 1
        count += np.where(place >= 0, steps.count[np.maximum(place, 0)], 0)
    return Steps(at_s, count).extremes()[1]


@dataclass(frozen=True)
class Known:
    """Use of which only some is known: a lower bound, or what somebody says.

    Attributes:
        amounts: by service and item, as of `MonthOfUse.amount`; what is missing is 0.
        ranks: by service, see `MonthOfUse.ranks_s`.
        at_once: by service, replicas that are paid at one instant.
        zones: by service, zone-hours, none of them shared.
    """

    amounts: Mapping[str, Mapping[str, Fraction]]
    ranks: Mapping[str, tuple[Fraction, ...]]
    at_once: Mapping[str, int]
    zones: Mapping[str, Fraction]

    def amount(self, service: str, item: str) -> Fraction:
        """Of one thing in the month."""
        return self.amounts.get(service, {}).get(item, Fraction(0))

    def ranks_s(self, service: str) -> tuple[Fraction, ...]:
        """For how long at least one replica was paid, at least two, ... [s]."""
        return self.ranks.get(service, ())

    def zone_hours(self, services: tuple[str, ...]) -> Mapping[str, Fraction]:
        """Of these services at the least: as if all were in the zones of the one with most."""
        most = max((self.zones.get(service, Fraction(0)) for service in services), default=Fraction(0))
        return dict.fromkeys(services, most / max(1, len(services)))

    def most_at_once(self, services: tuple[str, ...]) -> int:
        """Of these services together."""
        return sum(self.at_once.get(service, 0) for service in services)
