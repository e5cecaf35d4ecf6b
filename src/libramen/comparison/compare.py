"""Several plans of one study, side by side."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

from libramen.comparison.months import Resampled, resampled
from libramen.errors import ReplayError, StudyError
from libramen.outcome.measures import LATENCIES
from libramen.runs.cases import Case, workers_for
from libramen.runs.pool import run_cases
from libramen.shown import Shown, figure_of, verdict_of
from libramen.study.plan import Plan
from libramen.times import local_time
from libramen.trace.evidence import evidence_of

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable
    from concurrent.futures import Executor
    from datetime import datetime

    import pandas as pd
    from matplotlib.figure import Figure

    from libramen.outcome.figures import Figures
    from libramen.outcome.outcome import Outcome
    from libramen.runs.store import Store
    from libramen.study.study import Study
    from libramen.trace.evidence import Evidence
    from libramen.trace.trace import Trace


class Comparison(Shown):
    """Figures of one trace against several plans, in the order of the study.

    Attributes:
        figures: of each plan.
        scale: the load as a multiple of the trace's.
    """

    scale = 1.0

    def __init__(self, figures: Iterable[Figures], trace: Trace | None = None, cases: Iterable[Case] = ()) -> None:
        self.figures = tuple(figures)
        self._trace, self._cases = trace, {case.plan.name: case for case in cases}

    @property
    def trace(self) -> Trace:
        """What was replayed.

        Raises:
            ReplayError: this comparison was made of figures alone.
        """
        if self._trace is None:
            raise ReplayError("this comparison was made of figures alone, without their trace")
        return self._trace

    @cached_property
    def evidence(self) -> Evidence | None:
        """What the log has seen, beside the load that was replayed; None: this comparison was made of figures alone."""
        return None if self._trace is None else evidence_of(self._trace, self.scale)

    def outcome(self, plan: str) -> Outcome:
        """One plan with all its frames; it is replayed again, and comes to the same.

        Raises:
            StudyError: there is no plan of this name in it.
        """
        if plan not in self._cases:
            from libramen.fields import nearest

            raise StudyError(f"there is no plan {plan!r} in this comparison; {nearest(plan, self._cases)}")
        return self._cases[plan].replay(self.trace)

    @cached_property
    def cheapest(self) -> Figures | None:
        """The cheapest plan that meets every objective, None: none does."""
        meeting = [figures for figures in self.figures if figures.meets_all]
        return min(meeting, key=lambda figures: figures.bill.month, default=None)

    @cached_property
    def nearest(self) -> Figures:
        """The plan that misses the fewest objectives, and among those the one that misses them by least."""
        return min(self.figures, key=lambda figures: (*_distance(figures), figures.bill.month))

    def verdict(self) -> str:
        """One sentence: the cheapest plan that meets every objective, or the nearest and what it misses.

        It says what the month is taken to be.
        """
        return verdict_of(self)

    @cached_property
    def resampled(self) -> Resampled | None:
        """How sure the verdict is, if days of the trace had come in other numbers; None: it has fewer than two days.

        See `months.resampled`.
        """
        plans = {name: case.plan for name, case in self._cases.items()}
        if not all(figures.plan in plans for figures in self.figures):
            return None
        return resampled(self.figures, plans, self.figures[0].seed)

    @property
    def table(self) -> pd.DataFrame:
        """One row per plan."""
        import pandas as pd

        rows = [
            {
                "plan": figures.plan,
                "tier": figures.tier,
                "size": figures.size,
                "replicas_min": figures.replicas_min,
                "replicas_mean": figures.replicas_mean,
                "replicas_max": figures.replicas_max,
                "requests": figures.requests,
                **{f"{name}_s": figures.latency_s[name] for name in LATENCIES},
                **{f"within_{goal.name}": goal.within for goal in figures.objectives if goal.within is not None},
                "worst_hour": _begin(figures),
                "worst_hour_within": _share_within(figures),
                "availability": figures.availability,
                "availability_minutes": figures.availability_minutes,
                "utilisation": figures.utilisation,
                "month": float(figures.bill.month),
                "meets_all": figures.meets_all,
                "misses": ", ".join(objective.name for objective in figures.missed),
            }
            for figures in self.figures
        ]
        return pd.DataFrame(rows).set_index("plan")

    def to_dict(self) -> dict[str, Any]:
        """The comparison as the JSON of the command line."""
        return {
            "plans": [figures.to_dict(routes=False) for figures in self.figures],
            "cheapest": None if self.cheapest is None else self.cheapest.plan,
            "nearest": self.nearest.plan,
            "resampled": None if self.resampled is None else self.resampled._asdict(),
            "evidence": None if self.evidence is None else self.evidence.to_dict(),
        }

    def plot(self) -> Figure:
        """Cost against p95 and against availability, every plan labelled, objectives marked."""
        return figure_of(self)


def _begin(figures: Figures) -> datetime | float | None:
    """When the worst hour began: local time where it is known, else seconds from the start."""
    hour = figures.worst_hour
    if hour is None:
        return None
    return hour.at_s if figures.start is None else local_time(figures.start, hour.at_s)


def _share_within(figures: Figures) -> float | None:
    hour = figures.worst_hour
    return None if hour is None else hour.within / hour.requests


def compare(
    study: Study,
    executor: Executor | None = None,
    *,
    trace: Trace | None = None,
    plans: Iterable[str | Plan] | None = None,
    seed: int = 0,
    workers: int | None = 1,
    cache: bool = True,
    store: Store | None = None,
    progress: Callable[[str, float], None] | None = None,
) -> Comparison:
    """Replay all plans of a study on its trace.

    Args:
        study: from `load_study`.
        executor: where the replays run, from `concurrent.futures` or alike. Default: here.
        trace: what is replayed. Default: the study's own, read or found in the cache.
        plans: which plans: names of the study's, or plans of your own. Default: all of the study.
        seed: random seed, the same for every plan.
        workers: processes among which the plans are divided, without an executor; the result is the same to the
            byte. None: as many as there are cores, where that pays. Default: the plans are replayed here, one
            after the other.
        cache: whether a trace that was read before may be taken from the user's cache directory.
        store: where figures are looked up and kept. Default: nowhere.
        progress: called with what is being done and the share of it that is done, from 0 to 1.

    Raises:
        TraceError: the trace cannot be read.
        StudyError: a plan cannot be replayed on this trace.

    Example:
        >>> compare(load_study("saltmarsh/study.toml")).table  # doctest: +SKIP
    """
    cases = cases_of(study, plans, seed)
    report = progress or (lambda _what, _share: None)
    if trace is None:
        trace = study.trace(seed=seed, progress=lambda share: report("reading the trace", share), cache=cache)
    if workers is None and len(trace) * len(cases) < _PAYS:
        workers = 1
    with workers_for(len(cases), executor, workers) as there:
        found = dict(run_cases(cases, trace, there, store=store, progress=report))
    return Comparison((found[number] for number in range(len(cases))), trace, cases)


def cases_of(study: Study, plans: Iterable[str | Plan] | None, seed: int) -> list[Case]:
    """One replay for each of some plans, names of the study's or plans; None: all of the study.

    Raises:
        StudyError: there is no such plan, or its rule may not run.
    """
    chosen = _chosen(study, plans)
    for name, plan in chosen.items():  # before any time is spent
        try:
            for hosting in plan.services.values():
                hosting.scaling.may_run()
        except StudyError as error:
            raise StudyError(f"plan {name!r}: {error}") from None
    return [Case.of(study, plan, seed) for plan in chosen.values()]


def _chosen(study: Study, plans: Iterable[str | Plan] | None) -> dict[str, Plan]:
    """The plans to be compared, by name."""
    if plans is None:
        return study.plans
    found: dict[str, Plan] = {}
    for plan in plans:
        if not isinstance(plan, str | Plan):
            raise StudyError(f"plans: found {plan!r}; allowed: names of plans of the study, or plans")
        one = study.plan(plan) if isinstance(plan, str) else plan
        if one.name in found:
            raise StudyError(
                f"plans: two are called {one.name!r}; allowed: names that differ, as plan.replace(name=...)"
            )
        found[one.name] = one
    if not found:
        raise StudyError("plans: found none; allowed: one or more")
    return found


_PAYS = 1_500_000
"""Requests, of all plans together, for which it pays to start processes: half a second of replays."""


def _distance(figures: Figures) -> tuple[int, float]:
    """How many objectives are missed, and by how much in proportion, added up."""
    return len(figures.missed), sum(objective.excess for objective in figures.missed)
