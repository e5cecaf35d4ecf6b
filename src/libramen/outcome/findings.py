"""What is worth knowing of a replay: a short list of facts with their figures, the most costly first.

Each finding is one function that says it, or nothing. To add one, write the function and name it in `_ALL`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from libramen import units
from libramen.outcome.measures import stage_steps
from libramen.outcome.words import clock, times

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from libramen.outcome.outcome import Outcome

_LATE_S: Final = 60.0
"""A reaction is late that takes longer than this, and longer than the cold start after it."""
_LONG_S: Final = 60.0
"""Less than this of being at a limit, or short of CPU, is not worth a line."""
_BUSY: Final = 0.98
"""Of the cores in use, from which on a fleet has no CPU left to speak of."""
SHORT: Final = 0.7
"""Of the cores in use, below which CPU is ruled out as what is short."""
_UNEVEN: Final = 1.25
"""Of the busiest replica's work to the mean, from which on pinning makes the load uneven."""
_FEW: Final = 0.0001
"""A smaller share of the requests than this does not put a finding before one that lasts longer."""


class Finding(NamedTuple):
    """One fact.

    Attributes:
        kind: reacted_late, flapping, never_scaled_down, at_the_ceiling, floor_never_left, first_visitor_waited,
            cold_starts_cost, bank_empty, blind_measure, slots_full, cpu_full, slots_and_cpu_full, out_of_memory,
            out_of_stock, release_skipped or pinned; of several services also bottleneck, connections_exhausted,
            pool_too_small, retries_multiply, queue_grows, workers_idle or callee_down.
        text: a sentence, with the figures.
        requests: failed requests, or those concerned where none had to fail; None: it is not about requests.
        seconds: for how long, None: it is not about time.
        replicas: how many replicas, or orders, None: it is not about them.
        service: whose it is, where there are several; None: it is about all of them, or there is one.
        limit: of at_the_ceiling whose limit it was, `"rule"` or `"tier"`; else None.
    """

    kind: str
    text: str
    requests: int | None = None
    seconds: float | None = None
    replicas: int | None = None
    service: str | None = None
    limit: str | None = None


def findings(outcome: Outcome) -> tuple[Finding, ...]:
    """All that is found, those that concern most requests first, then those that last longest."""
    return by_cost(outcome, [finding for find in _ALL if (finding := find(outcome)) is not None])


def by_cost(outcome: Outcome, found: Iterable[Finding]) -> tuple[Finding, ...]:
    """Findings in their order: those that concern most requests first, then those that last longest."""
    few = _FEW * outcome.requests_measured

    def cost(finding: Finding) -> tuple[float, float]:
        requests = finding.requests or 0
        return (-requests if requests >= few else 0), -(finding.seconds or 0.0)

    return tuple(sorted(found, key=cost))


def _failed(outcome: Outcome, from_s: float, to_s: float) -> int | None:
    counts = outcome.failed_between(from_s, min(to_s, outcome.run.span_s))
    return None if counts is None else counts[0]


def _of_them_failed(failed: int | None) -> str:
    if failed is None:
        return ""
    return f"; {f'{failed:,}' if failed else 'none'} of the requests that arrived meanwhile failed"


def _reacted_late(outcome: Outcome) -> Finding | None:
    late = [
        reaction
        for reaction in outcome.scaling.reactions
        if reaction.ordered_s - reaction.passed_s > max(_LATE_S, reaction.came_s - reaction.ordered_s)
    ]
    if not late:
        return None
    worst = max(late, key=lambda reaction: reaction.took_s)
    failed = _failed(outcome, worst.passed_s, worst.came_s)
    return Finding(
        "reacted_late",
        f"Reacted late: at {clock(outcome, worst.passed_s)} the load passed the target, "
        f"{units.show_duration(worst.ordered_s - worst.passed_s)} later the first replica that came was ordered, and "
        f"{units.show_duration(worst.took_s)} after the load had passed it was there{_of_them_failed(failed)}.",
        failed,
        worst.took_s,
    )


def _flapping(outcome: Outcome) -> Finding | None:
    undone, ordered = outcome.scaling.undone, outcome.scaling.ordered
    if outcome.plan.scaling.comes_and_goes or len(undone) < max(3, 0.2 * len(ordered)):
        return None
    seconds = sum((replica.gone_s or outcome.run.span_s) - replica.ordered_s for replica in undone)
    return Finding(
        "flapping",
        f"Flapping: {len(undone):,} of {len(ordered):,} replicas that the rule ordered were taken away again before "
        f"they had been ready for as long as they took to start; they were there for "
        f"{units.show_duration(seconds)} in all.",
        seconds=seconds,
        replicas=len(undone),
    )


def _never_scaled_down(outcome: Outcome) -> Finding | None:
    scaling, span_s = outcome.scaling, outcome.run.span_s
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
    ready = round(float(outcome.series_of_counts()["ready"][at]))
    return Finding(
        "never_scaled_down",
        f"Never scaled down: the rule ordered {times(len(scaling.ordered), 'replica')} and removed none; for "
        f"{units.show_duration(seconds)} after that the fleet was larger than the target needed, at "
        f"{clock(outcome, float(edges[at]))} {ready} instead of {int(scaling.needed[at])}.",
        seconds=seconds,
        replicas=ready - int(scaling.needed[at]),
    )


def _at_the_ceiling(outcome: Outcome) -> Finding | None:
    seconds = outcome.scaling.at_the_ceiling_s
    if seconds < _LONG_S:
        return None
    decisions = outcome.scaling.decisions
    names = decisions.column("held_by").astype(str)
    held = np.isin(names, ("ceiling", "tier_most")) & (decisions.column("wanted") > decisions.column("ceiling"))
    most = int(decisions.column("wanted")[held].max())
    ceiling = int(decisions.column("ceiling")[held].max())
    is_of_tier = "tier_most" in names[held]
    whose = "the most that its tier allows" if is_of_tier else "its ceiling"
    first_s, last_s = decisions.column("at_s")[held][[0, -1]].tolist()
    failed = _failed(outcome, first_s, last_s + (outcome.plan.scaling.interval_s or seconds))
    cost = f"; {times(failed, 'request')} failed between the first time and the last" if failed else ""
    wanted = f" (once {most})" if most > ceiling + 1 else ""
    return Finding(
        "at_the_ceiling",
        f"At the ceiling: for {units.show_duration(seconds)} the rule wanted more than {ceiling} replicas{wanted}, "
        f"{whose}{cost}.",
        failed,
        seconds,
        most - ceiling,
        limit="tier" if is_of_tier else "rule",
    )


def _floor_never_left(outcome: Outcome) -> Finding | None:
    rule, decisions = outcome.plan.scaling, outcome.scaling.decisions
    if rule.bounds is None or rule.timetable or not len(decisions):
        return None
    floor, _ = outcome.plan.base_limits
    ready = stage_steps(outcome.run, "ready", "coming").extremes()
    if floor == 0 or ready != (floor, floor):
        return None
    return Finding(
        "floor_never_left",
        f"The floor of {floor} was never left: the rule decided {times(len(decisions), 'time')} and did nothing that a "
        f"fixed fleet of {floor} would not do.",
        seconds=outcome.run.span_s,
        replicas=floor,
    )


def _first_visitor_waited(outcome: Outcome) -> Finding | None:
    found = outcome.waits
    if found is None or not found.none_ready.any():
        return None
    ready = stage_steps(outcome.run, "ready")
    periods = np.searchsorted(ready.at_s, found.at_s[found.none_ready], side="right")
    waits_s = found.wait_s[found.none_ready]
    visits = len(np.unique(periods))
    return Finding(
        "first_visitor_waited",
        f"First visitors waited: {times(visits, 'time')} a request came when no replica was ready, and "
        f"{times(len(waits_s), 'request')} waited for a cold start then, "
        f"{units.show_duration(float(np.mean(waits_s)))} on average and "
        f"{units.show_duration(float(waits_s.max()))} at most.",
        len(waits_s),
        float(waits_s.max()),
        visits,
    )


def _cold_starts_cost(outcome: Outcome) -> Finding | None:
    failed = outcome.scaling.failed_meanwhile
    if not failed:
        return None
    seconds = sum(min(to_s, outcome.run.span_s) - from_s for from_s, to_s in outcome.scaling.coming)
    share = units.show_share(failed / max(1, outcome.requests_measured - outcome.endings["ok"]), 0)
    return Finding(
        "cold_starts_cost",
        f"Cold starts cost {times(failed, 'failed request')}: so many arrived in the {units.show_duration(seconds)} "
        f"in all during which replicas that the rule had ordered were on their way ({share} of all failures).",
        failed,
        seconds,
    )


def _bank_empty(outcome: Outcome) -> Finding | None:
    series, edges = outcome.series_of_counts(), outcome.run.edges_s
    width = np.diff(edges)
    replica_s = float(outcome.run.integrals[-1, 3])
    if replica_s < _LONG_S:
        return None
    short = series["bank_empty"] > 1e-9
    first_s = float(edges[:-1][short][0])
    there_s = float(np.sum(width * (series["ready"])))
    return Finding(
        "bank_empty",
        f"Out of saved CPU: replicas had spent what they had saved and were slowed down to what they earn for "
        f"{units.show_duration(replica_s)} in all, {units.show_share(min(1.0, replica_s / there_s), 0)} of the time "
        f"that they were ready, for the first time at {clock(outcome, first_s)}.",
        seconds=replica_s,
    )


def _blind_measure(outcome: Outcome) -> Finding | None:
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
    shown = units.show_share if measure == "cpu" else lambda value: f"{value:.3g}"
    failed = int(np.sum((series["arrivals"] - series["ok"])[blind]))
    width = np.diff(edges)
    cpu = float(np.sum((np.nan_to_num(series["utilisation"]) * width)[blind])) / seconds
    waited_for = "a slot" if cpu < SHORT else f"a slot, and CPU is short too ({units.show_share(cpu, 0)} in use)"
    return Finding(
        "blind_measure",
        f"The measure cannot see the bottleneck: for {units.show_duration(seconds)} all slots were full and requests "
        f"waited, while {measure} did not pass the target; at {clock(outcome, float(edges[at]))} {measure} was "
        f"{shown(float(measured[at]))} and {series['waiting'][at]:,.0f} requests waited. "
        f"What they wait for is {waited_for}: waiting or latency would see it.",
        failed,
        seconds,
    )


def _throttled(series: dict[str, np.ndarray]) -> np.ndarray:
    """Where CPU is only lent and has run out: that is a finding of its own."""
    throttled: np.ndarray = series["bank_empty"] >= 0.5 * np.maximum(series["ready"], 1e-9)
    return throttled


def _slots_full(outcome: Outcome) -> Finding | None:
    """A fixed fleet whose slots are all taken while there is CPU left, to spare or hardly."""
    if outcome.plan.scaling.decides:
        return None
    series, width = outcome.series_of_counts(), np.diff(outcome.run.edges_s)
    slots = outcome.service.slots
    full = (series["in_progress"] >= 0.95 * series["ready"] * slots) & (series["ready"] > 0)
    spare = full & ~(series["utilisation"] >= _BUSY) & ~_throttled(series)
    seconds = float(np.sum(width[spare]))
    if seconds < _LONG_S:
        return None
    cpu = float(np.sum((series["utilisation"] * width)[spare])) / seconds
    failed = int(np.sum((series["arrivals"] - series["ok"])[spare]))
    first_s = float(outcome.run.edges_s[:-1][spare][0])
    kind, what = "slots_full", "Slots full"
    helps = "there was CPU to spare, so more slots or more replicas would help"
    if cpu >= SHORT:
        kind, what = "slots_and_cpu_full", "Slots full, and CPU short"
        helps = "both are short, so more replicas would help, or a size with more CPU and slots for it"
    return Finding(
        kind,
        f"{what}: for {units.show_duration(seconds)}, first at {clock(outcome, first_s)}, all {slots} slots of every "
        f"replica were taken while {units.show_share(cpu, 0)} of the CPU was in use: {helps}{_of_them_failed(failed)}.",
        failed,
        seconds,
    )


def _cpu_full(outcome: Outcome) -> Finding | None:
    """A fixed fleet that has no CPU left."""
    if outcome.plan.scaling.decides:
        return None
    series, width = outcome.series_of_counts(), np.diff(outcome.run.edges_s)
    full = (series["utilisation"] >= _BUSY) & ~_throttled(series)
    seconds = float(np.sum(width[full]))
    if seconds < _LONG_S:
        return None
    failed = int(np.sum((series["arrivals"] - series["ok"])[full]))
    first_s = float(outcome.run.edges_s[:-1][full][0])
    return Finding(
        "cpu_full",
        f"CPU full: for {units.show_duration(seconds)}, first at {clock(outcome, first_s)}, more than "
        f"{units.show_share(_BUSY, 0)} of the cores were in use, and requests took turns{_of_them_failed(failed)}.",
        failed,
        seconds,
    )


def _out_of_memory(outcome: Outcome) -> Finding | None:
    """Replicas that died of too many requests at once."""
    deaths = [death for death in outcome.run.deaths if death.why == "out_of_memory"]
    if not deaths:
        return None
    service, memory = outcome.service, outcome.plan.size.memory
    assert memory is not None
    fits = max(0, (memory - service.memory_base) // max(1, service.memory_per_request))
    return Finding(
        "out_of_memory",
        f"Out of memory: replicas died {times(len(deaths), 'time')}, first at {clock(outcome, deaths[0].at_s)}; "
        f"{memory / 1e9:.3g} GB hold {fits} requests in progress, and a replica has {service.slots} slots.",
        outcome.endings["lost"],
        replicas=len({death.replica for death in deaths}),
    )


def _out_of_stock(outcome: Outcome) -> Finding | None:
    """Orders that failed, and for how long what was ordered had to be waited for."""
    span_s = outcome.run.span_s
    waited = [
        min(span_s, next(end for end in (replica.bought_s, replica.gone_s, span_s) if end is not None))
        - replica.ordered_s
        for replica in outcome.run.replicas
        if replica.ordered_s < span_s and (replica.bought_s is None or replica.bought_s > replica.ordered_s)
    ]
    if not waited:
        return None
    ordered = sum(replica.why != "start" for replica in outcome.run.replicas)
    return Finding(
        "out_of_stock",
        f"Out of stock: {len(waited):,} of {times(ordered, 'order')} failed at first and had to be tried again, the "
        f"slowest for {units.show_duration(max(waited))}.",
        seconds=sum(waited),
        replicas=len(waited),
    )


def _release_skipped(outcome: Outcome) -> Finding | None:
    """Releases for which there was no room."""
    skipped = [update for update in outcome.run.updates if update.result == "skipped"]
    if not skipped:
        return None
    first, most = skipped[0], outcome.plan.tier.replicas.most
    return Finding(
        "release_skipped",
        f"Release skipped: {times(len(skipped), 'release')} could not begin, first that of "
        f"{clock(outcome, first.due_s)} ({first.strategy}): it needs {2 * first.replicas} replicas at once, and the "
        f"tier has {most}.",
        replicas=first.replicas,
    )


def _pinned(outcome: Outcome) -> Finding | None:
    """What it costs that visitors stay where they are: uneven load, and those who had to move."""
    if outcome.plan.balancer != "pinned":
        return None
    run = outcome.run
    work = [
        (sum(min(to_s, run.span_s) - from_s for from_s, to_s in replica.times("ready") if from_s < run.span_s), replica)
        for replica in run.replicas
    ]
    long = [(replica.core_s / seconds, replica) for seconds, replica in work if seconds >= 0.5 * run.span_s]
    causes: dict[str, int] = {}
    for number, moved in enumerate(run.moved.tolist()):
        if moved:
            replica = run.replicas[number - 1]
            cause = replica.why_gone or ("death" if replica.deaths else "want of room")
            causes[cause] = causes.get(cause, 0) + moved
    total = sum(causes.values())
    busiest, mean = 0.0, 0.0
    if len(long) > 1:
        busiest, mean = max(share for share, _ in long), sum(share for share, _ in long) / len(long)
    uneven = busiest / mean if mean > 0 else 1.0
    if uneven < _UNEVEN and not total:
        return None
    said = []
    if uneven >= _UNEVEN:
        cores = outcome.plan.size.cores
        said.append(
            f"the busiest replica used {units.show_share(busiest / cores, 0)} of its CPU where the mean is "
            f"{units.show_share(mean / cores, 0)}, and least_busy would share it evenly"
        )
    if total:
        by = ", ".join(f"{n:,} by {cause}" for cause, n in sorted(causes.items(), key=lambda entry: -entry[1]))
        said.append(f"{times(total, 'visitor')} had to move to another replica ({by})")
    return Finding("pinned", f"Pinned visitors: {'; '.join(said)}.", total or None, replicas=len(long))


_ALL: Final[tuple[Callable[[Outcome], Finding | None], ...]] = (
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
    _release_skipped,
    _pinned,
)
