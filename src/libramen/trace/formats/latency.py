"""Which piece of a log's lines is the request time, and in what unit."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Final

import numpy as np

from libramen.base.errors import TraceError

UNITS: Final = {"s": 1.0, "ms": 1e-3, "us": 1e-6}
_NUMBER: Final = re.compile(rb"\d+\.?\d*|\.\d+")
_UPSTREAM: Final = re.compile(r"^u|upstream|backend|service")


@dataclass(frozen=True)
class Latency:
    """Where the latency of a request stands in a line: the pieces to be tried in turn."""

    columns: tuple[str, ...]
    unit: str
    prefix: bytes = b""  # of the value, such as `rt=`


def choose_latency(
    samples: dict[str, list[bytes]],
    labels: dict[str, str],
    latency_field: int | str | None,
    latency_unit: str | None,
) -> tuple[Latency | None, tuple[str, ...]]:
    """Which piece of a line is the request time, in what unit, and what to tell of the choice.

    Upstream time is preferred where it stands beside the whole: a slow client is not work.
    """
    if latency_field is not None:
        chosen = [name for name, label in labels.items() if label == str(latency_field)]
        if not chosen:
            raise TraceError(f"latency_field: found {latency_field!r}; allowed: {', '.join(labels.values()) or 'none'}")
        columns = chosen
    else:
        columns = [name for name, values in samples.items() if _share_of_numbers(values) >= 0.5]
        columns = _upstream_first(columns, samples, labels)
    if not columns:
        return None, ("the log has no request times: its latencies are not known (work may say what a request takes)",)
    unit = latency_unit or _unit_of(samples[columns[0]])
    same = tuple(name for name in columns if latency_unit or _unit_of(samples[name]) == unit)
    notes = [f"the request time is piece {labels[same[0]]!r} of each line, in {unit}"]
    if len(columns) > 1:
        others = ", ".join(repr(labels[name]) for name in columns[1:])
        notes[0] += f" ({others} could be too; latency_field and latency_unit choose)"
    elif latency_unit is None and unit != "s":
        notes[0] += " (latency_unit chooses another)"
    prefix = b"=" if not labels[same[0]].isdigit() else b""
    return Latency(same if latency_field is None else same[:1], unit, prefix), tuple(notes)


def _share_of_numbers(values: list[bytes]) -> float:
    return sum(_NUMBER.fullmatch(value) is not None for value in values) / max(1, len(values))


def _numbers(values: list[bytes]) -> list[float]:
    return [float(value) for value in values if _NUMBER.fullmatch(value)]


def _unit_of(values: list[bytes]) -> str:
    """Seconds where there is a decimal point; whole numbers are milliseconds, or microseconds if they are large."""
    numbers = _numbers(values)
    if any(b"." in value for value in values if _NUMBER.fullmatch(value)):
        return "s"
    return "us" if float(np.median(numbers or [0.0])) >= 20_000 else "ms"


def _upstream_first(columns: list[str], samples: dict[str, list[bytes]], labels: dict[str, str]) -> list[str]:
    """The candidates, upstream time first: by its name, or since it never exceeds the other."""
    if len(columns) < 2:
        return columns
    named = [name for name in columns if _UPSTREAM.search(labels[name])]
    if named:
        return named + [name for name in columns if name not in named]
    a, b = columns[0], columns[1]
    pairs = [
        (float(x), float(y))
        for x, y in zip(samples[a], samples[b], strict=True)
        if _NUMBER.fullmatch(x) and _NUMBER.fullmatch(y)
    ]
    # A thousandth more is rounding.
    if pairs and all(y <= x * 1.001 + 0.001 for x, y in pairs) and any(y < x for x, y in pairs):
        return [b, a, *columns[2:]]
    return columns
