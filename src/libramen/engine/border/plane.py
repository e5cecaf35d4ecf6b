"""What the two data planes share: the words of the border between data plane and control plane.

A data plane lets requests arrive, be balanced, queue, be served and end. The control plane tells it
which replicas there are, and asks it to `advance` to the next instant at which it must act. There
are two: `kernel` (compiled) and `plain` (readable); they share this vocabulary and no code.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal, Protocol

import numpy as np

from libramen.engine.border.records import AS_WRITTEN, Chunk, Ended, Integrals, Notices, Profile, Sample, Signal


class Server(Protocol):
    """One service in a data plane, as the control plane sees it. Times are seconds from the start of the trace."""

    @property
    def held(self) -> int:
        """Visits in the shared or held queue."""

    @property
    def unsent(self) -> int:
        """Calls of this service that did not get a connection in time."""

    def add(
        self, number: int, now_s: float, *, warm: bool = False, profile: Profile = AS_WRITTEN, slower: float = 1.0
    ) -> None:
        """A replica becomes ready, perhaps again: the balancer may send to it.

        `warm`: it is not slower at first. `slower`: see `slow`.
        """

    def slow(self, number: int, factor: float) -> None:
        """CPU work that begins on a replica from now on is multiplied by this, until it is added again."""

    def depend(self, slower: float, errors: float) -> None:
        """What visits wait for: waits that begin from now on are multiplied; this share of attempts fails before."""

    def split(self, share: float, side: int, now_s: float) -> None:
        """From now on this share of all attempts goes to one side, and the others to the other.

        The k-th of them goes there when `floor(k * share + 1e-9)` is more than for the one before. A side without a
        ready replica leaves its attempts to the other one, and what waits for it as soon as that has one. Where
        `splits`.
        """

    def renew(self, side: int) -> None:
        """A new version comes to a side without a ready replica: its balancer begins anew."""

    def judge(self, version: int | None, *, sides: bool) -> None:
        """From now on it is written down how attempts sent to a version end; None stops recording. Where `judges`.

        Sent to: to its side, where traffic is split (`sides`), else to one of its replicas.
        """

    def judged(self, from_s: float, to_s: float) -> tuple[int, int]:
        """How many of those attempts ended after `from_s` up to `to_s`, which is now, and how many of these failed.

        An attempt ends when it is answered, refused, lost or cut, or at its time-out, of which those at `to_s` are not
        yet seen. Those that ended up to `from_s` are forgotten.
        """

    def timed(self, from_s: float, to_s: float) -> tuple[np.ndarray, np.ndarray]:
        """How long ok attempts took that ended after `from_s` up to `to_s`, which is now: float64 (k,), (m,) [s].

        First those that were sent to the version that is judged, then all others; each from its own arrival, overhead
        included. Where `timed_s`, and no further back than that.
        """

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new visits. Returns whether it is empty already."""

    def fail(self, number: int, now_s: float, *, found: bool) -> None:
        """The process of a ready or draining replica dies: its visits are lost.

        `found`: the balancer knows at once, and sends it nothing more; else until `withdraw`. A draining replica gets
        nothing anyway.
        """

    def withdraw(self, number: int, now_s: float) -> None:
        """The balancer learns that a replica is dead, and sends it nothing more."""

    def remove(self, number: int, now_s: float) -> None:
        """A replica is gone, if it was ever there; what is left in it is cut."""

    def take_notices(self) -> Notices | None:
        """What has happened since this was last asked that the control plane must know; None: nothing."""

    def take_killed(self) -> list[int]:
        """Numbers of the replicas that have died since this, or `take_notices`, was last asked."""

    def ask(self, coming_slots: int | None) -> None:
        """Come back when an attempt arrives and no slot is left for it; None: never.

        That is when the free slots of ready replicas and the `coming_slots` of those on their way are not more
        than the visits that wait. It is told just before the attempt, once for each: for a request with CONTROL, for a
        call, which is sent within an event, by calling what `DataPlane.on_asked` was given.
        """

    def shut(self, now_s: float, *, lost: Literal["", "at_once", "none"], closed: bool) -> None:
        """How its region is from now on.

        `lost`: what is sent there is lost at once, or hears nothing. `closed`: that it does not work is known. While
        either is so, nothing that waits is handed out.
        """

    def idle_since_s(self, number: int) -> float:
        """Since when a ready replica has had no visit [s]; infinity: it has one. Where use is metered."""

    def tell_idle(self, number: int) -> None:
        """Come back with CONTROL when this replica, which has a visit, becomes idle."""

    @property
    def waiting(self) -> int:
        """Visits that wait now, at ready replicas or in the shared or held queue."""

    def moved(self) -> np.ndarray:
        """Int64 (numbers,): how many visitors had to move from the replica of each number. Where they are pinned."""

    def sample(self, at_s: float) -> Sample:
        """What rules look at, up to `at_s`, which is not before the last event. Changes nothing."""

    def answers(self, first: int, last: int) -> np.ndarray:
        """Latencies of the ok answers `first` to `last - 1`, counted from 0: float64 [s]; then forget those before.

        Each is that of its own attempt.
        """

    def integrals(self, at_s: float) -> Integrals:
        """The integrals up to `at_s`, which is not before the last event. Changes nothing."""

    def core_s(self, number: int, at_s: float) -> float:
        """Core-seconds that a replica which is not gone has used up to `at_s`."""

    def billed(self, at_s: float) -> float:
        """For how long replicas were in use up to `at_s`, each period that is over rounded up, where metered.

        A replica is in use while a visit holds a slot of it. Counted in units of the granularity, so that what is
        rounded to it is a whole number; without one in seconds.
        """

    def lasted_s(self, at_s: float) -> float:
        """The same, not rounded [s]."""

    def series(self) -> np.ndarray:
        """Float64 (k, 4): the integrals cpu, in_progress, waiting, throttled at the k edges handed in last."""


class DataPlane(Protocol):
    """What the control plane asks of a data plane. Times are seconds from the start of the trace.

    It is made with the `SystemSpec` and the `Results` that are filled with what becomes of requests. It can be pickled
    while it does not `advance`, without the trace and without those who listen: a copy is handed in the latest chunk
    once more.
    """

    tally: Callable[[Ended], None] | None
    """Is given visits that have ended some at a time, where they are not kept or there are several services."""

    on_asked: Callable[[int, float], float]
    """Called with the number of a service and the instant, see `Server.ask`; returns when the next control event is."""

    @property
    def servers(self) -> Sequence[Server]:
        """The services, in the order of the study."""

    @property
    def now_s(self) -> float:
        """The instant at which `advance` came back with `Signal.CONTROL`."""

    @property
    def last_s(self) -> float:
        """The instant of the latest event."""

    def hand_in(self, chunk: Chunk, edges_s: np.ndarray) -> None:
        """Take the next stretch of arrivals, and all the edges of windows up to its end, those before too."""

    def advance(self, until_s: float) -> Signal:
        """Let everything happen that comes before a control event at `until_s`."""

    def has_notices(self) -> bool:
        """Whether some server has notices."""

    def lose(self, servers: Sequence[int], now_s: float) -> None:
        """All that these services have is lost as one event, in order of arrival: in work, waiting, and held.

        What is held stays where only calls come that nobody waits for (`Places.outlives`). Replicas stay as they are.
        """

    def find_silent(self, servers: Sequence[int], now_s: float) -> None:
        """It is known that these are lost: what has heard nothing, and has no time-out, is lost now."""

    def dismiss_held(self, servers: Sequence[int], now_s: float) -> None:
        """Nothing will ever take what these services hold: it ends by its time-out, or as refused, by arrival."""

    @property
    def turns(self) -> np.ndarray:
        """Float64 (n, 3), where departures are forced: of each request when its CPU work began and ended [s].

        And how much of it was done [core-seconds of a warm replica]. NaN: it had none.
        """

    def is_still(self) -> bool:
        """Whether nothing will happen any more unless the control plane does something."""

    def finished(self) -> bool:
        """Whether the trace ends with this chunk and all that arrived has ended."""

    def comparable_state(self, ranks: Sequence[Mapping[int, int]], now_s: float) -> list[Any]:
        """The state that decides its future, as nested lists of numbers in a fixed order.

        Two data planes with equal lists produce the same results from here on. `ranks`: of each service the rank of
        each replica that is not gone, by number.
        """

    def flush(self) -> None:
        """Hand over what has ended, where a function takes it."""
