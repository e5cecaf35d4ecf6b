"""Where replicas are placed: in which zone each order goes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from collections.abc import Sequence


class Placement(Protocol):
    """Chooses the zone of each replica that is ordered."""

    def zone_of(self, number: int) -> str | None:
        """The zone of the replica of this number, which is being ordered; None: no zone is open."""


class InTurn:
    """Spreads replicas over the zones in turn, and skips those that are closed.

    Args:
        zones: of the plan, in their order; an empty name stands for "no zones".
    """

    def __init__(self, zones: Sequence[str]) -> None:
        self._zones = tuple(zones)
        self._closed: set[str] = set()
        self._next = 0

    def close(self, zone: str) -> None:
        """Order nothing in a zone until it is opened again."""
        self._closed.add(zone)

    def open(self, zone: str) -> None:
        """Order in a zone again."""
        self._closed.discard(zone)

    def zone_of(self, number: int) -> str | None:  # noqa: ARG002  (for those that place by number)
        """The zone after that of the order before; None: all are closed."""
        for step in range(len(self._zones)):
            at = (self._next + step) % len(self._zones)
            if self._zones[at] not in self._closed:
                self._next = at + 1
                return self._zones[at]
        return None
