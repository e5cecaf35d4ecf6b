"""Columns that a table calls otherwise: which of the model's may be meant, and in what unit they are."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Final

from libramen.trace.options import ReadOptions

SECONDS: Final = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}
_LATENCIES: Final = ("latency_s", "mean_s", "p50_s", "p90_s", "p95_s", "p99_s")
_UNIT: Final = re.compile(
    r"(?:^|[^a-z])(?:(?P<ms>ms|msec|millis|milliseconds)|(?P<us>us|usec|micros|microseconds)"
    r"|(?P<ns>ns|nanos|nanoseconds)|(?P<s>s|sec|secs|seconds))[^a-z]*$"
)
_MEANT: Final[dict[str, tuple[str, ...]]] = {
    "time": ("ts", "timestamp", "datetime", "date", "when", "start", "started", "starttime", "eventtime"),
    "latency_s": ("latency", "duration", "elapsed", "took", "responsetime", "timetaken", "servicetime"),
    "route": ("path", "url", "uri", "endpoint", "page"),
    "status": ("statuscode", "code", "responsecode"),
    "bytes_out": ("bytes", "size", "bytessent", "responsesize"),
    "visitor": ("user", "userid", "client", "clientid", "session", "sessionid"),
}
"""What tables call the model's columns, without units and in small letters."""


def meant_by(name: str) -> str | None:
    """Which of the model's columns one of this name may be; None: who knows.

    Example:
        >>> meant_by("duration_ms")
        'latency_s'
    """
    plain = re.sub(r"[^a-z]", "", _UNIT.sub("", _apart(name.rpartition(".")[2])))
    return next((ours for ours, names in _MEANT.items() if plain in names), None)


def mapping_of(names: Iterable[str]) -> str:
    """`columns` as one might write it for a table with these names; empty: none of them is like one of the model's."""
    found: dict[str, str] = {}
    for name in names:
        ours = meant_by(name)
        if ours is not None:
            found.setdefault(ours, name)
    pairs = ", ".join(f'{ours} = "{theirs}"' for ours, theirs in found.items())
    return f"columns = {{ {pairs} }}" if "time" in found else ""


def unit_of(ours: str, options: ReadOptions) -> str:
    """In what a column of the model is written down: as `latency_unit` says, or the name that it is mapped from."""
    if ours in _LATENCIES and options.latency_unit is not None:
        return options.latency_unit
    told = _UNIT.search(_apart(options.columns.get(ours, ""))) if ours.endswith("_s") else None
    return "s" if told is None else str(told.lastgroup)


def _apart(name: str) -> str:
    """A name in small letters, with its words apart: `durationMs` is `duration_ms`."""
    return re.sub(r"(?<=[a-z])(?=[A-Z])", "_", name).lower()


def has_paths(options: ReadOptions) -> bool:
    """Whether routes are paths, which have numbers in them: the column that they are in is called so."""
    return meant_by(options.columns.get("route", "")) == "route"


def names_said(options: ReadOptions, there: Iterable[str]) -> list[str]:
    """What is to be said of what was found in names of columns."""
    units: Mapping[str, str] = {ours: unit_of(ours, options) for ours in options.columns if ours in set(there)}
    said = [f"{ours} is column {options.columns[ours]!r}, in {unit}" for ours, unit in units.items() if unit != "s"]
    if has_paths(options):
        said.append(f"routes are the paths in {options.columns['route']!r}, with {{id}} for numbers and the like")
    return said
