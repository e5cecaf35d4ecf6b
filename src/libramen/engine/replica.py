"""One replica of a fleet: what it has been through, and its luck."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Final, Literal, NamedTuple

import numpy as np

from libramen.base import streams
from libramen.base.results import Result

Stage = Literal["coming", "standby", "ready", "draining", "gone"]


class Detection(NamedTuple):
    """When the balancer learns of a death [s], and until when a new process that works keeps it from that."""

    at_s: float
    unless_s: float


@dataclass(eq=False)
class Replica:
    """One replica's life: every time stamp in seconds from the start of the trace, None: never.

    `ready_s` is when it first became ready. `stages` has all it went through, also when it died and came
    again: from when it was coming (ordered, or starting again), ready, draining, gone.
    """

    number: int
    zone: str
    version: int
    why: str  # "start", "scaling" or "update"
    ordered_s: float
    started_s: float  # when the machine is there and the process starts, if it is not cancelled before
    entry: int = 0  # of a mixed fleet the number (from 0) of the entry of which its machine is
    moved_from: int | None = None  # the entry that could not meet its order, where another one did
    decision: int | None = None  # number (from 0) of the decision that ordered it
    ready_s: float | None = None
    draining_s: float | None = None
    gone_s: float | None = None
    why_gone: str = ""  # "scaling" or "update"
    bought_s: float | None = None  # from when it is paid for, where the meter starts with the order
    lost_s: float | None = None  # when its machine was lost with its zone, perhaps before that was found
    notice_s: float | None = None  # when its machine is taken back, where that is known
    stands_for: Replica | None = None  # in whose place it was ordered; that one serves until this one is ready
    freed_by: int | None = None  # the release that has drained it, so that its machine is free when it is gone
    ended_by: int | None = None  # number of the decision that cancelled or drained it
    core_s: float = 0.0  # cores in use integrated up to the end of the span [core-seconds]
    down: list[tuple[float, float]] = field(default_factory=list)  # from each death until a process works, or for ever
    life: int = 0  # so many processes that the balancer believed in have died or been taken out
    is_serving: bool = False  # its process works
    works_s: float = math.inf  # since when it does, or did
    detection: Detection | None = None  # of the death of its process
    is_replaced: bool = False  # lost with its region, and another one is ordered in its place while it counts as ready
    is_held_up: bool = False  # the tier is out of stock: it is ordered again and again
    checked_s: float = 0.0  # when the health of its process was or will be checked first
    failed: int | None = None  # number (from 0) of the first check that failed, of the latest that did in a row
    stages: list[tuple[float, Stage]] = field(default_factory=list)

    @property
    def stage(self) -> Stage:
        """What it is in now."""
        return self.stages[-1][1]

    @property
    def is_dead(self) -> bool:
        """Whether its process is, and the balancer does not know yet."""
        return self.is_ready and not self.is_serving

    @property
    def can_die(self) -> bool:
        """Whether its process runs: it is ready or draining, and not dead."""
        return self.stage in {"ready", "standby", "draining"} and self.is_serving

    @property
    def is_lost(self) -> bool:
        """Whether its machine is."""
        return self.lost_s is not None

    @property
    def deaths(self) -> int:
        """How often its process has died."""
        return len(self.down)

    @property
    def is_reclaimed(self) -> bool:
        """Whether its machine is being taken back."""
        return self.notice_s is not None

    @property
    def is_leaving(self) -> bool:
        """Whether it will be gone whatever anybody does, and another one is ordered in its place or not wanted."""
        return self.is_reclaimed or self.is_replaced

    @property
    def is_ready(self) -> bool:
        """Whether the balancer believes that it takes requests."""
        return self.stage == "ready"

    @property
    def is_standby(self) -> bool:
        """Whether it is there, and serves nobody until it is promoted."""
        return self.stage == "standby"

    @property
    def is_draining(self) -> bool:
        """Whether it finishes what it has and takes nothing new."""
        return self.stage == "draining"

    @property
    def is_coming(self) -> bool:
        """Whether it is ordered and not yet ready, or starting again."""
        return self.stage == "coming"

    def times(self, *stages: Stage) -> list[tuple[float, float]]:
        """When it was in one of these stages: from, to [s]; infinity: for ever."""
        ends = [*(at_s for at_s, _ in self.stages[1:]), math.inf]
        return [(at_s, end_s) for (at_s, stage), end_s in zip(self.stages, ends, strict=True) if stage in stages]

    def lived(self) -> list[tuple[str, float, float]]:
        """What it went through, from when to when [s]; infinity: for ever.

        That is booting, starting, standby, ready, down, draining.
        """
        rows: list[tuple[str, float, float]] = []
        ends = [*(at_s for at_s, _ in self.stages[1:]), math.inf]
        for place, ((from_s, stage), to_s) in enumerate(zip(self.stages, ends, strict=True)):
            if stage == "coming":
                boots_to_s = min(self.started_s, to_s) if place == 0 else from_s  # again: on the same machine
                rows += [("booting", from_s, boots_to_s), ("starting", boots_to_s, to_s)]
            elif stage in {"ready", "standby"}:
                up_s = from_s
                for down_s, until_s in self.down:
                    if from_s <= down_s <= to_s:
                        rows += [(stage, up_s, down_s), ("down", down_s, min(until_s, to_s))]
                        up_s = min(until_s, to_s)
                rows.append((stage, up_s, to_s))
            elif stage == "draining":
                rows.append(("draining", from_s, to_s))
        return [row for row in rows if row[2] > row[1]]

    def comparable(self, _now_s: float) -> list[object]:
        """What decides its future: see `sameness`."""
        if self.stage == "gone":
            return []
        return [
            self.zone, self.entry, self.version, self.stage, self.is_serving, self.is_held_up, self.is_lost,
            self.is_replaced, self.notice_s, self.why_gone, self.checked_s, self.ready_s is None,
            self.bought_s is None, self.detection,
            None if self.failed is None else (self.failed, self.works_s), self.stands_for,
        ]  # fmt: skip


class Process(NamedTuple):
    """A process of a replica, which may have died since, or been taken out."""

    replica: Replica
    life: int

    @property
    def is_there(self) -> bool:
        """Whether that has not happened, and the replica has not lost its machine."""
        return self.replica.life == self.life and not self.replica.is_lost and self.replica.stage != "gone"

    def comparable(self, _now_s: float) -> list[object]:
        """What decides its future: see `sameness`."""
        return [self.replica, self.is_there]


@dataclass(frozen=True)
class Death(Result):
    """A replica that died, when, and why."""

    at_s: float
    replica: int
    why: str  # "out_of_memory", "crash" or "zone_loss"


class Luck:
    """What is drawn for the replicas of one service.

    How long they take where that varies: values of the standard normal distribution. The n-th replica has the n-th
    value of each stream of its service, whatever the plan. For what may happen more than once each has streams of its
    own.
    """

    _BLOCK: Final = 64

    def __init__(self, seed: int, service: int) -> None:
        self._seed, self._service = seed, service
        self._streams: dict[str, np.random.Generator] = {}
        self._values: dict[str, list[float]] = {}
        self._own: dict[tuple[str, int], np.random.Generator] = {}

    def of(self, purpose: str, number: int) -> float:
        """The value of a replica."""
        if purpose not in self._streams:
            self._streams[purpose], self._values[purpose] = streams.stream(self._seed, purpose, 0, self._service), []
        values = self._values[purpose]
        while len(values) < number:
            values += self._streams[purpose].standard_normal(self._BLOCK).tolist()
        return values[number - 1]

    def own(self, purpose: str, number: int) -> np.random.Generator:
        """A stream of a replica's own, for what may happen to it more than once."""
        if (purpose, number) not in self._own:
            self._own[purpose, number] = streams.stream(self._seed, purpose, number, self._service)
        return self._own[purpose, number]
