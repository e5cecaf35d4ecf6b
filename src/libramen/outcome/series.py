"""The series of a replay: what happened in each window."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from libramen.outcome import measures

if TYPE_CHECKING:
    from libramen.engine.run import Run
    from libramen.outcome.measures import Measured
    from libramen.study.plan import Plan


def series(run: Run, plan: Plan, measured: Measured) -> dict[str, np.ndarray]:
    """Series per window without percentiles; see `Outcome.series_arrays`."""
    edges = run.edges_s
    width, n = np.diff(edges), len(edges) - 1
    cpu, in_progress, waiting, throttled = np.diff(run.integrals, axis=0).T
    there = measures.stage_steps(run, "ready", "draining").mean(edges) * width * plan.size.cores
    return {
        "at_s": edges[:-1],
        **measured.per_window(n),
        "in_progress": in_progress / width,
        "waiting": waiting / width,
        "bank_empty": throttled / width,
        "ready": measures.stage_steps(run, "ready").mean(edges),
        "coming": measures.stage_steps(run, "coming").mean(edges),
        "paid": measures.paid_steps(run, plan).mean(edges),
        "utilisation": np.minimum(1.0, np.divide(cpu, there, out=np.full(n, np.nan), where=there > 1e-9)),
    }
