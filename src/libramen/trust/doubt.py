"""`doubt`: does the verdict of a comparison hold at the ends of what is not known?"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Annotated, Any, Final, NamedTuple, Unpack

import numpy as np
from pydantic import Field

from libramen.base import units
from libramen.base.delays import Delay
from libramen.base.results import Result
from libramen.base.shown import sentence_of
from libramen.questions.compare import Comparison, compare
from libramen.questions.context import Asking, Context
from libramen.study.hosting import Hosting
from libramen.study.plan import Plan
from libramen.study.study import Study
from libramen.trace.trace import Trace
from libramen.trust.other_loads import other_loads

_GUESS: Final = (0.5, 2.0)
_WORK: Final = (0.9, 1.1)
_TOLD: Final = {"half of it": 0.5, "twice as much": 2.0}
_START: Final = (0.5, 2.0)
_LEAST: Final = 0.02


@dataclass(frozen=True)
class End(Result):
    """One end of what is not known: its value in words, and the verdict there.

    `currency`: of `month`. `holds`: whether the same plan is the cheapest as in the comparison. `changed`: how many
    plans meet every objective here and not in the comparison, or the other way round.
    """

    value: str
    cheapest: str | None
    month: float | None
    currency: Annotated[str, Field(exclude=True)]
    holds: Annotated[bool, Field(exclude=True)]
    changed: int

    @property
    def verdict(self) -> str:
        """The verdict there, in a few words."""
        return sentence_of(self)

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        document = super().to_dict()
        changed = document.pop("changed")
        return document | {"verdict": self.verdict, "changed": changed}


@dataclass(frozen=True)
class Doubt:
    """What is not known, and the verdict at both ends of it.

    Attributes:
        parameter: what it is.
        from_: where its value in the comparison came from.
        low, high: the ends.
    """

    parameter: str
    from_: str
    low: End
    high: End

    @property
    def weight(self) -> tuple[int, int]:
        """How far it moves the answer: ends at which the verdict is another, then plans that change."""
        ends = (self.low, self.high)
        return sum(not end.holds for end in ends), sum(end.changed for end in ends)

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        return {
            "parameter": self.parameter,
            "from": self.from_,
            "low": self.low.to_dict(),
            "high": self.high.to_dict(),
        }


class _Change(NamedTuple):
    value: str
    trace: Trace
    study: Study
    plans: tuple[Plan, ...] | None


def doubt(
    study: Study,
    found: Comparison,
    *,
    plans: Iterable[Plan] | None = None,
    **asked: Unpack[Asking],
) -> tuple[Doubt, ...]:
    """Compare again at the ends of what is not known.

    * `cpu_share`: at half and at twice of it; where CPU use was measured, two standard errors below and above.
    * the work of a request: 10 % less and more; a quiet estimate at its upper end is the observed latency; half and
      twice of what a study says it is (`work`).
    * cold starts (`provision` and `start`): half and twice as long.
    * the load: 20 % less and more; the burst of the busiest day half and twice as high; the arrivals of other days.

    Args:
        study: what was compared.
        found: the comparison.
        plans: which plans. Default: all of the study.
        **asked: trace, seed (that of the comparison), executor, workers, cache, store, progress; see `Context`.
            Default of `trace`: what was replayed in the comparison.

    Returns:
        one entry per parameter; what moves the answer most comes first.

    Example:
        >>> [one.parameter for one in doubt(study, study.compare(plans=["noon"]))]  # doctest: +SKIP
        ['arrivals', 'cold start', 'load', 'burst']
    """
    asked = {"trace": found.trace, **asked}
    chosen, context = None if plans is None else tuple(plans), Context.of(study, asked)
    doubts = []
    for parameter, from_, changes in _parameters(study, context.load, chosen, context.seed):
        ends = [_end(found, change, context, f"{parameter} {change.value}: ") for change in changes]
        doubts.append(Doubt(parameter, from_, *ends))
    return tuple(sorted(doubts, key=lambda one: one.weight, reverse=True))


def _parameters(
    study: Study, trace: Trace, plans: tuple[Plan, ...] | None, seed: int
) -> Iterator[tuple[str, str, list[_Change]]]:
    for other in other_loads(trace, seed):
        yield other.parameter, other.from_, [_Change(value, load, study, plans) for value, load in other.ends]
    if trace.demand.kind != "given" or study.trace_table.work is not None:
        factors, from_ = _share_ends(study, trace)
        share = _mean_share(trace)
        yield (
            "cpu_share",
            from_,
            [
                _Change(units.show_share(min(1.0, factor * share)), _with_share(trace, factor), study, plans)
                for factor in factors
            ],
        )
        by_whom = f"{trace.demand.kind} estimate" if study.trace_table.work is None else "work of the study"
        yield "work", by_whom, list(_work_ends(study, trace, plans))
    hosted = [one for plan in study.plans.values() for one in study.system(plan).hosted]
    starts = any(one.hosting.provision_s or one.service.start.median_s for one in hosted)
    if starts:
        yield (
            "cold start",
            "provision and start of the study",
            [_Change(f"x {factor:g}", trace, *_slower_start(study, plans, factor)) for factor in _START],
        )


def _share_ends(study: Study, trace: Trace) -> tuple[tuple[float, float], str]:
    """By what the CPU share is multiplied at its ends, and where it came from."""
    if trace.demand.cpu:
        counts = np.bincount(trace.route_codes, minlength=len(trace.routes)).astype(float)
        by_name = dict(zip(trace.routes, counts.tolist(), strict=True))
        spent = [
            (by_name.get(cpu.route, 0.0) * cpu.core_s, by_name.get(cpu.route, 0.0) * cpu.error)
            for cpu in trace.demand.cpu
        ]
        total = sum(core_s for core_s, _ in spent)
        error = 2 * sum(error for _, error in spent if np.isfinite(error)) / max(total, 1e-12)
        error = min(0.9, max(_LEAST, error))
        return (1 - error, 1 + error), "measured CPU use (two standard errors)"
    return _GUESS, share_from(study, trace)


def share_from(study: Study, trace: Trace) -> str:
    """Where it comes from how much of the work is CPU work: `"the study"`, `"the log"` or `"a guess, 40 %"`."""
    if study.trace_table.cpu_share is not None:
        return "the study"
    if study.trace_table.work is not None:
        return "a guess, 40 %"
    found = any(note.startswith("cpu_share is") and "guess" not in note for note in trace.source.notes)
    return "the log" if found or trace.demand.cpu or trace.demand.kind == "given" else "a guess, 40 %"


def _mean_share(trace: Trace) -> float:
    total = float((trace.cpu_s + trace.wait_s).sum())
    return float(trace.cpu_s.sum()) / total if total else 0.0


def _with_share(trace: Trace, factor: float) -> Trace:
    """The same work with another part of it on the CPU, at most all."""
    work_s = trace.cpu_s + trace.wait_s
    cpu_s = np.minimum(work_s, factor * trace.cpu_s)
    return _changed(trace, cpu_s, work_s - cpu_s)


def _times(trace: Trace, factor: float | np.ndarray) -> Trace:
    """So many times the work, that of calls too."""
    longer = replace(trace, in_s={name: factor * in_s for name, in_s in trace.in_s.items()})
    return _changed(longer, factor * trace.cpu_s, factor * trace.wait_s)


def _changed(trace: Trace, cpu_s: np.ndarray, wait_s: np.ndarray) -> Trace:
    changed = trace.with_demand(cpu_s, wait_s, demand="given", notes=())
    return replace(changed, source=replace(changed.source, demand=trace.demand))


def _work_ends(study: Study, trace: Trace, plans: tuple[Plan, ...] | None) -> Iterator[_Change]:
    if study.trace_table.work is not None:  # somebody said so
        for name, factor in _TOLD.items():
            yield _Change(name, _times(trace, factor), study, plans)
        return
    low, high = _WORK
    yield _Change("10 % less", _times(trace, low), study, plans)
    if trace.demand.kind == "quiet" and trace.latency_s is not None:
        factor = trace.latency_s / np.maximum(trace.cpu_s + trace.wait_s, 1e-9)
        yield _Change("as observed, queueing too", _times(trace, factor), study, plans)
    else:
        yield _Change("10 % more", _times(trace, high), study, plans)


def _slower_start(study: Study, plans: tuple[Plan, ...] | None, factor: float) -> tuple[Study, tuple[Plan, ...]]:
    def scaled(delay: Delay) -> Delay:
        return Delay(factor * delay.median_s, delay.sigma)

    def slower(name: str, hosting: Hosting) -> Hosting:
        own = hosting.service
        if "start" in own:
            own = {**own, "start": scaled(hosting.service_of(study.services[name]).start)}
        slow = hosting.with_tiers(lambda tier: tier.replace(provision=scaled(tier.provision)))
        return slow.replace(service=own)

    changed = study.replace(
        services={name: {"start": scaled(service.start)} for name, service in study.services.items()}
    )
    return changed, tuple(plan.each(slower) for plan in (plans if plans is not None else study.plans.values()))


def _end(found: Comparison, change: _Change, context: Context, what: str) -> End:
    other = compare(
        change.study,
        trace=change.trace,
        plans=change.plans,
        seed=context.seed,
        executor=context.executor,
        workers=context.workers,
        store=context.store,
        progress=lambda doing, share: context.report(what + doing, share),
    )
    before, now = found.cheapest, other.cheapest
    meets = {figures.plan: figures.meets_all for figures in found.figures}
    changed = sum(meets.get(figures.plan, False) != figures.meets_all for figures in other.figures)
    was, plan = (None if one is None else one.plan for one in (before, now))
    month = None if now is None else float(now.bill.month)
    return End(change.value, plan, month, context.study.currency, holds=plan == was, changed=changed)
