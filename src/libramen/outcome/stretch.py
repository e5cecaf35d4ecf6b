"""What came of a stretch of a replay, in figures: of the requests that arrived in it, and of the fleets meanwhile."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Final

import numpy as np

from libramen.base import units
from libramen.base.errors import ReplayError
from libramen.base.ranks import nearest_rank
from libramen.base.results import Count, Result
from libramen.engine.border.records import ENDINGS
from libramen.outcome.events import Event, happened
from libramen.outcome.measures import hides_failures, stage_steps
from libramen.outcome.service_outcome import ServiceOutcome

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome

_FULL: Final = 0.95
"""Of the slots taken in a window, from which on all are."""
_SHOWN: Final = {"p50": 0.5, "p95": 0.95, "p99": 0.99}


@dataclass(frozen=True)
class FleetMeanwhile(Result):
    """What a fleet was meanwhile.

    Attributes:
        least, most, mean: ready replicas.
        ordered, gone, died: replicas.
        cpu: share of the cores in use; None: there were none.
        full_s: how long all its slots were taken [s]; full_cpu: share of the cores in use then.
    """

    least: int
    most: int
    mean: float
    ordered: int
    gone: int
    died: int
    cpu: float | None
    full_s: float
    full_cpu: float


@dataclass(frozen=True)
class StretchFigures(Result):
    """What came of a stretch of a replay.

    Attributes:
        from_s, to_s: the stretch [s from the start].
        n_requests: how many arrived in it; `endings`: how they ended, by ending.
        latency_s: mean, p50, p95, p99 and max of the ok ones [s]; None: there are none.
        availability: share of ok ones; None: nobody came.
        within: of each latency objective of all requests the share that was answered ok within its limit.
        first_failed_s, last_failed_s, worst_minute_s: when requests failed [s]; None: none did.
        fleets: of each service.
        events: releases and faults that began in it.
    """

    from_s: float
    to_s: float
    n_requests: Count
    endings: dict[str, int]
    latency_s: dict[str, float | None]
    availability: float | None
    within: dict[str, float]
    first_failed_s: float | None
    last_failed_s: float | None
    worst_minute_s: float | None
    fleets: dict[str, FleetMeanwhile]
    events: tuple[Event, ...]

    @property
    def failed(self) -> int:
        """Requests that failed."""
        return self.n_requests - self.endings["ok"]

    @property
    def hides_failures(self) -> bool:
        """Whether more than 1 % of the requests failed, so that latencies of the answered ones say too little."""
        return hides_failures(self.availability)


def stretch_of(outcome: Outcome, from_s: float, to_s: float) -> StretchFigures:
    """What came of a stretch.

    Raises:
        ReplayError: it is not in the replay, or requests were not kept.
    """
    if not 0 <= from_s < to_s <= outcome.span_s:
        raise ReplayError(
            f"from_s, to_s: found {from_s:g} s to {to_s:g} s; allowed: a stretch of the trace, of "
            f"{units.show_duration(outcome.span_s)}"
        )
    results = outcome.run.results
    if results is None or not outcome.has_trace:
        raise ReplayError("from_s, to_s: the requests of this replay were not kept, so only the whole is known")
    at_s = outcome.trace.at_s
    first, last = (int(np.searchsorted(at_s, edge)) for edge in (max(from_s, outcome.settle_s), to_s))
    ending, latency_s = results.ending[first:last], results.latency_s[first:last]
    is_ok = ending == 0
    ok_s, n = np.sort(latency_s[is_ok]), last - first
    failed_s = at_s[first:last][~is_ok]
    minutes = np.bincount(((failed_s - from_s) // 60).astype(np.int64)) if len(failed_s) else np.zeros(1)
    found: dict[str, float | None] = {
        name: nearest_rank(ok_s, share) if len(ok_s) else None for name, share in _SHOWN.items()
    }
    found |= {"mean": float(ok_s.mean()), "max": float(ok_s[-1])} if len(ok_s) else {"mean": None, "max": None}
    return StretchFigures(
        from_s=from_s,
        to_s=to_s,
        n_requests=n,
        endings=dict(zip(ENDINGS, np.bincount(ending, minlength=len(ENDINGS)).tolist(), strict=True)),
        latency_s=found,
        availability=len(ok_s) / n if n else None,
        within={
            goal.name: float(np.count_nonzero(ok_s <= float(goal.wanted))) / max(1, n)
            for goal in outcome.objectives
            if goal.within is not None and goal.name == goal.key
        },
        first_failed_s=float(failed_s[0]) if len(failed_s) else None,
        last_failed_s=float(failed_s[-1]) if len(failed_s) else None,
        worst_minute_s=from_s + 60.0 * int(np.argmax(minutes)) if len(failed_s) else None,
        fleets={name: _fleet(one, from_s, to_s) for name, one in outcome.services.items()},
        events=tuple(event for event in happened(outcome) if from_s <= event.at_s < to_s),
    )


def _fleet(one: ServiceOutcome, from_s: float, to_s: float) -> FleetMeanwhile:
    ready, edges_s = stage_steps(one.run, "ready"), one.run.edges_s
    inside = np.clip(edges_s, from_s, to_s)
    width_s = np.diff(inside)
    series = one.series_of_counts()
    there = width_s * series["ready"]
    cpu = np.nan_to_num(series["utilisation"])
    full_s = width_s * ((series["in_progress"] >= _FULL * series["ready"] * one.service.slots) & (series["ready"] > 0))
    lasted = (np.append(ready.at_s[1:], np.inf) > from_s) & (ready.at_s < to_s)
    lasted &= np.append(np.diff(ready.at_s) > 0, True)
    counts = ready.count[lasted]
    replicas = [replica for replica in one.run.replicas if replica.why != "start"]
    return FleetMeanwhile(
        least=int(counts.min(initial=10**9)) if len(counts) else 0,
        most=int(counts.max(initial=0)),
        mean=float(ready.mean(np.array([from_s, to_s]))[0]),
        ordered=sum(from_s <= replica.ordered_s < to_s for replica in replicas),
        gone=sum(replica.gone_s is not None and from_s <= replica.gone_s < to_s for replica in one.run.replicas),
        died=sum(from_s <= death.at_s < to_s for death in one.run.deaths),
        cpu=float((cpu * there).sum() / there.sum()) if there.sum() > 0 else None,
        full_s=float(full_s.sum()),
        full_cpu=float((cpu * full_s).sum() / full_s.sum()) if full_s.sum() > 0 else 0.0,
    )
