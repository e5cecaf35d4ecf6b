"""A fleet whose size over time is a list: replicas come and go at the instants that it names."""

from __future__ import annotations

from libramen.base.times import Timeline
from libramen.engine.control.agenda import Kind
from libramen.engine.control.replaying import Part, Replay


class ListedFleet(Part):
    """Keeps to `plan.counts`. A listed replica is ready at its instant, whatever it takes to start one.

    Args:
        replay: whose fleet it is.
        trace: the times of the list are looked up in it.

    Raises:
        StudyError: a time needs a start that the trace has not.
    """

    def __init__(self, replay: Replay, trace: Timeline) -> None:
        self._fleet, self._agenda = replay.fleet, replay.agenda
        where = f"plan {replay.hosting.plan!r}: replicas"
        self._counts = sorted(
            ((moment.lies_at(trace, where), n) for moment, n in replay.hosting.counts), key=lambda entry: entry[0]
        )
        self._span_s = trace.span_s

    def begin(self) -> None:
        """The latest entry that is not after the start holds from then on; without one the first."""
        before = [n for at_s, n in self._counts if at_s <= 0]
        if before:
            self._keep(0.0, before[-1])
        for at_s, n in self._counts:
            if 0 < at_s < self._span_s:
                self._agenda.add(at_s, Kind.READY, self._keep, 0, n)

    def _keep(self, now_s: float, n: int) -> None:
        while self._fleet.have < n:
            self._fleet.appear(now_s, why="list")
        while self._fleet.have > n:
            for replica in self._fleet.leaving(1):
                self._fleet.drain(replica, now_s, why="list")
