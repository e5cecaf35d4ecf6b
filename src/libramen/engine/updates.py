"""The rolling updates of a plan: when each is due, one at a time."""

from __future__ import annotations

from typing import TYPE_CHECKING

from libramen.engine.agenda import Kind
from libramen.engine.replaying import Part
from libramen.engine.run import UpdateRecord

if TYPE_CHECKING:
    from collections.abc import Sequence

    from libramen.engine.agenda import Action
    from libramen.engine.fleet import Replica
    from libramen.engine.replaying import Replay
    from libramen.rules.rollouts.update import Rollout, Update


class _Due:
    """One update that is due: what the plan says, and what came of it."""

    def __init__(self, rollout: Rollout, due_s: float) -> None:
        self.rollout, self.due_s = rollout, due_s
        self.began_s: float | None = None
        self.ended_s: float | None = None
        self.version = 0
        self.n = 0


class Updates(Part):
    """Begins each update when it is due, or when the one before it is over, and keeps it going."""

    def __init__(self, replay: Replay, due: Sequence[tuple[float, Rollout]]) -> None:
        self._replay, self._fleet, self._agenda = replay, replay.fleet, replay.agenda
        self._most = replay.plan.tier.replicas.most
        self._all = [_Due(rollout, at_s) for at_s, rollout in due]
        self._waiting: list[_Due] = []
        self._current: _Due | None = None
        self._update: Update | None = None
        self._step_planned = False
        self._fleet.listeners.append(self._fleet_changed)
        for number, update in enumerate(self._all):
            self._agenda.add(update.due_s, Kind.ROLLOUT, self._due(update), number)

    def _due(self, update: _Due) -> Action:
        def begin_or_wait(now_s: float) -> None:
            self._waiting.append(update)
            if self._current is None:
                self._begin_next(now_s)

        return begin_or_wait

    def _begin_next(self, now_s: float) -> None:
        fleet = self._fleet
        self._current = due = self._waiting.pop(0)
        coming = fleet.coming()
        due.began_s, due.n = now_s, fleet.have
        fleet.version += 1
        due.version = fleet.version
        if due.n == 0:  # the new version simply comes with the next order
            self._end(now_s)
            return
        for replica in coming:
            fleet.cancel(replica, now_s, why="update")
        self._replay.is_updating = True
        self._update = due.rollout.begin(fleet, due.n, self._most, now_s)
        self._step(now_s)

    def _fleet_changed(self, now_s: float, replica: Replica) -> None:
        if self._update is None:
            return
        if replica.gone_s is not None and replica.why_gone == "update":
            self._update.left()
        if not self._step_planned:  # what happens at one instant is answered by one step
            self._step_planned = True
            self._agenda.add(now_s, Kind.ROLLOUT, self._step)

    def _step(self, now_s: float) -> None:
        self._step_planned = False
        if self._update is not None and self._update.step(now_s):
            self._end(now_s)

    def _end(self, now_s: float) -> None:
        assert self._current is not None
        self._current.ended_s = now_s
        self._current = self._update = None
        if self._waiting:
            self._begin_next(now_s)
        else:
            self._replay.update_is_over(now_s)

    def records(self) -> list[UpdateRecord]:
        """What came of each update."""
        return [
            UpdateRecord(due.due_s, due.began_s, due.ended_s, due.rollout.strategy, due.n, self._mixed_s(due))
            for due in self._all
        ]

    def _mixed_s(self, due: _Due) -> float:
        """For how long replicas of the new version were ready while old ones were still in use."""
        new = [r.ready_s for r in self._fleet.replicas if r.version == due.version and r.ready_s is not None]
        old = [r.gone_s for r in self._fleet.replicas if r.version == due.version - 1 and r.ready_s is not None]
        if not new or not old or any(gone_s is None for gone_s in old):
            return 0.0
        return max(0.0, max(gone_s for gone_s in old if gone_s is not None) - min(new))
