"""The control plane: runs one replay on either data plane."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np

from libramen.engine.agenda import Agenda, Kind
from libramen.engine.fleet import Fleet
from libramen.engine.plane import EPSILON_S, Chunk, DataPlane, ServerSpec, Signal
from libramen.engine.run import Run
from libramen.engine.scaler import Scaler
from libramen.engine.scaling.rule import Rule
from libramen.engine.updates import Updates
from libramen.errors import ReplayError

if TYPE_CHECKING:
    from collections.abc import Callable

    from libramen.study.plan import Plan
    from libramen.study.service import Service
    from libramen.trace.trace import Trace

DataPlaneName = Literal["compiled", "plain"]


def run(
    trace: Trace,
    service: Service,
    plan: Plan,
    *,
    data_plane: DataPlaneName = "compiled",
    window_s: float = 60.0,
    progress: Callable[[float], None] | None = None,
) -> Run:
    """Replay a trace against a plan.

    Args:
        trace: the requests.
        service: how a replica works.
        plan: what it runs on.
        data_plane: `"compiled"`, or `"plain"` for the readable and slow one; both give the same.
        window_s: width of the windows of the series [s].
        progress: called now and then with the share of the trace that is replayed, from 0 to 1.

    Raises:
        ReplayError: an unknown data plane, or windows of no width.
        StudyError: a rollout is due at a time that is not in the trace.
    """
    if window_s <= 0:
        raise ReplayError(f"window_s: found {window_s!r}; allowed: a number of seconds above 0")
    due = [
        (offset_s, rollout)
        for number, rollout in enumerate(plan.rollouts, start=1)
        for offset_s in rollout.at.offsets(
            trace, daily=rollout.daily, where=f"plan {plan.name!r}: rollouts[{number}].at"
        )
    ]
    edges_s = np.append(np.arange(0.0, trace.span_s - EPSILON_S, window_s), trace.span_s)
    spec = ServerSpec.of(service, plan.size, plan.balancer, plan.tier.overhead)
    plane = _data_plane(data_plane, spec, len(trace), edges_s)
    agenda = Agenda()
    fleet = Fleet(service, plan, plane, agenda)
    scaler = Scaler(plan.scaling, plan, fleet, plane, agenda) if isinstance(plan.scaling, Rule) else None
    updates = Updates(due, fleet, agenda, scaler, plan.tier.replicas.most)
    clock = _Clock(agenda, trace.span_s, progress)
    chunk = Chunk(trace.at_s, trace.cpu_s, trace.wait_s)
    while plane.advance(chunk, agenda.next_s()) is not Signal.ENDED:
        now_s, emptied = plane.now_s, plane.take_emptied()
        if not emptied and clock.span_is_over and plane.finished(chunk):
            break
        for number in emptied:
            fleet.end_drain(number, now_s)
        agenda.run(now_s)
    return Run(
        results=plane.results(),
        span_s=trace.span_s,
        replicas=fleet.replicas,
        decisions=[] if scaler is None else scaler.decisions,
        updates=updates.records(),
        edges_s=edges_s,
        integrals=plane.series(),
        window_s=window_s,
    )


def _data_plane(name: str, spec: ServerSpec, n: int, edges_s: np.ndarray) -> DataPlane:
    if name == "compiled":
        from libramen.engine.kernel_state import KernelState

        return KernelState(spec, n, edges_s)
    if name == "plain":
        from libramen.engine.plain import PlainState

        return PlainState(spec, n, edges_s)
    raise ReplayError(f"data_plane: found {name!r}; allowed: 'compiled' or 'plain'")


class _Clock:
    """Comes back a hundred times during the span: for progress, for Ctrl-C, and to know that it is over."""

    def __init__(self, agenda: Agenda, span_s: float, progress: Callable[[float], None] | None) -> None:
        self._agenda, self._span_s, self._progress = agenda, span_s, progress
        self._ticks = 0
        self.span_is_over = False
        self._tick(0.0)

    def _tick(self, now_s: float) -> None:  # noqa: ARG002  (every event is told its instant)
        if self._progress is not None:
            self._progress(self._ticks / 100)
        self.span_is_over = self._ticks == 100
        self._ticks += 1
        if not self.span_is_over:
            # The last one exactly: span * 100 / 100 can fall short of the span.
            at_s = self._span_s if self._ticks == 100 else self._span_s * self._ticks / 100
            self._agenda.add(at_s, Kind.SAMPLE, self._tick)
