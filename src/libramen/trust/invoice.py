"""An invoice beside the bill of the recorded plan, line by line."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Final

from libramen.base.errors import StudyError
from libramen.base.results import Cents, Result
from libramen.base.rows import read_rows
from libramen.bill.bill import Bill
from libramen.prices.lines import named

_ALIKE: Final = 0.6
"""So many of its words a name must share with another to be of the same thing."""
_ALIKE_WORDS: Final = 0.8
_LITTLE: Final = frozenset({
    "of", "a", "an", "the", "and", "to", "up", "beyond", "from", "per", "size", "gb", "mb", "h", "hour", "month",
    "million", "for", "in", "on", "by",
})  # fmt: skip
_NUMBER: Final = re.compile(r"[+-]?(\d+|\d{1,3}(,\d{3})+)(\.\d+)?")


@dataclass(frozen=True)
class Billed(Result):
    """One thing, as it is billed and as it was invoiced.

    Attributes:
        item: as the bill calls it; None: the bill has no such line.
        invoiced_as: as the invoice calls it; None: the invoice has no such line.
        billed, invoiced: the amounts, 0 where there is no line.
    """

    item: str | None
    invoiced_as: str | None
    billed: Cents
    invoiced: Cents

    @property
    def difference(self) -> Decimal:
        """How much more was invoiced."""
        return self.invoiced - self.billed


@dataclass(frozen=True)
class Invoice(Result):
    """An invoice beside a bill.

    Attributes:
        file: where it stands.
        currency: of the bill.
        lines: those of the bill in their order, then what the invoice has beside them.
    """

    file: str
    currency: str
    lines: tuple[Billed, ...]

    @property
    def billed(self) -> Decimal:
        """Of all lines of the bill."""
        return sum((line.billed for line in self.lines), Decimal("0.00"))

    @property
    def invoiced(self) -> Decimal:
        """Of all lines of the invoice."""
        return sum((line.invoiced for line in self.lines), Decimal("0.00"))


def read_invoice(path: Path) -> dict[str, Decimal]:
    """The amounts of an invoice by item, in their order; an item that stands there twice is summed.

    Args:
        path: CSV with the columns item and amount; others are not looked at.

    Raises:
        StudyError: it cannot be read, or a line is no item with an amount.
    """
    names, rows = read_rows(path)
    head = [name.lower() for name in names]
    for name in ("item", "amount"):
        if head.count(name) != 1:
            raise StudyError(
                f"{path}:1: found the columns {', '.join(head) or 'none'}; allowed: item and amount, once each"
            )
    at_item, at_amount = head.index("item"), head.index("amount")
    found: dict[str, Decimal] = {}
    for line, cells in rows:
        where = f"{path}:{line}"
        if len(cells) <= max(at_item, at_amount) or not (item := " ".join(cells[at_item].split())):
            raise StudyError(f"{where}: found no item with an amount; allowed: one a line, as in `balancer,12.41`")
        found[item] = found.get(item, Decimal(0)) + _amount(where, cells[at_amount])
    if not found:
        raise StudyError(f"{path}: there is no item; allowed: one or more below the names of the columns")
    return found


def _amount(where: str, text: str) -> Decimal:
    allowed = "allowed: a number such as 1204.50, or -3.20 for a credit"
    if not _NUMBER.fullmatch(text.strip()):
        raise StudyError(f"{where} amount: found {text.strip()!r}; {allowed}")
    try:
        return Decimal(text.strip().replace(",", ""))
    except InvalidOperation:  # more digits than a number can have
        raise StudyError(f"{where} amount: found {text.strip()[:20]!r}...; {allowed}") from None


def beside(path: Path, bill: Bill, services: Sequence[str]) -> Invoice:
    """An invoice beside a bill: lines that are called alike are compared, most alike first.

    Args:
        path: of the invoice, see `read_invoice`.
        bill: of the recorded plan.
        services: those of the plan, whose names belong to those of lines where there are several.

    Raises:
        StudyError: the invoice cannot be read.
    """
    invoiced = read_invoice(path)
    billed: dict[str, Decimal] = {}
    for line in bill.lines:
        name = named(line, services)
        billed[name] = billed.get(name, Decimal(0)) + line.amount
    pairs = _paired(list(billed), list(invoiced))
    lines = [
        Billed(item, other := pairs.get(item), amount, invoiced[other] if other is not None else Decimal("0.00"))
        for item, amount in billed.items()
    ]
    left = [name for name in invoiced if name not in pairs.values()]
    lines += [Billed(None, name, Decimal("0.00"), invoiced[name]) for name in left]
    return Invoice(str(path), bill.currency, tuple(lines))


def _paired(billed: Iterable[str], invoiced: Sequence[str]) -> dict[str, str]:
    """Of each line of the bill the line of the invoice that is the same thing; each is of one."""
    alike = sorted(
        ((-_likeness(mine, other), place, mine, other) for place, mine in enumerate(billed) for other in invoiced),
        key=lambda entry: entry[:2],
    )
    found: dict[str, str] = {}
    for likeness, _, mine, other in alike:
        if -likeness >= _ALIKE and mine not in found and other not in found.values():
            found[mine] = other
    return found


def _likeness(one: str, other: str) -> float:
    """Of the words of the shorter of two names the share that the other has, too; of several the most alike in all."""
    mine, theirs = _words(one), _words(other)
    few, many = (mine, theirs) if len(mine) <= len(theirs) else (theirs, mine)
    if not few:
        return float(one.casefold() == other.casefold())
    shared = sum(bool(difflib.get_close_matches(word, many, 1, _ALIKE_WORDS)) for word in few)
    in_all = difflib.SequenceMatcher(None, " ".join(sorted(mine)), " ".join(sorted(theirs)), autojunk=False).ratio()
    return shared / len(few) + in_all / 100


def _words(name: str) -> list[str]:
    """What a name is about: without quantities, units and little words."""
    return [word for word in re.findall(r"[^\W\d_]+", name.casefold()) if word not in _LITTLE]
