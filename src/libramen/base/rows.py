"""Small tables of people: CSV with a line of names, comma or semicolon between cells."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Final

from libramen.base.errors import StudyError

_MOST: Final = 10_000
_MOST_BYTES: Final = 20_000_000


def read_rows(path: Path) -> tuple[list[str], list[tuple[int, list[str]]]]:
    """The names of the columns, and each row that is not empty with the number of its line.

    Raises:
        StudyError: it cannot be read, is no text, or has too many rows.
    """
    try:
        with path.open("rb") as file:
            body = file.read(_MOST_BYTES + 1)
    except FileNotFoundError:
        raise StudyError(f"{path}: there is no such file") from None
    except OSError as error:
        raise StudyError(f"{path}: cannot be read: {error.strerror}") from None
    if len(body) > _MOST_BYTES:
        raise StudyError(f"{path}: found more than {_MOST_BYTES // 10**6} MB; allowed: a table of up to {_MOST:,} rows")
    try:
        text = body.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise StudyError(f"{path}: byte {error.start} is not UTF-8 text; allowed: CSV") from None
    first = text.split("\n", 1)[0]
    reader = csv.reader(text.splitlines(), delimiter=";" if first.count(";") > first.count(",") else ",")
    try:
        head = [" ".join(name.split()) for name in next(reader, [])]
        rows = [(reader.line_num, cells) for cells in reader if any(cell.strip() for cell in cells)]
    except csv.Error as error:  # a cell of more than 131,072 letters
        raise StudyError(f"{path}:{reader.line_num}: this is not CSV: {error}") from None
    if len(rows) > _MOST:
        raise StudyError(f"{path}: found {len(rows):,} rows; allowed: up to {_MOST:,}")
    return head, rows
