"""The arrays of the compiled data plane: made, grown, and their addresses told to the compiled functions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from libramen.engine.kernel import layout
from libramen.engine.kernel.settings import NOBODY
from libramen.engine.plane import RESULT

if TYPE_CHECKING:
    from libramen.engine.plane import ServerSpec

BUFFER: Final = 1 << 13
"""Requests that may have ended, or answers that may have been given, before they are looked at."""


class Arrays:
    """The records and arrays that `layout` describes; each is an attribute, so that it stays where it is.

    Args:
        spec: how a replica works, and what may happen to a request.
    """

    _row_of: np.ndarray
    _edges_s: np.ndarray
    _series: np.ndarray
    _answers: np.ndarray
    _out: np.ndarray
    _carried: np.ndarray
    _levels: np.ndarray
    _turns: np.ndarray

    def __init__(self, spec: ServerSpec) -> None:
        self._spec = spec
        self._worlds = _aligned(1, layout.WORLD)
        self._free_rows: list[int] = []
        self._places = 0
        self._point(levels=_aligned(2, layout.LEVEL), edges_s=np.zeros(0), series=np.zeros((0, 4)))
        self._ready_level = self._levels[:1]
        self._point(row_of=np.zeros(64, np.int64))
        self._requests = np.zeros(0, layout.REQUEST)
        self._replicas = np.zeros(0, layout.REPLICA)
        self._ready = self._emptied = self._killed = self._idled = np.zeros(0, np.int64)
        self._uses = np.zeros(0, layout.USE)
        self._tree, self._heaps = np.zeros(0, layout.NODE), np.zeros(0, layout.HEAP)
        self._repeats = self._repeating = np.zeros(0, layout.HEAP)

    def _point(self, **arrays: np.ndarray) -> None:
        """Tell the compiled functions where these arrays are now, and keep them alive as attributes."""
        for name, array in arrays.items():
            assert array.flags.c_contiguous
            setattr(self, f"_{name}", array)
            self._worlds[0][name] = address = array.__array_interface__["data"][0]
            if layout.CHECKED:
                layout.ARRAYS[address] = array

    def _make_buffer(self, n: int) -> None:
        self._point(out=np.zeros(n, RESULT), carried=np.zeros(n, layout.CARRIED))
        self._worlds[0]["out_size"] = n

    def _grow_requests(self, n: int) -> None:
        old, world = len(self._requests), self._worlds[0]
        grown = _aligned(n, layout.REQUEST)
        grown[:old] = self._requests
        grown["link"][old:] = np.arange(old + 1, n + 1)
        grown["link"][n - 1] = world["free"]
        world["free"] = old
        self._point(requests=grown)
        # Only with retries is anything repeated; each repeated attempt has its entry in `requests`.
        repeats, repeating = (np.zeros(n if self._spec.retries else 1, layout.HEAP) for _ in range(2))
        repeats["key"] = np.inf
        if self._spec.retries and old:
            repeats[:old], repeating[:old] = self._repeats, self._repeating
        self._point(repeats=repeats, repeating=repeating)
        many = self._spec.drops or self._spec.retries or self._spec.memory >= 0 or world["queues"]
        world["ends_at_most"] = n if many else 1
        if not world["keeps"] and len(self._out) <= n:
            self._make_buffer(n + BUFFER)

    def _grow_places(self, wanted: int) -> None:
        """Room for so many requests in slots of each replica: slots that are allowed and never used cost nothing."""
        spec, old = self._spec, self._places
        if wanted <= old or old == spec.slots:
            return
        places = self._places = min(spec.slots, max(wanted, 2 * old))
        world = self._worlds[0]
        world["places"], world["places_left_at"] = places, NOBODY if places == spec.slots else places
        running = np.maximum(np.arange(places + 1), 1)
        cores = (spec.cores, min(spec.cores, spec.steady_cores) if spec.lends_cpu else spec.cores)
        rate = np.ascontiguousarray([spec.speed * np.minimum(1.0, n / running) for n in cores])
        self._point(rate=rate, pace=1.0 / rate)
        n = len(self._replicas)
        if n:
            heaps = self._new_heaps(n)
            heaps[:-1].reshape(n, places + 2)[:, : old + 2] = self._heaps[:-1].reshape(n, old + 2)
            self._point(heaps=heaps)

    def _new_heaps(self, n: int) -> np.ndarray:
        """Empty heaps of `n` replicas, which are told where theirs begin."""
        each = self._places + 2
        heaps = _aligned(n * each + 1, layout.HEAP)
        heaps["key"] = heaps["other_key"] = np.inf
        if n == len(self._replicas):
            self._tell_heaps(self._replicas, heaps)
        return heaps

    def _tell_heaps(self, replicas: np.ndarray, heaps: np.ndarray) -> None:
        each = (self._places + 2) * layout.HEAP.itemsize
        replicas["heap"] = heaps.__array_interface__["data"][0] + each * np.arange(len(replicas))

    def _grow_replicas(self, n: int) -> None:
        """Room for `n` replicas, a power of two."""
        old = len(self._replicas)
        replicas, heaps = _aligned(n, layout.REPLICA), self._new_heaps(n)
        replicas["turn_head"] = replicas["backlog_head"] = -1
        replicas[:old] = self._replicas
        ready = np.zeros(n, np.int64)
        tree = _aligned(2 * n, layout.NODE)
        tree["due_s"], tree["load"] = np.inf, NOBODY
        if old:
            heaps[: len(self._heaps) - 1] = self._heaps[:-1]
            ready[:old] = self._ready
            tree[n : n + old] = self._tree[old:]
        level = n
        while level > 1:
            for key in ("due_s", "load"):
                tree[key][level // 2 : level] = np.minimum(
                    tree[key][level : 2 * level : 2], tree[key][level + 1 : 2 * level : 2]
                )
            level //= 2
        self._tell_heaps(replicas, heaps)
        self._point(replicas=replicas, heaps=heaps, tree=tree, ready=ready)
        uses = np.zeros(n, layout.USE)
        uses["begin_s"] = np.nan
        uses[:old] = self._uses
        notices = {name: np.zeros(n, np.int64) for name in ("emptied", "killed", "idled")}
        for name, numbers in notices.items():
            numbers[:old] = getattr(self, f"_{name}")
        self._point(uses=uses, **notices)
        self._worlds[0]["leaves"] = n
        self._free_rows[:0] = range(n - 1, old - 1, -1)


def _aligned(n: int, dtype: np.dtype[Any]) -> np.ndarray:
    """Zeros that begin where a cache line does, so that a record of one line lies in one."""
    raw = np.zeros(n * dtype.itemsize + layout.CACHE_LINE, np.uint8)
    start = -raw.__array_interface__["data"][0] % layout.CACHE_LINE
    return raw[start : start + n * dtype.itemsize].view(dtype)
