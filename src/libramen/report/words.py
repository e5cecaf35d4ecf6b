"""What several sections say in the same words."""

from __future__ import annotations

from typing import Final

from libramen.base import units
from libramen.load.evidence import Evidence
from libramen.report.prose import and_list
from libramen.report.section import Section
from libramen.study.study import Study
from libramen.trace.implausible import REMEDY
from libramen.trace.source import Bottleneck, Demand
from libramen.trace.trace import Trace

DOUBT: Final = "Do not trust what follows: this log was busy, and its queueing counts as work"
BEYOND: Final = " †"
"""Marks what lies beyond the loads that a log has seen."""
_MOST_ROUTES: Final = 4
FROM_CACHE: Final = " (read from cache; --no-cache reads the files again)"


def heading(study: Study, trace: Trace, *more: str) -> Section:
    """The name of the study, and what is replayed."""
    when = "" if trace.start is None else f" from {trace.start:%a %d %b %Y %H:%M} ({study.time_zone})"
    said = f"{len(trace):,} requests over {units.show_duration(trace.span_s)}{when}, demand {trace.demand_in_words}"
    return Section(study.name, (said + (FROM_CACHE if trace.source.from_cache else ""), *more), prose=True)


def demand_sections(demand: Demand) -> list[Section]:
    """What speaks against the work of a trace, before anything that rests on it; empty: nothing."""
    return [*bottleneck_section(demand.bottleneck, demand.busiest), *doubts_section(demand.doubts)]


def bottleneck_section(found: Bottleneck | None, logged: float | None) -> list[Section]:
    """What slows requests down and is not in the study, and what to do; empty: nothing that the log shows."""
    if found is None:
        return []
    where = "requests" if found.everywhere else f"requests of {and_list(list(found.routes[:_MOST_ROUTES]))}"
    limit = "those logged" if logged is None else f"{units.show_rate(logged)}, the busiest minute of the log"
    lines = (
        "[services.database]          # a name for what they wait for",
        "slots = 1                    # so many at a time",
        "[[services.web.calls]]       # of the service that is in the study now",
        'to = "database"',
        'wait = "10ms"                # of a request, when nobody else is there',
    )
    said = (
        f"- In the log {where} have {100 * found.more:.0f} % more work when most others are there than when "
        "fewest are. Work does not depend on others: they waited for something."
    )
    may_be = (
        "- It may be a service behind this one (a database), a lock or a pool of connections; or the fleet had fewer "
        "replicas, slots or threads than recorded_on says."
    )
    so = f"- Of loads above {limit}, a replay says too little: what they waited for may be full first."
    do = (
        "What to do: add what they wait for, and host it in the recorded plan (docs/more-than-one-service.md). Or, "
        "where the fleet was smaller, correct that plan: `libramen backtest --fit slots,threads` looks for it."
    )
    title = "Something slows these requests down that is not in the study"
    return [
        Section(title, (said, may_be, so, do), prose=True),
        Section(sentences=tuple(f"  {line}" for line in lines)),
    ]


def beyond(evidence: Evidence) -> str:
    """That the load which is replayed is more than the log has seen; empty: it is not, or nobody knows."""
    if evidence.logged is None or not evidence.is_beyond():
        return ""
    had = units.show_rate(evidence.logged)
    return (
        f"Beyond the log: this load has up to {units.show_rate(evidence.replayed)}, the log had {had} in its busiest "
        "minute. What is said of more rests on the model alone."
    )


def doubts_section(doubts: tuple[str, ...]) -> list[Section]:
    """What speaks against the work that was taken from a log, before anything that rests on it; empty: nothing."""
    if not doubts:
        return []
    said = tuple(f"- {doubt[0].upper()}{doubt[1:]}." for doubt in doubts)
    return [Section(DOUBT, (*said, f"What to do: {REMEDY}."), prose=True)]


def fleet_range(least: int | None, most: int | None) -> str:
    """`4`, or `2-20`."""
    if least is None or most is None:
        return "-"
    return str(least) if least == most else f"{least}-{most}"


def clock(trace: Trace, at_s: float) -> str:
    """A time of the trace: local where it is known, else from the start."""
    local = trace.local_time(at_s)
    return f"{units.show_duration(at_s)} after the start" if local is None else f"{local:%a %d %b %H:%M:%S}"
