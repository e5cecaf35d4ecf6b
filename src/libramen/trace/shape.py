"""Shaping a trace: steps that stretch, thin, grow, cut and mix it, each keeping the pattern within.

A step is a table with one telling key (`{ repeat = "7d" }`). To add one, write the class and name it in
`STEPS`.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, ClassVar, Final, TypeAlias

from pydantic import Discriminator, SerializeAsAny, Tag

from libramen.base import units
from libramen.base.delays import Delay
from libramen.base.fields import Table
from libramen.base.times import Moment
from libramen.trace.steps import (
    OF_A_LOAD,
    Between,
    Campaign,
    Grow,
    Jitter,
    Job,
    Mix,
    Only,
    Repeat,
    Scale,
    Step,
    Without,
)
from libramen.trace.trace import Trace

_KINDS: Final[dict[str, type[Step]]] = {
    "scale": Scale,
    "grow": Grow,
    "campaign": Campaign,
    "repeat": Repeat,
    "between": Between,
    "only": Only,
    "without": Without,
    "mix": Mix,
    "jitter": Jitter,
    "job": Job,
}


def _kind(value: Any) -> str | None:
    """Which step a table is: the telling key that it has."""
    if isinstance(value, Step):
        return type(value).__name__.lower()
    # In this order: `between` tells a step only where no other key does.
    return next((key for key in _KINDS if key in value), None) if isinstance(value, dict) else None


STEPS: TypeAlias = Annotated[
    Annotated[Scale, Tag("scale")]
    | Annotated[Grow, Tag("grow")]
    | Annotated[Campaign, Tag("campaign")]
    | Annotated[Repeat, Tag("repeat")]
    | Annotated[Between, Tag("between")]
    | Annotated[Only, Tag("only")]
    | Annotated[Without, Tag("without")]
    | Annotated[Mix, Tag("mix")]
    | Annotated[Jitter, Tag("jitter")]
    | Annotated[Job, Tag("job")],
    Discriminator(
        _kind,
        custom_error_type="unknown_step",
        custom_error_message=f"a table with one of the keys {', '.join(_KINDS)}",
    ),
]


class _Shape(Table):
    """A list of steps, read as in a study."""

    shown_as: ClassVar[str] = "shaped"

    shape: tuple[SerializeAsAny[STEPS], ...]


def shaped(trace: Trace, steps: Sequence[Step | Mapping[str, Any]], *, seed: int = 0, folder: Path = Path()) -> Trace:
    """The trace after all steps, in order.

    Args:
        trace: is not changed.
        steps: tables as under `shape` of a study, or steps already read.
        seed: random seed.
        folder: that paths in the steps are relative to.

    Raises:
        StudyError: a step is unknown, or a key of it is not allowed.
        TraceError: nothing would be left, or a step does not fit the trace.

    Example:
        >>> shaped(trace, [{"repeat": "2h"}]).span_s
        7200.0
    """
    for number, step in enumerate(_read(steps), start=1):
        shown = ", ".join(
            f"{key} = {_shown(getattr(step, key))}" for key in type(step).model_fields if key in step.model_fields_set
        )
        trace = step.apply(trace, seed, number=number, folder=folder).noted(f"shaped: {shown}")
    return trace


@dataclass(frozen=True)
class Chunks:
    """A trace with another load, made some stretches at a time whenever it is gone through."""

    trace: Trace
    step: Scale
    seed: int

    def __iter__(self) -> Iterator[Trace]:
        return self.step.in_chunks(self.trace, self.seed, number=OF_A_LOAD)

    @property
    def gaps(self) -> tuple[tuple[float, float], ...]:
        """Of the trace."""
        return self.trace.gaps


def scaled_in_chunks(trace: Trace, scale: float, *, seed: int = 0) -> Chunks:
    """So many times the load, some stretches at a time: what `replay` takes without keeping requests.

    The memory that this takes is that of the trace, however great the scale is.

    Args:
        trace: the requests.
        scale: requests per request, above 0.
        seed: random seed.

    Returns:
        about a million requests at a time, in order of time, the same that a load factor of `headroom` makes. It may be
        gone through as often as one likes, and is made anew each time.

    Raises:
        StudyError: the scale is not allowed.

    Example:
        >>> replay(scaled_in_chunks(trace, 50), service, plan, span_s=trace.span_s).availability  # doctest: +SKIP
        0.9993
    """
    return Chunks(trace, Scale(scale=scale), seed)


def _read(steps: Sequence[Step | Mapping[str, Any]]) -> tuple[Step, ...]:
    return _Shape(shape=tuple(dict(step) if isinstance(step, Mapping) else step for step in steps)).shape


def _shown(value: object) -> str:
    """A value as one would write it in a study."""
    if isinstance(value, Delay):
        at = {"p50": value.median_s, "p95": value.percentile(0.95)}
        parts = [f'{name} = "{units.show_duration(seconds)}"' for name, seconds in at.items()]
        return f'"{units.show_duration(value.median_s)}"' if value.is_constant else "{ " + ", ".join(parts) + " }"
    if isinstance(value, tuple):
        return "[" + ", ".join(map(_shown, value)) + "]"
    return f'"{value.text}"' if isinstance(value, Moment) else repr(value)


__all__ = [
    "STEPS",
    "Between",
    "Campaign",
    "Grow",
    "Jitter",
    "Job",
    "Mix",
    "Only",
    "Repeat",
    "Scale",
    "Without",
    "shaped",
]
