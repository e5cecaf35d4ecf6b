"""Scaling rules of a user's own, for the tests."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from libramen import Observation


def nosy(seen: Observation) -> int:
    """Looks at everything, and remembers how often it was asked."""
    seen.state["asked"] = asked = seen.state.get("asked", 0) + 1
    known = [value for value in seen.measures.values() if value is not None]
    # Sums of measures are often whole halves but for rounding errors, so halves are not where it rounds.
    return (asked + seen.waiting + seen.have + round(sum(known) + 0.0123)) % 7
