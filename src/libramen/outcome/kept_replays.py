"""What figures keep of their replays: other prices, objectives and months are reckoned from it without a replay."""

from __future__ import annotations

import json
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple, Self

from libramen.bill.bill import Bill, bill_of
from libramen.bill.made_of import Single, made_of
from libramen.bill.month import Month, Weights, month_of
from libramen.bill.usage import Usage
from libramen.bill.use import MonthOfUse, Part
from libramen.outcome.hourly import KeptCounts, WeightedCounts, of_month
from libramen.outcome.measures import Measures
from libramen.outcome.month import may_happen_once
from libramen.study.hosting import Hosting
from libramen.study.terms import MonthTable, Terms


class KeptReplay(NamedTuple):
    """One replay: what each service used, and what requests came to by hour, by what objectives are about."""

    usage: dict[str, Usage]
    kept: dict[str, KeptCounts]


class MonthWeights(NamedTuple):
    """How some replays become a month.

    Attributes:
        month: of the trace.
        weights: of the hours of each replay.
        note, assumes: what the month is made of, see `bill.made_of`.
    """

    month: Month
    weights: tuple[Weights, ...]
    note: str
    assumes: str


@dataclass(frozen=True, eq=False)
class KeptReplays:
    """The replays that a month is made of.

    Attributes:
        span_s, start, gaps: of the trace.
        singles: releases and faults with a single instant.
        replays: with them, and without where they happen once.
        table: what the study said of the month when its figures were made.
    """

    span_s: float
    start: datetime | None
    gaps: tuple[tuple[float, float], ...]
    singles: tuple[Single, ...]
    replays: tuple[KeptReplay, ...]
    table: MonthTable

    def month_weights(self, table: MonthTable) -> MonthWeights | None:
        """How they become a month of some kind; None: the replay without single events is missing.

        Raises:
            StudyError: a day of it is not in the trace.
        """
        month = month_of(self.span_s, self.start, table, self.gaps)
        wanted = bool(self.singles) and table.has_events_once
        once = wanted and may_happen_once(self.span_s)
        if once and len(self.replays) == 1:
            return None
        why_not = TOO_LONG if wanted and not once else ""
        notes = made_of(month, self.start, self.singles, once=once, why_not=why_not)
        return MonthWeights(month, month.split if once else (month.weights,), *notes)

    def is_same(self, table: MonthTable) -> bool:
        """Whether the month is that of which its figures were made."""
        return (self.table.days, self.table.has_events_once) == (table.days, table.has_events_once)

    def use(self, weights: tuple[Weights, ...]) -> MonthOfUse:
        """What was used in a month."""
        return MonthOfUse(tuple(Part(one, replay.usage) for one, replay in zip(weights, self.replays, strict=False)))

    def bill(self, services: Mapping[str, Hosting], terms: Terms, month_weights: MonthWeights) -> Bill:
        """What a plan costs in a month."""
        return bill_of(services, self.use(month_weights.weights), terms, month_weights.note, month_weights.assumes)

    def measures(self, scope: str, weights: tuple[Weights, ...], whole: Measures) -> Measures:
        """What the requests of a scope come to in a month; `whole`: of the trace."""
        parts = [
            WeightedCounts(one, replay.kept[scope].hourly, replay.kept[scope].latencies)
            for one, replay in zip(weights, self.replays, strict=False)
        ]
        return of_month(parts, whole)

    def __reduce__(self) -> tuple[Any, ...]:
        """Small enough to be sent."""
        names = tuple(self.replays[0].usage)
        return _rebuilt, (zlib.compress(json.dumps(self.to_dict()).encode(), 1), self.span_s, self.start, names)

    def to_dict(self) -> dict[str, Any]:
        """Small enough to be kept; span and start are those of the figures."""
        return {
            "gaps": [list(gap) for gap in self.gaps],
            "singles": [[one.kind, one.at_s] for one in self.singles],
            "table": self.table.model_dump(mode="json", exclude_unset=True),
            "replays": [
                {
                    "usage": [one.to_dict() for one in replay.usage.values()],
                    "kept": {scope: kept.to_dict() for scope, kept in replay.kept.items()},
                }
                for replay in self.replays
            ],
        }

    @classmethod
    def from_dict(
        cls, document: dict[str, Any], span_s: float, start: datetime | None, services: tuple[str, ...]
    ) -> Self:
        """What `to_dict` has written, with the services of today in their order.

        Raises:
            ValueError, KeyError, TypeError: it is no such document.
        """
        replays = tuple(
            KeptReplay(
                {name: Usage.from_dict(usage) for name, usage in zip(services, told["usage"], strict=True)},
                {scope: KeptCounts.from_dict(kept) for scope, kept in told["kept"].items()},
            )
            for told in document["replays"]
        )
        gaps = tuple((float(from_s), float(to_s)) for from_s, to_s in document["gaps"])
        singles = tuple(Single(kind, at_s) for kind, at_s in document["singles"])
        return cls(span_s, start, gaps, singles, replays, MonthTable(**document["table"]))


def _rebuilt(packed: bytes, span_s: float, start: datetime | None, services: tuple[str, ...]) -> KeptReplays:
    return KeptReplays.from_dict(json.loads(zlib.decompress(packed)), span_s, start, services)


TOO_LONG = ", since the trace is longer than four weeks"
