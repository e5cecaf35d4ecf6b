"""The releases of a plan: when each is due, one at a time, and whether it is undone."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Final

import numpy as np

from libramen.base.ranks import PERCENTILES, rank_of
from libramen.base.times import tolerance_s
from libramen.engine.border.records import Profile
from libramen.engine.control.agenda import Kind
from libramen.engine.control.replaying import Part, Replay
from libramen.engine.control.versions import Version
from libramen.engine.record import UpdateRecord
from libramen.engine.replica import Replica
from libramen.rules.rollouts.update import Rollout, Update
from libramen.study.hosting import Due

_JUDGEMENT, _STEP, _DUE = range(3)
"""Numbers of events: at one instant a judgement comes before all other steps."""
_EPSILON: Final = 1e-9


class _Release:
    """One release that is due: what the plan says, and what came of it."""

    def __init__(self, due_s: float, entry: int, rollout: Rollout) -> None:
        self.due_s, self.entry, self.rollout = due_s, entry, rollout
        self.began_s: float | None = None
        self.ended_s: float | None = None
        self.undone_s: float | None = None
        self.judged: tuple[int, int] | None = None
        self.before_s: float | None = None  # the p95 of what was ok just before it began
        self.slower: tuple[float, float] | None = None
        self.by_account = False
        self.version = self.before = 0
        self.first_ready_s = due_s  # when the first replica of the new version was ready
        self.n = 0
        self.result = "not_begun"
        self.goes_on = True  # when it is over the next region has its turn


class _Updated:
    """A fleet as an update sees it; see `rules.rollouts.update.Fleet`."""

    def __init__(self, updates: Updates, replay: Replay) -> None:
        fleet = replay.fleet
        self._updates, self._fleet, self._plane = updates, fleet, replay.plane
        self.alive, self.of_version, self.order = fleet.alive, fleet.of_version, fleet.order
        self.cancel, self.drain = fleet.cancel, fleet.drain

    @property
    def n_ready(self) -> int:
        return self._fleet.n_ready

    @property
    def n_standby(self) -> int:
        return 0 if self._fleet.standbys is None else self._fleet.standbys.standing_by

    def split(self, share: float, now_s: float) -> None:
        self._plane.split(share, self._updates.new_side, now_s)

    def wake(self, at_s: float) -> None:
        self._updates.wake(at_s)


class Updates(Part):
    """Begins each update when it is due and built, or when the one before it is over, and keeps it going.

    Args:
        replay: of the service.
        due: releases and when they are due.
        left_out: see `simulation.run`.

    Attributes:
        following: by release that goes from region to region, the updates of the next one.
    """

    HISTORY = frozenset({"_all"})

    def __init__(self, replay: Replay, due: Sequence[Due], left_out: Collection[tuple[str, int | str]] = ()) -> None:
        self._replay, self._fleet, self._agenda, self._plane = replay, replay.fleet, replay.agenda, replay.plane
        self.following = dict[Rollout, Updates]()
        # Those that come from another region are begun from there; of others nothing need be remembered.
        self._left_out = {of.place for of in due if of.entry.regions and ("rollouts", of.place) in left_out}
        region = replay.hosting.region
        mine = [of for of in due if not of.entry.regions or of.entry.regions[0] == region]
        self._all = [_Release(*of) for of in mine if ("rollouts", of.place) not in left_out]
        self._passed: list[_Release] = []  # its region was closed when their turn was
        self._waiting: list[_Release] = []
        self._current: _Release | None = None
        self._update: Update | None = None
        self._goes_back = False
        self._step_planned = False
        self._judged: _Release | None = None  # the one that is looked at, also for some time after its end
        self._awaited: _Release | None = None  # the one of whose version no replica was ready yet
        self._updated = _Updated(self, replay)
        self._undone: set[int] = set()  # entries of the table that do not come again
        self._side = 0  # of the version that is in use
        self.new_side = 0
        """The side of the version to which an update leads that splits traffic."""
        self._fleet.listeners.append(self._fleet_changed)
        for number, update in enumerate(self._all):
            at_s = update.due_s + update.rollout.build
            self._agenda.add(at_s, Kind.ROLLOUT, self._begin_or_wait, _DUE + number, update)

    def follow(self, now_s: float, before: _Release) -> None:
        """A release is over in the region before this one: here it begins after its pause."""
        entry = self._replay.hosting.rollouts.index(before.rollout)
        if entry in self._left_out:
            self._go_on(now_s, before)
            return
        update = _Release(before.due_s, entry, before.rollout)
        self._all.append(update)
        at_s = now_s + before.rollout.pause
        self._agenda.add(at_s, Kind.ROLLOUT, self._begin_or_wait, _DUE + len(self._all), update)

    def _go_on(self, now_s: float, release: _Release) -> None:
        """A release is over here, or not for now: the next region has its turn."""
        if release.goes_on and release.rollout in self.following:
            self.following[release.rollout].follow(now_s, release)
        release.goes_on = False

    def region_opens(self, now_s: float) -> None:
        """Its region was closed when it was to be renewed: now it is."""
        passed, self._passed = self._passed, []
        for update in passed:
            self._begin_or_wait(now_s, update)

    def _begin_or_wait(self, now_s: float, update: _Release) -> None:
        if update.entry in self._undone:
            return
        if update.rollout.regions and self._replay.region is not None and self._replay.region.is_closed:
            self._passed.append(update)
            self._go_on(now_s, update)
            return
        self._waiting.append(update)
        if self._current is None:
            self._begin_next(now_s)

    def _begin_next(self, now_s: float) -> None:
        due = self._waiting.pop(0)
        if due.entry in self._undone:
            self._next_or_none(now_s)
            return
        fleet, rollout, n = self._fleet, due.rollout, self._leaves()
        due.began_s, due.n, due.before = now_s, n, fleet.version
        if rollout.rollback_slower is not None:
            before_s = np.concatenate(self._plane.timed(now_s - rollout.watch, now_s))
            due.before_s = _p95(before_s) if len(before_s) else None
        splits = rollout.splits and n > 0
        if splits and not self._has_room_for(n, due):
            due.result, due.ended_s = "skipped", now_s
            self._go_on(now_s, due)
            self._next_or_none(now_s)
            return
        self._current = due
        due.version = max(fleet.versions) + 1
        self.new_side = 1 - self._side if splits else self._side
        fleet.versions[due.version] = self._version_of(due)
        fleet.version = due.before if splits else due.version
        fleet.keeps_versions = splits
        fleet.free_machines.clear()
        fleet.release += 1
        self._stop_judging()
        if n == 0:  # the new version simply comes with the next order
            self._begin_judging(due, sides=False)
            self._end(now_s, "done")
            return
        fleet.updates_to = n
        for replica in (one for one in fleet.coming() if not one.is_leaving):
            fleet.cancel(replica, now_s, why="update")
        if splits:
            self._plane.renew(self.new_side)
            self._plane.split(0.0, self.new_side, now_s)
        self._begin_judging(due, sides=splits)
        due.result = "under_way"
        self._update = rollout.begin(self._updated, n, self._most(due), due.version, now_s)
        self._step(now_s)

    def _leaves(self) -> int:
        """How many serve when it is over: all that are there or to be ordered; of standbys as many as the plan says."""
        fleet = self._fleet
        return fleet.have + len(fleet.owed) if fleet.standbys is None else fleet.standbys.serving

    def _has_room_for(self, n: int, due: _Release) -> bool:
        """Whether a second fleet of n replicas may be beside the first."""
        due.by_account = n > self._fleet.room
        most = self._most(due)
        return (most is None or 2 * n <= most) and not due.by_account

    def _most(self, due: _Release) -> int | None:
        """The most replicas that may be there at once."""
        return self._replay.hosting.most_under(due.rollout)

    def _version_of(self, due: _Release) -> Version:
        new = due.rollout
        profile = Profile(due.version, self.new_side, new.cpu_factor, new.memory_factor, new.error_rate)
        start = self._replay.service.start if new.start is None else new.start
        return Version(profile, start, new.crashes_after)

    # -- steps -------------------------------------------------------------------------------------

    def _fleet_changed(self, now_s: float, replica: Replica) -> None:
        due = self._awaited
        if due is not None and replica.version == due.version and replica.is_ready:
            self._awaited, due.first_ready_s = None, now_s
            self._plan_judgement(due, now_s, 1)
        if self._update is not None:
            self._plan_step(now_s)

    def look_again(self, now_s: float) -> None:
        """What could not be ordered may be now; one less may be wanted."""
        if self._update is not None:
            self._plan_step(now_s)

    def _plan_step(self, now_s: float) -> None:
        if not self._step_planned:  # what happens at one instant is answered by one step
            self._step_planned = True
            # It comes at this instant, and counts as little as what it answers: a death may come again and again.
            self._agenda.add(now_s, Kind.ROLLOUT, self._take_planned_step, _STEP, counts=False)

    def _take_planned_step(self, now_s: float) -> None:
        self._step_planned = False
        self._step(now_s)

    def wake(self, at_s: float) -> None:
        """Take a step at this time."""
        self._agenda.add(at_s, Kind.ROLLOUT, self._step, _STEP)

    def _step(self, now_s: float) -> None:
        if self._update is not None and self._update.step(now_s):
            self._end(now_s, "undone" if self._goes_back else "done")

    # -- judgements --------------------------------------------------------------------------------

    def _begin_judging(self, due: _Release, *, sides: bool) -> None:
        """From now on it is written down how attempts at the new version end, where that matters."""
        if due.rollout.is_judged:
            self._plane.judge(due.version, sides=sides)
            self._judged = self._awaited = due

    def _stop_judging(self) -> None:
        if self._judged is not None:
            self._plane.judge(None, sides=False)
            self._judged = self._awaited = None

    def _plan_judgement(self, due: _Release, first_s: float, k: int) -> None:
        at_s = first_s + k * due.rollout.judge_every
        self._agenda.add(at_s, Kind.ROLLOUT, self._judge, _JUDGEMENT, due, first_s, k, counts=False)

    def _judge(self, now_s: float, due: _Release, first_s: float, k: int) -> None:
        """The k-th judgement of a release since its first replica became ready."""
        if self._judged is not due:
            return
        rollout = due.rollout
        if due.ended_s is not None:
            left_s = max(due.ended_s, due.first_ready_s) + rollout.keep_judging_used - now_s
            if left_s < -tolerance_s(now_s):
                self._stop_judging()
                return
        ended, failed = self._plane.judged(now_s - rollout.watch, now_s)
        above = rollout.rollback_above
        fails = above is not None and ended >= rollout.judge_least and failed > above * ended + _EPSILON
        slower = None if fails else self._slower(due, now_s)
        if fails or slower is not None:
            due.judged, due.slower = (ended, failed), slower
            self._stop_judging()
            self._undo(due, now_s)
        else:
            self._plan_judgement(due, first_s, k + 1)

    def _slower(self, due: _Release, now_s: float) -> tuple[float, float] | None:
        """The p95 of the new version and that with which it is compared, where the one is too much of the other."""
        rollout = due.rollout
        if rollout.rollback_slower is None:
            return None
        new_s, old_s = self._plane.timed(now_s - rollout.watch, now_s)
        before_s = _p95(old_s) if len(old_s) >= rollout.judge_least else due.before_s
        if len(new_s) < rollout.judge_least or before_s is None:
            return None
        took_s = _p95(new_s)
        return (took_s, before_s) if took_s > rollout.rollback_slower * before_s + _EPSILON else None

    def _undo(self, due: _Release, now_s: float) -> None:
        """The new version is found wanting: back to the old one."""
        fleet, splits, n = self._fleet, due.rollout.splits, due.n
        is_over = self._current is None
        if is_over:
            n = self._leaves()
            if splits and not self._has_room_for(n, due):
                due.result, due.undone_s = "not_undone", now_s
                return
            self._current, due.result = due, "under_way"
            fleet.updates_to = n
            fleet.keeps_versions = splits
        due.undone_s = now_s
        self._undone.add(due.entry)
        self._goes_back = True
        fleet.version = due.before
        if fleet.keeps_versions and not is_over:  # the new version is not replaced any more
            fleet.owed = [one for one in fleet.owed if one.version != due.version]
        for replica in fleet.of_version(due.version):
            if replica.is_coming:
                fleet.cancel(replica, now_s, why="update")
        if is_over and splits:
            self.new_side = 1 - self._side
            old = fleet.versions[due.before]
            fleet.versions[due.before] = old._replace(profile=old.profile._replace(side=self.new_side))
            self._plane.renew(self.new_side)
            self._plane.split(0.0, self.new_side, now_s)
        if is_over:
            self._update = due.rollout.begin_rollback(self._updated, n, self._most(due), due.before, now_s)
        else:
            assert self._update is not None
            if self._update.undo(now_s):
                self._end(now_s, "undone")
                return
            self._update = due.rollout.begin(self._updated, n, self._most(due), due.before, now_s)
        self._step(now_s)

    # -- the end -----------------------------------------------------------------------------------

    def _end(self, now_s: float, result: str) -> None:
        due = self._current
        assert due is not None
        was_over = due.ended_s is not None  # and it was undone after its end
        due.ended_s, due.result = now_s, result
        if result == "done":
            self._fleet.version = due.version
        if result == "done" or was_over:
            self._side = self.new_side
        if due.rollout.keep_judging_used <= 0:
            self._stop_judging()
        self._fleet.keeps_versions = self._goes_back = False
        self._current = self._update = None
        if result == "done":
            self._go_on(now_s, due)
        self._next_or_none(now_s)

    def _next_or_none(self, now_s: float) -> None:
        if self._waiting:
            self._begin_next(now_s)
        elif self._replay.is_updating:
            self._replay.update_is_over(now_s)

    def records(self) -> list[UpdateRecord]:
        """What came of each update."""
        return [
            UpdateRecord(
                due.due_s, due.began_s, due.ended_s, due.rollout.strategy, due.n, self._mixed_s(due), due.entry,
                due.result, due.undone_s, due.judged, due.by_account, due.slower,
            )
            for due in self._all
        ]  # fmt: skip

    def _mixed_s(self, due: _Release) -> float:
        """For how long replicas of the new version were ready while old ones were still in use."""
        new = [r.ready_s for r in self._fleet.replicas if r.version == due.version and r.ready_s is not None]
        old = [r.gone_s for r in self._fleet.replicas if r.version == due.before and r.ready_s is not None]
        if due.result == "undone":
            gone = [r.gone_s for r in self._fleet.replicas if r.version == due.version and r.ready_s is not None]
            return max(0.0, max(gone_s or 0.0 for gone_s in gone) - min(new)) if new else 0.0
        if not new or not old or any(gone_s is None for gone_s in old):
            return 0.0
        return max(0.0, max(gone_s for gone_s in old if gone_s is not None) - min(new))


def _p95(latency_s: np.ndarray) -> float:
    rank = rank_of(len(latency_s), PERCENTILES["p95"])
    return float(np.partition(latency_s, rank)[rank])
