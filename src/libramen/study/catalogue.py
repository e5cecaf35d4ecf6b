"""Catalogues: tiers in a file of their own, TOML or a table of sizes and prices (CSV)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Final, NamedTuple

from pydantic import Field

from libramen.base import units
from libramen.base.errors import StudyError, UnitError
from libramen.base.fields import Table, nearest
from libramen.base.rows import read_rows
from libramen.study.read import checked, read_toml
from libramen.study.service import Size, Tier, name_entries

TABLES: Final = (".csv",)
_MARKED: Final = re.compile(r"(.*?)\s*\[([^\]]+)\]\s*")
_LEAST_BYTES: Final = 2**20
"""A memory of less, without a unit, was not meant in bytes."""
_OF_SIZE: Final = tuple(key for key in Size.model_fields if key not in {"name", "fees"})
_OF_TIER: Final = (
    "summary", "category", "billing", "billed_from", "minimum_billed", "granularity", "autoscaling", "interruptible",
    "provision", "overhead", "holds_requests", "queue_limit", "reserved_cores", "fixed_per_month", "least_per_month",
    "balancer_per_hour", "zone_per_hour", "egress_per_gb", "between_regions_per_gb", "per_million_requests",
    "per_core_second", "per_gb_second",
)  # fmt: skip
KEYS: Final = ("tier", "size", *_OF_SIZE, *_OF_TIER)
"""What columns of a table may be called."""
_DURATIONS: Final = ("minimum_billed", "granularity", "provision", "overhead")
_YES_OR_NO: Final = {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}


class Catalogue(Table):
    """The tables of a catalogue file."""

    tiers: dict[str, Tier] = Field(min_length=1, description="what could be bought")


class ReadCatalogue(NamedTuple):
    """A catalogue that was read.

    Attributes:
        tiers: by name.
        notes: what was assumed on the way, a sentence each.
    """

    tiers: dict[str, Tier]
    notes: tuple[str, ...] = ()


def read_catalogue(path: Path, columns: Mapping[str, str] | None = None) -> ReadCatalogue:
    """The tiers of a catalogue: a TOML file with `[tiers.NAME]`, or a table of sizes, a row each.

    Columns of a table are called by keys of a size or a tier (`cores`, `memory`, `per_hour`, `billing`, ...), `tier`
    and `size`; a unit may stand behind the name, as in `memory [GB]`. Others are not looked at, which `notes` say.
    Without a column `tier` the file is one, called by its name; without one for `billing` it follows from which price
    there is.

    Args:
        path: of the file; `.csv` is a table.
        columns: of a table: key -> what its column is called, where that is another name.

    Raises:
        StudyError: it cannot be read, or says something that is not allowed.

    Example:
        >>> sorted(read_catalogue(Path("saltmarsh/tiers.toml")).tiers)[:2]
        ['beacon', 'berth']
    """
    if path.suffix.lower() in TABLES:
        return _Rows(path, columns or {}).read()
    if columns:
        raise StudyError(f"{path}: columns are of a table; allowed: a file .csv")
    return ReadCatalogue(dict(checked(path, Catalogue, name_entries(read_toml(path), "tiers")).tiers))


class _Rows:
    """A table of sizes being read."""

    def __init__(self, path: Path, columns: Mapping[str, str]) -> None:
        self._path, self._columns = path, columns
        self._notes: list[str] = []

    def read(self) -> ReadCatalogue:
        """Its tiers, and what was assumed."""
        head, rows = read_rows(self._path)
        places = self._places(head)
        tiers: dict[str, dict[str, Any]] = {}
        for line, cells in rows:
            values = {}
            for key, (at, unit) in places.items():
                text = cells[at].strip() if at < len(cells) else ""
                if text:
                    values[key] = self._value(f"{self._path}:{line} {key}", key, text, unit)
            self._enter(tiers, line, values)
        if not tiers:
            raise StudyError(f"{self._path}: there is no size; allowed: a row for each below the names of the columns")
        for name, tier in tiers.items():
            tier.setdefault("billing", self._billing(name, tier))
        tables = name_entries({"tiers": tiers}, "tiers")
        return ReadCatalogue(dict(checked(self._path, Catalogue, tables).tiers), tuple(dict.fromkeys(self._notes)))

    def _places(self, head: list[str]) -> dict[str, tuple[int, str]]:
        """Of each key the place of its column, and the unit that stands behind its name."""
        for key, name in self._columns.items():
            if key not in KEYS:
                raise StudyError(f"{self._path}: columns: unknown key {key!r}; {nearest(key, KEYS)}")
            if name not in head:
                raise StudyError(f"{self._path}:1: there is no column {name!r}; {nearest(name, head)}")
        named = {name: key for key, name in self._columns.items()}
        places: dict[str, tuple[int, str]] = {}
        left = []
        for at, column in enumerate(head):
            marked = _MARKED.fullmatch(column)
            bare, unit = (marked[1], marked[2]) if marked else (column, "")
            key = named.get(column, "")
            if not key and bare.lower() in KEYS and bare.lower() not in self._columns:
                key = bare.lower()
            if not key:
                left.append(column)
            elif key in places:
                raise StudyError(f"{self._path}:1: the column {key} stands there twice; allowed: once")
            else:
                places[key] = at, unit
        if "cores" not in places:
            raise StudyError(
                f"{self._path}:1: there is no column cores, but {', '.join(head) or 'none'}; allowed: names such as "
                "tier, size, cores, memory [GB], per_hour, or what they are called here: --column cores=NAME"
            )
        if left:
            self._notes.append(f"columns that are not looked at: {', '.join(left)}")
        return places

    def _value(self, where: str, key: str, text: str, unit: str) -> Any:
        """A cell as a study file would say it."""
        fields = Size.model_fields if key in _OF_SIZE else Tier.model_fields
        if key in {"tier", "size"} or fields[key].annotation is str:
            return text
        if fields[key].annotation is bool:
            if text.lower() not in _YES_OR_NO:
                raise StudyError(f"{where}: found {text!r}; allowed: true or false")
            return _YES_OR_NO[text.lower()]
        if key == "memory":
            return self._memory(where, text, unit)
        if key not in _DURATIONS:  # of an amount of money the unit is a currency, which is that of the study
            return text
        return f"{text} {unit}" if unit else units.number_or_text(text)

    def _memory(self, where: str, text: str, unit: str) -> int:
        try:
            found = units.parse_size(f"{text} {unit}" if unit else units.number_or_text(text))
        except UnitError as error:
            raise StudyError(f"{where}: {error}") from None
        if found < _LEAST_BYTES:
            raise StudyError(
                f"{where}: found {text!r}, which is {found} bytes; allowed: a size such as 8 GB, or a column "
                "memory [GB]"
            )
        return found

    def _enter(self, tiers: dict[str, dict[str, Any]], line: int, values: dict[str, Any]) -> None:
        name = str(values.pop("tier", self._path.stem))
        size = str(values.pop("size", "")) or f"row-{line}"
        tier = tiers.setdefault(name, {"sizes": {}})
        if size in tier["sizes"]:
            raise StudyError(f"{self._path}:{line}: tier {name!r} has a size {size!r} already; allowed: each name once")
        tier["sizes"][size] = {key: value for key, value in values.items() if key in _OF_SIZE}
        for key, value in values.items():
            if key in _OF_SIZE:
                continue
            if tier.setdefault(key, value) != value:
                raise StudyError(
                    f"{self._path}:{line} {key}: found {value!r}, and {tier[key]!r} above for tier {name!r}; allowed: "
                    "one for all sizes of a tier"
                )

    def _billing(self, name: str, tier: dict[str, Any]) -> str:
        """How replicas are paid for, where the table does not say."""
        keys = {key for size in tier["sizes"].values() for key in size} | set(tier)
        if "per_hour" in keys:
            self._notes.append("billing: by started hours, since there is no column billing")
            return "per_hour"
        if "per_month" in keys:
            self._notes.append("billing: by the month, since there is no column billing")
            return "per_month"
        if keys & {"per_million_requests", "per_core_second", "per_gb_second"}:
            self._notes.append("billing: per request, since there is no column billing")
            return "per_request"
        raise StudyError(
            f"{self._path}: tier {name!r} has no price; allowed: a column per_hour, per_month, or a price of use such "
            "as per_core_second"
        )
