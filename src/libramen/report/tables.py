"""The tables of sections as files of CSV."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from libramen.base.files import write_whole
from libramen.report.section import Section


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
