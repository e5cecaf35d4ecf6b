"""Mixed fleets: machines of several tiers side by side, such as cheap ones that may be taken back beside others."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any, Final

from pydantic import Field, model_validator

from libramen.base.fields import Replicas, Table, nearest
from libramen.study.service import Size, Tier

_OF_TIER: Final[dict[str, Callable[[Tier], Any]]] = {
    "holds_requests": lambda tier: tier.holds_requests,
    "queue_limit": lambda tier: tier.queue_limit,
    "overhead": lambda tier: tier.overhead,
    "zones": lambda tier: list(tier.zones),
}
_OF_SIZE: Final[dict[str, Callable[[Tier, Size], Any]]] = {
    "cores": lambda _, size: size.cores,
    "reserved_cores": lambda tier, size: tier.reserved_of(size),
    "speed": lambda _, size: size.speed,
    "memory": lambda _, size: size.memory,
    "steady_cores": lambda _, size: size.steady_cores,
    "bank": lambda _, size: size.bank,
    "bank_at_start": lambda _, size: size.bank_at_start_used,
}
"""In what the entries of a mix agree: they have one balancer and one queue, and a request does not see which it met."""


class Stock(Table):
    """Machines of one tier and size; one entry of a mixed fleet.

    Example:
        >>> tier = Tier(billing="per_hour", sizes={"small": {"cores": 1, "per_hour": "0.03"}})
        >>> Stock(tier=tier, size="small", replicas=2).replicas
        2
    """

    tier: Tier = Field(description="name of the tier")
    size: Size = Field(description="name of the size")
    replicas: Replicas | None = Field(
        None, description="so many of the replicas are of this entry before the next has any; the last has none"
    )

    @classmethod
    def of(cls, given: Stock | dict[str, Any]) -> Stock:
        """An entry, given as it is or as the keys of one."""
        return given if isinstance(given, Stock) else cls(**given)

    @model_validator(mode="before")
    @classmethod
    def _size_by_name(cls, values: Any) -> Any:
        return with_size(values)


def with_size(values: Any) -> Any:
    """The keys of a tier and a size, that one looked up where it is named.

    Raises:
        ValueError: the tier does not sell it.
    """
    if isinstance(values, dict) and isinstance(values.get("size"), str) and isinstance(values.get("tier"), Tier):
        sizes = values["tier"].sizes
        if values["size"] not in sizes:
            raise ValueError(f"size: found {values['size']!r}; {nearest(values['size'], sizes)}")
        return {**values, "size": sizes[values["size"]]}
    return values


def composed(stocks: Sequence[Stock], n: int) -> list[int]:
    """How n replicas are made up: each entry as many as it says, the last the rest.

    Example:
        >>> tier = Tier(billing="per_hour", sizes={"small": {"cores": 1, "per_hour": "0.03"}})
        >>> few, rest = Stock(tier=tier, size="small", replicas=2), Stock(tier=tier, size="small")
        >>> composed([few, rest], 5)
        [2, 3]
    """
    found = []
    for stock in stocks:
        found.append(n if stock.replicas is None else min(n, stock.replicas))
        n -= found[-1]
    return found


def misfits(stocks: Sequence[Stock], whole: int) -> Iterator[str]:
    """Why some entries make no mixed fleet: sentences.

    Args:
        stocks: the entries.
        whole: how many replicas there are at the start, or at the most where that is a list.
    """
    if len(stocks) == 1:
        yield "mix: found one entry; allowed: two or more, or tier and size instead"
        return
    for place, stock in enumerate(stocks, start=1):
        is_last, most, where = place == len(stocks), stock.tier.replicas.most, f"mix.{place}"
        if is_last and stock.replicas is not None:
            yield f"{where}.replicas: found {stock.replicas}; allowed: none of the last entry, which has all the rest"
        if not is_last and stock.replicas is None:
            yield f"{where}.replicas is missing; allowed: how many are of it before the next entry has any"
        if stock.replicas is not None and most is not None and stock.replicas > most:
            yield f"{where}.replicas: found {stock.replicas}; allowed: up to {most}, the most of {stock.tier.name!r}"
        if stock.tier.billing == "per_request":
            yield f"{where}: tier {stock.tier.name!r} has billing = 'per_request'; allowed: tiers that sell replicas"
        if stock.tier.name in {other.tier.name for other in stocks[: place - 1]}:
            yield f"{where}: tier {stock.tier.name!r} has an entry already; allowed: an entry for each tier"
    yield from _differences(stocks)
    last, n = stocks[-1], composed(stocks, whole)[-1]
    if last.tier.replicas.most is not None and n > last.tier.replicas.most:
        yield (
            f"replicas: {n} of {whole} would be of {last.tier.name!r}; allowed: up to {last.tier.replicas.most} there"
        )


def most_of(stocks: Sequence[Stock], versions: int) -> int | None:
    """The most replicas of a mix whose machines stay of their tier, None: any number.

    Args:
        stocks: the entries.
        versions: how many are there at once, of which each fills the entries by itself.
    """
    filled = 0
    for stock in stocks:
        allowed = None if stock.tier.replicas.most is None else stock.tier.replicas.most // versions
        if stock.replicas is None or (allowed is not None and allowed < stock.replicas):
            return None if allowed is None else versions * (filled + allowed)
        filled += stock.replicas
    raise AssertionError("the last entry has no number")


def _differences(stocks: Sequence[Stock]) -> Iterator[str]:
    first = stocks[0]
    for place, stock in enumerate(stocks[1:], start=2):
        pairs = {key: (of(first.tier), of(stock.tier)) for key, of in _OF_TIER.items()}
        pairs |= {key: (of(first.tier, first.size), of(stock.tier, stock.size)) for key, of in _OF_SIZE.items()}
        for key, (wanted, found) in pairs.items():
            if wanted != found:
                yield (
                    f"mix.{place}: {key} of {stock.tier.name!r} is {_told(found)}, that of the first entry "
                    f"{_told(wanted)}; allowed: machines that are alike but for their price, and when they come and go"
                )


def _told(value: Any) -> str:
    return "none" if value is None else f"{value:g}" if isinstance(value, float) else str(value)
