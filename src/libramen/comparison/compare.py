"""Several plans of one study, side by side."""

from __future__ import annotations

import functools
import mmap
import multiprocessing
import os
import pickle
import signal
import sys
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from libramen import units
from libramen.engine.plane import RESULT, Results
from libramen.errors import StudyError
from libramen.outcome.measures import LATENCIES
from libramen.outcome.replay import replay
from libramen.outcome.story import FAILED_NOTE, and_list, miss, show_latency
from libramen.study.plan import Plan
from libramen.trace.trace import local_time

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from concurrent.futures import Executor
    from datetime import datetime

    import pandas as pd
    from matplotlib.figure import Figure

    from libramen.outcome.outcome import Outcome
    from libramen.study.study import Study
    from libramen.trace.trace import Trace


@dataclass(frozen=True, eq=False)
class Comparison:
    """Outcomes of one trace against several plans, in the order of the study."""

    outcomes: tuple[Outcome, ...]

    @cached_property
    def cheapest(self) -> Outcome | None:
        """The cheapest plan that meets every objective, None: none does."""
        meeting = [outcome for outcome in self.outcomes if outcome.meets_all]
        return min(meeting, key=lambda outcome: outcome.bill.month, default=None)

    @cached_property
    def nearest(self) -> Outcome:
        """The plan that misses the fewest objectives, and among those the one that misses them by least."""
        return min(self.outcomes, key=lambda outcome: (*_distance(outcome), outcome.bill.month))

    def verdict(self) -> str:
        """One sentence: the cheapest plan that meets every objective, or the nearest and what it misses.

        It says what the month is taken to be.
        """
        best = self.cheapest
        if best is None:
            near = self.nearest
            missed = [miss(objective, near.bill.currency) for objective in near.objectives if not objective.met]
            return f"No plan meets every objective; {near.plan.name} comes nearest and misses {and_list(missed)}."
        cost = units.show_money(best.bill.month, best.bill.currency)
        what = "meets every objective" if best.objectives else "there is (no objectives are set)"
        return f"The cheapest plan that {what} is {best.plan.name}: {cost} a month, {best.bill.assumes}."

    @property
    def table(self) -> pd.DataFrame:
        """One row per plan."""
        import pandas as pd

        rows = [
            {
                "plan": outcome.plan.name,
                "tier": outcome.plan.tier.name,
                "size": outcome.plan.size.name,
                "replicas_min": outcome.replicas_min,
                "replicas_mean": outcome.replicas_mean,
                "replicas_max": outcome.replicas_max,
                "requests": outcome.requests_measured,
                **{f"{name}_s": outcome.latency_s[name] for name in LATENCIES},
                **{f"within_{goal.name}": goal.within for goal in outcome.objectives if goal.within is not None},
                "worst_hour": _begin(outcome),
                "worst_hour_within": _share_within(outcome),
                "availability": outcome.availability,
                "availability_minutes": outcome.availability_minutes,
                "utilisation": outcome.utilisation,
                "month": float(outcome.bill.month),
                "meets_all": outcome.meets_all,
                "misses": ", ".join(objective.name for objective in outcome.objectives if not objective.met),
            }
            for outcome in self.outcomes
        ]
        return pd.DataFrame(rows).set_index("plan")

    def to_dict(self) -> dict[str, Any]:
        """The comparison as the JSON of the command line."""
        return {
            "plans": [outcome.to_dict(routes=False) for outcome in self.outcomes],
            "cheapest": None if self.cheapest is None else self.cheapest.plan.name,
            "nearest": self.nearest.plan.name,
        }

    def plot(self) -> Figure:
        """Cost against p95 and against availability, every plan labelled, objectives marked."""
        from libramen.draw.compare import draw_comparison

        return draw_comparison(self)

    def _repr_html_(self) -> str:
        shown = self.table
        latencies = [f"{name}_s" for name in LATENCIES]
        shown[latencies] = [
            [show_latency(outcome.latency_s[name], hides_failures=outcome.hides_failures) for name in LATENCIES]
            for outcome in self.outcomes
        ]
        note = f"<p>{FAILED_NOTE}</p>" if any(outcome.hides_failures for outcome in self.outcomes) else ""
        return str(shown.to_html(float_format="{:.4g}".format)) + note


def _begin(outcome: Outcome) -> datetime | float | None:
    """When the worst hour began: local time where it is known, else seconds from the start."""
    hour = outcome.worst_hour
    if hour is None:
        return None
    return hour.at_s if outcome.start is None else local_time(outcome.start, hour.at_s)


def _share_within(outcome: Outcome) -> float | None:
    hour = outcome.worst_hour
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
    progress: Callable[[str, float], None] | None = None,
) -> Comparison:
    """Replay all plans of a study on its trace.

    Args:
        study: from `load_study`.
        executor: where the replays run, from `concurrent.futures` or alike. Default: here.
        trace: what is replayed. Default: the study's own, read or found in the cache.
        plans: which plans: names of the study's, or plans of your own. Default: all of the study.
        seed: of all that is left to luck. Every plan meets the same.
        workers: processes among which the plans are divided, without an executor; the result is the same to the
            byte. None: as many as there are cores, where that pays. Default: the plans are replayed here, one
            after the other.
        cache: whether a trace that was read before may be taken from the user's cache directory.
        progress: called with what is being done and the share of it that is done, from 0 to 1;
            without an executor only.

    Raises:
        TraceError: the trace cannot be read.
        StudyError: a plan cannot be replayed on this trace.

    Example:
        >>> compare(load_study("saltmarsh/study.toml")).table  # doctest: +SKIP
    """
    chosen = _chosen(study, plans)
    for name, plan in chosen.items():  # before any time is spent
        try:
            plan.scaling.may_run()
        except StudyError as error:
            raise StudyError(f"plan {name!r}: {error}") from None
    report = progress or (lambda _what, _share: None)
    if trace is None:
        trace = study.trace(seed=seed, progress=lambda share: report("reading the trace", share), cache=cache)
    work = _Work(trace, study, chosen, seed)
    if executor is not None:
        futures = [executor.submit(work.replay, name) for name in chosen]
        return Comparison(tuple(work.received(future.result()) for future in futures))
    if workers is None:
        workers = _cores() if len(trace) * len(chosen) >= _PAYS else 1
    workers = min(workers, len(chosen)) if all(map(_can_be_sent, chosen.values())) else 1
    if workers > 1:
        return Comparison(tuple(_divided(work, workers, report)))
    return Comparison(tuple(work.replay_here(name, functools.partial(report, name)) for name in chosen))


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


def _can_be_sent(plan: Plan) -> bool:
    """Whether a plan can go to another process: not one whose rule is a function made on the spot."""
    try:
        pickle.dumps(plan)
    except (pickle.PicklingError, AttributeError, TypeError):
        return False
    return True


_PAYS = 1_500_000
"""Requests, of all plans together, for which it pays to start processes: half a second of replays."""


def _cores() -> int:
    """Cores that this process may use."""
    return len(os.sched_getaffinity(0)) if sys.platform == "linux" else os.cpu_count() or 1


@dataclass(frozen=True)
class _Work:
    """What is the same for all plans of a study."""

    trace: Trace
    study: Study
    plans: dict[str, Plan]
    seed: int
    records: dict[str, np.ndarray] = field(default_factory=dict)
    """Memory that the processes share, for what became of each request, by plan."""

    def replay_here(self, name: str, progress: Callable[[float], None] | None = None) -> Outcome:
        study = self.study
        return replay(
            self.trace,
            study.service,
            self.plans[name],
            study.objectives,
            self.seed,
            settle=study.trace_table.settle,
            currency=study.currency,
            records=self.records.get(name),
            progress=progress,
        )

    def replay(self, name: str) -> Outcome:
        """Replay elsewhere: what comes back does not bring the trace with it, nor what both sides see."""
        outcome = self.replay_here(name)
        return outcome.with_arrays(None, None if self.records else outcome.run.results)

    def received(self, outcome: Outcome) -> Outcome:
        """What came back, complete again."""
        records = self.records.get(outcome.plan.name)
        return outcome.with_arrays(self.trace, outcome.run.results if records is None else Results(records))


_shared: _Work
"""What a worker process works on: handed over once, not with every plan."""


def _start_worker(work: _Work) -> None:
    global _shared  # noqa: PLW0603  (a process of its own: nobody else sees it)
    _shared = work
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C ends the workers through their parent
    signal.signal(signal.SIGTERM, signal.SIG_DFL)


def _replay_shared(name: str) -> Outcome:
    return _shared.replay(name)


def _divided(work: _Work, workers: int, report: Callable[[str, float], None]) -> Iterator[Outcome]:
    """The outcomes of all plans, in their order, from processes that are gone when the last one is there."""
    names = list(work.plans)
    # A fork shares the trace and all that is loaded; elsewhere a process starts from nothing, in about a second.
    forks = sys.platform == "linux"
    context = multiprocessing.get_context("fork" if forks else "spawn")
    if forks:
        from libramen.engine.kernel import state  # noqa: F401  (loaded once, here, and shared)

        size = len(work.trace) * RESULT.itemsize
        work.records.update({name: np.frombuffer(mmap.mmap(-1, size), RESULT) for name in names})
    with context.Pool(workers, _start_worker, (work,)) as pool:
        for k, outcome in enumerate(pool.imap(_replay_shared, names)):
            report("plans", (k + 1) / len(names))
            yield work.received(outcome)


def _distance(outcome: Outcome) -> tuple[int, float]:
    """How many objectives are missed, and by how much in proportion, added up."""
    missed = [objective for objective in outcome.objectives if not objective.met]
    return len(missed), sum(objective.excess for objective in missed)
