"""The month of an outcome: of one replay, or of one with and one without single events."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Self

from libramen.base.results import Result
from libramen.bill.made_of import Single
from libramen.bill.month import LONGEST_WITH_EVENTS_S, Month
from libramen.bill.usage import Usage
from libramen.bill.use import MonthOfUse, Part
from libramen.engine.record import Run
from libramen.outcome.hourly import KeptCounts, in_bins, of_month
from libramen.outcome.measured import Measured, weighted_counts
from libramen.outcome.measures import ALL, Measures, Scope
from libramen.study.system import System

Key = tuple[str, str, int | str]
"""What can be left out of a replay: service; "rollouts" or "faults" and the place in the table (from 0), or
"at_random" and a kind of fault."""


@dataclass(frozen=True, eq=False)
class MeasuredReplay:
    """One replay, measured.

    Attributes:
        run: the record.
        measured: its requests; `whole`: their figures.
        visits: of each fleet by name its visits, of the only one the requests, and their figures; of a service with
            several also all of it.
        usage: of each service by name.
    """

    run: Run
    measured: Measured
    whole: Measures
    visits: Mapping[str, tuple[Measured, Measures]]
    usage: Mapping[str, Usage]


class Available(Result):
    """The base of results with `availability`, by requests and by minutes: in JSON both stand under that name."""

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        document = super().to_dict()
        by = {"requests": document["availability"], "minutes": document.pop("availability_minutes")}
        return document | {"availability": by}

    @classmethod
    def from_dict(cls, document: dict[str, Any]) -> Self:
        """What `to_dict` has written."""
        by = document["availability"]
        return super().from_dict(document | {"availability": by["requests"], "availability_minutes": by["minutes"]})


@dataclass(frozen=True)
class MonthFigures(Available):
    """What a month comes to; see `Measures` for each.

    Attributes:
        endings: requests by ending.
        is_binned: whether percentiles are those of hourly bins, within 0.5 %.
    """

    availability: float | None
    availability_minutes: float | None
    latency_s: dict[str, float | None]
    answered_s: dict[str, float | None]
    endings: dict[str, float]
    is_binned: bool = False

    @classmethod
    def of(cls, measures: Measures, times: float = 1.0, *, is_binned: bool = False) -> MonthFigures:
        """What is said of it; `times`: how often the month has each request that was counted."""
        endings = {name: times * count for name, count in measures.endings.items()}
        return cls(
            measures.availability, measures.availability_minutes, measures.latency_s, measures.answered_s, endings,
            is_binned,
        )  # fmt: skip


class WeightedReplays:
    """Some replays, and how often each of their hours stands in the month.

    Args:
        month: how the trace becomes a month.
        with_events: the replay with all events.
        base: the one without those that happen once, None: events happen as often as their hour.
        singles: releases and faults with a single instant.
        gaps: of the trace.
    """

    def __init__(
        self,
        month: Month,
        with_events: MeasuredReplay,
        base: MeasuredReplay | None,
        singles: tuple[Single, ...] = (),
        gaps: tuple[tuple[float, float], ...] = (),
    ) -> None:
        self.month, self.with_events, self.base = month, with_events, base
        self.singles, self.gaps = singles, gaps
        weights = [month.weights] if base is None else list(month.split)
        self.parts = list(zip(weights, [with_events] if base is None else [with_events, base], strict=True))

    @property
    def is_the_trace(self) -> bool:
        """Whether the figures of the month are those of the trace."""
        return self.base is None and self.month.weights.is_even

    @property
    def scale(self) -> float:
        """How often the month has each request of its `measures`: these are of the trace where that is the same."""
        return float(self.month.weights.floats[0]) if self.is_the_trace else 1.0

    def measures(self, whole: Measures, scope: Scope = ALL) -> Measures:
        """Of all requests, of a route, of a window of the objectives or an area; `whole`: the same of the trace."""
        if self.is_the_trace:
            return whole
        return of_month(weighted_counts(((weights, one.measured) for weights, one in self.parts), scope), whole)

    def of_visits(self, service: str) -> Measures:
        """Of the visits of a service."""
        whole = self.with_events.visits[service][1]
        if self.is_the_trace:
            return whole
        return of_month(weighted_counts((weights, one.visits[service][0]) for weights, one in self.parts), whole)

    def use(self) -> MonthOfUse:
        """What was used in the month."""
        return MonthOfUse(tuple(Part(weights, one.usage) for weights, one in self.parts))

    def requests(self) -> float:
        """How many are measured in the month."""
        counts = (weights.over(one.measured.by_hour().endings).sum() for weights, one in self.parts)
        return float(sum(counts))

    def times(self, at_s: float, into_hour_s: float, *, once: bool) -> float:
        """How often what happens at an instant of the trace does in the month; `once`: in one of the replays only."""
        hour = int((at_s + into_hour_s) // 3600)
        parts = self.parts[:1] if once else self.parts
        return float(sum(weights.floats[min(hour, len(weights.floats) - 1)] for weights, _ in parts))

    def kept(self, scopes: Mapping[str, Scope]) -> list[dict[str, KeptCounts]]:
        """What other months can be made of: of each replay some scopes by name."""
        found = []
        for _, one in self.parts:
            of = {}
            for name, scope in scopes.items():
                measured = one.measured if scope.service is None else one.visits[scope.service][0]
                own = scope._replace(service=None)
                of[name] = KeptCounts(measured.by_hour(own), in_bins(measured.latencies(own)))
            found.append(of)
        return found


def singles_of(system: System, without: set[Key]) -> list[tuple[Key, Any]]:
    """Releases and faults with a single instant, but for those left out: their keys and entries."""
    found: list[tuple[Key, Any]] = []
    for hosted in system.hosted:
        for table in ("rollouts", "faults"):
            entries = getattr(hosted.hosting, table)
            found += [
                ((hosted.name, table, place), entry)
                for place, entry in enumerate(entries)
                if is_single(entry) and (hosted.name, table, place) not in without
            ]
    return found


def is_single(entry: Any) -> bool:
    """Whether a release or a fault has a single instant."""
    return entry.at is not None and not entry.daily and not entry.days


def may_happen_once(span_s: float) -> bool:
    """Whether a trace is short enough for single events to be put once into a month."""
    return span_s <= LONGEST_WITH_EVENTS_S + 1e-9


def named(system: System, singles: list[tuple[Key, Any]], trace: Any) -> list[Single]:
    """What single events are called, and when they are, in order of time."""
    keys = {key for key, _ in singles}
    found = []
    for hosted in system.hosted:
        for table in ("rollouts", "faults"):
            for due in hosted.hosting.due(table, trace):
                if (hosted.name, table, due.place) in keys:
                    kind = "release" if table == "rollouts" else _KINDS.get(due.entry.kind, due.entry.kind)
                    found.append(Single(kind, due.at_s))
    return sorted(found, key=lambda single: single.at_s)


_KINDS = {
    "zone_loss": "lost zone", "no_stock": "empty stock", "dependency": "trouble of a dependency",
    "slow": "slow replica", "region_loss": "lost region",
}  # fmt: skip
