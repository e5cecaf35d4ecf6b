"""Several plans of one study, side by side."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from functools import cached_property
from typing import Any, Unpack

from libramen.base import heavy
from libramen.base.errors import ReplayError, StudyError
from libramen.base.shown import Shown, figure_of, verdict_of
from libramen.base.times import local_time
from libramen.load.evidence import Evidence, evidence_of
from libramen.outcome.figures import Figures
from libramen.outcome.measures import LATENCIES
from libramen.outcome.outcome import Outcome
from libramen.questions.context import Asking, Context
from libramen.questions.months import Resampled, resampled
from libramen.runs.cases import Case
from libramen.runs.pool import run_cases
from libramen.study.plan import Plan
from libramen.study.study import Study
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
            from libramen.base.fields import nearest

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
        if not all(figures.plan in self._cases for figures in self.figures):
            return None
        return resampled(self.figures, self._cases, self.figures[0].seed)

    @property
    def table(self) -> heavy.DataFrame:
        """One row per plan: latencies [s], shares from 0 to 1, the begin of the worst hour, a month in its currency."""
        import pandas as pd

        rows = [
            {
                "plan": figures.plan,
                "tier": figures.tier,
                "size": figures.size,
                "replicas_min": figures.replicas_min,
                "replicas_mean": figures.replicas_mean,
                "replicas_max": figures.replicas_max,
                "requests": figures.n_requests,
                **{f"{name}_s": figures.month.latency_s[name] for name in LATENCIES},
                **{f"within_{goal.name}": goal.within for goal in figures.objectives if goal.within is not None},
                "worst_hour": _begin(figures),
                "worst_hour_within": _share_within(figures),
                "availability": figures.month.availability,
                "availability_minutes": figures.month.availability_minutes,
                "utilisation": figures.utilisation,
                f"month [{figures.bill.currency}]": float(figures.bill.month),
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
            "resampled": None if self.resampled is None else self.resampled.to_dict(),
            "evidence": None if self.evidence is None else self.evidence.to_dict(),
        }

    def plan_of(self, name: str) -> Plan:
        """A plan that was compared, by its name."""
        return self._cases[name].plan

    @property
    def meets_all(self) -> bool:
        """Whether every plan meets every objective."""
        return all(figures.meets_all for figures in self.figures)

    def plot(self, percentile: str | None = None) -> heavy.Figure:
        """Cost against p95 and against availability, every plan labelled, objectives marked.

        Args:
            percentile: another one than p95, such as "p99". Default: that of the first objective about latency.

        Returns:
            A Matplotlib figure: `figure.savefig("compare.png")` keeps it (or .svg), and a notebook shows it.
        """
        return figure_of(self, percentile)


def _begin(figures: Figures) -> datetime | float | None:
    """When the worst hour began: local time where it is known, else seconds from the start."""
    hour = figures.worst_hour
    if hour is None:
        return None
    return hour.at_s if figures.start is None else local_time(figures.start, hour.at_s)


def _share_within(figures: Figures) -> float | None:
    hour = figures.worst_hour
    return None if hour is None else hour.within / hour.requests


def compare(study: Study, *, plans: Iterable[str | Plan] | None = None, **asked: Unpack[Asking]) -> Comparison:
    """Replay all plans of a study on its trace.

    Args:
        study: from `load_study`.
        plans: which plans: names of the study's, or plans of your own. Default: all of the study.
        **asked: trace, seed, executor, workers, cache, store, progress; see `Context`.

    Raises:
        TraceError: the trace cannot be read.
        StudyError: a plan cannot be replayed on this trace.

    Example:
        >>> from libramen import load_study
        >>> compare(load_study("landing/study.toml"), plans=["noon", "bold"]).cheapest.plan
        'noon'
    """
    context = Context.of(study, asked)
    cases = context.cases(plans)
    with context.pool(len(cases)) as pool:
        found = dict(run_cases(cases, pool, context.report))
    return Comparison((found[number] for number in range(len(cases))), context.load, cases)


def _distance(figures: Figures) -> tuple[int, float]:
    """How many objectives are missed, and by how much in proportion, added up."""
    return len(figures.missed), sum(objective.excess for objective in figures.missed)
