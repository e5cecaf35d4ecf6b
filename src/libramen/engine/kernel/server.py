"""One service of the compiled data plane, of one side or two: what the control plane asks of it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from libramen.engine.border.records import AS_WRITTEN, Integrals, Notices, Profile, Sample
from libramen.engine.kernel import layout
from libramen.engine.kernel.settings import fits

if TYPE_CHECKING:
    from collections.abc import Sequence

    from libramen.engine.kernel.side import KernelSide
    from libramen.engine.kernel.state import KernelState


class KernelServer:
    """One service; see `engine.border.plane.Server` for what each method promises.

    Args:
        world: what all services share.
        sides: one; two where its traffic may be split between two versions. What both have in common is at the first.
    """

    def __init__(self, world: KernelState, sides: Sequence[KernelSide]) -> None:
        self._world, self._sides, self._first = world, tuple(sides), sides[0]
        self._spec = self._first.spec
        self._of: dict[int, KernelSide] = {}  # number -> side, of the replicas that are not gone
        self._profiles: dict[int, Profile] = {}  # of the same
        self._asks: int | None = None

    def add(
        self, number: int, now_s: float, *, warm: bool = False, profile: Profile = AS_WRITTEN, slower: float = 1.0
    ) -> None:
        """A replica becomes ready, perhaps again: the balancer may send to it."""
        side = self._sides[profile.side]
        if number not in self._of:
            self._of[number] = side
            for each in self._sides:  # visitors who are pinned there may be met here
                each.know(number)
            side.give_row(number)
        self._profiles[number] = profile
        replica = side.replica(number)
        replica["version"], replica["error_rate"] = profile.version, profile.error_rate
        replica["fits"] = fits(self._spec, profile.memory_factor)
        self.slow(number, slower)
        self._order(layout.ADD, number, now_s, warm=warm)

    def _order(self, order: np.integer, number: int, now_s: float, *, warm: bool = False) -> None:
        side = self._of[number]
        self._world.order(order, now_s, side.at, side.rows[number], number, warm=warm)

    def slow(self, number: int, factor: float) -> None:
        """CPU work that begins on a replica from now on is multiplied."""
        self._of[number].replica(number)["work"] = self._profiles[number].cpu_factor * factor

    def depend(self, slower: float, errors: float) -> None:
        """What visits wait for."""
        for side in self._sides if not self._spec.forced else ():
            side.set("slower", slower)
            side.set("errors", errors)

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new visits. Returns whether it is empty already."""
        self._order(layout.DRAIN, number, now_s)
        return bool(self._of[number].replica(number)["busy"] == 0)

    def fail(self, number: int, now_s: float, *, found: bool) -> None:
        """The process of a ready or draining replica dies; `found`: the balancer knows at once."""
        self._order(layout.FAIL_FOUND if found else layout.FAIL, number, now_s)

    def withdraw(self, number: int, now_s: float) -> None:
        """The balancer learns that a replica is dead."""
        if self._of[number].replica(number)["state"] == layout.DEAD:
            self._order(layout.WITHDRAW, number, now_s)

    def remove(self, number: int, now_s: float) -> None:
        """A replica is gone; what is left in it is cut."""
        if number in self._of:
            self._order(layout.REMOVE, number, now_s)
            self._of.pop(number).take_row(number)
            del self._profiles[number]

    def dismiss(self) -> None:
        """Nothing will ever take what is held."""
        for side in self._sides:
            side.set("dismissed", 1)

    # -- versions ----------------------------------------------------------------------------------

    def split(self, share: float, side: int, now_s: float) -> None:  # noqa: ARG002  (nothing moves by it)
        """From now on this share of all attempts goes to one side."""
        if len(self._sides) > 1:
            self._first.set_split(share, self._sides[side].at)

    def renew(self, side: int) -> None:
        """A new version comes to a side, whose balancer begins anew; where there is one side it goes on."""
        if len(self._sides) > 1:
            self._sides[side].set("last_chosen", 0)

    def judge(self, version: int | None, *, sides: bool) -> None:
        """Write down how attempts end that replicas of a version get, or all that are sent to its side."""
        self._first.forget_sent()
        self._first.begin_judgement()
        for side in self._sides:
            is_new = version is not None and sides and side.at == self._first.split_at
            side.set("judged", 0 if sides else version or 0)
            side.set("notes", is_new)

    def judged(self, from_s: float, to_s: float) -> tuple[int, int]:
        """How many attempts ended, and failed."""
        return self._first.judged(from_s, to_s)

    def timed(self, from_s: float, to_s: float) -> tuple[np.ndarray, np.ndarray]:
        """How long ok attempts took that ended then: of the version that is judged, and of all others [s]."""
        return self._first.timed(from_s, to_s)

    # -- notices -----------------------------------------------------------------------------------

    def is_asked(self) -> bool:
        """Whether the control plane is being asked for a slot; not again for the same one."""
        return bool(self._first.take("asks_now"))

    def comparable(self, _now_s: float) -> list[object]:
        """Nothing: the state of the data plane is compared as a whole."""
        return []

    def take_notices(self) -> Notices | None:
        """What has happened since this was last asked that the control plane must know; None: nothing."""
        told = [[number for side in self._sides for number in side.noticed(what)] for what in ("emptied", "idled")]
        notices = Notices(told[0], self.take_killed(), told[1], self.is_asked())
        return notices if any(notices) else None

    def take_killed(self) -> list[int]:
        """Numbers of the replicas that have died since this, or `take_notices`, was last asked."""
        return [number for side in self._sides for number in side.noticed("killed")]

    @property
    def held(self) -> int:
        """Visits in the shared or held queue."""
        return sum(side.get("n_held") for side in self._sides)

    @property
    def unsent(self) -> int:
        """Calls of this service that did not get a connection in time."""
        return self._first.get("unsent")

    def moved(self) -> np.ndarray:
        """How many visitors had to move from the replica of each number."""
        moved: np.ndarray = np.array([side.moved for side in self._sides]).sum(axis=0)
        return moved

    def ask(self, coming_slots: int | None) -> None:
        """Come back when an attempt arrives and no slot is left for it, this many on their way counted; None: never."""
        if coming_slots != self._asks:
            self._asks = coming_slots
            self._first.set("asks", coming_slots is not None)
            self._first.set("coming_slots", coming_slots or 0)

    @property
    def is_open(self) -> bool:
        """Whether its region takes attempts, as far as is known."""
        if self._first.get("closed"):
            return False
        there = any(side.get("n_ready") for side in self._sides)
        return there or self._spec.holds or bool(self._first.get("asks"))

    def shut(self, now_s: float, *, lost: str, closed: bool) -> None:
        """Its region is lost, or closed, from now on, or neither."""
        for side in self._sides:
            side.set("lost", {"": 0, "at_once": int(layout.AT_ONCE), "none": int(layout.SILENT)}[lost])
            side.set("closed", closed)
        for side in self._sides if not (lost or closed) else ():
            if side.get("n_held"):
                self._world.order(layout.HAND_OUT, now_s, side.at, warm=False)

    def strike(self) -> None:
        """The next order is about it."""
        for side in self._sides:
            side.set("struck", 1)

    def idle_since_s(self, number: int) -> float:
        """Since when a ready replica has had no visit [s]; infinity: it has one."""
        return float(self._of[number].use(number)["end_s"])

    def tell_idle(self, number: int) -> None:
        """Come back when this replica, which has a visit, becomes idle."""
        self._of[number].use(number)["tell"] = 1

    # -- measures ----------------------------------------------------------------------------------

    @property
    def waiting(self) -> int:
        """Visits that wait now, at ready replicas or in the shared or held queue."""
        return sum(side.waiting for side in self._sides)

    def sample(self, at_s: float) -> Sample:
        """What rules look at, up to `at_s`, which is not before the last event. Changes nothing."""
        sums = [side.ready_sums(at_s) for side in self._sides]
        cpu, in_progress, waiting = (sum(one) for one in list(zip(*sums, strict=True))[:3])
        # The answers of both sides are at the first one.
        return Sample(
            cpu, in_progress, waiting, sum(side.n_attempts(at_s) for side in self._sides), self._first.n_answers
        )

    def answers(self, first: int, last: int) -> np.ndarray:
        """Latencies of the ok answers from `first` up to `last`, counted from 0 [s]; those before may be forgotten."""
        return self._first.answers(first, last)

    def integrals(self, at_s: float) -> Integrals:
        """The integrals up to `at_s`, which is not before the last event. Changes nothing."""
        return Integrals(*map(sum, zip(*(side.integrals(at_s) for side in self._sides), strict=True)))

    def core_s(self, number: int, at_s: float) -> float:
        """Core-seconds that a replica which is not gone has used up to `at_s`; 0: it was never ready."""
        return self._of[number].core_s(number, at_s) if number in self._of else 0.0

    def billed(self, at_s: float) -> float:
        """For how long replicas were in use up to `at_s`, each period that is over rounded up."""
        return sum(side.billed(at_s) for side in self._sides)

    def lasted_s(self, at_s: float) -> float:
        """The same, not rounded [s]."""
        return sum(side.lasted_s(at_s) for side in self._sides)

    def series(self) -> np.ndarray:
        """The integrals at the edges; those that are still to come are as nothing more happens before them."""
        series: np.ndarray = sum(side.series() for side in self._sides)  # type: ignore[assignment]
        return series
