"""`[plans.P.edge]`: what answers some requests near the users, before any fleet has them."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from fnmatch import fnmatchcase
from typing import Annotated, Any, Final

import numpy as np
from pydantic import BeforeValidator, Field, WithJsonSchema

from libramen.base.errors import UnitError
from libramen.base.fields import Seconds, Table
from libramen.base.units import parse_share
from libramen.prices.lines import Stepped

EDGE: Final = "edge"
"""What it is called among the services of a bill."""
_TABLE: Final = {"type": "object", "additionalProperties": {"type": ["number", "string"]}}
_HIT: Final = (
    'a share such as "60%", or a table of patterns of routes and their shares such as { "/timetable*" = "80%" }'
)


def _share_or_table(value: Any) -> Any:
    try:
        if isinstance(value, dict):
            return {str(pattern): _share(share) for pattern, share in value.items()}
        return _share(value)
    except UnitError:
        raise UnitError(value, _HIT) from None


def _share(value: Any) -> float:
    found = parse_share(value)
    if not 0 <= found <= 1:
        raise UnitError(value, _HIT)
    return found


Hit = Annotated[
    float | dict[str, float],
    BeforeValidator(_share_or_table),
    WithJsonSchema({"anyOf": [{"type": ["number", "string"]}, _TABLE], "description": _HIT}),
]


class Edge(Table):
    """Copies of answers near the users: a hit meets no fleet, a miss reaches the balancer.

    Example:
        >>> Edge(hit={"/timetable*": "80%"}, time="12ms").shares(["/timetable", "/book"]).tolist()
        [0.8, 0.0]
    """

    hit: Hit = Field(
        0.0,
        description="share of the requests that it answers, or by route: the first pattern that fits (default: none)",
    )
    time: Seconds = Field(0.0, description="latency of a hit, its round trip included [s]")
    miss_time: Seconds = Field(0.0, description="what a miss takes more, like overhead [s]")
    per_gb: Stepped = Field(Decimal(0), description="price of a gigabyte (1e9 bytes) that it sends; may be in steps")
    per_million_requests: Stepped = Field(
        Decimal(0), description="price of a million requests that it gets; may be in steps"
    )
    miss_per_gb: Stepped | None = Field(
        None, description="price of a gigabyte of misses, in place of the tier's egress (default: the tier's egress)"
    )

    def shares(self, routes: Sequence[str]) -> np.ndarray:
        """Of each route which share is answered: float64 (routes,)."""
        if isinstance(self.hit, float):
            return np.full(len(routes), self.hit)
        table = self.hit
        fitting = [[share for pattern, share in table.items() if fnmatchcase(route, pattern)] for route in routes]
        return np.array([shares[0] if shares else 0.0 for shares in fitting])


def hits_of(seed: int, first: int, shares: np.ndarray) -> np.ndarray:
    """Which requests are hits: bool (n,), each with a draw of its own, by its number in the trace.

    Args:
        seed: random seed.
        first: number of the first of them.
        shares: float64 (n,), of their routes.
    """
    from libramen.base import streams

    draws = np.random.Philox(key=streams.key(seed, "edge"))
    draws.advance(first // 4)
    uniform = np.random.Generator(draws).random(first % 4 + len(shares))[first % 4 :]
    found: np.ndarray = uniform < shares
    return found
