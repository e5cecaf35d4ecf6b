"""Where a trace comes from: its files, what was skipped, how its work was found, and what speaks against it."""

from __future__ import annotations

import json
from dataclasses import dataclass

from libramen.base import heavy


@dataclass(frozen=True)
class SkippedLine:
    """One line that could not be read; `line` 0: which one is not known any more."""

    file: str
    line: int
    reason: str


@dataclass(frozen=True)
class RouteDemand:
    """What the estimated demand of one route rests on."""

    route: str
    requests: int
    samples: int
    """Answers in quiet minutes; of an unqueued log those that took a slot."""
    minutes: str
    """Which minutes counted as quiet: "a quarter", "half" or "all"."""
    observed_mean_s: float
    work_mean_s: float


@dataclass(frozen=True)
class RouteCpu:
    """The CPU work of one route, from measured use."""

    route: str
    core_s: float
    """Core-seconds per request, on the cores that were measured."""
    error: float
    """Its standard error."""
    alike: str = ""
    """Another route that always comes with it, so that the two cannot be told apart; empty: there is none."""


@dataclass(frozen=True)
class Bottleneck:
    """Something that slows requests down, and is not in the study.

    Attributes:
        routes: where it shows, the one with most more work first.
        more: how much more work requests of that one have when most others are there than when fewest are, as a share
            of it, beyond what replays show in which nothing is missing.
        everywhere: whether it shows on all routes with enough requests.
    """

    routes: tuple[str, ...]
    more: float
    everywhere: bool


@dataclass(frozen=True)
class Demand:
    """How the demand of a trace came about, and what the estimate of each route rests on.

    Attributes:
        kind: "given", "quiet", "unqueued" or "observed".
        routes: one entry per route for "quiet" and "unqueued", else empty.
        doubts: what speaks against it, a sentence each; empty: nothing that can be seen in the log.
        cpu: one entry per route where the CPU use of the fleet was measured, else empty.
        bottleneck: what the log shows to slow requests down and the study does not have; None: nothing.
        busiest: requests a second in the busiest minute of the log, before anything was shaped; None: there is no log.
    """

    kind: str
    routes: tuple[RouteDemand, ...] = ()
    doubts: tuple[str, ...] = ()
    cpu: tuple[RouteCpu, ...] = ()
    bottleneck: Bottleneck | None = None
    busiest: float | None = None

    def to_frame(self) -> heavy.DataFrame:
        """One row per route: requests, samples, minutes, observed mean and mean work [s], and their ratio."""
        import pandas as pd

        frame = pd.DataFrame([vars(route) for route in self.routes], columns=list(RouteDemand.__dataclass_fields__))
        return frame.assign(observed_over_work=frame["observed_mean_s"] / frame["work_mean_s"])

    def _repr_html_(self) -> str:
        return f"<p>demand: {self.kind}</p>" + str(self.to_frame().to_html(index=False))


@dataclass(frozen=True)
class Made:
    """What a trace table says of how it was made; `write_trace` writes it, and what it says is taken up again.

    Attributes:
        demand: how its cpu_s and wait_s came about: "given", "quiet", "unqueued" or "observed".
        waits_are_known: some of wait_s was measured (spans show it), not estimated.
        waits_include_calls: wait_s has the time in it that the columns in_NAME_s tell of.
        start, time_zone, span_s: of the trace, None: not said.
    """

    demand: str = "given"
    waits_are_known: bool = True
    waits_include_calls: bool = False
    start: str | None = None
    time_zone: str | None = None
    span_s: float | None = None

    @property
    def estimate(self) -> bool:
        """Whether cpu_s and wait_s are an estimate."""
        return self.demand != "given"

    def to_json(self) -> str:
        """As one line of text."""
        return json.dumps({key: value for key, value in vars(self).items() if value is not None})

    @classmethod
    def from_json(cls, text: str | bytes) -> Made:
        """Read what `to_json` has written.

        Raises:
            ValueError: it is something else.
        """
        values = json.loads(text)
        kinds = {
            "demand": str, "waits_are_known": bool, "waits_include_calls": bool, "start": str, "time_zone": str,
            "span_s": (int, float),
        }  # fmt: skip
        if not isinstance(values, dict) or not all(
            key in kinds and isinstance(value, kinds[key])  # type: ignore[arg-type]
            for key, value in values.items()
        ):
            raise ValueError(f"found {str(text)[:60]!r}")
        made = cls(**values)
        if made.demand not in {"given", "quiet", "unqueued", "observed"}:
            raise ValueError(f"found demand {made.demand!r}")
        return made


@dataclass(frozen=True)
class Source:
    """Where a trace came from, and what was done to it on the way."""

    files: tuple[str, ...] = ()
    format: str = "arrays"
    lines: int = 0
    skipped: int = 0
    first_skipped: tuple[SkippedLine, ...] = ()
    reasons: tuple[tuple[str, int], ...] = ()
    """Why lines were skipped, and how many for each reason, most first."""
    demand: Demand = Demand("given")
    notes: tuple[str, ...] = ()
    """What was assumed, a sentence each."""
    made: Made = Made()
    """What the table that it was read from says of itself."""
    sampled_share: float | None = None
    """Of the requests, what the source itself says that it kept; None: all."""
    whole_seconds: bool = False
    """Whether its time stamps have no parts of a second, which are then drawn or spread."""
    from_cache: bool = False
    """Whether it was not read again, but found as it was read before."""
    recorded_speed: float = 1.0
    """Speed of the core on which it was recorded."""
    calls_apart: bool = False
    """Whether the time that its columns `in_NAME_s` tell of was taken out of `wait_s`."""
