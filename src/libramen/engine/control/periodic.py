"""Runs a rule that is asked at every, 2 every, ...: takes its measures and asks it."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Iterator, Mapping
from typing import Final, TypeAlias, cast

import numpy as np

from libramen.base import units
from libramen.base.errors import ReplayError
from libramen.base.ranks import PERCENTILES, rank_of
from libramen.base.times import EPSILON_S
from libramen.engine.border.plane import Server
from libramen.engine.control.agenda import Kind
from libramen.engine.control.replaying import Replay
from libramen.engine.control.scaler import Scaler
from libramen.rules.scaling.rule import Observation, PeriodicRule, RuleSetting

# Integrals over the ready replicas, and counts, up to an instant. Plain tuples: two are made for every decision.
_Sample: TypeAlias = tuple[float, float, float, float, int, int, float]
_AT_S, _CPU, _IN_PROGRESS, _WAITING, _ATTEMPTS, _ANSWERS, _READY = range(7)
_NOTHING: Final[_Sample] = (0.0, 0.0, 0.0, 0.0, 0, 0, 0.0)
_PER_REPLICA: Final = {"cpu": _CPU, "in_progress": _IN_PROGRESS, "waiting": _WAITING, "rate": _ATTEMPTS}
MOST_DECISIONS: Final = 20_000_000
"""Of one replay: they take some 150 bytes and 20 microseconds each."""
_NAMES: Final = (*_PER_REPLICA, "ready", *PERCENTILES)


class _Measures(Mapping[str, float | None]):
    """What two samples say of the window between them; see `Observation`.

    `first`: the first one asked for, and what it was (NaN: None).
    """

    __slots__ = ("_cores", "_end", "_plane", "_reserved", "_start", "first")

    def __init__(self, start: _Sample, end: _Sample, cores: tuple[float, float], plane: Server) -> None:
        self._start, self._end, self._plane = start, end, plane
        self._cores, self._reserved = cores
        self.first = ("", math.nan)

    def __getitem__(self, name: str) -> float | None:
        at = _PER_REPLICA.get(name)
        value = self._other(name) if at is None else self._per_replica(at)
        if not self.first[0]:
            self.first = (name, math.nan if value is None else value)
        return value

    def _per_replica(self, at: int) -> float | None:
        start, end = self._start, self._end
        replica_seconds = end[_READY] - start[_READY]
        if replica_seconds <= EPSILON_S:
            return None
        measured = (end[at] - start[at]) / replica_seconds
        return (measured + self._reserved) / self._cores if at == _CPU else measured

    def _other(self, name: str) -> float | None:
        start, end = self._start, self._end
        if name == "ready":
            lasted_s = end[_AT_S] - start[_AT_S]
            return (end[_READY] - start[_READY]) / lasted_s if lasted_s > 0 else None
        if name not in PERCENTILES:
            raise KeyError(f"{name!r}; allowed: {', '.join(_NAMES)}")
        if end[_ANSWERS] == start[_ANSWERS]:
            return None
        latency_s = self._plane.answers(int(start[_ANSWERS]), int(end[_ANSWERS]))
        rank = rank_of(len(latency_s), PERCENTILES[name])
        return float(np.partition(latency_s, rank)[rank])

    def __iter__(self) -> Iterator[str]:
        return iter(_NAMES)

    def __len__(self) -> int:
        return len(_NAMES)


def _is_whole(decisions: float) -> bool:
    return abs(decisions - round(decisions)) < 1e-9


class _Train:
    """Samples, each taken a fixed time before the decision that looks at it.

    Where that time is a whole number of decisions long, decisions themselves take them for those that come later.

    Attributes:
        before_s: that time [s].
        n_early: so many decisions come too early for a sample.
        is_fed_by_decisions: whether decisions take the samples; else they are events of their own.
        samples: those not yet looked at.
    """

    HISTORY = frozenset({"samples"})

    def __init__(self, before_s: float, every_s: float) -> None:
        decisions = before_s / every_s
        self.before_s = before_s
        self.is_fed_by_decisions = _is_whole(decisions)
        self.n_early = round(decisions) if self.is_fed_by_decisions else math.floor(decisions)
        self.samples: deque[_Sample] = deque()

    def of(self, k: int) -> _Sample:
        """The one for the k-th decision, from 1."""
        return self.samples.popleft() if k > self.n_early else _NOTHING


class PeriodicScaler(Scaler):
    """Asks its rule for as long as the replay runs."""

    def __init__(self, replay: Replay) -> None:
        super().__init__(replay)
        hosting, agenda = replay.hosting, replay.agenda
        rule = cast("PeriodicRule", hosting.scaling)
        provision_s = max(one.tier.provision.percentile(0.95) for one in hosting.stocks)
        cold_start_s = provision_s + replay.service.start.percentile(0.95)
        setting = RuleSetting(cold_start_s, hosting.size.cores, replay.start)
        self._plan_name = hosting.plan
        self._plane, self._start = replay.plane, setting.start
        self._cores = hosting.size.cores, hosting.reserved_cores
        self._every_s = rule.every
        self._asked = rule.begin(setting)
        self._state: dict[str, object] = {}
        self._n = 0
        self.pause_up_s, self.pause_down_s = rule.pause_up, rule.pause_down
        self._views = [
            (_Train(view.lag_s + view.window_s, rule.every), _Train(view.lag_s, rule.every)) for view in rule.views
        ]
        self._fed_by_decisions = [train for view in self._views for train in view if train.is_fed_by_decisions]
        for view, (start, end) in zip(rule.views, self._views, strict=True):
            if start.is_fed_by_decisions and end.is_fed_by_decisions:
                continue
            if not (start.is_fed_by_decisions or end.is_fed_by_decisions) and _is_whole(view.window_s / rule.every):
                self._plan_sample([end, start], end.n_early + 1)  # where one window begins, an earlier one has ended
                continue
            for train in (end, start):
                if not train.is_fed_by_decisions:
                    self._plan_sample([train], train.n_early + 1)
        agenda.add(rule.every, Kind.DECISION, self._ask)

    def comparable(self, now_s: float) -> dict[str, object]:
        """What decides its future: see `sameness`. Of samples only their distance from now is looked at."""
        now = self._sample(now_s)
        trains = [
            [[a - b for a, b in zip(sample, now, strict=True)] for sample in train.samples]
            for view in self._views
            for train in view
        ]
        still = super().comparable(now_s)
        return {name: still[name] for name in still if name not in {"_views", "_fed_by_decisions"}} | {
            "samples": trains
        }

    @property
    def wants_nothing(self) -> bool:
        """Whether it last decided to order nothing, and was not merely made to wait."""
        if not len(self.decisions):
            return False
        last = self.decisions[-1]
        return not last.ordered and last.held_by != "pause_up" and last.have == 0

    def _sample(self, now_s: float) -> _Sample:
        return (now_s, *self._plane.sample(now_s), self._fleet.ready_integral(now_s))

    def _plan_sample(self, trains: list[_Train], k: int) -> None:
        """Sample for the first of these at the k-th decision, then plan the next one; what it sees is of them all."""
        self._agenda.add(k * self._every_s - trains[0].before_s, Kind.SAMPLE, self._take_sample, 0, trains, k)

    def _take_sample(self, now_s: float, trains: list[_Train], k: int) -> None:
        seen = self._sample(now_s)
        for train in trains:
            train.samples.append(seen)
        self._plan_sample(trains, k + 1)

    def _ask(self, now_s: float) -> None:
        limits = self._limits
        self._n += 1
        if self._fed_by_decisions:
            sample = self._sample(now_s)
            for train in self._fed_by_decisions:
                train.samples.append(sample)
        windows = [(start.of(self._n), end.of(self._n)) for start, end in self._views]
        if now_s >= limits.next_s:
            limits.advance(now_s)
        measures = [_Measures(start, end, self._cores, self._plane) for start, end in windows]
        views = tuple(self._observe(now_s, one) for one in measures)
        if len(views) > 1:
            views[0].views = views
        wanted, held_by, view = self._asked.wanted(views[0])
        (start, end), (name, measured) = windows[view], measures[view].first
        self._decide(now_s, wanted, held_by, window=(start[0], end[0]), measure=name, measured=measured)
        if self._n > MOST_DECISIONS:
            raise ReplayError(
                f"plan {self._plan_name!r}: its rule has decided {self._n:,} times, every "
                f"{units.show_duration(self._every_s)}; allowed: up to {MOST_DECISIONS:,}"
            )
        self._agenda.add((self._n + 1) * self._every_s, Kind.DECISION, self._ask)

    def _observe(self, now_s: float, measures: _Measures) -> Observation:
        fleet, limits = self._fleet, self._limits
        return Observation(
            now_s, fleet.n_ready, fleet.n_coming, measures, self._plane, limits.floor, limits.ceiling, self._state,
            self._start, fleet.n_leaving,
        )  # fmt: skip
