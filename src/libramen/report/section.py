"""A section of a report: title, sentences, a table, notes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from libramen.base.files import spreadsheet_safe

if TYPE_CHECKING:
    import pandas as pd


class Column(NamedTuple):
    """One column of a table.

    Attributes:
        title: over the column, for people.
        key: its name in data; empty: it is not in data.
        unit: of the values in data, such as `"s"` or `"EUR/month"`; empty: they have none.
        is_number: whether it is aligned to the right.
        only_wide: whether it is left out where there is little room.
        if_any: whether it is left out where no row has a text there.
    """

    title: str
    key: str = ""
    unit: str = ""
    is_number: bool = True
    only_wide: bool = False
    if_any: bool = False


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
    """One row: a cell for each column; `stands_out` for the one to be seen first, such as a total."""

    cells: tuple[Cell, ...]
    stands_out: bool = False


@dataclass(frozen=True)
class Section:
    """Title, sentences, a table and notes, each of which may be missing. All text is plain, without markup.

    Attributes:
        title: one line.
        sentences: before the table.
        columns, rows: the table; no columns: there is none.
        notes: after the table, on how it is to be read.
        prose: whether the sentences may be broken between words; others are copied as they stand.
    """

    title: str = ""
    sentences: tuple[str, ...] = ()
    columns: tuple[Column, ...] = ()
    rows: tuple[Row, ...] = ()
    notes: tuple[str, ...] = ()
    prose: bool = False

    def __post_init__(self) -> None:
        """Columns that are only there for what some row has go, where none has it."""
        empty = {
            at for at, one in enumerate(self.columns) if one.if_any and not any(r.cells[at].text for r in self.rows)
        }
        if empty:
            kept = [at for at in range(len(self.columns)) if at not in empty]
            object.__setattr__(self, "columns", tuple(self.columns[at] for at in kept))
            rows = tuple(one._replace(cells=tuple(one.cells[at] for at in kept)) for one in self.rows)
            object.__setattr__(self, "rows", rows)

    def to_frame(self) -> pd.DataFrame:
        """The table as data: a column for each that has a key, a row for each row that is not a total."""
        import pandas as pd

        kept = [(at, column) for at, column in enumerate(self.columns) if column.key]
        return pd.DataFrame({column.key: [row.cells[at].value for row in self.rows] for at, column in kept})

    def to_csv(self) -> str:
        """The table as CSV, units in the header: `latency_p95 [s]`."""
        named = {column.key: f"{column.key} [{column.unit}]" for column in self.columns if column.unit}
        frame = self.to_frame().rename(columns=named).map(spreadsheet_safe)
        return str(frame.to_csv(index=False, lineterminator="\n"))


SERVICE: Final = Column("service", "service", is_number=False, if_any=True)
"""Whose a row is, where there are several services."""


def text(value: str) -> Cell:
    """A cell whose text is its value."""
    return Cell(value, value)


def row(cells: Iterable[Cell | str], *, stands_out: bool = False) -> Row:
    """A row of cells; a plain text is a cell of that text."""
    return Row(tuple(text(cell) if isinstance(cell, str) else cell for cell in cells), stands_out)
