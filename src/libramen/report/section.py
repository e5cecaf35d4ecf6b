"""A section of a report: title, sentences, a table, notes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from libramen.base.files import spreadsheet_safe

if TYPE_CHECKING:
    import pandas as pd


_FEW: Final = 8
"""Columns of a short view."""


class Column(NamedTuple):
    """One column of a table.

    Attributes:
        title: over the column, for people.
        key: its name in data; empty: it is not in data.
        unit: of the values in data, such as `"s"` or `"EUR/month"`; empty: they have none.
        is_number: whether it is aligned to the right.
        only_wide: whether it is left out where there is little room.
        if_any: whether it is left out where no row has a text there.
        in_text: whether it is shown; else it is in data alone.
        in_short: whether it is shown where only few columns are.
        cell: what it says of the object of a row; see `columns.table`.
    """

    title: str
    key: str = ""
    unit: str = ""
    is_number: bool = True
    only_wide: bool = False
    if_any: bool = False
    in_text: bool = True
    in_short: bool = True
    cell: Callable[[Any], Cell | str] | None = None


class Cell(NamedTuple):
    """One cell: the text for people and the value for data.

    Attributes:
        text: what is shown.
        value: a plain number or text, or None for what does not exist.
        short: what is shown where there is little room, None: the same text.
    """

    text: str
    value: Any = None
    short: str | None = None


class Row(NamedTuple):
    """One row: a cell for each column.

    Attributes:
        cells: of each column.
        stands_out: whether it is the one to be seen first.
        is_total: whether it is the sum of others, which data have already.
    """

    cells: tuple[Cell, ...]
    stands_out: bool = False
    is_total: bool = False


@dataclass(frozen=True)
class Section:
    """Title, sentences, a table and notes, each of which may be missing. All text is plain, without markup.

    Attributes:
        title: one line.
        sentences: before the table.
        columns, rows: the table; no columns: there is none.
        notes: after the table, on how it is to be read.
        prose: whether the sentences may be broken between words; others are copied as they stand.
        name: of the table in data, such as `bill`.
        more: rows that are in data alone, since there are too many of them to be read.
    """

    title: str = ""
    sentences: tuple[str, ...] = ()
    columns: tuple[Column, ...] = ()
    rows: tuple[Row, ...] = ()
    notes: tuple[str, ...] = ()
    prose: bool = False
    name: str = ""
    more: tuple[Row, ...] = ()

    def __post_init__(self) -> None:
        """Columns that are only there for what some row has go, where none has it."""
        every = (*self.rows, *self.more)
        places = self._places(lambda at, column: not column.if_any or any(self._is_there(row, at) for row in every))
        if len(places) < len(self.columns):
            for name, value in self._only(places).items():
                object.__setattr__(self, name, value)

    def _is_there(self, row: Row, at: int) -> bool:
        cell = row.cells[at]
        return bool(cell.text) if self.columns[at].in_text else cell.value is not None

    def _places(self, keeps: Callable[[int, Column], bool]) -> list[int]:
        return [at for at, column in enumerate(self.columns) if keeps(at, column)]

    def _only(self, places: list[int]) -> dict[str, Any]:
        """Some of the columns, and the rows with these alone."""
        rows, more = (
            tuple(row._replace(cells=tuple(row.cells[at] for at in places)) for row in some)
            for some in (self.rows, self.more)
        )
        return {"columns": tuple(self.columns[at] for at in places), "rows": rows, "more": more}

    def for_people(self) -> Section:
        """Without the columns that are in data alone."""
        places = self._places(lambda _, column: column.in_text)
        return self if len(places) == len(self.columns) else replace(self, **self._only(places))

    def short(self) -> Section:
        """With few columns, for a notebook: those that count most, in their order."""
        shown = self.for_people()
        if len(shown.columns) <= _FEW:
            return shown
        kept = [at for at, column in enumerate(shown.columns) if column.in_short and not column.only_wide]
        return replace(shown, **shown._only(kept[:_FEW]))

    def to_frame(self) -> pd.DataFrame:
        """The table as data: a column for each that has a key, a row for each row that is not a total."""
        import pandas as pd

        kept = [(at, column) for at, column in enumerate(self.columns) if column.key]
        rows = [row for row in (*self.rows, *self.more) if not row.is_total]
        return pd.DataFrame({column.key: pd.Series([row.cells[at].value for row in rows]) for at, column in kept})

    def to_csv(self) -> str:
        """The table as CSV (RFC 4180), units in the header: `latency_p95 [s]`; no cell is run by a spreadsheet."""
        named = {column.key: f"{column.key} [{column.unit}]" if column.unit else column.key for column in self.columns}
        safe = {key: str(spreadsheet_safe(name)) for key, name in named.items()}
        frame = self.to_frame().rename(columns=safe).map(spreadsheet_safe)
        return str(frame.to_csv(index=False, lineterminator="\r\n"))


def text(value: str) -> Cell:
    """A cell whose text is its value."""
    return Cell(value, value)


def row(cells: Iterable[Cell | str], *, stands_out: bool = False, is_total: bool = False) -> Row:
    """A row of cells; a plain text is a cell of that text."""
    return Row(tuple(text(cell) if isinstance(cell, str) else cell for cell in cells), stands_out, is_total)
