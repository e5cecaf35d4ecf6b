"""The tables of a fleet: one row a replica, one row a stage of its life."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from libramen.outcome import measures

if TYPE_CHECKING:
    from libramen.engine.run import Run
    from libramen.study.plan import Plan


def fleet(run: Run, plan: Plan, served: np.ndarray) -> pd.DataFrame:
    """See `Outcome.fleet`; `served`: requests answered ok by each replica."""
    replicas = run.replicas
    names = ("number", "zone", "version", "why", "decision", "ordered_s", "started_s", "ready_s", "draining_s",
             "gone_s", "why_gone", "ended_by", "deaths", "core_s")  # fmt: skip
    frame = pd.DataFrame({name: [getattr(replica, name) for replica in replicas] for name in names})
    times = [name for name in names if name.endswith("_s")]
    frame = frame.astype(dict.fromkeys(times, float) | {"decision": "Int64", "ended_by": "Int64"})
    never_started = (frame["gone_s"] < frame["started_s"]).to_numpy()
    frame["started_s"] = np.where(never_started, np.nan, frame["started_s"])
    paid = np.array([_within(measures.paid_time(replica, plan), run.span_s) for replica in replicas])
    return frame.assign(served=served, paid_s=paid)


def stages(run: Run) -> pd.DataFrame:
    """See `Outcome.stages`."""
    rows = [(replica.number, *row) for replica in run.replicas for row in measures.life(replica, run)]
    return pd.DataFrame(rows, columns=["number", "stage", "from_s", "to_s"])


def _within(time: tuple[float, float], span_s: float) -> float:
    """How much of a time lies within the span [s]."""
    from_s, to_s = time
    return max(0.0, min(to_s, span_s) - from_s)
