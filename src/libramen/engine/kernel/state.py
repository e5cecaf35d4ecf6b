"""The compiled data plane as the control plane sees it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from libramen.engine.kernel import layout
from libramen.engine.kernel.advance import advance
from libramen.engine.kernel.arrays import BUFFER, Arrays
from libramen.engine.kernel.settings import NOBODY, SETTINGS
from libramen.engine.plane import RESULT, Chunk, Ended, Integrals, Notices, Results, Sample, ServerSpec, Signal
from libramen.times import EPSILON_S

if TYPE_CHECKING:
    from collections.abc import Callable

_RESULT: Final = set(RESULT.names or ())
_PLACES: Final = 16
_SIGNALS: Final[tuple[Signal, ...]] = tuple(Signal)


class KernelState(Arrays):
    """A data plane; see `engine.plane.DataPlane` for what each method promises."""

    def __init__(
        self,
        spec: ServerSpec,
        results: Results | None,
        tally: Callable[[Ended], None] | None = None,
        *,
        buffer: int = BUFFER,
        rows: int = 2,
        requests: int = 1024,
    ) -> None:
        super().__init__(spec)
        self._tally = tally
        self._rows: dict[int, int] = {}  # number -> row, of the replicas that are not gone
        self._given_edges_s: np.ndarray | None = None
        # Looked at after every call: one number each, reached more quickly than through the record.
        self._now_s, self._control_s, self._notice_s, self._n_attempts, self._n_answers, self._n_out = (
            self._worlds[name] for name in ("now_s", "control_s", "notice_s", "attempts", "n_answers", "n_out")
        )
        self._order_fields = [
            self._worlds[name] for name in ("order", "order_s", "order_row", "order_number", "order_warm")
        ]
        self._asks: int | None = None
        self._given_worlds = self._worlds.view(np.recarray) if layout.CHECKED else self._worlds
        if results is not None:
            # The results are the output: one record a request, written where it belongs.
            self._point(out=results.records)
            self._worlds[0]["out_size"] = NOBODY
        else:
            self._make_buffer(buffer)
        self._fix(spec, keeps=results is not None)
        self._point(turns=np.full((0 if results is None or not spec.forced else len(results), 3), np.nan))
        self._grow_places(_PLACES)
        self._grow_replicas(rows)
        self._grow_requests(requests)

    def _fix(self, spec: ServerSpec, *, keeps: bool) -> None:
        """Write down what does not change during a replay."""
        world = self._worlds[0]
        for name in ("free", "held_head", "held_tail", "clients_head", "clients_tail", "room_row"):
            world[name] = -1
        world["edge_s"] = world["notice_s"] = np.inf
        for setting in SETTINGS:
            world[setting.name] = setting.of(spec)
        world["keeps"] = keeps
        self._throttles, self._lends = spec.steady_cores < spec.cores, spec.lends_cpu
        self._fraction, self._fraction_steady = spec.cores % 1, min(spec.cores, spec.steady_cores) % 1
        world["asked"] = -1
        self._forgotten = self._needed = 0  # answers no longer in `answers`, and answers not needed any more
        self._point(answers=np.zeros(BUFFER if spec.logs_answers else 1))
        world["answers_size"] = BUFFER if spec.logs_answers else NOBODY

    # -- one instant after the other ---------------------------------------------------------------

    @property
    def now_s(self) -> float:
        """The instant at which `advance` came back."""
        now_s: float = self._control_s.item()
        return now_s

    @property
    def last_s(self) -> float:
        """The instant of the latest event."""
        last_s: float = self._now_s.item()
        return last_s

    def hand_in(self, chunk: Chunk, edges_s: np.ndarray) -> None:
        """Take the next stretch of arrivals, and all the edges of windows up to its end."""
        kinds = {"route": np.int32}
        arrays = {f"chunk_{name}": getattr(chunk, name) for name in ("at_s", "cpu_s", "wait_s", "route", "bytes_out")}
        self._point(**{
            name: np.ascontiguousarray(array, kinds.get(name.removeprefix("chunk_"), np.float64))
            for name, array in arrays.items()
        })  # fmt: skip
        world, edge = self._worlds[0], int(self._worlds[0]["edge"])
        world["chunk_n"], world["chunk_first"], world["chunk_last"] = len(chunk.at_s), chunk.first, chunk.last
        if edges_s is not self._given_edges_s:
            series = np.zeros((len(edges_s), 4))
            series[:edge] = self._series[:edge]
            self._given_edges_s = edges_s
            self._point(edges_s=np.ascontiguousarray(edges_s, np.float64), series=series)
            world["n_edges"] = len(edges_s)
            world["edge_s"] = edges_s[edge] if edge < len(edges_s) else np.inf

    def advance(self, until_s: float) -> Signal:
        """Let everything happen that comes before a control event at `until_s`."""
        while True:
            signal: int = advance(self._given_worlds, until_s)
            if signal < len(_SIGNALS):
                return _SIGNALS[signal]
            if signal == layout.OUT_FULL:
                self.flush()
                if self._spec.logs_answers:
                    self._make_room_for_answers()
            elif signal == layout.SLOTS_FULL:
                self._grow_places(2 * self._places)
            else:
                self.flush()
                self._grow_requests(2 * len(self._requests))

    # -- what the control plane does ---------------------------------------------------------------

    def _order(self, order: Any, now_s: float, row: int = 0, number: int = 0, *, warm: bool = False) -> None:
        self.flush()
        for field, value in zip(self._order_fields, (order, now_s, row, number, warm), strict=True):
            field[0] = value
        advance(self._given_worlds, now_s)

    def add(self, number: int, now_s: float, *, warm: bool = False) -> None:
        """A replica becomes ready, perhaps again: the balancer may send to it."""
        if number not in self._rows:
            if not self._free_rows:
                self._grow_replicas(2 * len(self._replicas))
            self._rows[number] = row = self._free_rows.pop()
            if number >= len(self._row_of):
                self._point(row_of=np.concatenate([self._row_of, np.zeros(number + 64, np.int64)]))
            self._row_of[number] = row
        # An order is carried out in one go: all that is held may take slots of this replica.
        self._grow_places(int(self._worlds[0]["fullest"]) + self.held + 2)
        self._order(layout.ADD, now_s, self._rows[number], number, warm=warm)

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new requests. Returns whether it is empty already."""
        row = self._rows[number]
        self._order(layout.DRAIN, now_s, row)
        return bool(self._replicas[row]["busy"] == 0)

    def withdraw(self, number: int, now_s: float) -> None:
        """The balancer learns that a replica is dead."""
        if self._replicas[self._rows[number]]["state"] == layout.DEAD:
            self._order(layout.WITHDRAW, now_s, self._rows[number])

    def remove(self, number: int, now_s: float) -> None:
        """A replica is gone; what is left in it is cut."""
        row = self._rows.pop(number, None)
        if row is not None:
            self._order(layout.REMOVE, now_s, row)
            self._free_rows.append(row)

    def dismiss_held(self, now_s: float) -> None:
        """Nothing will ever take the requests that are held."""
        self._order(layout.DISMISS, now_s)

    def take_notices(self) -> Notices | None:
        """What has happened since this was last asked that the control plane must know; None: nothing."""
        if self._notice_s.item() == np.inf:
            return None
        world = self._worlds[0]
        asked = bool(world["asks_now"])
        world["asks_now"] = 0
        world["notice_s"] = np.inf
        return Notices(
            self._take("n_emptied", self._emptied), self.take_killed(), self._take("n_idled", self._idled), asked
        )

    def take_killed(self) -> list[int]:
        """Numbers of the replicas that have died since this, or `take_notices`, was last asked."""
        return self._take("n_killed", self._killed)

    def _take(self, count: str, numbers: np.ndarray) -> list[int]:
        n = self._worlds[count].item()
        if not n:
            return []
        self._worlds[count] = 0
        taken: list[int] = numbers[:n].tolist()
        return taken

    @property
    def held(self) -> int:
        """Requests in the shared or held queue."""
        return int(self._worlds["n_held"].item())

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
        """Requests that wait now, at ready replicas or in the shared or held queue."""
        return int(self._levels[0]["waiting"])

    def answers(self, first: int, last: int) -> np.ndarray:
        """Latencies of the ok answers from `first` up to `last`, counted from 0 [s]; those before may be forgotten."""
        latency_s: np.ndarray = self._answers[first - self._forgotten : last - self._forgotten]
        self._needed = first
        return latency_s

    def _make_room_for_answers(self) -> None:
        """Forget what was before the window looked at last; where much is left, more room."""
        n = self._worlds["n_answers"].item()
        kept = self._answers[self._needed - self._forgotten : n]
        answers = np.zeros(max(BUFFER, 2 * len(kept)))
        answers[: len(kept)] = kept
        self._forgotten = self._needed
        self._point(answers=answers)
        self._worlds["n_answers"], self._worlds["answers_size"] = len(kept), len(answers)

    def core_s(self, number: int, at_s: float) -> float:
        """Core-seconds that a replica which is not gone has used up to `at_s`."""
        row = self._rows.get(number)
        if row is None:  # it was never ready
            return 0.0
        replica, spec = self._replicas[row], self._spec
        cores = min(spec.cores, spec.steady_cores) if replica["empty"] else spec.cores
        passed_s = max(0.0, at_s - float(replica["v_at_s"]))
        return float(replica["core_s"]) + passed_s * min(float(replica["n_running"]), cores)

    def billed(self, at_s: float) -> float:
        """For how long replicas were in use up to `at_s`, each period that is over rounded up."""
        begin_s, end_s = self._uses["begin_s"], self._uses["end_s"]
        lasted = np.minimum(end_s, at_s) - begin_s
        if self._spec.granularity_s > 0:
            lasted /= self._spec.granularity_s
            is_over = end_s < np.inf
            lasted[is_over] = np.ceil(lasted[is_over] - EPSILON_S)
        return float(self._worlds["billed"].item() + np.nansum(lasted))

    # -- scaling on arrival ------------------------------------------------------------------------

    def ask(self, coming_slots: int | None) -> None:
        """Come back when an attempt arrives and no slot is left for it, this many on their way counted; None: never."""
        if coming_slots != self._asks:
            self._asks = coming_slots
            self._worlds["asks"], self._worlds["coming_slots"] = coming_slots is not None, coming_slots or 0

    def idle_since_s(self, number: int) -> float:
        """Since when a ready replica has had no request [s]; infinity: it has one."""
        return float(self._uses[self._rows[number]]["end_s"])

    def tell_idle(self, number: int) -> None:
        """Come back when this replica, which has a request, becomes idle."""
        self._uses[self._rows[number]]["tell"] = 1

    def series(self) -> np.ndarray:
        """The integrals at the edges; those that are still to come are as nothing more happens before them."""
        for edge in range(int(self._worlds[0]["edge"]), len(self._edges_s)):
            self._series[edge] = self.integrals(self._edges_s[edge])[3:]
        return self._series

    @property
    def turns(self) -> np.ndarray:
        """The CPU work of each request, where departures are forced."""
        return self._turns

    def finished(self) -> bool:
        """Whether the trace ends with this chunk and all its requests have ended."""
        world = self._worlds[0]
        all_arrived = world["chunk_last"] and world["next"] == world["chunk_first"] + world["chunk_n"]
        return bool(all_arrived and not world["n_open"])

    def flush(self) -> None:
        """Hand over what has ended, where requests are not kept."""
        n = self._n_out.item()
        if self._tally is None or not n:
            return
        out, carried = self._out[:n], self._carried[:n]
        self._tally(Ended(**{name: (out if name in _RESULT else carried)[name] for name in Ended._fields}))
        self._worlds["n_out"] = 0
