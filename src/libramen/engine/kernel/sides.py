"""A service of the compiled data plane whose traffic may be split between two sides, each of one version."""

from __future__ import annotations

from typing import TYPE_CHECKING

from libramen.engine.border.records import AS_WRITTEN, Integrals, Notices, Profile, Sample

if TYPE_CHECKING:
    import numpy as np

    from libramen.engine.kernel.side import KernelSide


class TwoSides:
    """Two sides of one service; see `engine.plane.Server` for what each method promises.

    Args:
        first: where all that both have in common is.
        second: the other one.
    """

    def __init__(self, first: KernelSide, second: KernelSide) -> None:
        self._first, self._second, self._sides = first, second, (first, second)
        self._of: dict[int, KernelSide] = {}  # number -> side, of the replicas that were ever ready

    def add(
        self, number: int, now_s: float, *, warm: bool = False, profile: Profile = AS_WRITTEN, slower: float = 1.0
    ) -> None:
        """A replica becomes ready, perhaps again."""
        self._of[number] = side = self._sides[profile.side]
        for each in self._sides:  # visitors who are pinned there may be met here
            each.know(number)
        side.add(number, now_s, warm=warm, profile=profile, slower=slower)

    def slow(self, number: int, factor: float) -> None:
        """CPU work that begins on a replica from now on is multiplied."""
        self._of[number].slow(number, factor)

    def depend(self, slower: float, errors: float) -> None:
        """What visits wait for."""
        for side in self._sides:
            side.depend(slower, errors)

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new visits. Returns whether it is empty already."""
        return self._of[number].drain(number, now_s)

    def fail(self, number: int, now_s: float, *, found: bool) -> None:
        """The process of a replica dies."""
        self._of[number].fail(number, now_s, found=found)

    def withdraw(self, number: int, now_s: float) -> None:
        """The balancer learns that a replica is dead."""
        self._of[number].withdraw(number, now_s)

    def remove(self, number: int, now_s: float) -> None:
        """A replica is gone."""
        if number in self._of:
            self._of[number].remove(number, now_s)

    # -- versions ----------------------------------------------------------------------------------

    def split(self, share: float, side: int, now_s: float) -> None:  # noqa: ARG002  (nothing moves by it)
        """From now on this share of all attempts goes to one side."""
        self._first.set_split(share, self._sides[side].at)

    def renew(self, side: int) -> None:
        """A new version comes to a side."""
        self._sides[side].forget_turn()

    def judge(self, version: int | None, *, sides: bool) -> None:
        """Write down how attempts sent to a version end."""
        self._first.forget_sent()
        for side in self._sides:
            is_new = version is not None and sides and side.at == self._first.split_at
            side.note(0 if sides else version or 0, all_of_it=is_new)

    def judged(self, from_s: float, to_s: float) -> tuple[int, int]:
        """How many of them ended, and failed."""
        return self._first.judged(from_s, to_s)

    # -- notices -----------------------------------------------------------------------------------

    def dismiss(self) -> None:
        """Nothing will ever take what is held."""
        for side in self._sides:
            side.dismiss()

    def is_asked(self) -> bool:
        """Whether the control plane is being asked for a slot."""
        return self._first.is_asked()

    def take_notices(self) -> Notices | None:
        """What has happened that the control plane must know."""
        told = [notices for side in self._sides if (notices := side.take_notices()) is not None]
        if not told:
            return None
        return Notices(
            [number for notices in told for number in notices.emptied],
            [number for notices in told for number in notices.killed],
            [number for notices in told for number in notices.idled],
            any(notices.asked for notices in told),
        )

    def take_killed(self) -> list[int]:
        """Numbers of the replicas that have died."""
        return [number for side in self._sides for number in side.take_killed()]

    @property
    def held(self) -> int:
        """Visits in the shared or held queues."""
        return sum(side.held for side in self._sides)

    @property
    def unsent(self) -> int:
        """Calls of this service that did not get a connection in time."""
        return self._first.unsent

    def moved(self) -> np.ndarray:
        """How many visitors had to move from the replica of each number."""
        moved: np.ndarray = self._first.moved() + self._second.moved()
        return moved

    def ask(self, coming_slots: int | None) -> None:
        """Come back when an attempt arrives and no slot is left for it."""
        self._first.ask(coming_slots)

    def idle_since_s(self, number: int) -> float:
        """Since when a ready replica has had no visit [s]."""
        return self._of[number].idle_since_s(number)

    def tell_idle(self, number: int) -> None:
        """Come back when this replica becomes idle."""
        self._of[number].tell_idle(number)

    # -- measures ----------------------------------------------------------------------------------

    @property
    def waiting(self) -> int:
        """Visits that wait now."""
        return sum(side.waiting for side in self._sides)

    def sample(self, at_s: float) -> Sample:
        """What rules look at."""
        first, second = self._first.sample(at_s), self._second.sample(at_s)
        cpu, in_progress, waiting = first.cpu + second.cpu, first.in_progress + second.in_progress, first.waiting
        # The answers of both are at the first one.
        return Sample(cpu, in_progress, waiting + second.waiting, first.attempts + second.attempts, first.answers)

    def answers(self, first: int, last: int) -> np.ndarray:
        """Latencies of some ok answers [s]."""
        return self._first.answers(first, last)

    def integrals(self, at_s: float) -> Integrals:
        """The integrals up to `at_s`."""
        first, second = (side.integrals(at_s) for side in self._sides)
        return Integrals(*(mine + theirs for mine, theirs in zip(first, second, strict=True)))

    def core_s(self, number: int, at_s: float) -> float:
        """Core-seconds that a replica has used."""
        return self._of[number].core_s(number, at_s) if number in self._of else 0.0

    def billed(self, at_s: float) -> float:
        """For how long replicas were in use."""
        return sum(side.billed(at_s) for side in self._sides)

    def series(self) -> np.ndarray:
        """The integrals at the edges."""
        series: np.ndarray = self._first.series() + self._second.series()
        return series
