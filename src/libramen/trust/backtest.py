"""`backtest`: replay the log on the plan on which it was recorded, and see how far the prediction is from it."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from functools import cached_property
from pathlib import Path
from typing import Any, Unpack

import numpy as np

from libramen.base import heavy
from libramen.base.errors import StudyError
from libramen.base.results import Result
from libramen.base.shown import Shown, figure_of
from libramen.load.evidence import Evidence, evidence_of
from libramen.outcome.replay import replay
from libramen.questions.context import Context, Reading
from libramen.study.study import Study
from libramen.study.terms import MonthTable, Terms
from libramen.trace.trace import Trace
from libramen.trust.compared import BINS, FEW, Compared, all_percentiles, answered
from libramen.trust.grade import Grade, grade_of, keep_grade
from libramen.trust.held_back import Regimes, regimes
from libramen.trust.hours import Hour, hours
from libramen.trust.invoice import Invoice, beside, read_invoice


@dataclass(frozen=True)
class FailedMinute(Result):
    """A minute in which requests failed: in the log (status of 500 or more, 429, 408, 499), and in the replay."""

    at_s: float
    logged: int
    replayed: int


@dataclass(frozen=True, eq=False)
class Backtest(Shown):
    """The prediction of a log beside the log.

    Attributes:
        study: what was tested.
        plan: name of the recorded plan.
        trace: the log with its work, without what `shape` does.
        replayed_s: float64 (n,), latency of each request in the replay [s], NaN: it failed there.
        grade: how far to believe a replay.
        figures: percentiles of all, per route, per hour and per requests in progress at arrival.
        held_back: percentiles of the requests whose latencies were not used.
        busiest: percentiles of the busiest tenth of the log, predicted from its quieter half.
        hours: how far each hour of the clock is off, and whether that is chance.
        failures: the minutes with most failures.
        failed: how many requests failed in the log, and in the replay.
        replicas: how many were ready, of each service: from which instant on [s], how many.
        invoice: an invoice beside the bill of the plan; None: there is none.
    """

    study: Study
    plan: str
    trace: Trace
    replayed_s: np.ndarray
    grade: Grade
    figures: tuple[Compared, ...]
    held_back: tuple[Compared, ...]
    busiest: tuple[Compared, ...]
    hours: tuple[Hour, ...]
    failures: tuple[FailedMinute, ...]
    failed: tuple[int, int]
    replicas: dict[str, tuple[tuple[float, int], ...]]
    invoice: Invoice | None = None

    @property
    def table(self) -> heavy.DataFrame:
        """One row per scope and percentile."""
        import pandas as pd

        named = (("", self.figures), ("held back: ", self.held_back), ("busiest tenth: ", self.busiest))
        rows = [
            found.to_dict() | {"scope": which + found.scope, "off": found.off}
            for which, some in named
            for found in some
        ]
        return pd.DataFrame(rows, columns=[*(one.name for one in fields(Compared)), "off"])

    @cached_property
    def evidence(self) -> Evidence:
        """What the log has seen."""
        return evidence_of(self.trace)

    def to_dict(self) -> dict[str, Any]:
        """The backtest as the JSON of the command line."""
        return {
            "plan": self.plan,
            "demand": self.trace.demand.kind,
            "requests": len(self.trace),
            "grade": self.grade.grade,
            "reason": self.grade.reason,
            "off": {key: getattr(self.grade, key) for key in ("in_sample", "held_back", "apart", "busiest", "hourly")},
            "evidence": self.evidence.to_dict(),
            "figures": [found.to_dict() for found in self.figures],
            "held_back": [found.to_dict() for found in self.held_back],
            "busiest": [found.to_dict() for found in self.busiest],
            "hours": [found.to_dict() for found in self.hours],
            "failures": [found.to_dict() for found in self.failures],
            "failed": {"logged": self.failed[0], "replayed": self.failed[1]},
            "replicas": [
                {"at_s": at_s, "ready": n} | ({"service": name} if len(self.replicas) > 1 else {})
                for name, steps in self.replicas.items()
                for at_s, n in steps
            ],
        } | ({} if self.invoice is None else {"invoice": self.invoice.to_dict()})

    def plot(self) -> heavy.Figure:
        """Quantile against quantile, and the day with both curves.

        Returns:
            A Matplotlib figure: `figure.savefig("backtest.png")` keeps it (or .svg), and a notebook shows it.
        """
        return figure_of(self)


def backtest(
    study: Study,
    *,
    invoice: str | Path | None = None,
    **asked: Unpack[Reading],
) -> Backtest:
    """Replay the recorded plan of a study against its log.

    The work that the log gave is replayed on the plan on which it was recorded. To see how far that carries, the work
    is found once more from every other hour (of a log of less than four hours, from every other eighth), and the hours
    between are predicted from it: each of their requests has the work of another one of its route. Then the same is
    done from the quieter half of the hours for the busiest tenth, which is what is asked of a plan for more load.

    Args:
        study: from `load_study`; `[trace] recorded_on` names the plan.
        invoice: CSV with the columns item and amount, of a month of that plan: is laid beside its bill.
        **asked: seed, cache (the grade is kept there, too), progress; see `Context`.

    Raises:
        StudyError: no recorded plan is named, or the log has no latencies; the invoice cannot be read.
        TraceError: the log cannot be read, or the plan cannot have served it.

    Example:
        >>> backtest(load_study("saltmarsh/study.toml")).grade.grade  # doctest: +SKIP
        'close'
    """
    name = study.trace_table.recorded_on
    if name is None:
        raise StudyError(
            f"{study.path}: [trace] recorded_on is missing; allowed: the name of the plan on which the log was recorded"
        )
    if invoice is not None:
        read_invoice(Path(invoice))  # before any time is spent
    context = Context.of(study, asked, Reading)
    seed, tell = context.seed, context.report
    plain = study.replace(trace={"shape": ()}) if study.trace_table.shape else study
    trace = replace(context, study=plain).load
    if trace.latency_s is None:
        raise StudyError(f"{study.path}: the log has no latencies, so there is nothing to compare a replay with")
    plan = study.plan(name)
    tell("replaying the recorded plan", 0.0)
    # What the log saw, saw each release once: there is no month, and no other replay.
    outcome = replay(trace, study.services, plan, seed=seed, terms=Terms(month=MonthTable(events="as_traced")))
    replayed_s = np.where(outcome.run.kept.ending == 0, outcome.run.kept.latency_s, np.nan)
    logged_s = np.where(answered(trace), trace.latency_s, np.nan)
    figures = tuple(all_percentiles(trace, logged_s, replayed_s, seed))
    if not any(found.scope == "all" for found in figures):
        raise StudyError(
            f"{study.path}: fewer than {FEW} requests were answered in the log, or in the replay on {name}: too few "
            "to compare"
        )
    held_back = "predicting what was held back"
    tell(held_back, 0.4)
    predicted = Regimes((), (), (), 0.0)
    if trace.demand.kind != "given":
        predicted = regimes(plain, plain.log(seed=seed, cache=context.cache), seed)
    by_hour = hours(
        plain, name, trace, logged_s, replayed_s, seed, lambda share: tell("drawing work", 0.8 + 0.2 * share)
    )
    found = Backtest(
        study=study,
        plan=name,
        trace=trace,
        replayed_s=replayed_s,
        grade=grade_of(name, figures, predicted, by_hour, trace),
        figures=figures,
        held_back=predicted.held_back,
        busiest=predicted.busiest,
        hours=by_hour,
        failures=tuple(_failed_minutes(trace, outcome.run.kept.ending)),
        failed=(int(np.count_nonzero(~answered(trace))), int(np.count_nonzero(outcome.run.kept.ending))),
        replicas={name: tuple(one.run.ready_steps()) for name, one in outcome.services.items()},
    )
    if invoice is not None:
        billed = replay(trace, study.services, plan, seed=seed, terms=study.terms)
        found = replace(found, invoice=beside(Path(invoice), billed.bill, tuple(billed.services)))
    tell(held_back, 1.0)
    if context.cache:
        keep_grade(study, seed, found.grade)
    return found


def _failed_minutes(trace: Trace, ending: np.ndarray) -> list[FailedMinute]:
    minute = (trace.at_s // 60).astype(np.int64)
    n = int(minute[-1]) + 1
    logged, replayed = (np.bincount(minute[failed], minlength=n) for failed in (~answered(trace), ending != 0))
    worst = np.argsort(-(logged + replayed), kind="stable")[:BINS]
    return [
        FailedMinute(60.0 * k, int(logged[k]), int(replayed[k]))
        for k in sorted(worst.tolist())
        if logged[k] + replayed[k]
    ]
