"""Prices: a class a file, with its keys, its lines and its lower bound. Adding one is a file, and a line here."""

from __future__ import annotations

from typing import Any, Final

from pydantic import create_model

from libramen.base.fields import Table
from libramen.prices.balancer import Balancer
from libramen.prices.core_seconds import CoreSeconds
from libramen.prices.egress import Egress
from libramen.prices.fees import Fees
from libramen.prices.fixed import Fixed
from libramen.prices.gb_seconds import GbSeconds
from libramen.prices.least import Least
from libramen.prices.price import Price
from libramen.prices.replica_hours import ReplicaHours
from libramen.prices.replica_months import ReplicaMonths
from libramen.prices.requests import Requests
from libramen.prices.shares import Shares
from libramen.prices.tax import Tax
from libramen.prices.zones import Zones

PRICES: Final[tuple[Price, ...]] = (
    Requests(),
    CoreSeconds(),
    GbSeconds(),
    ReplicaHours(),
    ReplicaMonths(),
    Balancer(),
    Zones(),
    Egress(),
    Fixed(),
    Fees(),
    Least(),
    Shares(),
    Tax(),
)
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
