"""Requests that waited for a cold start: served by a replica that was not ready yet when they arrived."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from libramen.base.times import EPSILON_S
from libramen.engine.border.records import Results
from libramen.engine.record import ServiceRun
from libramen.outcome.measures import stage_steps
from libramen.trace.trace import Trace


class ColdWaits(NamedTuple):
    """Requests that waited for a cold start, in order of arrival: arrays of one length.

    Attributes:
        request: int64, which requests of the trace.
        at_s: float64, when their last attempt arrived [s].
        wait_s: float64, from then until their replica was ready [s].
        replica: int64, its number.
        none_ready: bool, whether no replica at all was ready when they arrived.
    """

    request: np.ndarray
    at_s: np.ndarray
    wait_s: np.ndarray
    replica: np.ndarray
    none_ready: np.ndarray


def cold_waits(trace: Trace, results: Results, run: ServiceRun) -> ColdWaits:
    """Find them among the requests of a trace."""
    # Whoever waited for a replica was without a slot meanwhile: most were not.
    waited = np.flatnonzero(results.queued_s > EPSILON_S)
    served_by = results.replica[waited]
    arrived_s = trace.at_s[waited] + results.before_s[waited]
    had_slot_s = arrived_s + results.queued_s[waited]
    ready_s = np.full(len(run.replicas) + 1, -np.inf)
    again: list[int] = []
    for replica in run.replicas:
        times = [at_s for at_s, stage in replica.stages if stage == "ready"]
        ready_s[replica.number] = times[0] if times else -np.inf
        again += [replica.number] if len(times) > 1 else []
    became_s = ready_s[served_by]
    for number in again:  # it was ready, died, and came again: the last time before the slot counts
        rows = np.flatnonzero(served_by == number)
        came_s = np.array([at_s for at_s, stage in run.replicas[number - 1].stages if stage == "ready"])
        became_s[rows] = came_s[np.maximum(0, np.searchsorted(came_s, had_slot_s[rows] + EPSILON_S, side="right") - 1)]
    # One that was cut or lost in the queue never had the slot that its replica could have given.
    rows = np.flatnonzero((became_s > arrived_s + EPSILON_S) & (became_s <= had_slot_s + EPSILON_S))
    ready = stage_steps(run, "ready")
    at = np.maximum(0, np.searchsorted(ready.at_s, arrived_s[rows], side="right") - 1)
    wait_s = became_s[rows] - arrived_s[rows]
    return ColdWaits(waited[rows], arrived_s[rows], wait_s, served_by[rows].astype(np.int64), ready.count[at] == 0)
