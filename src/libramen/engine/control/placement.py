"""Where replicas are placed: in which zone each order goes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence


class InTurn:
    """Spreads replicas over the zones in turn, and skips those that are closed.

    Args:
        zones: of the plan, in their order; an empty name stands for "no zones".
    """

    def __init__(self, zones: Sequence[str]) -> None:
        self._zones = tuple(zones)
        self._closed: Counter[str] = Counter()  # by how many losses each zone is
        self._next = 0

    def close(self, zone: str) -> None:
        """Order nothing in a zone until it is opened again."""
        self._closed[zone] += 1

    def open(self, zone: str) -> None:
        """Order in a zone again, unless it was closed more often."""
        self._closed[zone] -= 1

    def comparable(self, _now_s: float) -> list[object]:
        """What decides its future: see `sameness`."""
        return [self._zones, self._next % len(self._zones), [self._closed[zone] for zone in self._zones]]

    @property
    def is_open(self) -> bool:
        """Whether any zone is."""
        return any(not self._closed[zone] for zone in self._zones)

    def zone_of(self, number: int) -> str | None:  # noqa: ARG002  (for those that place by number)
        """The zone after that of the order before; None: all are closed."""
        for step in range(len(self._zones)):
            at = (self._next + step) % len(self._zones)
            if not self._closed[self._zones[at]]:
                self._next = at + 1
                return self._zones[at]
        return None
