"""The compiled data plane as the control plane sees it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from libramen.engine.kernel import layout
from libramen.engine.kernel.advance import advance
from libramen.engine.kernel.arrays import BUFFER, FleetArrays, WorldArrays, aligned
from libramen.engine.plane import Chunk, Ended, Integrals, Notices, Results, Sample, Signal, SystemSpec
from libramen.times import EPSILON_S

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

_SIGNALS: Final[tuple[Signal, ...]] = tuple(Signal)


class KernelState(WorldArrays):
    """A data plane; see `engine.plane.DataPlane` for what each method promises."""

    def __init__(
        self,
        spec: SystemSpec,
        results: Results | None,
        tally: Callable[[Ended], None] | None = None,
        *,
        buffer: int = BUFFER,
        rows: int = 2,
        visits: int = 1024,
    ) -> None:
        super().__init__(spec, results, tallies=tally is not None, buffer=buffer)
        self._tally = tally
        self._given_edges_s: np.ndarray | None = None
        self.on_asked: Callable[[int, float], None] = lambda _server, _now_s: None
        # Looked at after every call: one number each, reached more quickly than through the record.
        self._event_s, self._control_s, self._notice_s, self._n_ended = (
            self._record[name] for name in ("event_s", "control_s", "notice_s", "n_ended")
        )
        self._order_fields = [
            self._record[name]
            for name in ("order", "order_s", "order_fleet", "order_row", "order_number", "order_warm")
        ]
        self._given_record = self._record.view(np.recarray) if layout.CHECKED else self._record
        fleets = aligned(len(spec.servers), layout.FLEET)
        self._point(fleets=fleets)
        self.servers = [KernelServer(self, fleets, index, rows) for index in range(len(spec.servers))]
        self.grow_visits(visits)

    # -- one instant after the other ---------------------------------------------------------------

    @property
    def now_s(self) -> float:
        """The instant at which `advance` came back."""
        now_s: float = self._control_s.item()
        return now_s

    @property
    def last_s(self) -> float:
        """The instant of the latest event."""
        last_s: float = self._event_s.item()
        return last_s

    def hand_in(self, chunk: Chunk, edges_s: np.ndarray) -> None:
        """Take the next stretch of arrivals, and all the edges of windows up to its end."""
        kinds = {"route": np.int32, "server": np.int32, "visitor": np.int32}
        names = {"given_s": "chunk_given"} | {
            name: f"chunk_{name}" for name in ("at_s", "cpu_s", "wait_s", "route", "bytes_out", "server", "visitor")
        }
        self._point(**{
            there: np.ascontiguousarray(getattr(chunk, name), kinds.get(name, np.float64))
            for name, there in names.items()
        })  # fmt: skip
        self._point(applies=np.ascontiguousarray(chunk.applies, np.int64))
        world = self._record[0]
        world["n_routes"] = chunk.applies.shape[-1]
        world["chunk_n"], world["chunk_first"], world["chunk_last"] = len(chunk.at_s), chunk.first, chunk.last
        if edges_s is not self._given_edges_s:
            self._given_edges_s = edges_s
            self._point(edges_s=np.ascontiguousarray(edges_s, np.float64))
            world["n_edges"] = len(edges_s)
            for server in self.servers:
                server.set_edges(self._edges_s)

    def advance(self, until_s: float) -> Signal:
        """Let everything happen that comes before a control event at `until_s`."""
        while True:
            signal: int = advance(self._given_record, until_s)
            if signal < len(_SIGNALS):
                return _SIGNALS[signal]
            if signal == layout.FULL:
                self._record["full"] = 0
                if self._n_ended.item() >= self._record["ended_full"].item():
                    self.flush()
                for server in self.servers:
                    server.make_room()
            elif signal == layout.ASKING:
                self._tell_asked()
            else:
                self.flush()
                self.grow_visits(2 * len(self._visits))

    def _tell_asked(self) -> None:
        """A call is about to be sent within an event, and finds no slot."""
        for number, server in enumerate(self.servers):
            if server.is_asked():
                self.on_asked(number, self._record["event_s"].item())

    def order(self, order: Any, now_s: float, fleet: int = 0, row: int = 0, number: int = 0, *, warm: bool) -> None:
        """Let the compiled functions carry out what the control plane wants done between two instants."""
        for field, value in zip(self._order_fields, (order, now_s, fleet, row, number, warm), strict=True):
            field[0] = value
        self.advance(now_s)

    def dismiss_held(self, servers: Sequence[int], now_s: float) -> None:
        """Nothing will ever take what these services hold."""
        for number in servers:
            self.servers[number].dismiss()
        self.order(layout.DISMISS, now_s, warm=False)

    def has_notices(self) -> bool:
        """Whether some server has notices; it is not said again until something new comes about."""
        if self._notice_s.item() == np.inf:
            return False
        self._record["notice_s"] = np.inf
        return True

    @property
    def turns(self) -> np.ndarray:
        """The CPU work of each request, where departures are forced."""
        return self._turns

    def is_still(self) -> bool:
        """Whether nothing will happen any more unless the control plane does something."""
        world = self._record[0]
        due_s = min(self._dues[1], self._deadlines[1], self._patience[1])
        return bool(due_s == np.inf and not (world["n_repeats"] or world["n_repeating"]) and self._all_arrived)

    @property
    def _all_arrived(self) -> bool:
        world = self._record[0]
        return bool(world["chunk_last"] and world["next"] == world["chunk_first"] + world["chunk_n"])

    def finished(self) -> bool:
        """Whether the trace ends with this chunk and all that arrived has ended."""
        return self._all_arrived and not self._record[0]["n_open"]

    def flush(self) -> None:
        """Hand over what has ended."""
        n = self._n_ended.item()
        if self._tally is None or not n:
            return
        ended = self._ended[:n]
        self._tally(Ended(*(ended[name] for name in Ended._fields)))
        self._record["n_ended"] = 0


class KernelServer(FleetArrays):
    """One service; see `engine.plane.Server` for what each method promises."""

    def __init__(self, world: KernelState, fleets: np.ndarray, index: int, rows: int) -> None:
        super().__init__(world, fleets, index, rows)
        self._world, self._index = world, index
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

    # -- what the control plane does ---------------------------------------------------------------

    def add(self, number: int, now_s: float, *, warm: bool = False) -> None:
        """A replica becomes ready, perhaps again: the balancer may send to it."""
        if number not in self._rows:
            if not self._free_rows:
                self._grow_replicas(2 * len(self._replicas))
            self._rows[number] = row = self._free_rows.pop()
            if number >= len(self._row_of):
                more = np.zeros(number + 64 - len(self._row_of), np.int64)
                self._point(row_of=np.concatenate([self._row_of, more]), moved=np.concatenate([self._moved, more]))
            self._row_of[number] = row
        self._world.order(layout.ADD, now_s, self._index, self._rows[number], number, warm=warm)

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

    def moved(self) -> np.ndarray:
        """How many visitors had to move from the replica of each number."""
        return self._moved.copy()

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

    def _sums(self, level: tuple[float, ...], passed_s: float) -> tuple[float, float, float, float]:
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
        for edge in range(int(self._record[0]["edge"]), len(self._edges_s)):
            self._series[edge] = self.integrals(self._edges_s[edge])[3:]
        return self._series
