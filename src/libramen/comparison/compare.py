"""Several plans of one study, side by side."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

from libramen import units
from libramen.outcome.measures import LATENCIES
from libramen.outcome.replay import replay
from libramen.outcome.story import and_list, miss

if TYPE_CHECKING:
    from collections.abc import Callable
    from concurrent.futures import Executor

    import pandas as pd
    from matplotlib.figure import Figure

    from libramen.outcome.outcome import Outcome
    from libramen.study.plan import Objective
    from libramen.study.study import Study


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
        """One sentence: the cheapest plan that meets every objective, or the nearest and what it misses."""
        best = self.cheapest
        if best is None:
            near = self.nearest
            missed = [miss(objective, near.bill.currency) for objective in near.objectives if not objective.met]
            return f"No plan meets every objective; {near.plan.name} comes nearest and misses {and_list(missed)}."
        cost = units.show_money(best.bill.month, best.bill.currency)
        what = "meets every objective" if best.objectives else "there is (no objectives are set)"
        return f"The cheapest plan that {what} is {best.plan.name}: {cost} a month."

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
        return str(self.table.to_html(float_format="{:.4g}".format))


def compare(
    study: Study,
    executor: Executor | None = None,
    *,
    seed: int = 0,
    progress: Callable[[str, float], None] | None = None,
) -> Comparison:
    """Replay the trace of a study against each of its plans.

    Args:
        study: from `load_study`.
        executor: of `concurrent.futures`, to replay plans at the same time. Default: one after the
            other. The outcomes are the same.
        seed: of all that is left to luck, the seconds within whole-second time stamps included.
        progress: called with what is being done and the share of it that is done, from 0 to 1;
            without an executor only.

    Raises:
        TraceError: the trace cannot be read.
        StudyError: a plan cannot be replayed on this trace.

    Example:
        >>> compare(load_study("saltmarsh/study.toml")).table  # doctest: +SKIP
    """
    trace = study.trace(seed=seed, progress=None if progress is None else lambda share: progress("trace", share))
    settle = study.trace_table.settle
    plans = study.plans.values()
    options = {"settle": settle, "currency": study.currency}
    if executor is not None:
        futures = [
            executor.submit(replay, trace, study.service, plan, study.objectives, seed, **options)  # type: ignore[arg-type]
            for plan in plans
        ]
        return Comparison(tuple(future.result() for future in futures))
    outcomes = []
    for plan in plans:

        def report(share: float, name: str = plan.name) -> None:
            if progress is not None:
                progress(name, share)

        outcomes.append(
            replay(trace, study.service, plan, study.objectives, seed, **options, progress=report)  # type: ignore[arg-type]
        )
    return Comparison(tuple(outcomes))


def _distance(outcome: Outcome) -> tuple[int, float]:
    """How many objectives are missed, and by how much in proportion, added up."""
    missed = [objective for objective in outcome.objectives if not objective.met]
    return len(missed), sum(_excess(objective) for objective in missed)


def _excess(objective: Objective) -> float:
    """By how much an objective is missed, as a share of what was wanted.

    For an availability that is the error budget spent beyond the budget, as a share of it: 99.8 %
    instead of 99.9 % spends it twice, an excess of 1.
    """
    if objective.got is None:
        return float("inf")
    wanted, got = float(objective.wanted), float(objective.got)
    if "availability" in objective.name:
        budget = 1 - wanted
        return (1 - got) / budget - 1 if budget > 1e-12 else float("inf")
    return got / wanted - 1 if wanted else float("inf")
