"""The compiled data plane as the control plane sees it: makes the arrays, grows them, reads them.

Replicas come and go thousands of times, requests millions: what is here may be ordinary Python.
"""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from libramen.engine import kernel, layout
from libramen.engine.plane import EPSILON_S, Chunk, Ending, Integrals, Results, ServerSpec, Signal

_BALANCERS: Final = {"round_robin": kernel.ROUND_ROBIN, "least_busy": kernel.LEAST_BUSY}
_OUT_SIZE: Final = 1 << 14


class KernelState:
    """A data plane; see `engine.plane.DataPlane` for what each method promises."""

    def __init__(
        self, spec: ServerSpec, n: int, edges_s: np.ndarray, *, out_size: int = _OUT_SIZE, rows: int = 8
    ) -> None:
        self._spec = spec
        self._results = Results(n)
        self._rows: dict[int, int] = {}  # number -> row, of the replicas that are not gone
        self._worlds = np.zeros(1, layout.WORLD)
        self._levels = np.zeros(2, layout.LEVEL)
        self._edges_s = np.ascontiguousarray(edges_s, np.float64)
        self._series = np.zeros((len(edges_s), 3))
        self._out = np.zeros(out_size, layout.ENDED)
        self._requests = np.zeros(0, layout.REQUEST)
        self._replicas = np.zeros(0, layout.REPLICA)
        self._heaps = np.zeros((2, 0, spec.slots), layout.HEAP)
        self._tree = np.zeros(0, layout.NODE)
        running = np.maximum(np.arange(spec.slots + 1), 1)
        self._rate = np.ascontiguousarray(spec.speed * np.minimum(1.0, spec.cores / running))
        world = self._worlds[0]
        world["free"] = -1
        world["edge_s"] = self._edges_s[0]
        world["slots"], world["threads"], world["backlog"] = spec.slots, spec.threads, spec.backlog
        world["balancer"] = _BALANCERS[spec.balancer]
        self._fraction = spec.cores - int(spec.cores)
        world["whole"], world["fraction"] = int(spec.cores), self._fraction
        world["overhead_s"], world["timeout_s"] = spec.overhead_s, spec.timeout_s
        self._grow_replicas(rows)
        self._grow_requests(1024)

    @property
    def now_s(self) -> float:
        """The instant at which `advance` came back."""
        return float(self._worlds[0]["control_s"])

    def advance(self, chunk: Chunk, until_s: float) -> Signal:
        """Let everything happen that comes before a control event at `until_s`."""
        while True:
            signal = kernel.advance(
                self._worlds,
                self._levels,
                self._replicas,
                self._heaps,
                self._requests,
                self._out,
                self._rate,
                self._ready,
                self._emptied,
                self._edges_s,
                self._series,
                self._tree,
                *chunk[:3],
                chunk.first,
                chunk.last,
                until_s,
            )
            if signal == kernel.OUT_FULL:
                self._collect()
            elif signal == kernel.REQUESTS_FULL:
                self._grow_requests(2 * len(self._requests))
            else:
                return Signal(signal)

    # -- what the control plane does ---------------------------------------------------------------

    def add(self, number: int, now_s: float) -> None:
        """A replica becomes ready: the balancer may send to it."""
        self._integrate(now_s)
        free = np.flatnonzero(self._replicas["state"] == kernel.FREE)
        if not free.size:
            self._grow_replicas(2 * len(self._replicas))
            return self.add(number, now_s)
        row = int(free[0])
        self._rows[number] = row
        replica = self._replicas[row]
        replica["number"], replica["state"] = number, kernel.READY
        replica["v"], replica["v_at_s"] = 0.0, now_s
        self._rebuild()
        return None

    def drain(self, number: int, now_s: float) -> bool:
        """A replica takes no new requests. Returns whether it is empty already."""
        self._integrate(now_s)
        replica = self._replicas[self._rows[number]]
        replica["state"] = kernel.DRAINING
        self._count(replica, group=0, sign=-1)
        self._count(replica, group=1, sign=1)
        self._rebuild()
        return bool(replica["busy"] == 0)

    def remove(self, number: int, now_s: float, ending: Ending) -> None:
        """A replica is gone; what is left in it ends so."""
        self._integrate(now_s)
        row = self._rows.pop(number)
        replica = self._replicas[row]
        self._count(replica, group=int(replica["state"]) - kernel.READY, sign=-1)
        if replica["busy"]:
            self._end(self._inside(row), number, now_s, ending)
        self._clear(slice(row, row + 1))
        self._rebuild()

    def take_emptied(self) -> list[int]:
        """Numbers of the draining replicas that have emptied since this was last asked."""
        if not self._worlds["n_emptied"].item():
            return []
        world = self._worlds[0]
        emptied: list[int] = self._emptied[: world["n_emptied"]].tolist()
        world["n_emptied"] = 0
        return emptied

    # -- measures ----------------------------------------------------------------------------------

    def integrals(self, at_s: float) -> Integrals:
        """The integrals up to `at_s`, which is not before the last event. Changes nothing."""
        passed_s = max(0.0, at_s - self._worlds["now_s"].item())
        levels: Any = self._levels.tolist()
        ready, draining = levels
        sums = self._sums(ready, passed_s)
        if not draining[2] and not draining[5]:  # none drains, and none ever did
            return Integrals(*sums, *sums)
        more = self._sums(draining, passed_s)
        return Integrals(*sums, sums[0] + more[0], sums[1] + more[1], sums[2] + more[2])

    def _sums(self, level: tuple[float, ...], passed_s: float) -> tuple[float, float, float]:
        below, above, in_slots, waiting, cpu_s, in_slots_s, waiting_s = level
        return (
            cpu_s + passed_s * (below + self._fraction * above),
            in_slots_s + passed_s * in_slots,
            waiting_s + passed_s * waiting,
        )

    def series(self) -> np.ndarray:
        """The integrals at the edges, all of which have passed."""
        self._integrate(float(self._edges_s[-1]))
        return self._series

    def finished(self, chunk: Chunk) -> bool:
        """Whether the trace ends with this chunk and all its requests have ended."""
        all_arrived = chunk.last and self._worlds["next"].item() == chunk.first + len(chunk.at_s)
        return all_arrived and not self._levels["in_slots"].any()

    def results(self) -> Results:
        """What is known of each request so far."""
        self._collect()
        return self._results

    def _integrate(self, now_s: float) -> None:
        """What the kernel's own function of this name does, at an instant of the control plane."""
        world, levels = self._worlds[0], self._levels
        while now_s >= world["edge_s"]:
            edge = int(world["edge"])
            self._series[edge] = self.integrals(self._edges_s[edge])[3:]
            world["edge"] = edge + 1
            world["edge_s"] = self._edges_s[edge + 1] if edge + 1 < len(self._edges_s) else np.inf
        passed_s = now_s - float(world["now_s"])
        if passed_s > 0:
            levels["cpu_integral"] += passed_s * (levels["below"] + self._fraction * levels["above"])
            levels["in_slots_integral"] += passed_s * levels["in_slots"]
            levels["waiting_integral"] += passed_s * levels["waiting"]
            world["now_s"] = now_s

    def _count(self, replica: np.void, *, group: int, sign: int) -> None:
        """Add a replica to the levels of a group, or take it out."""
        world, level = self._worlds[0], self._levels[group]
        running, whole = int(replica["n_running"]), int(world["whole"])
        level["below"] += sign * min(running, whole)
        level["above"] += sign * (running > whole)
        level["in_slots"] += sign * int(replica["in_slots"])
        level["waiting"] += sign * int(replica["busy"] - replica["in_slots"])

    # -- the arrays --------------------------------------------------------------------------------

    def _collect(self) -> None:
        """Move what has ended from the output buffer to the results."""
        out = self._out[: self._worlds[0]["n_out"]]
        ids, results = out["id"], self._results
        for name in ("ending", "latency_s", "queued_s", "replica", "attempts"):
            getattr(results, name)[ids] = out[name]
        self._worlds[0]["n_out"] = 0

    def _inside(self, row: int) -> list[int]:
        """The requests in a replica, as indices into `requests`."""
        replica = self._replicas[row]
        found = [int(i) for i in self._heaps[kernel.RUNNING, row, : replica["n_running"]]["request"]]
        found += [int(i) for i in self._heaps[kernel.WAITING, row, : replica["n_waiting"]]["request"]]
        for head in (int(replica["turn_head"]), int(replica["backlog_head"])):
            index = head
            while index >= 0:
                found.append(index)
                index = int(self._requests[index]["link"])
        return found

    def _end(self, indices: list[int], number: int, now_s: float, ending: Ending) -> None:
        """Write down how the requests ended that were in a replica, and free their entries."""
        self._collect()
        requests, results, timeout_s = self._requests[indices], self._results, self._spec.timeout_s
        ids = requests["id"]
        latency_s = np.maximum(0.0, now_s - requests["arrived_s"])
        given_up = latency_s > timeout_s + EPSILON_S
        slot_at_s = np.where(np.isnan(requests["slot_at_s"]), now_s, requests["slot_at_s"])
        results.ending[ids] = np.where(given_up, Ending.TIMED_OUT, ending)
        results.latency_s[ids] = np.where(given_up, timeout_s, latency_s)
        results.queued_s[ids] = np.maximum(0.0, slot_at_s - requests["arrived_s"])
        results.replica[ids], results.attempts[ids] = number, 1
        for index in indices:
            self._requests[index]["link"] = self._worlds[0]["free"]
            self._worlds[0]["free"] = index

    def _grow_requests(self, n: int) -> None:
        old = len(self._requests)
        grown = np.zeros(n, layout.REQUEST)
        grown[:old] = self._requests
        grown["link"][old:] = np.arange(old + 1, n + 1)
        grown["link"][n - 1] = self._worlds[0]["free"]
        self._worlds[0]["free"] = old
        self._requests = grown

    def _grow_replicas(self, n: int) -> None:
        """Room for `n` replicas, a power of two."""
        old = len(self._replicas)
        replicas, heaps = np.zeros(n, layout.REPLICA), np.zeros((2, n, self._spec.slots), layout.HEAP)
        replicas[:old], heaps[:, :old] = self._replicas, self._heaps
        self._replicas, self._heaps = replicas, heaps
        self._ready, self._emptied = np.zeros(n, np.int64), np.zeros(n, np.int64)
        tree = np.zeros(2 * n, layout.NODE)
        tree["due_s"] = np.inf
        if old:
            tree["due_s"][n : n + old] = self._tree["due_s"][old:]
        self._tree = tree
        self._worlds[0]["leaves"] = n
        self._clear(slice(old, n))
        self._rebuild()

    def _clear(self, rows: slice) -> None:
        cleared = self._replicas[rows]
        cleared[:] = np.zeros((), layout.REPLICA)
        for name in ("turn_head", "turn_tail", "backlog_head", "backlog_tail"):
            cleared[name] = -1
        leaves = len(self._replicas)
        self._tree["due_s"][leaves + rows.start : leaves + rows.stop] = np.inf

    def _rebuild(self) -> None:
        """After replicas came or went: the ready rows by number, and both winner trees."""
        replicas, leaves = self._replicas, len(self._replicas)
        rows = np.flatnonzero(replicas["state"] == kernel.READY)
        rows = rows[np.argsort(replicas["number"][rows])]
        self._ready[: rows.size] = rows
        self._worlds[0]["n_ready"] = rows.size
        tree = self._tree
        tree["load"][leaves:] = kernel.NOBODY
        tree["load"][leaves + rows] = (replicas["busy"][rows] << 32) + replicas["number"][rows]
        level = leaves
        while level > 1:
            left, right = tree[level : 2 * level : 2], tree[level + 1 : 2 * level : 2]
            parents = tree[level // 2 : level]
            for key in ("due_s", "load"):
                parents[key] = np.minimum(left[key], right[key])
            level //= 2
