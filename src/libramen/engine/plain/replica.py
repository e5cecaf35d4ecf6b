"""A replica of the readable data plane: its slots and its backlog, its CPU and its bank, its periods of use."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field
from typing import Literal

from libramen.base.times import EPSILON_S
from libramen.engine.border.records import Profile
from libramen.engine.border.specs import ServerSpec
from libramen.engine.plain.visit import Attempt, Errand


@dataclass(eq=False)
class Pool:
    """Connections from one process to one service."""

    limit: int
    in_use: int = 0
    waiting: list[Errand] = field(default_factory=list)  # calls, in the order in which they began to wait


@dataclass(eq=False)
class Replica:
    """A replica that has been ready and is not gone."""

    spec: ServerSpec
    number: int
    ready_s: float  # since then it warms up; -infinity: it is warm
    worked_to_s: float  # the CPU work of its requests and its bank are up to date to this instant
    bank: float  # core-seconds
    profile: Profile
    slower: float = 1.0  # by how much more CPU work begins now
    state: Literal["ready", "draining", "dead", "out"] = "ready"  # dead: the balancer does not know yet
    in_slots: list[Attempt] = field(default_factory=list)  # in the order in which they took their slots
    backlog: deque[Attempt] = field(default_factory=deque)
    core_s: float = 0.0  # cores in use integrated up to `worked_to_s` [core-seconds]
    begin_s: float | None = None  # of its latest period of use, None: there was none since it became ready
    end_s: float = math.inf  # of that, infinity: it goes on; without one, when it became ready
    tells: bool = False  # when it becomes idle
    pools: dict[int, Pool] = field(default_factory=dict)

    @property
    def busy(self) -> int:
        """Requests in slots and backlog."""
        return len(self.in_slots) + len(self.backlog)

    def has_free_slot(self) -> bool:
        """Whether one more would get a slot at once; a dead one looks empty."""
        return len(self.in_slots) < self.spec.slots

    def has_room(self) -> bool:
        """Whether it would take one more, into a slot or its backlog."""
        backlog = self.spec.backlog_used
        return self.has_free_slot() or backlog < 0 or len(self.backlog) < backlog

    def lacks_memory(self) -> bool:
        """Whether one more request in a slot is more than its memory has room for."""
        spec = self.spec
        used = self.profile.memory_factor * (spec.memory_base + spec.memory_per_request * (len(self.in_slots) + 1))
        return 0 <= spec.memory < used

    def running(self) -> list[Attempt]:
        """Those that use the CPU now: the first `threads` of those with CPU work, by when they took their slots."""
        work = [a for a in self.in_slots if a.wait_ends_s is None and not a.is_calling]
        return work[: self.spec.threads]

    def ends_s(self, attempt: Attempt) -> float:
        """When its CPU work, or its wait, is over if nothing else happens."""
        if attempt.wait_ends_s is not None:
            return attempt.wait_ends_s
        assert attempt.cpu_left_s is not None
        if self.spec.forced:
            assert attempt.turn_at_s is not None
            return attempt.turn_at_s + attempt.errand.cpu_s * max(0.0, attempt.errand.wait_s - attempt.turn_at_s)
        return self.worked_to_s + attempt.cpu_left_s / self.rate()

    def cores(self) -> float:
        """Cores that a replica has now: all of them, or with an empty bank what it earns."""
        return self.spec.cores if self.bank > 0 else min(self.spec.cores, self.spec.steady_cores)

    def used(self) -> float:
        """Cores in use."""
        return min(len(self.running()), self.cores())

    def rate(self) -> float:
        """CPU work that each running request gets done in a second."""
        return self.spec.speed * min(1.0, self.cores() / len(self.running()))

    def bank_empties_s(self) -> float:
        """When its bank is empty if nothing else happens; infinity: never."""
        spends = self.used() - self.spec.steady_cores
        return self.worked_to_s + self.bank / spends if self.bank > 0 and spends > 0 else math.inf

    def catch_up(self, now_s: float) -> None:
        """Bring the CPU work and the bank of a replica up to date, before who runs changes."""
        passed_s = now_s - self.worked_to_s
        if passed_s <= 0:
            return
        running, used = self.running(), self.used()
        self.core_s += passed_s * used
        done = passed_s * self.rate() if running else 0.0
        for attempt in running:
            assert attempt.cpu_left_s is not None
            attempt.cpu_left_s = max(0.0, attempt.cpu_left_s - done)
            attempt.done_s += done
        if self.spec.lends:
            self.bank += (self.spec.steady_cores - used) * passed_s
            self.bank = min(max(self.bank, 0.0), self.spec.bank)
        self.worked_to_s = now_s

    def start_turns(self, now_s: float) -> None:
        """Those whose CPU turn begins now need more work where the replica is not warm."""
        for attempt in self.running():
            if attempt.cpu_left_s is None:
                attempt.turn_at_s = now_s
                attempt.slower = self.profile.cpu_factor * self.slower
                if self.spec.warm_up_s > 0:
                    cold = max(0.0, 1 - (now_s - self.ready_s) / self.spec.warm_up_s)
                    attempt.slower *= 1 + (self.spec.warm_up_factor - 1) * cold
                attempt.cpu_left_s = attempt.errand.cpu_s * attempt.slower

    def lasted_s(self, at_s: float) -> float:
        """How long the latest period of use has lasted [s]."""
        return 0.0 if self.begin_s is None else min(self.end_s, at_s) - self.begin_s

    def use(self, at_s: float) -> float:
        """For how long the latest period of use is billed: units of the granularity, without one seconds."""
        lasted = self.lasted_s(at_s) / (self.spec.granularity_s or 1.0)
        is_over = math.isfinite(self.end_s)
        return math.ceil(lasted - EPSILON_S) if is_over and self.spec.granularity_s else lasted
