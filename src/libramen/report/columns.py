"""The columns of tables: each says its title, its name in data, and what it says of the object of a row, in one place.

Of an object a column takes what `of` gives, or the attribute that is called as the column is in data.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from operator import attrgetter
from typing import Any, Final

from libramen.base import units
from libramen.report.section import Cell, Column, Row, Section, row, text

Of = Callable[[Any], Any]


def table(
    columns: Iterable[Column],
    objects: Iterable[Any],
    *,
    stands_out: Callable[[Any], bool] = lambda _one: False,
    most: int | None = None,
    total: Row | None = None,
    **rest: Any,
) -> Section:
    """A section with a row an object.

    Args:
        columns: of the table.
        objects: of the rows.
        stands_out: whether that of an object is to be seen first.
        most: so many rows are shown, the others are in data alone; None: all are.
        total: one more row, the sum of them.
        rest: what else the section has.
    """
    columns = tuple(columns)
    rows = [row((one.cell(of) for one in columns if one.cell is not None), stands_out=stands_out(of)) for of in objects]
    rows += [] if total is None else [total]
    most = len(rows) if most is None else most
    bare = tuple(one._replace(cell=None) for one in columns)  # a section is data alone
    return Section(columns=bare, rows=tuple(rows[:most]), more=tuple(rows[most:]), **rest)


def words(title: str, key: str = "", of: Of | None = None, **how: Any) -> Column:
    """A text, which is the value too; or a cell."""
    get = attrgetter(key) if of is None else of
    return Column(title, key, is_number=False, cell=lambda one: _as_cell(get(one)), **how)


def _as_cell(value: Any) -> Cell:
    return value if isinstance(value, Cell) else text("" if value is None else str(value))


def number(title: str, key: str = "", of: Of | None = None, form: str = "{:,}", unit: str = "", **how: Any) -> Column:
    """A number as `form` has it; `-` where there is none. Or a cell."""
    get = attrgetter(key) if of is None else of

    def cell(one: Any) -> Cell:
        value = get(one)
        return value if isinstance(value, Cell) else Cell("-" if value is None else form.format(value), value)

    return Column(title, key, unit, cell=cell, **how)


def money(title: str, key: str, currency: str, of: Of | None = None, **how: Any) -> Column:
    """An amount a month, to the cent."""
    get = attrgetter(key) if of is None else of

    def cell(one: Any) -> Cell:
        amount = get(one)
        return Cell("-") if amount is None else Cell(f"{amount:,.2f}", float(amount))

    return Column(title, key, f"{currency}/month", cell=cell, **how)


def _of_kind(made: Callable[[Any], Cell], unit: str) -> Callable[..., Column]:
    def column(title: str, key: str, of: Of | None = None, **how: Any) -> Column:
        get = attrgetter(key) if of is None else of
        return Column(title, key, unit, cell=lambda one: made(get(one)), **how)

    return column


def duration(seconds: float | None) -> Cell:
    """A cell of a duration [s]."""
    return Cell(units.show_duration(seconds), seconds)


def share(of_one: float | None) -> Cell:
    """A cell of a share, from 0 to 1."""
    return Cell(units.show_share(of_one), of_one)


def availability(of_one: float | None) -> Cell:
    """A cell of a share that is near 1."""
    return Cell(units.show_availability(of_one), of_one)


durations: Final = _of_kind(duration, "s")
shares: Final = _of_kind(share, "share")
availabilities: Final = _of_kind(availability, "share")


def data(key: str, of: Of | None = None, unit: str = "", **how: Any) -> Column:
    """A value that is in data alone."""
    get = attrgetter(key) if of is None else of
    return Column("", key, unit, in_text=False, cell=lambda one: Cell("", get(one)), **how)


def service(of: Of) -> Column:
    """Whose a row is, where there are several services."""
    return words("service", "service", of, if_any=True)
