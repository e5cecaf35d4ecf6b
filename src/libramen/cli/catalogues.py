"""What the command line knows of catalogues: which file is one, and what stands in it."""

from __future__ import annotations

from importlib.resources import as_file, files
from pathlib import Path
from typing import TYPE_CHECKING, Any

from libramen.base.errors import StudyError
from libramen.study.catalogue import TABLES, ReadCatalogue, read_catalogue
from libramen.study.read import read_toml

if TYPE_CHECKING:
    from libramen.cli.common import Outputs
    from libramen.study.terms import Terms


def is_catalogue(file: Path) -> bool:
    """Whether a file has tiers alone, or is a table of sizes: no study."""
    if file.suffix.lower() in TABLES:
        return True
    raw = read_toml(file)
    return "tiers" in raw and not set(raw) & {"trace", "plans", "service", "services"}


def show_prices(
    out: Outputs, file: Path | None, columns: list[str] | None = None, save: Path | None = None, **load: Any
) -> int:
    """What each size of a catalogue costs; `save`: where it is written as one; `load`: of `price_list`."""
    from libramen.base.files import write_whole
    from libramen.bill.price_list import price_list
    from libramen.report.price_list import price_sections
    from libramen.study.unusual import unusual_tiers
    from libramen.study.written import tiers_toml

    name, found, terms = _tiers_of(file, columns or [])
    priced = price_list(found.tiers, terms=terms, notes=found.notes, **load)
    if save is not None:
        text = tiers_toml(found.tiers).encode()
        write_whole(save, lambda path: path.write_bytes(text))
    out.give(priced, lambda: price_sections(priced, name, unusual_tiers(priced.tiers)), "sizes")
    return 0


def _tiers_of(file: Path | None, columns: list[str]) -> tuple[str, ReadCatalogue, Terms | None]:
    """The tiers of a file, None: those of the demo; what it is called; and of a study what holds for its plans.

    Args:
        file: a catalogue, a study, or a table.
        columns: what columns of a table are called, `KEY=NAME` each.

    Raises:
        StudyError: it cannot be read, or says something that is not allowed.
    """
    if file is None:
        with as_file(files("libramen.demo") / "tiers.toml") as shipped:
            return "made-up tiers of the demo", read_catalogue(shipped, _named(columns)), None
    if is_catalogue(file):
        return file.name, read_catalogue(file, _named(columns)), None
    if columns:
        raise StudyError(f"{file}: --column is of a table; allowed: a file .csv, or catalogue_columns in [study]")
    from libramen.study.file import load_study

    study = load_study(file)
    return study.name, ReadCatalogue(study.tiers), study.terms


def _named(columns: list[str]) -> dict[str, str]:
    found: dict[str, str] = {}
    for one in columns:
        key, equals, name = one.partition("=")
        if not equals or not name.strip() or key.strip() in found:
            raise StudyError(f"--column: found {one!r}; allowed: KEY=NAME, each key once, such as cores=vCPU")
        found[key.strip()] = name.strip()
    return found
