"""What can be said of a study before anything is replayed: what was understood, which problems there are."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from typing import Any, Final

import numpy as np

from libramen.base import units
from libramen.base.ranks import PERCENTILES, nearest_rank, weighted_percentiles
from libramen.base.times import EPSILON_S
from libramen.bill.bill import Bill, bill_of
from libramen.bill.made_of import made_of
from libramen.bill.month import month_of
from libramen.bill.use import Known
from libramen.engine.control.periodic import MOST_DECISIONS
from libramen.prices.lines import HOURS
from libramen.questions.expected_load import Load, Loads, loads_of
from libramen.questions.shared import Problem, account_limits, connections, shared_limits
from libramen.rules.faults.fault import Times
from libramen.rules.rollouts.update import Rollout
from libramen.study.hosting import Hosting
from libramen.study.service import Service
from libramen.study.study import Study
from libramen.study.system import System
from libramen.study.unusual import unusual_values
from libramen.trace.implausible import unit_doubts
from libramen.trace.trace import Trace

_MANY_DECISIONS: Final = 2_000_000
_MANY_REPLICAS: Final = 50_000


@dataclass(frozen=True)
class PlanCheck:
    """What one service must carry under a plan, and its problems.

    Attributes:
        service: its name where there are others, else None.
        hosting: what it runs on.
        needs_cpu: replicas that the busiest minute needs at 100 % of their CPU.
        needs_slots: replicas whose slots the busiest minute fills, if nothing ever queues.
        alone_p95_s: p95 of the latency of visits without queueing, what is drawn counted with its mean [s].
        least_month: cost of a month at the fewest replicas, or of the least use, without egress.
        rollouts_s: when each rollout is due [s from the start].
        problems: what speaks against it.
    """

    service: str | None
    hosting: Hosting
    needs_cpu: int
    needs_slots: int
    alone_p95_s: float
    least_month: Decimal
    rollouts_s: tuple[float, ...]
    problems: tuple[Problem, ...]


@dataclass(frozen=True)
class Check:
    """What was understood of a study.

    Attributes:
        study, trace: it, and its trace.
        plans: one entry per plan; where there are several services one per plan and service.
    """

    study: Study
    trace: Trace
    plans: tuple[PlanCheck, ...]

    @property
    def doubts(self) -> tuple[str, ...]:
        """Numbers of the study and its log that can hardly be meant, a sentence each."""
        return (*unusual_values(self.study), *unit_doubts(self.trace))

    @property
    def made_of(self) -> str:
        """What a month is made of, in half a sentence, releases and faults apart."""
        trace = self.trace
        return made_of(month_of(trace.span_s, trace.start, self.study.month, trace.gaps), trace.start, (), once=False)[
            0
        ]

    @property
    def works(self) -> bool:
        """Whether no problem was found."""
        return not any(hosting.problems for hosting in self.plans)

    def to_dict(self) -> dict[str, Any]:
        """The check as the JSON of the command line."""
        trace, source = self.trace, self.trace.source
        return {
            "study": self.study.name,
            "trace": {
                "requests": len(trace),
                "skipped": source.skipped,
                "start": None if trace.start is None else trace.start.isoformat(),
                "span_s": trace.span_s,
                "format": source.format,
                "demand": trace.demand.kind,
                "demand_cpu": [
                    vars(cpu) | {"error": None if math.isnan(cpu.error) else cpu.error} for cpu in trace.demand.cpu
                ],
                "demand_doubts": list(trace.demand.doubts),
                "demand_routes": [vars(route) for route in trace.demand.routes],
                "notes": list(source.notes),
            },
            "plans": [
                {
                    "plan": check.hosting.plan,
                    **({"service": check.service} if check.service else {}),
                    "tier": check.hosting.tier_name,
                    "size": check.hosting.size_name,
                    "replicas": list(check.hosting.limits),
                    "needs_cpu": check.needs_cpu,
                    "needs_slots": check.needs_slots,
                    "alone_p95_s": check.alone_p95_s,
                    "least_month": float(units.to_cent(check.least_month)),
                    "rollouts_s": list(check.rollouts_s),
                    "problems": [problem.text for problem in check.problems],
                }
                for check in self.plans
            ],
            "month": self.made_of,
            "doubts": list(self.doubts),
            "works": self.works,
        }


def check(study: Study, *, seed: int = 0, cache: bool = True, progress: Callable[[float], None] | None = None) -> Check:
    """Read everything, replay nothing.

    Args:
        study: from `load_study`.
        seed: for the seconds within whole-second time stamps.
        cache: whether a trace that was read before may be taken from the user's cache directory.
        progress: called with the share of the trace that is read, from 0 to 1.

    Raises:
        TraceError: the trace cannot be read.
        StudyError: a rollout is due at a time that is not in the trace, or an objective is about a route
            that is not in it.
    """
    trace = study.trace(seed=seed, progress=progress, cache=cache)
    systems = [study.system(plan) for plan in study.plans]
    services = systems[0].service_labels
    study.objectives.check(trace.routes, trace.start, trace.span_s, services, trace.areas)
    return Check(study, trace, tuple(found for system in systems for found in check_plan(study, trace, system, seed)))


def check_plan(study: Study, trace: Trace, system: System, seed: int = 0) -> Iterator[PlanCheck]:
    """What a plan needs and what is wrong with it, for each of its services."""
    loads = loads_of(trace, system, seed)
    month = study.objectives.month
    bill = _least_bill(study, trace, system, loads)
    slow = list(_latencies(study, trace, system, loads))
    checks = [
        _check_service(
            trace,
            system,
            loads,
            number,
            [problem for at, problem in slow if at == number],
            bill.of_service(system.shares_of(hosted.name), tuple(system.shares)).month,
        )
        for number, hosted in enumerate(system.hosted)
    ]
    of_fleets = [(0, shared) for shared in (*shared_limits(system), *account_limits(study, system))]
    of_fleets += _lost_regions(system)
    for at, problem in of_fleets:
        checks[at] = replace(checks[at], problems=(*checks[at].problems, problem))
    least = bill.month
    if month is not None and least > month:
        fewest = [(found.hosting.limits[0], found.service) for found in checks]
        figures = {"least": least, "wanted": month, "currency": study.currency, "fewest": fewest}
        checks[0] = replace(checks[0], problems=(*checks[0].problems, Problem("over_budget", figures)))
    yield from checks


def _check_service(
    trace: Trace, system: System, loads: Loads, number: int, slow: list[Problem], least_month: Decimal
) -> PlanCheck:
    hosted, load = system.hosted[number], loads.of[number]
    service, hosting, size = hosted.service, hosted.hosting, hosted.hosting.size
    minute = (trace.at_s // 60).astype(np.int64)
    busiest_cpu = float(np.bincount(minute, weights=load.cpu_s).max()) / 60
    # Little's law: visits in progress = arrivals per second x time in service.
    busiest_slots = float(np.bincount(minute, weights=load.held_s).max()) / 60
    rollouts_s = tuple(due.at_s for due in hosting.due("rollouts", trace))
    hosting.due("faults", trace)  # an error if one is not in the trace
    visits = float(load.visits.sum())
    (alone_p95_s,) = weighted_percentiles(load.held_s / np.maximum(load.visits, 1e-300), load.visits, [0.95])
    found = PlanCheck(
        service=hosted.label,
        hosting=hosting,
        needs_cpu=math.ceil(busiest_cpu / (hosting.cores * size.speed) - EPSILON_S),
        needs_slots=math.ceil(busiest_slots / service.slots - EPSILON_S),
        alone_p95_s=(alone_p95_s or 0.0) + hosting.tier.overhead,
        least_month=least_month,
        rollouts_s=rollouts_s,
        problems=(),
    )
    problems = (
        *_capacity(found),
        *_nobody(found, visits),
        *connections(system, number),
        *_lent(trace, found, load),
        *_memory(service, found),
        *slow,
        *_updates(service, found),
        *_judgements(trace, service, found, load),
        *_peaks(found),
        *_backlog(service, found),
        *_faults(service, found),
        *_effort(trace, found),
    )
    return replace(found, problems=problems)


def _lost_regions(system: System) -> Iterator[tuple[int, Problem]]:
    """Which services stand only where a region is lost, so that nothing of them works meanwhile."""
    losses = [
        (one.region, fault) for one in system.hosted for fault in one.hosting.faults if fault.kind == "region_loss"
    ]
    for region, fault in losses:
        for at, first in enumerate(system.first):
            fleets = [number for number, of in enumerate(system.first) if of == first]
            if system.hosted[at].region == region and len(fleets) == 1:
                hosted = system.hosted[at]
                gap_s = fault.outage_s(_times(hosted.service, hosted.hosting))
                yield at, Problem("fault_gap", {"fault": fault.kind, "gap_s": gap_s})


def _latencies(study: Study, trace: Trace, system: System, loads: Loads) -> Iterator[tuple[int, Problem]]:
    """What takes too long even without queueing: for an objective, in an area, or for those who give up.

    Of what is drawn only the least that it may be is counted on.
    """
    overhead_s = np.array([one.hosting.tier.overhead for one in system.hosted])[loads.server]
    alone_s = loads.least_s + loads.way_s + overhead_s
    goals = {"": study.objectives.wanted()}
    goals |= {name: wanted.wanted() for name, wanted in study.objectives.areas.items() if system.is_placed}
    for name, wanted in goals.items():
        there = np.flatnonzero(trace.area == trace.areas.index(name)) if name else np.arange(len(trace))
        for key, limit in wanted.items():
            if key not in PERCENTILES or not len(there):
                continue
            alone = nearest_rank(np.sort(alone_s[there]), PERCENTILES[key])
            if alone <= float(limit):
                continue
            told = {"goal": key, "wanted": float(limit), "alone": alone}
            if not name:
                yield 0, Problem("too_slow", told)
                continue
            at = int(np.bincount(loads.server[there]).argmax())
            fleet = system.hosted[at]
            far = system.round_trips.between(name, str(fleet.region)) * fleet.service.exchanges
            kind = "too_far" if far > float(limit) else "far"
            yield at, Problem(kind, told | {"area": name, "region": fleet.region, "far": far})
    for at in np.unique(loads.server).tolist():
        timeout = system.hosted[at].service.timeout
        late = 0.0 if timeout is None else float(np.mean(alone_s[loads.server == at] > timeout + EPSILON_S))
        if late:
            yield at, Problem("timeout", {"late": late, "timeout": timeout})


def _nobody(found: PlanCheck, visits: float) -> Iterator[Problem]:
    """Whether anybody is there, or will be."""
    if found.hosting.heir_of is not None:
        return
    if visits and found.hosting.limits[1] == 0:
        yield Problem("nobody_there", {"visits": visits})


def _least_bill(study: Study, trace: Trace, system: System, loads: Loads) -> Bill:
    """At the plan's fewest replicas; on tiers billed by use, what the requests need if none ever queues or fails."""
    month = month_of(trace.span_s, trace.start, study.month, trace.gaps)
    hour = ((trace.at_s + trace.into_hour_s) // 3600).astype(np.int64)
    shares = system.shares
    fewest = {name: one.limits[0] + one.standing_by for name, one in shares.items()}
    used = {}
    for hosted, load in zip(system.hosted, loads.of, strict=True):
        # A replica is in use at least for as long as its requests, were its slots always full.
        held_s = np.bincount(hour, weights=load.held_s) / hosted.service.slots
        used[hosted.name] = {
            "requests": month.weights.of_hours(np.bincount(hour, weights=load.visits)),
            "in_use": month.weights.of_hours(held_s),
        }
    zones = {name: Fraction(HOURS * min(fewest[name], len(one.zones_used))) for name, one in shares.items()}
    ranks = {name: (Fraction(HOURS * 3600),) * n for name, n in fewest.items()}
    return bill_of(shares, Known(used, ranks, fewest, zones), study.terms, "", "")


def _capacity(found: PlanCheck) -> Iterator[Problem]:
    told = {"most": found.hosting.limits[1], "scales": found.hosting.scaling.rule != "fixed"}
    for kind, needs in (("short_of_cpu", found.needs_cpu), ("short_of_slots", found.needs_slots)):
        if needs > told["most"]:
            yield Problem(kind, told | {"needs": needs})


def _lent(trace: Trace, found: PlanCheck, load: Load) -> Iterator[Problem]:
    """Whether CPU that is only lent is enough for the mean load of the trace."""
    size, steady, (_, ceiling) = found.hosting.size, found.hosting.steady_cores, found.hosting.limits
    if steady is None:
        return
    needed = float(load.cpu_s.sum()) / (trace.span_s * size.speed)
    earned = min(steady, found.hosting.cores) * ceiling
    if needed > earned:
        lasts_s = size.bank_at_start_used * ceiling / (needed - earned)
        yield Problem("lent", {"needed": needed, "most": ceiling, "earned": earned, "lasts_s": lasts_s})


def _memory(service: Service, found: PlanCheck) -> Iterator[Problem]:
    """Whether a replica whose slots are full fits into its memory."""
    memory = found.hosting.size.memory
    if memory is None:
        return
    left, each = memory - service.memory_base, service.memory_per_request
    if left < each:
        yield Problem("no_memory", {"gb": memory / 1e9})
    elif each and left // each < service.slots:
        yield Problem(
            "little_memory",
            {"gb": memory / 1e9, "holds": left // each, "too_many": left // each + 1, "slots": service.slots},
        )


def _updates(service: Service, found: PlanCheck) -> Iterator[Problem]:
    for rollout in found.hosting.rollouts:
        gap = _gap_s(service, found.hosting, rollout)
        if gap:
            yield Problem("update_gap", {"strategy": rollout.strategy, "gap_s": gap})
        if rollout.strategy == "handover" and service.drain is None:
            yield Problem("handover_waits", {})


def _judgements(trace: Trace, service: Service, found: PlanCheck, load: Load) -> Iterator[Problem]:
    """Whether a release that would be undone has ever enough attempts to be judged by."""
    for due in found.hosting.due("rollouts", trace):
        rollout = due.entry
        if not rollout.is_judged:
            continue
        # The most attempts that can end within `watch` once it has begun, were every one of them of the new version.
        sent = np.cumsum(np.append(0.0, load.visits * (1 + service.retries)))
        first = np.searchsorted(trace.at_s, due.at_s)
        within = sent[np.searchsorted(trace.at_s, trace.at_s + rollout.watch, side="right")] - sent[:-1]
        most = float(within[first:].max(initial=0.0))
        if most < rollout.judge_least:
            figures = {"strategy": rollout.strategy, "watch_s": rollout.watch, "most": most}
            yield Problem("never_judged", figures | {"least": rollout.judge_least})


def _peaks(found: PlanCheck) -> Iterator[Problem]:
    """Whether a release pays for more replicas all month, where the greatest number of them counts."""
    hosting = found.hosting
    if hosting.tier.billing != "per_month":
        return
    for rollout in hosting.rollouts:
        more = rollout.extra_replicas(hosting.replicas_used)
        if more:
            yield Problem(
                "peak_paid",
                {"strategy": rollout.strategy, "peak": hosting.replicas_used + more, "has": hosting.replicas_used},
            )


def _backlog(service: Service, found: PlanCheck) -> Iterator[Problem]:
    """Whether the service's backlog has any effect."""
    if service.backlog is not None and found.hosting.has_one_queue:
        holds = found.hosting.tier.holds_requests
        yield Problem(
            "no_backlog", {"backlog": service.backlog, "holds": holds, "limit": found.hosting.tier.queue_limit}
        )


def _faults(service: Service, found: PlanCheck) -> Iterator[Problem]:
    hosting = found.hosting
    times = _times(service, hosting)
    for fault in hosting.faults:
        if fault.kind == "region_loss":  # see `_lost_regions`
            continue
        # Of a mixed fleet what is struck of one entry leaves the others.
        spared = hosting.scaling.decides or (bool(hosting.mix) and fault.kind == "reclaim")
        gap = 0.0 if spared else fault.outage_s(times)
        if fault.number > hosting.replicas_used and not (hosting.scaling.decides or hosting.rollouts):
            yield Problem(
                "no_such_replica", {"fault": fault.kind, "number": fault.number, "has": hosting.replicas_used}
            )
        elif gap:
            yield Problem("fault_gap", {"fault": fault.kind, "gap_s": gap})


def _times(service: Service, hosting: Hosting) -> Times:
    tier = hosting.tier
    return Times(
        hosting.replicas_used, hosting.zones_used, tier.detect_about, tier.provision.median_s, service.start.median_s,
        tier.restarts == "at_once", tier.notice, service.drain or 0.0, tier.on_notice == "replace",
    )  # fmt: skip


def _gap_s(service: Service, hosting: Hosting, rollout: Rollout) -> float:
    """For how long, at the least, an update leaves no replica ready [s]."""
    # The least it can be: half of the starts are quicker where they vary.
    start = service.start.median_s + (0.0 if getattr(rollout, "in_place", False) else hosting.provision_s)
    return start if rollout.least_ready(hosting.replicas_used) == 0 else 0.0


def _effort(trace: Trace, found: PlanCheck) -> Iterator[Problem]:
    """What a replay of it costs, where that is much."""
    rule, hosting = found.hosting.scaling, found.hosting
    if rule.interval_s:
        decisions = trace.span_s / rule.interval_s
        told = {"decisions": decisions, "every_s": rule.interval_s, "span_s": trace.span_s}
        if decisions > MOST_DECISIONS:
            yield Problem("too_many_decisions", told | {"most": MOST_DECISIONS})
        elif decisions > _MANY_DECISIONS:
            yield Problem("many_decisions", told | {"takes_s": decisions * 2e-5, "gb": decisions * 150 / 1e9})
    n = hosting.replicas_used
    if n > _MANY_REPLICAS:
        yield Problem("many_replicas", {"replicas": n, "gb": n * 3e-6})
