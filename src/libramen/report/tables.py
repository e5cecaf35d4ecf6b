"""The tables of sections as files of CSV."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any, Final

from libramen.base import heavy
from libramen.base.files import spreadsheet_safe, write_whole
from libramen.report.section import Section

_TIME: Final = "%Y-%m-%dT%H:%M:%S%z"


def write_frame(path: Path, frame: heavy.DataFrame) -> None:
    """Write a frame as .csv (UTF-8, RFC 4180, no cell that a spreadsheet would run) or .parquet, whole or not at all.

    Raises:
        OutputError: it cannot be written.
    """
    if path.suffix.lower() == ".parquet":
        write_whole(path, lambda file: frame.to_parquet(file, index=False))
        return
    safe = frame.rename(columns=spreadsheet_safe)
    write_whole(path, lambda file: safe.to_csv(file, index=False, lineterminator="\r\n", date_format=_TIME))


def json_of_frame(frame: heavy.DataFrame) -> dict[str, list[Any]]:
    """The columns of a frame by name, as JSON has them: times as texts, None for what does not exist."""
    found: dict[str, list[Any]] = json.loads(frame.to_json(orient="split", date_format="iso", double_precision=15))
    return dict(zip(found["columns"], map(list, zip(*found["data"], strict=True)), strict=True))


def write_tables(path: Path, sections: Iterable[Section], main: str) -> list[Path]:
    """Write every table of some sections, each to a file of its own, UTF-8 as in RFC 4180.

    Args:
        path: of the main one: `plans.csv`. Others go beside it by their name, such as `plans.repeats.csv`, and several
            of one name are numbered.
        sections: with or without tables.
        main: name of the main table; if there is none of that name the first is it.

    Returns:
        What was written, the main one first.

    Raises:
        OutputError: a file cannot be written.
    """
    tables = [section for section in sections if section.columns]
    first = next((place for place, table in enumerate(tables) if table.name == main), 0)
    counts: dict[str, int] = {}
    written: list[Path] = []
    for table in [*tables[first : first + 1], *tables[:first], *tables[first + 1 :]]:
        counts[table.name] = counts.get(table.name, 0) + 1
        n = counts[table.name]
        ending = f".{table.name}{'' if n == 1 else f'-{n}'}.csv" if written else path.suffix
        place = path.with_name(path.stem + ending)
        text = table.to_csv().encode()
        write_whole(place, lambda file, text=text: file.write_bytes(text))  # type: ignore[misc]
        written.append(place)
    return written
