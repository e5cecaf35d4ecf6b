"""One side of a service of the compiled data plane: its rows, what is noticed of it, and its measures."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from libramen.base.times import EPSILON_S, tolerance_s
from libramen.engine.kernel import layout
from libramen.engine.kernel.arrays import BUFFER, FleetArrays

if TYPE_CHECKING:
    from collections.abc import Mapping

    from libramen.engine.kernel.arrays import WorldArrays


class KernelSide(FleetArrays):
    """Replicas behind one balancer, and their queue: of most services the only side.

    Attributes:
        rows: by number, of the replicas that are not gone.
    """

    _derived = frozenset({"_now_s", "_attempts", "_n_answers", "_ready_level"})

    def __init__(
        self, world: WorldArrays, fleets: np.ndarray, index: int, rows: int, *, first: KernelSide | None, at: int,
        other: int, main: KernelSide | None = None,
    ) -> None:  # fmt: skip
        super().__init__(world, fleets, index, rows, first=first, at=at, other=other, main=main)
        self.rows: dict[int, int] = {}
        self._cache_views()
        spec = self.spec
        self._throttles, self._lends = spec.steady_cores < spec.cores, spec.lends
        self._fraction, self._fraction_steady = spec.cores % 1, min(spec.cores, spec.steady_cores) % 1
        self._forgotten = self._needed = 0  # answers no longer in `answers`, and answers not needed any more
        self._edges_s = np.zeros(0)

    def _cache_views(self) -> None:
        # One number each, reached more quickly than through the record.
        self._now_s, self._attempts, self._n_answers = (
            self._record[name] for name in ("now_s", "attempts", "n_answers")
        )
        self._ready_level = self._levels[:1]

    def move_to(self, fleets: np.ndarray) -> None:
        """Of a copy: its record is one of these from now on."""
        self._adopt(fleets[self.at : self.at + 1])
        self._tell_heaps(self._replicas, self._heaps)

    def get(self, field: str) -> int:
        """A whole number of its record."""
        return int(self._record[field].item())

    def set(self, field: str, value: float) -> None:
        """Change a number of its record."""
        self._record[field] = value

    def take(self, field: str) -> int:
        """A number of its record, which is 0 from now on."""
        n = self.get(field)
        self._record[field] = 0
        return n

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
        if fleet["n_timed"] == fleet["timed_size"]:
            self._forget_timed()

    # -- replicas ----------------------------------------------------------------------------------

    def know(self, number: int) -> None:
        """There is a replica of this number, here or on the other side."""
        if number >= len(self._row_of):
            more = np.zeros(number + 64 - len(self._row_of), np.int64)
            self._point(row_of=np.concatenate([self._row_of, more]), moved=np.concatenate([self._moved, more]))

    def give_row(self, number: int) -> None:
        """A row for a replica."""
        if not self._free_rows:
            self._grow_replicas(2 * len(self._replicas))
        self.rows[number] = self._row_of[number] = self._free_rows.pop()

    def take_row(self, number: int) -> None:
        """A replica is gone, and its row is free."""
        self._free_rows.append(self.rows.pop(number))

    def replica(self, number: int) -> Any:
        """The record of a replica that is not gone."""
        return self._replicas[self.rows[number]]

    def use(self, number: int) -> Any:
        """When a replica that is not gone was in use last."""
        return self._uses[self.rows[number]]

    def heaps_of(self, number: int) -> tuple[list[tuple[float, int]], list[tuple[float, int]]]:
        """What runs on a replica, and what waits: keys, and entries of `visits`."""
        replica, each = self.replica(number), self._places + 2
        first = each * self.rows[number]
        heap = self._heaps[first : first + each + 1]
        running = heap[["key", "request"]][: replica["n_running"]].tolist()
        waiting = heap[["other_key", "other_request"]][: replica["n_waiting"]].tolist()
        return running, waiting

    def pools_of(self, number: int) -> np.ndarray:
        """POOL (n_pools,), of one replica."""
        first = self._n_pools * self.rows[number]
        pools: np.ndarray = self._pools[first : first + self._n_pools]
        return pools

    def note_open(self, now_open: int, at_s: float) -> None:
        """From now on these regions of its service are open, a bit each; where it is the first one."""
        n = self.get("n_changes")
        if n and self._changes[n - 1] == now_open:
            return
        if n == len(self._changes):
            more = np.zeros(max(8, n), np.float64), np.zeros(max(8, n), np.int64)
            self._point(
                changes_s=np.concatenate([self._changes_s, more[0]]), changes=np.concatenate([self._changes, more[1]])
            )
        self._changes_s[n], self._changes[n] = at_s, now_open
        self.set("n_changes", n + 1)

    def comparable(self, ranks: Mapping[int, int], now_s: float) -> list[Any]:
        """What decides its future beside its visits: attempts that are judged, pins, use; see `comparable`."""
        fleet = self.record
        found: list[Any] = []
        if self.spec.judges and self.first is self:
            found.append([list(entry) for entry in self._sent[: fleet["n_sent"]].tolist()])
        if self.spec.timed_s and self.first is self:
            kept = self._kept()
            is_new = kept["judgement"] == fleet["judgement"]
            found.append([kept["ended_s"].tolist(), kept["latency_s"].tolist(), is_new.tolist()])
        if self.spec.balances.pins:
            here = [(pin >> int(layout.PIN_BITS), pin & int(layout.PIN_MASK)) for pin in self._pinned.tolist()]
            mine = self.get("service")
            found.append([(ranks.get(at, -1) if fleet == mine else -2 - fleet) if at else 0 for fleet, at in here])
        if self.spec.reroute_s > 0:
            recent_s = now_s - self.spec.reroute_s
            n = self.get("n_changes")
            since = max(0, int(np.searchsorted(self._changes_s[:n], recent_s)) - 1)
            found += [list(zip(self._changes_s[since:n].tolist(), self._changes[since:n].tolist(), strict=True))]
            found += [self._looked_s.tolist(), self._seen.tolist()]
        if self.spec.logs:
            found.append(self._answers[self._needed - self._forgotten : fleet["n_answers"]].tolist())
        if self.spec.meters:
            uses = [self.use(number) for number in sorted(self.rows)]
            found.append([[use["begin_s"].item() if np.isinf(use["end_s"]) else 0.0, use["end_s"].item(),
                           use["tell"].item()] for use in uses])  # fmt: skip
        return found

    def noticed(self, what: str) -> list[int]:
        """Numbers of the replicas that were `emptied`, `killed` or `idled` since this was last asked."""
        n = self._record[f"n_{what}"].item()
        if not n:
            return []
        self._record[f"n_{what}"] = 0
        numbers: list[int] = getattr(self, f"_{what}")[:n].tolist()
        return numbers

    @property
    def moved(self) -> np.ndarray:
        """How many visitors had to move from the replica of each number."""
        return self._moved

    # -- versions ----------------------------------------------------------------------------------

    def set_split(self, share: float, at: int) -> None:
        """From now on this share of all attempts goes to the side whose record is at `at`."""
        fleet = self._record[0]
        fleet["split_share"], fleet["split_side"], fleet["n_split"] = share, at, 0
        other = fleet["other"] if at == self.at else self.at
        fleet["whole_side"], fleet["whole_share"] = (at, 1.0) if share == 1 else (other, 0.0)

    @property
    def split_at(self) -> int:
        """Number of the record of the side that gets a share of the traffic."""
        return self.get("split_side")

    def forget_sent(self) -> None:
        """What was written down so far counts no more."""
        fleet = self._record[0]
        fleet["n_forgotten"] += fleet["n_sent"]
        fleet["n_sent"] = 0

    def begin_judgement(self) -> None:
        """From now on another version is judged."""
        self._record["judgement"] += 1

    def _kept(self) -> np.ndarray:
        """What may still be looked at of the ok attempts, by when they ended."""
        timed = self._timed[: self.get("n_timed")]
        from_s = self._now_s.item() - self.spec.timed_s
        kept: np.ndarray = timed[np.searchsorted(timed["ended_s"], from_s - tolerance_s(from_s)) :]
        return kept

    def _forget_timed(self) -> None:
        """Forget what nobody looks at any more; where much is left, more room."""
        kept = self._kept()
        more = np.zeros(max(len(self._timed), 2 * len(kept)), layout.TIMED)
        more[: len(kept)] = kept
        self._point(timed=more)
        self._record["n_timed"], self._record["timed_size"] = len(kept), len(more)

    def timed(self, from_s: float, to_s: float) -> tuple[np.ndarray, np.ndarray]:
        """How long ok attempts took that ended then, of the version that is judged, and all others."""
        timed = self._kept()
        timed = timed[timed["ended_s"] > from_s + tolerance_s(to_s)]
        is_new = timed["judgement"] == self._record["judgement"]
        return timed["latency_s"][is_new], timed["latency_s"][~is_new]

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

    def integrals(self, at_s: float) -> tuple[float, ...]:
        """The integrals up to `at_s`, see `Integrals`. Changes nothing."""
        ready, together = self._both_sums(max(0.0, at_s - self._now_s.item()))
        return *ready[:3], *together

    def _both_sums(self, passed_s: Any) -> tuple[tuple[Any, ...], tuple[Any, ...]]:
        """Of the ready replicas, and of all."""
        levels: Any = self._levels.tolist()
        ready, draining = levels
        sums = self._sums(ready, passed_s)
        if not (draining[3] or draining[6]):  # none drains, or did
            return sums, sums
        return sums, tuple(a + b for a, b in zip(sums, self._sums(draining, passed_s), strict=True))

    def _sums(self, level: tuple[float, ...], passed_s: Any) -> tuple[Any, ...]:
        below, above, above_steady, in_slots, waiting, cpu_s, in_slots_s, waiting_s, throttled_s = level
        cores = below + self._fraction * above
        if self._lends:
            cores += self._fraction_steady * above_steady
            throttled_s += passed_s * above_steady * self._throttles
        return cpu_s + passed_s * cores, in_slots_s + passed_s * in_slots, waiting_s + passed_s * waiting, throttled_s

    def ready_sums(self, at_s: float) -> tuple[float, ...]:
        """The integrals of the ready replicas alone up to `at_s`. Changes nothing."""
        return self._sums(self._ready_level.item(), max(0.0, at_s - self._now_s.item()))

    def n_attempts(self, at_s: float) -> int:
        """Attempts that its balancer has got before this instant, which is not before the latest."""
        record = self.record
        at_once = record["n_called"] if at_s - record["call_s"] < tolerance_s(at_s) else 0
        return int(self._attempts.item() - at_once)

    @property
    def n_answers(self) -> int:
        """Answers so far, those forgotten counted."""
        return self._forgotten + int(self._n_answers.item())

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
        replica, spec = self.replica(number), self.spec
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

    def lasted_s(self, at_s: float) -> float:
        """The same, not rounded [s]."""
        if not self.spec.granularity_s:
            return self.billed(at_s)
        lasted_s = np.minimum(self._uses["end_s"], at_s) - self._uses["begin_s"]
        return float(self._record["lasted_s"].item() + np.nansum(lasted_s))

    def series(self) -> np.ndarray:
        """The integrals at the edges; those that are still to come are as nothing more happens before them."""
        edge = int(self._record[0]["edge"])
        passed_s = np.maximum(0.0, self._edges_s[edge:] - self._now_s.item())
        for column, values in enumerate(self._both_sums(passed_s)[1]):
            self._series[edge:, column] = values
        return self._series
