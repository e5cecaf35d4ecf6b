"""What is worth knowing of a replay: a short list of facts with their figures, the most costly first.

Each finding of a service is one function that finds it, or nothing. To add one, write the function, name it in `_ALL`,
and write its sentence in `report/findings.py`. Those of services that call each other are in `findings_of_calls`.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Any, Final, Self

import numpy as np
from pydantic import Field

from libramen.base.results import Result
from libramen.base.shown import advice_of, sentence_of
from libramen.engine.border.records import AT_THE_EDGE
from libramen.outcome.measures import stage_steps
from libramen.outcome.of_requests import OfRequests

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome
    from libramen.outcome.service_outcome import ServiceOutcome

_LATE_S: Final = 60.0
"""A reaction is late that takes longer than this, and longer than the cold start after it."""
_LONG_S: Final = 60.0
"""Less than this of being at a limit, or short of CPU, is not worth a line."""
BUSY: Final = 0.98
"""Of the cores in use, from which on a fleet has no CPU left to speak of."""
SHORT: Final = 0.7
"""Of the cores in use, below which CPU is ruled out as what is short."""
_UNEVEN: Final = 1.25
"""Of the busiest replica's work to the mean, from which on pinning makes the load uneven."""
_FEW: Final = 0.0001
"""A smaller share of the requests than this does not put a finding before one that lasts longer."""


_OF_SLOTS: Final = ("slots_full", "slots_and_cpu_full", "blind_measure")


@dataclass(frozen=True)
class Clock:
    """How an instant of a replay is said: local where the instant 0 is known, with the day where there are several."""

    start: datetime | None
    span_s: float


@dataclass(frozen=True)
class Finding(Result):
    """One fact.

    Attributes:
        kind: reacted_late, flapping, never_scaled_down, at_the_ceiling, floor_never_left, first_visitor_waited,
            cold_starts_cost, bank_empty, blind_measure, slots_full, cpu_full, slots_and_cpu_full, out_of_memory,
            out_of_stock, account_full, release_skipped, release_not_over, pinned, standby, mixed, edge,
            retries_multiply, queue_grows or workers_idle; of services that call each other also bottleneck,
            connections_exhausted, pool_too_small or callee_down.
        requests: failed requests, or those concerned where none had to fail; None: it is not about requests.
        seconds: for how long, None: it is not about time.
        replicas: how many replicas, or orders, None: it is not about them.
        service: whose it is, where there are several; None: it is about all of them, or there is one.
        limit: of at_the_ceiling whose limit it was, `"rule"` or `"tier"`; else None.
        figures: what else its sentence says: instants and durations in seconds, shares from 0 to 1.
        clock: of the replay.
    """

    kind: str
    requests: int | None = None
    seconds: float | None = None
    replicas: int | None = None
    service: str | None = None
    limit: str | None = None
    figures: dict[str, Any] = field(default_factory=dict)
    clock: Annotated[Clock, Field(exclude=True)] = field(default=Clock(None, 0.0), compare=False, repr=False)

    @property
    def text(self) -> str:
        """A sentence, with the figures."""
        return sentence_of(self)

    @property
    def advice(self) -> str:
        """What to do about it."""
        return advice_of(self)

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        return super().to_dict() | {"text": self.text, "advice": self.advice}

    @classmethod
    def from_dict(cls, document: dict[str, Any], clock: Clock = Clock(None, 0.0)) -> Self:
        """What `to_dict` has written of a replay with this clock."""
        return replace(super().from_dict(document), clock=clock)


def find(outcome: Outcome) -> tuple[Finding, ...]:
    """All that is found in a replay, of its services and of what they ask of each other, in the order of `by_cost`."""
    from libramen.outcome.findings_of_calls import find_in_calls

    at_edge = [edge] if (edge := _edge(outcome)) is not None else []
    found, waiting = find_in_calls(outcome)
    for name, one in outcome.services.items():
        # Where a service waits for one that has no slots left, its own are full because of that.
        told = _OF_SLOTS if name in waiting else ()
        found += [replace(finding, service=one.label) for finding in one.findings if finding.kind not in told]
    return by_cost(outcome, found + at_edge)


def _edge(outcome: Outcome) -> Finding | None:
    """What an edge has kept from the fleets: requests, bytes, and work."""
    results = outcome.run.results
    if outcome.system.edge is None or results is None or not outcome.has_trace:
        return None
    trace = outcome.trace
    hits = np.flatnonzero(results.server == AT_THE_EDGE)
    server = outcome.system.servers_of(trace.routes)[trace.route_codes[hits]]
    alone = np.array([hosted.hosting.alone for hosted in outcome.system.hosted])[server]
    # Replicas that the work of the hits would have kept busy, over the whole time.
    replicas = float((trace.cpu_s[hits] / alone).sum()) / outcome.span_s
    none_ready = np.zeros(len(hits), bool)
    for first in np.unique(server).tolist():
        ready = [stage_steps(one.run, "ready") for one in outcome.services.values()
                 if one.of == outcome.system.hosted[first].of]  # fmt: skip
        at_s = trace.at_s[hits]
        there = sum((steps.count[np.searchsorted(steps.at_s, at_s, side="right") - 1] for steps in ready), 0)
        none_ready |= (server == first) & (there == 0)
    figures = {
        "share": len(hits) / max(1, len(trace)),
        "gb": 0.0 if trace.bytes_out is None else float(trace.bytes_out[hits].sum()) / 1e9,
        "busy": replicas,
        "none_ready": int(none_ready.sum()),
    }
    return Finding("edge", len(hits), figures=figures)


def find_in_service(one: ServiceOutcome) -> tuple[Finding, ...]:
    """All that is found of one service."""
    return by_cost(one, [finding for find in _ALL if (finding := find(one)) is not None])


def by_cost(outcome: OfRequests, found: Iterable[Finding]) -> tuple[Finding, ...]:
    """Findings in their order: those that concern most requests first, then those that last longest."""
    few, clock = _FEW * outcome.n_requests, Clock(outcome.start, outcome.span_s)

    def cost(finding: Finding) -> tuple[float, float]:
        requests = finding.requests or 0
        return (-requests if requests >= few else 0), -(finding.seconds or 0.0)

    return tuple(replace(finding, clock=clock) for finding in sorted(found, key=cost))


def _failed(outcome: ServiceOutcome, from_s: float, to_s: float) -> int | None:
    counts = outcome.failed_between(from_s, min(to_s, outcome.span_s))
    return None if counts is None else counts[0]


def _reacted_late(outcome: ServiceOutcome) -> Finding | None:
    late = [
        reaction
        for reaction in outcome.scaling.reactions
        if reaction.ordered_s - reaction.passed_s > max(_LATE_S, reaction.came_s - reaction.ordered_s)
    ]
    if not late:
        return None
    worst = max(late, key=lambda reaction: reaction.took_s)
    figures = {"passed_s": worst.passed_s, "ordered_after_s": worst.ordered_s - worst.passed_s}
    failed = _failed(outcome, worst.passed_s, worst.came_s)
    return Finding("reacted_late", failed, worst.took_s, figures=figures)


def _flapping(outcome: ServiceOutcome) -> Finding | None:
    undone, ordered = outcome.scaling.undone, outcome.scaling.ordered
    if outcome.hosting.scaling.comes_and_goes or len(undone) < max(3, 0.2 * len(ordered)):
        return None
    seconds = sum((replica.gone_s or outcome.span_s) - replica.ordered_s for replica in undone)
    return Finding("flapping", seconds=seconds, replicas=len(undone), figures={"ordered": len(ordered)})


def _never_scaled_down(outcome: ServiceOutcome) -> Finding | None:
    scaling, span_s = outcome.scaling, outcome.span_s
    if not scaling.ordered or scaling.needed is None:
        return None
    decisions = scaling.decisions
    within = decisions.column("at_s") < span_s
    if np.any((decisions.column("cancelled") + decisions.column("drained"))[within]):
        return None
    last_s = scaling.ordered[-1].ordered_s
    edges = outcome.run.edges_s
    idle = (edges[:-1] >= last_s) & (outcome.series_of_counts()["ready"] - scaling.needed >= 1)
    seconds = float(np.sum(np.diff(edges)[idle]))
    if seconds < max(600.0, 0.1 * span_s):
        return None
    at = int(np.flatnonzero(idle)[-1])
    ready, needed = round(float(outcome.series_of_counts()["ready"][at])), int(scaling.needed[at])
    figures = {"ordered": len(scaling.ordered), "at_s": float(edges[at]), "ready": ready, "needed": needed}
    return Finding("never_scaled_down", seconds=seconds, replicas=ready - needed, figures=figures)


def _at_the_ceiling(outcome: ServiceOutcome) -> Finding | None:
    seconds = outcome.scaling.at_the_ceiling_s
    if seconds < _LONG_S:
        return None
    decisions = outcome.scaling.decisions
    names = decisions.column("held_by").astype(str)
    held = np.isin(names, ("ceiling", "tier_most")) & (decisions.column("wanted") > decisions.column("ceiling"))
    most = int(decisions.column("wanted")[held].max())
    ceiling = int(decisions.column("ceiling")[held].max())
    first_s, last_s = decisions.column("at_s")[held][[0, -1]].tolist()
    return Finding(
        "at_the_ceiling",
        _failed(outcome, first_s, last_s + (outcome.hosting.scaling.interval_s or seconds)),
        seconds,
        most - ceiling,
        limit="tier" if "tier_most" in names[held] else "rule",
        figures={"wanted": most, "ceiling": ceiling},
    )


def _floor_never_left(outcome: ServiceOutcome) -> Finding | None:
    rule, decisions = outcome.hosting.scaling, outcome.scaling.decisions
    if rule.bounds is None or rule.timetable or not len(decisions):
        return None
    floor, _ = outcome.hosting.base_limits
    ready = stage_steps(outcome.run, "ready", "coming").extremes()
    if floor == 0 or ready != (floor, floor):
        return None
    figures = {"decisions": len(decisions)}
    return Finding("floor_never_left", seconds=outcome.span_s, replicas=floor, figures=figures)


def _first_visitor_waited(outcome: ServiceOutcome) -> Finding | None:
    found = outcome.waits
    if found is None or not found.none_ready.any():
        return None
    ready = stage_steps(outcome.run, "ready")
    periods = np.searchsorted(ready.at_s, found.at_s[found.none_ready], side="right")
    waits_s = found.wait_s[found.none_ready]
    figures = {"mean_s": float(np.mean(waits_s))}
    visits = len(np.unique(periods))
    return Finding("first_visitor_waited", len(waits_s), float(waits_s.max()), visits, figures=figures)


def _cold_starts_cost(outcome: ServiceOutcome) -> Finding | None:
    failed = outcome.scaling.failed_meanwhile
    if not failed:
        return None
    seconds = sum(min(to_s, outcome.span_s) - from_s for from_s, to_s in outcome.scaling.coming)
    share = failed / max(1, outcome.n_requests - outcome.endings["ok"])
    return Finding("cold_starts_cost", failed, seconds, figures={"share": share})


def _bank_empty(outcome: ServiceOutcome) -> Finding | None:
    series, edges = outcome.series_of_counts(), outcome.run.edges_s
    replica_s = float(outcome.run.integrals[-1, 3])
    if replica_s < _LONG_S:
        return None
    first_s = float(edges[:-1][series["bank_empty"] > 1e-9][0])
    there_s = float(np.sum(np.diff(edges) * series["ready"]))
    figures = {"share": min(1.0, replica_s / there_s), "first_s": first_s}
    return Finding("bank_empty", seconds=replica_s, figures=figures)


def _blind_measure(outcome: ServiceOutcome) -> Finding | None:
    """Slots are full and requests wait, and the measure says that there is nothing to do."""
    scaling = outcome.scaling
    measured, threshold = scaling.measured, scaling.threshold
    measure = scaling.rule.watches
    if measured is None or threshold is None or measure not in {"cpu", "in_progress", "rate"}:
        return None
    series, edges = outcome.series_of_counts(), outcome.run.edges_s
    full = (series["in_progress"] >= 0.95 * series["ready"] * outcome.service.slots) & (series["ready"] > 0)
    blind = full & (series["waiting"] >= 0.5 * series["ready"]) & (measured <= threshold)
    seconds = float(np.sum(np.diff(edges)[blind]))
    if seconds < _LONG_S:
        return None
    at = int(np.flatnonzero(blind)[np.argmax(series["waiting"][blind])])
    figures = {
        "measure": measure,
        "at_s": float(edges[at]),
        "measured": float(measured[at]),
        "waiting": float(series["waiting"][at]),
        "cpu": float(np.sum((np.nan_to_num(series["utilisation"]) * np.diff(edges))[blind])) / seconds,
    }
    return Finding("blind_measure", _failed_in(series, blind), seconds, figures=figures)


def _failed_in(series: dict[str, np.ndarray], windows: np.ndarray) -> int:
    """Of those that arrived in some windows, how many failed."""
    return int(np.sum((series["arrivals"] - series["ok"])[windows]))


def _throttled(series: dict[str, np.ndarray]) -> np.ndarray:
    """Where CPU is only lent and has run out: that is a finding of its own."""
    throttled: np.ndarray = series["bank_empty"] >= 0.5 * np.maximum(series["ready"], 1e-9)
    return throttled


def _slots_full(outcome: ServiceOutcome) -> Finding | None:
    """A fixed fleet whose slots are all taken while there is CPU left, to spare or hardly."""
    series, slots = outcome.series_of_counts(), outcome.service.slots
    full = (series["in_progress"] >= 0.95 * series["ready"] * slots) & (series["ready"] > 0)
    spare = full & ~(series["utilisation"] >= BUSY) & ~_throttled(series)
    seconds = float(np.sum(np.diff(outcome.run.edges_s)[spare]))
    if outcome.hosting.scaling.decides or seconds < _LONG_S:
        return None
    cpu = float(np.sum((series["utilisation"] * np.diff(outcome.run.edges_s))[spare])) / seconds
    figures = {"first_s": float(outcome.run.edges_s[:-1][spare][0]), "slots": slots, "cpu": cpu}
    kind = "slots_and_cpu_full" if cpu >= SHORT else "slots_full"
    return Finding(kind, _failed_in(series, spare), seconds, figures=figures)


def _cpu_full(outcome: ServiceOutcome) -> Finding | None:
    """A fixed fleet that has no CPU left."""
    series = outcome.series_of_counts()
    full = (series["utilisation"] >= BUSY) & ~_throttled(series)
    seconds = float(np.sum(np.diff(outcome.run.edges_s)[full]))
    if outcome.hosting.scaling.decides or seconds < _LONG_S:
        return None
    figures = {"first_s": float(outcome.run.edges_s[:-1][full][0])}
    return Finding("cpu_full", _failed_in(series, full), seconds, figures=figures)


def _out_of_memory(outcome: ServiceOutcome) -> Finding | None:
    """Replicas that died of too many requests at once."""
    deaths = [death for death in outcome.run.deaths if death.why == "out_of_memory"]
    if not deaths:
        return None
    service, memory = outcome.service, outcome.hosting.size.memory
    assert memory is not None
    figures = {
        "deaths": len(deaths),
        "first_s": deaths[0].at_s,
        "memory": memory,
        "fits": max(0, (memory - service.memory_base) // max(1, service.memory_per_request)),
        "slots": service.slots,
    }
    replicas = len({death.replica for death in deaths})
    return Finding("out_of_memory", outcome.endings["lost"], replicas=replicas, figures=figures)


def _out_of_stock(outcome: ServiceOutcome) -> Finding | None:
    """Orders that failed, and for how long what was ordered had to be waited for."""
    span_s = outcome.span_s
    waited = [
        min(span_s, next(end for end in (replica.bought_s, replica.gone_s, span_s) if end is not None))
        - replica.ordered_s
        for replica in outcome.run.replicas
        if replica.ordered_s < span_s and (replica.bought_s is None or replica.bought_s > replica.ordered_s)
    ]
    if not waited:
        return None
    ordered = sum(replica.why != "start" for replica in outcome.run.replicas)
    figures = {"ordered": ordered, "slowest_s": max(waited)}
    return Finding("out_of_stock", seconds=sum(waited), replicas=len(waited), figures=figures)


def _release_skipped(outcome: ServiceOutcome) -> Finding | None:
    """Releases for which there was no room."""
    skipped = [update for update in outcome.run.updates if update.result == "skipped"]
    if not skipped:
        return None
    first = skipped[0]
    figures = {
        "releases": len(skipped),
        "due_s": first.due_s,
        "strategy": first.strategy,
        "most": outcome.hosting.most,
        "by_account": first.by_account,
    }
    return Finding("release_skipped", replicas=first.replicas, figures=figures)


def _release_not_over(outcome: ServiceOutcome) -> Finding | None:
    """A release that was still under way when the trace ended."""
    for update in outcome.run.updates:
        if update.result == "under_way" and update.undone_s is None:
            held = [at_s for at_s in outcome.run.held_s if at_s >= (update.began_s or 0.0)]
            figures = {"due_s": update.due_s, "strategy": update.strategy, "held": len(held)}
            return Finding("release_not_over", replicas=update.replicas, figures=figures)
    return None


def _account_full(outcome: ServiceOutcome) -> Finding | None:
    """Orders that were held back, since the account had no room for them."""
    held_s = [at_s for at_s in outcome.run.held_s if at_s < outcome.span_s]
    if not held_s:
        return None
    return Finding("account_full", replicas=len(held_s), figures={"first_s": held_s[0], "last_s": held_s[-1]})


def _pinned(outcome: ServiceOutcome) -> Finding | None:
    """What it costs that visitors stay where they are: uneven load, and those who had to move."""
    if not outcome.hosting.balances.pins:
        return None
    run = outcome.run
    work = [
        (sum(min(to_s, run.span_s) - from_s for from_s, to_s in replica.times("ready") if from_s < run.span_s), replica)
        for replica in run.replicas
    ]
    long = [replica.core_s / seconds for seconds, replica in work if seconds >= 0.5 * run.span_s]
    causes: dict[str, int] = {}
    for number, moved in enumerate(run.moved.tolist()):
        if moved:
            replica = run.replicas[number - 1]
            cause = replica.why_gone or ("death" if replica.deaths else "want of room")
            causes[cause] = causes.get(cause, 0) + moved
    busiest, mean = (max(long), sum(long) / len(long)) if len(long) > 1 else (0.0, 0.0)
    is_uneven = mean > 0 and busiest / mean >= _UNEVEN
    if not is_uneven and not causes:
        return None
    cores, reserved = outcome.hosting.size.cores, outcome.hosting.reserved_cores
    shares = {"busiest": (busiest + reserved) / cores, "mean": (mean + reserved) / cores}
    figures = {"moved_by": causes} | (shares if is_uneven else {})
    return Finding("pinned", sum(causes.values()) or None, replicas=len(long), figures=figures)


def _standby(outcome: ServiceOutcome) -> Finding | None:
    """What the standbys of a service cost, and how often one was needed."""
    run = outcome.run
    if not outcome.hosting.standing_by:
        return None
    promoted = sum(
        before == "standby" and after == "ready"
        for replica in run.replicas
        for (_, before), (_, after) in itertools.pairwise(replica.stages)
    )
    span = np.array([0.0, run.span_s])
    idle_s = float(stage_steps(run, "standby").mean(span)[0]) * run.span_s
    ready = stage_steps(run, "ready")
    lasts_s = np.diff(np.append(ready.at_s, run.span_s))
    none_s = float(lasts_s[(ready.count == 0) & (lasts_s > 0)].sum())
    # What stands by is paid like what serves, whichever of them it is by now. Elsewhere it has a balancer of its own.
    hosting, bill = outcome.hosting, outcome.bill
    of_replicas = [line for line in bill.lines if line.key in {"per_hour", "per_month"}]
    paid = [line for line in bill.lines if line.key != "egress_per_gb"] if hosting.heir_of else of_replicas
    share = hosting.standing_by / (hosting.standing_by + hosting.replicas_used)
    money = float(sum(line.amount for line in paid)) * share
    figures: dict[str, Any] = {"money": money, "currency": bill.currency}
    figures |= {"home": outcome.hosting.heir_of, "none_s": none_s}
    return Finding("standby", seconds=idle_s, replicas=promoted, figures=figures)


def _mixed(outcome: ServiceOutcome) -> Finding | None:
    """Of a mixed fleet what was taken back, and what could not be had again where it was ordered."""
    stocks, replicas = outcome.hosting.mix, outcome.run.replicas
    taken = [sum(one.entry == entry and one.is_reclaimed for one in replicas) for entry in range(len(stocks))]
    moved = [one.moved_from for one in replicas if one.moved_from is not None]
    if not (sum(taken) or moved):
        return None
    names = [stock.tier.plain_name for stock in stocks]
    figures = {
        "taken": {name: n for name, n in zip(names, taken, strict=True) if n},
        "moved": {name: moved.count(entry) for entry, name in enumerate(names) if entry in moved},
    }
    return Finding("mixed", replicas=sum(taken), figures=figures)


_ALL: Final[tuple[Callable[[ServiceOutcome], Finding | None], ...]] = (
    _reacted_late,
    _flapping,
    _never_scaled_down,
    _at_the_ceiling,
    _floor_never_left,
    _first_visitor_waited,
    _cold_starts_cost,
    _bank_empty,
    _blind_measure,
    _slots_full,
    _cpu_full,
    _out_of_memory,
    _out_of_stock,
    _account_full,
    _release_skipped,
    _release_not_over,
    _pinned,
    _standby,
    _mixed,
)
