"""One service of the compiled data plane, or one side of it: what the control plane asks of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from libramen.base.times import EPSILON_S, tolerance_s
from libramen.engine.border.records import AS_WRITTEN, Integrals, Notices, Profile, Sample
from libramen.engine.kernel import layout
from libramen.engine.kernel.arrays import BUFFER, FleetArrays
from libramen.engine.kernel.settings import fits

if TYPE_CHECKING:
    from libramen.engine.kernel.state import KernelState


class KernelSide(FleetArrays):
    """One service, or one side of it; see `engine.plane.Server` for what each method promises."""

    def __init__(
        self, world: KernelState, fleets: np.ndarray, index: int, rows: int, *, first: KernelSide | None, at: int,
        other: int,
    ) -> None:  # fmt: skip
        super().__init__(world, fleets, index, rows, first=first, at=at, other=other)
        self._world, self._index = world, at
        self._profiles: dict[int, Profile] = {}  # number -> profile, of the replicas that are not gone
        self._rows: dict[int, int] = {}  # number -> row, of the replicas that are not gone
        self._now_s, self._n_attempts, self._n_answers = (
            self._record[name] for name in ("now_s", "attempts", "n_answers")
        )
        spec = self.spec
        self._throttles, self._lends = spec.steady_cores < spec.cores, spec.lends_cpu
        self._fraction, self._fraction_steady = spec.cores % 1, min(spec.cores, spec.steady_cores) % 1
        self._asks: int | None = None
        self._forgotten = self._needed = 0  # answers no longer in `answers`, and answers not needed any more
        self._edges_s = np.zeros(0)

    def set_edges(self, edges_s: np.ndarray) -> None:
        """These are all the edges of windows now."""
        fleet = self._record[0]
        edge = int(fleet["edge"])
        series = np.zeros((len(edges_s), 4))
        series[:edge] = self._series[:edge]
        self._edges_s = edges_s
        self._point(series=series)
        fleet["edge_s"] = edges_s[edge] if edge < len(edges_s) else np.inf

    def make_room(self) -> None:
        """Some replica has as many visits in slots as there are places, or the answers are full."""
        fleet = self._record[0]
        if fleet["fullest"] >= fleet["places_left_at"]:
            self._grow_places(2 * self._places)
        if fleet["n_answers"] == fleet["answers_size"]:
            self._make_room_for_answers()
        if fleet["n_sent"] == fleet["sent_size"]:
            more = np.zeros(2 * len(self._sent), layout.SENT)
            more[: len(self._sent)] = self._sent
            self._point(sent=more)
            fleet["sent_size"] = len(more)

    # -- what the control plane does ---------------------------------------------------------------

    def add(
        self, number: int, now_s: float, *, warm: bool = False, profile: Profile = AS_WRITTEN, slower: float = 1.0
    ) -> None:
        """A replica becomes ready, perhaps again: the balancer may send to it."""
        if number not in self._rows:
            if not self._free_rows:
                self._grow_replicas(2 * len(self._replicas))
            self._rows[number] = row = self._free_rows.pop()
            self.know(number)
            self._row_of[number] = row
        self._profiles[number] = profile
        replica = self._replicas[self._rows[number]]
        replica["version"], replica["error_rate"] = profile.version, profile.error_rate
        replica["fits"] = fits(self.spec, profile.memory_factor)
        self.slow(number, slower)
        self._world.order(layout.ADD, now_s, self._index, self._rows[number], number, warm=warm)

    def know(self, number: int) -> None:
        """There is a replica of this number, here or on the other side."""
        if number >= len(self._row_of):
            more = np.zeros(number + 64 - len(self._row_of), np.int64)
            self._point(row_of=np.concatenate([self._row_of, more]), moved=np.concatenate([self._moved, more]))

    def slow(self, number: int, factor: float) -> None:
        """CPU work that begins on a replica from now on is multiplied."""
        self._replicas[self._rows[number]]["work"] = self._profiles[number].cpu_factor * factor

    def depend(self, slower: float, errors: float) -> None:
        """What visits wait for."""
        if not self.spec.forced:
            self._record["slower"], self._record["errors"] = slower, errors

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new visits. Returns whether it is empty already."""
        row = self._rows[number]
        self._world.order(layout.DRAIN, now_s, self._index, row, warm=False)
        return bool(self._replicas[row]["busy"] == 0)

    def fail(self, number: int, now_s: float, *, found: bool) -> None:
        """The process of a ready or draining replica dies; `found`: the balancer knows at once."""
        order = layout.FAIL_FOUND if found else layout.FAIL
        self._world.order(order, now_s, self._index, self._rows[number], warm=False)

    def withdraw(self, number: int, now_s: float) -> None:
        """The balancer learns that a replica is dead."""
        if self._replicas[self._rows[number]]["state"] == layout.DEAD:
            self._world.order(layout.WITHDRAW, now_s, self._index, self._rows[number], warm=False)

    def remove(self, number: int, now_s: float) -> None:
        """A replica is gone; what is left in it is cut."""
        row = self._rows.pop(number, None)
        if row is not None:
            self._world.order(layout.REMOVE, now_s, self._index, row, warm=False)
            self._free_rows.append(row)
            del self._profiles[number]

    def dismiss(self) -> None:
        """Nothing will ever take what is held."""
        self._record["dismissed"] = 1

    def is_asked(self) -> bool:
        """Whether the control plane is being asked for a slot; not again for the same one."""
        asked = bool(self._record["asks_now"].item())
        self._record["asks_now"] = 0
        return asked

    def take_notices(self) -> Notices | None:
        """What has happened since this was last asked that the control plane must know; None: nothing."""
        notices = Notices(
            self._take("n_emptied", self._emptied),
            self.take_killed(),
            self._take("n_idled", self._idled),
            self.is_asked(),
        )
        return notices if any(notices) else None

    def take_killed(self) -> list[int]:
        """Numbers of the replicas that have died since this, or `take_notices`, was last asked."""
        return self._take("n_killed", self._killed)

    def _take(self, count: str, numbers: np.ndarray) -> list[int]:
        n = self._record[count].item()
        if not n:
            return []
        self._record[count] = 0
        taken: list[int] = numbers[:n].tolist()
        return taken

    @property
    def held(self) -> int:
        """Visits in the shared or held queue."""
        return int(self._record["n_held"].item())

    @property
    def unsent(self) -> int:
        """Calls of this service that did not get a connection in time."""
        return int(self._record["unsent"].item())

    def set_split(self, share: float, at: int) -> None:
        """From now on this share of all attempts goes to the side whose record is at `at`."""
        fleet = self._record[0]
        fleet["split_share"], fleet["split_side"], fleet["n_split"] = share, at, 0
        other = fleet["other"] if at == self.at else self.at
        fleet["whole_side"], fleet["whole_share"] = (at, 1.0) if share == 1 else (other, 0.0)

    def forget_turn(self) -> None:
        """The balancer begins anew."""
        self._record["last_chosen"] = 0

    def moved(self) -> np.ndarray:
        """How many visitors had to move from the replica of each number."""
        return self._moved.copy()

    # -- versions ----------------------------------------------------------------------------------

    def split(self, share: float, side: int, now_s: float) -> None:
        """There is one side only, which gets everything."""

    def renew(self, side: int) -> None:
        """There is one side only."""

    def judge(self, version: int | None, *, sides: bool) -> None:  # noqa: ARG002  (there is one side only)
        """Write down how attempts end that replicas of a version get."""
        self.note(version or 0)
        self.forget_sent()

    def note(self, version: int, *, all_of_it: bool = False) -> None:
        """Write down how attempts end that replicas of a version get (0: none), or all that are sent to this side."""
        self._record["judged"], self._record["notes"] = version, all_of_it

    def forget_sent(self) -> None:
        """What was written down so far counts no more."""
        fleet = self._record[0]
        fleet["n_forgotten"] += fleet["n_sent"]
        fleet["n_sent"] = 0

    @property
    def split_at(self) -> int:
        """Number of the record of the side that gets a share of the traffic."""
        return int(self._record["split_side"].item())

    def judged(self, from_s: float, to_s: float) -> tuple[int, int]:
        """How many attempts ended, and failed."""
        fleet, tolerance = self._record[0], tolerance_s(to_s)
        sent = self._sent[: fleet["n_sent"]]
        if not len(sent):
            return 0, 0
        is_late = sent["timeout_s"] < sent["ended_s"]
        end_s = np.minimum(sent["timeout_s"], sent["ended_s"])
        is_new = end_s > from_s + tolerance
        ended = is_new & (end_s < np.where(is_late, to_s - tolerance, to_s + tolerance))
        n, failed = np.count_nonzero(ended), np.count_nonzero(ended & (is_late | (sent["failed"] > 0)))
        old = int(is_new.argmax()) if is_new.any() else len(sent)
        if old:
            sent[: len(sent) - old] = sent[old:].copy()
            fleet["n_forgotten"] += old
            fleet["n_sent"] = len(sent) - old
        return int(n), int(failed)

    # -- measures ----------------------------------------------------------------------------------

    def integrals(self, at_s: float) -> Integrals:
        """The integrals up to `at_s`, which is not before the last event. Changes nothing."""
        passed_s = max(0.0, at_s - self._now_s.item())
        levels: Any = self._levels.tolist()
        ready, draining = levels
        cpu, slots, waiting, throttled = sums = self._sums(ready, passed_s)
        if draining[3] or draining[6]:  # one drains, or did
            more = self._sums(draining, passed_s)
            cpu, slots, waiting, throttled = (mine + theirs for mine, theirs in zip(sums, more, strict=True))
        return Integrals(sums[0], sums[1], sums[2], cpu, slots, waiting, throttled)

    def _sums(self, level: tuple[float, ...], passed_s: Any) -> tuple[Any, ...]:
        below, above, above_steady, in_slots, waiting, cpu_s, in_slots_s, waiting_s, throttled_s = level
        cores = below + self._fraction * above
        if self._lends:
            cores += self._fraction_steady * above_steady
            throttled_s += passed_s * above_steady * self._throttles
        return cpu_s + passed_s * cores, in_slots_s + passed_s * in_slots, waiting_s + passed_s * waiting, throttled_s

    def sample(self, at_s: float) -> Sample:
        """What rules look at, up to `at_s`, which is not before the last event. Changes nothing."""
        passed_s = max(0.0, at_s - self._now_s.item())
        cpu, in_progress, waiting, _ = self._sums(self._ready_level.item(), passed_s)
        return Sample(cpu, in_progress, waiting, self._n_attempts.item(), self._forgotten + self._n_answers.item())

    @property
    def waiting(self) -> int:
        """Visits that wait now, at ready replicas or in the shared or held queue."""
        return int(self._levels[0]["waiting"])

    def answers(self, first: int, last: int) -> np.ndarray:
        """Latencies of the ok answers from `first` up to `last`, counted from 0 [s]; those before may be forgotten."""
        latency_s: np.ndarray = self._answers[first - self._forgotten : last - self._forgotten]
        self._needed = first
        return latency_s

    def _make_room_for_answers(self) -> None:
        """Forget what was before the window looked at last; where much is left, more room."""
        n = self._record["n_answers"].item()
        kept = self._answers[self._needed - self._forgotten : n]
        answers = np.zeros(max(BUFFER, 2 * len(kept)))
        answers[: len(kept)] = kept
        self._forgotten = self._needed
        self._point(answers=answers)
        self._record["n_answers"], self._record["answers_size"] = len(kept), len(answers)

    def core_s(self, number: int, at_s: float) -> float:
        """Core-seconds that a replica which is not gone has used up to `at_s`."""
        row = self._rows.get(number)
        if row is None:  # it was never ready
            return 0.0
        replica, spec = self._replicas[row], self.spec
        cores = min(spec.cores, spec.steady_cores) if replica["empty"] else spec.cores
        passed_s = max(0.0, at_s - float(replica["v_at_s"]))
        return float(replica["core_s"]) + passed_s * min(float(replica["n_running"]), cores)

    def billed(self, at_s: float) -> float:
        """For how long replicas were in use up to `at_s`, each period that is over rounded up."""
        begin_s, end_s = self._uses["begin_s"], self._uses["end_s"]
        lasted = np.minimum(end_s, at_s) - begin_s
        if self.spec.granularity_s > 0:
            lasted /= self.spec.granularity_s
            is_over = end_s < np.inf
            lasted[is_over] = np.ceil(lasted[is_over] - EPSILON_S)
        return float(self._record["billed"].item() + np.nansum(lasted))

    # -- scaling on arrival ------------------------------------------------------------------------

    def ask(self, coming_slots: int | None) -> None:
        """Come back when an attempt arrives and no slot is left for it, this many on their way counted; None: never."""
        if coming_slots != self._asks:
            self._asks = coming_slots
            self._record["asks"], self._record["coming_slots"] = coming_slots is not None, coming_slots or 0

    def idle_since_s(self, number: int) -> float:
        """Since when a ready replica has had no visit [s]; infinity: it has one."""
        return float(self._uses[self._rows[number]]["end_s"])

    def tell_idle(self, number: int) -> None:
        """Come back when this replica, which has a visit, becomes idle."""
        self._uses[self._rows[number]]["tell"] = 1

    def series(self) -> np.ndarray:
        """The integrals at the edges; those that are still to come are as nothing more happens before them."""
        edge = int(self._record[0]["edge"])
        passed_s = np.maximum(0.0, self._edges_s[edge:] - self._now_s.item())
        ready, draining = self._levels.tolist()
        sums = self._sums(ready, passed_s)
        if draining[3] or draining[6]:
            sums = tuple(a + b for a, b in zip(sums, self._sums(draining, passed_s), strict=True))
        for column, values in enumerate(sums):
            self._series[edge:, column] = values
        return self._series
