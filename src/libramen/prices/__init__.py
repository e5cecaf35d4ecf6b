"""Prices: a class a file, with its keys, its lines and its lower bound. Adding one is a file, and a line here."""

from __future__ import annotations

from typing import Any, Final

from pydantic import create_model

from libramen.base.fields import Table
from libramen.prices import (
    balancer,
    between_regions,
    core_seconds,
    egress,
    fees,
    fixed,
    gb_seconds,
    least,
    replica_hours,
    replica_months,
    requests,
    shares,
    tax,
    zones,
)
from libramen.prices.price import Price

PRICES: Final[tuple[Price, ...]] = tuple(kind() for kind in sorted(Price.entered, key=lambda kind: kind.stage))
"""All prices, in the order in which they are reckoned: each sees the lines of those before it."""


def composed(name: str, of: str, doc: str) -> Any:
    """A table with the keys that the prices have there.

    Args:
        name: of the class.
        of: which keys: `of_tier`, `of_size`, `of_free`, `of_plan` or `of_study`.
        doc: its docstring.
    """
    bases = dict.fromkeys(table for price in PRICES if (table := getattr(price, of)) is not None)
    return create_model(name, __base__=(*bases,) or (Table,), __doc__=doc)


FreeAllowance: Final = composed("FreeAllowance", "of_free", "What a month includes without charge.")
PricesOfTier: Final = composed("PricesOfTier", "of_tier", "What a tier is paid for.")
PricesOfSize: Final = composed("PricesOfSize", "of_size", "What a size is paid for.")
PricesOfPlan: Final = composed("PricesOfPlan", "of_plan", "What else is paid for in a plan.")
PricesOfStudy: Final = composed("PricesOfStudy", "of_study", "What else is paid for, whatever the plan.")
