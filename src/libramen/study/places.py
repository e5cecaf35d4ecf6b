"""Where users and fleets are: `[round_trips]`, and what a plan says of its regions."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final, NamedTuple

from pydantic import Field

from libramen.base import units
from libramen.base.delays import Delay, DelayField
from libramen.base.errors import StudyError, UnitError
from libramen.base.fields import NonNegativeNumber, PositiveReplicas, Table
from libramen.base.units import parse_duration

NOWHERE: Final = ""
"""The area of requests of which nobody knows where they come from: no distance from anywhere."""
MOST_REGIONS: Final = 32
"""Of one service."""


class Elsewhere(Table):
    """Standbys in another region.

    Example:
        >>> Elsewhere(region="west", promote="5m").replicas
        1
    """

    region: str = Field(description="where they stand")
    replicas: PositiveReplicas = Field(1, description="how many")
    promote: DelayField = Field(Delay(0.0), description="from when the home is closed to when one of them serves [s]")
    copies_gb: NonNegativeNumber = Field(
        0.0, description="gigabytes that are copied there in a month, at `between_regions_per_gb` of the tier there"
    )


class RoundTrips:
    """Times there and back between places: areas of users, and regions.

    Args:
        told: by place, by another place, the time [s, or as people write it]; each pair in one direction is enough.

    Raises:
        StudyError: a time is none, or a pair has two that differ.

    Example:
        >>> trips = RoundTrips({"north": {"east": "18ms"}, "east": {"west": "70ms"}})
        >>> trips.between("west", "east"), trips.between("east", "east")
        (0.07, 0.0)
    """

    def __init__(self, told: Mapping[str, Mapping[str, Any]] | None = None) -> None:
        self.told = {place: dict(others) for place, others in (told or {}).items()}
        self._s: dict[frozenset[str], float] = {}
        for place, others in self.told.items():
            for other, given in others.items():
                where = f"[round_trips.{place}] {other}"
                try:
                    time_s = parse_duration(given)
                except UnitError as error:
                    raise StudyError(f"{where}: {error}") from None
                if other == place:
                    raise StudyError(f"{where}: within a place a round trip is 0; allowed: to leave it out")
                if not 0 <= time_s <= 10:
                    raise StudyError(f"{where}: found {given!r}; allowed: from 0 to 10 s")
                pair = frozenset((place, other))
                if self._s.get(pair, time_s) != time_s:
                    before = units.show_duration(self._s[pair])
                    raise StudyError(f"{where}: found {given!r}, and {before} the other way; allowed: one of the two")
                self._s[pair] = time_s

    @property
    def pairs(self) -> dict[frozenset[str], float]:
        """The round trip of each pair of places [s]."""
        return dict(self._s)

    @property
    def places(self) -> tuple[str, ...]:
        """All places of which something is told, in the order of the study."""
        return tuple(dict.fromkeys(name for pair in self.told.items() for name in (pair[0], *pair[1])))

    def find(self, one: str, other: str) -> float | None:
        """The round trip between two places [s], None: nobody says."""
        if one == other or NOWHERE in {one, other}:
            return 0.0
        return self._s.get(frozenset((one, other)))

    def between(self, one: str, other: str) -> float:
        """The same.

        Raises:
            StudyError: nobody says.
        """
        found = self.find(one, other)
        if found is None:
            raise StudyError(f"there is no round trip between {one} and {other}; allowed: [round_trips.{one}] {other}")
        return found

    def __bool__(self) -> bool:
        return bool(self._s)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, RoundTrips) and self._s == other._s

    def __hash__(self) -> int:
        return hash(frozenset(self._s.items()))

    def __repr__(self) -> str:
        return f"RoundTrips({self.told!r})"


class Region(NamedTuple):
    """A region of a plan: its name, and the keys that differ there."""

    name: str
    keys: dict[str, Any]


NO_TRIPS: Final = RoundTrips()
"""Nobody says how far anything is."""
REGIONAL: Final = ("replicas", "size", "zones", "scaling", "rollouts", "faults", "committed")
"""Keys of a plan that may differ in a region."""


def regions_of(given: Any) -> dict[str, dict[str, Any]]:
    """`regions` as it is written: a list of names, or a table by name with what differs there.

    Raises:
        ValueError: it is neither.
    """
    if isinstance(given, Mapping):
        for name, keys in given.items():
            unknown = [key for key in keys if key not in REGIONAL] if isinstance(keys, Mapping) else [keys]
            if unknown:
                raise ValueError(f"regions.{name}: found {unknown[0]!r}; allowed: keys of {', '.join(REGIONAL)}")
        found = {str(name): dict(keys) for name, keys in given.items()}
    elif isinstance(given, list | tuple) and all(isinstance(name, str) for name in given):
        if len(set(given)) < len(given):
            raise ValueError(f"regions: found {list(given)}; allowed: names that differ")
        found = {name: {} for name in given}
    else:
        raise ValueError(f'regions: found {given!r}; allowed: a list of names such as ["east"], or a table by name')
    if len(found) > MOST_REGIONS:
        raise ValueError(f"regions: found {len(found)}; allowed: up to {MOST_REGIONS}")
    return found
