"""Prices times a factor: what a tier costs in another region."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, Final

from libramen.prices.fees import KINDS, Fee

_MONEY_OF_FEES: Final = {*KINDS, "least", "most"} - {"share"}


def times(price: Any, factor: float) -> Any:
    """A price, one in steps, or fees, times a factor; what is no money stays as it is.

    Example:
        >>> times(Decimal("0.10"), 1.5)
        Decimal('0.150')
    """
    by = Decimal(str(factor))
    if isinstance(price, Decimal):
        return price * by
    if isinstance(price, Fee):
        money = {key: times(value, factor) for key in _MONEY_OF_FEES if (value := getattr(price, key)) is not None}
        return price.model_copy(update=money)
    if isinstance(price, tuple):
        return tuple(times(one, factor) for one in price)
    if hasattr(price, "price"):  # a step
        return price.model_copy(update={"price": price.price * by})
    return price
