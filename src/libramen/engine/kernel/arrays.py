"""The arrays of the compiled data plane: made, grown, and their addresses told to the compiled functions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Final

import numpy as np

from libramen.base import streams
from libramen.engine.border.records import N_PARTS
from libramen.engine.kernel import fields, layout, reach
from libramen.engine.kernel.settings import CHOSEN, CLIENT_SETTINGS, KEYS, NOBODY, SETTINGS

if TYPE_CHECKING:
    from libramen.engine.border.records import Results
    from libramen.engine.border.specs import ServerSpec, SystemSpec

BUFFER: Final = 1 << 13
"""Visits that may have ended, or answers that may have been given, before they are looked at."""

_PLACES: Final = 16
_CHOICES: Final = 4
"""So many choices to a replica: the more, the fewer of their numbers are left out."""


class Pointing:
    """Arrays that compiled functions reach through the addresses in a record; as attributes they stay alive.

    A copy has the values of the record and the arrays; its addresses are its own.
    """

    _name: ClassVar[str]
    """Of the record, in `layout`."""
    _derived: ClassVar[frozenset[str]]
    """Attributes that are made of the others by `_cache_views`, or that a copy does without."""

    _record: np.ndarray
    """One record, (1,)."""

    @property
    def record(self) -> Any:
        """Its record."""
        return self._record[0]

    def array(self, name: str) -> np.ndarray:
        """One of the arrays that it points at."""
        array: np.ndarray = getattr(self, f"_{name}")
        return array

    def __getstate__(self) -> dict[str, Any]:
        """Values apart from addresses."""
        record = self._record.copy()
        for name in fields.ADDRESSES[self._name]:
            record[name] = 0
        return {key: value for key, value in vars(self).items() if key not in self._derived} | {"_record": record}

    def _adopt(self, record: np.ndarray) -> None:
        """Of a copy: this is its record from now on, and points at its own arrays."""
        record[:] = self._record
        self._record = record
        for name in fields.ADDRESSES[self._name]:
            array = getattr(self, f"_{name}", None)
            if array is not None:
                self._point(**{name: _like(array) if array.dtype in _LINED else array})
        self._cache_views()

    def _cache_views(self) -> None:
        """Keep at hand what is looked at often."""

    def _point(self, **arrays: np.ndarray) -> None:
        """Tell the compiled functions where these arrays are now, and keep them alive as attributes."""
        for name, array in arrays.items():
            assert array.flags.c_contiguous
            setattr(self, f"_{name}", array)
            self._record[0][name] = reach.address_of(array)


_LINED: Final = (layout.VISIT, layout.LEVEL, layout.REPLICA, layout.HEAP, layout.NODE)
"""Arrays of these begin where a cache line does."""


class WorldArrays(Pointing):
    """What all services share, as `layout` describes it.

    Args:
        spec: the services and who asks whom.
        results: what is filled with what becomes of requests, None: they are not kept.
        tallies: whether it is written down how each visit has ended.
        buffer: for how many visits there is room.
    """

    _name = "WORLD"

    _edges_s: np.ndarray
    _ended: np.ndarray
    _turns: np.ndarray
    _clients: np.ndarray
    _dues: np.ndarray
    _deadlines: np.ndarray
    _patience: np.ndarray
    _stack: np.ndarray

    def __init__(self, spec: SystemSpec, results: Results | None, *, tallies: bool, buffer: int) -> None:
        self.spec = spec
        self._record = aligned(1, layout.WORLD)
        self._visits = np.zeros(0, layout.VISIT)
        self._repeats = self._repeating = np.zeros(0, layout.HEAP)
        self._given, self._spent = np.zeros((0, spec.columns)), np.zeros((0, spec.n_parts))
        world = self._record[0]
        for name in ("free", "room_row", "news_head", "news_tail", "asked"):
            world[name] = -1
        world["notice_s"] = np.inf
        world["keeps"], world["tallies"], world["calls"] = results is not None, tallies, spec.has_calls
        world["codes"], world["pins"] = spec.codes or tallies, spec.visitors > 0
        world["places"], world["edge"] = spec.places is not None, spec.edge_s is not None
        world["edge_s"] = spec.edge_s or 0.0
        tables = (np.zeros((0, 0)),) * 2 if spec.places is None else (spec.places.trips_s, spec.places.ways_s)
        self._point(**{name: np.ascontiguousarray(of) for name, of in zip(("trips_s", "ways_s"), tables, strict=True)})
        world["columns"], world["parts"] = spec.columns, spec.n_parts
        world["repeats_any"] = any(client.retries for client in spec.clients)
        world["forced"] = any(server.forced for server in spec.servers)
        for key in KEYS:
            world[key] = streams.key(spec.seed, key.removesuffix("_key"))
        self._make_clients()
        self._point(edges_s=np.zeros(0), applies=np.zeros(0, np.int64))
        n = 0 if results is None else len(results)
        self._point(turns=np.full((n if world["forced"] else 0, 5), np.nan))
        if results is not None:  # the results are the output: one record a request, written where it belongs
            self._point(out=results.records, out_spent=results.spent_s)
        world["ended_full"] = NOBODY
        self._make_buffer(buffer if tallies else 0)
        world["clocks"] = world["repeats_any"] or spec.has_calls
        world["extras"] = world["codes"] or tallies or world["pins"] or spec.has_calls or world["places"]

    def _make_clients(self) -> None:
        spec = self.spec
        world = self._record[0]
        clients = np.zeros(len(spec.clients), layout.CLIENT)
        for number, client in enumerate(spec.clients):
            record = clients[number]
            record["number"], record["fleet"], record["caller"] = number, client.server, client.caller
            for name in ("waiting_head", "waiting_tail", "queue_head", "queue_tail"):
                record[name] = -1
            for setting in CLIENT_SETTINGS:
                record[setting.name] = setting.of(client)
        world["n_clients"], world["n_services"] = len(clients), len(spec.servers)
        world["n_fleets"] = n_fleets = len(spec.servers) + sum(server.splits for server in spec.servers)
        for key, n in (("client_leaves", len(clients)), ("fleet_leaves", n_fleets)):
            world[key] = 1 << (n - 1).bit_length()
        times = {name: np.full(2 * int(world["client_leaves"]), np.inf) for name in ("deadlines", "patience")}
        leaves = int(world["fleet_leaves"])
        self._point(clients=clients, dues=np.full(2 * leaves, np.inf), due_fleets=_winners(leaves), **times)

    def client(self, number: int) -> Any:
        """The record of a client."""
        return self._clients[number]

    def _make_buffer(self, n: int) -> None:
        self._point(ended=np.zeros(n, layout.ENDED_VISIT))

    def grow_visits(self, n: int) -> None:
        """Room for n visits."""
        spec, old, world = self.spec, len(self._visits), self._record[0]
        grown = aligned(n, layout.VISIT)
        grown[:old] = self._visits
        grown["visitor"][old:] = grown["pool_row"][old:] = grown["caller"][old:] = -1
        grown["link"][old:] = np.arange(old + 1, n + 1)
        grown["link"][n - 1] = world["free"]
        world["free"] = old
        stack = np.zeros(n + int(world["n_fleets"]), np.int64)
        given, spent = np.zeros((n, spec.columns)), np.zeros((n, spec.n_parts))
        if old:
            stack[: len(self._stack)], given[:old], spent[:old] = self._stack, self._given, self._spent
        self._point(visits=grown, stack=stack, given=given, spent=spent)
        # Only with retries is anything repeated; each repeated attempt has its entry in `visits`.
        any_repeats = bool(world["repeats_any"])
        repeats, repeating = (np.zeros(n if any_repeats else 1, layout.HEAP) for _ in range(2))
        repeats["key"] = np.inf
        if any_repeats and old:
            repeats[:old], repeating[:old] = self._repeats, self._repeating
        self._point(repeats=repeats, repeating=repeating)
        many = spec.has_calls or any_repeats
        many = many or any(s.drops or s.memory >= 0 or s.queues for s in spec.servers)
        world["ends_at_most"] = n if many else 1
        if world["tallies"]:
            if len(self._ended) <= n:
                self._make_buffer(n + BUFFER)
            world["ended_full"] = max(1, len(self._ended) - int(world["ends_at_most"]))


class FleetArrays(Pointing):
    """What one service has, or one side of it, as `layout` describes it.

    Args:
        world: what all share.
        fleets: FLEET, of all of them.
        index: number of the service.
        rows: for how many replicas there is room, a power of two.
        first: the first side, where this is the second one.
        main: the first region of its service, where this is another one.
        at: number of its record among all fleets.
        other: that of its other side, -1: there is none.
    """

    _name = "FLEET"

    _row_of: np.ndarray
    _series: np.ndarray
    _answers: np.ndarray
    _levels: np.ndarray
    _moved: np.ndarray
    _pinned: np.ndarray
    _sent: np.ndarray
    _timed: np.ndarray
    _changes_s: np.ndarray
    _changes: np.ndarray
    _looked_s: np.ndarray
    _seen: np.ndarray

    def __init__(
        self, world: WorldArrays, fleets: np.ndarray, index: int, rows: int, *, first: FleetArrays | None, at: int,
        other: int, main: FleetArrays | None = None,
    ) -> None:  # fmt: skip
        system = world.spec
        self.spec: ServerSpec = system.servers[index]
        self.at, self.first = at, first or self
        self._record = fleets[at : at + 1]
        fleet = self._record[0]
        self._free_rows: list[int] = []
        self._places = 0
        fleet["index"], fleet["service"], fleet["other"], fleet["split_side"] = at, index, other, other
        fleet["whole_side"] = at
        places = system.places
        user = fleet["user"] = fleet["first_site"] = index if places is None else places.first[index]
        fleet["n_sites"], fleet["origin"] = (1, 0) if places is None else (places.regions[index], places.origin[index])
        fleet["outlives"] = places is not None and places.outlives[index]
        self._point(changes_s=np.zeros(0), changes=np.zeros(0, np.int64))
        lookers = system.visitors if self.spec.reroute_s > 0 and user == index and first is None else 0
        self._point(looked_s=np.full(lookers, np.nan), seen=np.zeros(lookers, np.int64))
        fleet["slower"], fleet["least_fits"] = 1.0, NOBODY
        calls = system.calls_of(index)
        fleet["first_call"], fleet["n_calls"] = calls.start, len(calls)
        fleet["n_pools"] = self._n_pools = 1 + max((system.clients[c].pool for c in calls), default=-1)
        if system.spends:
            fleet["part"], fleet["parts_end"] = (N_PARTS * at for at in system.parts[index])
        for name in ("held_head", "held_tail", "way_head", "way_tail", "quiet_head", "quiet_tail"):
            fleet[name] = -1
        fleet["choices"] = CHOSEN
        fleet["edge_s"], fleet["call_s"] = np.inf, -np.inf
        users = world.client(user)
        fleet["timeout_s"], fleet["watches"] = users["timeout_s"], users["watches"]
        for setting in SETTINGS:
            fleet[setting.name] = setting.of(self.spec)
        self._point(levels=aligned(2, layout.LEVEL), series=np.zeros((0, 4)))
        self._point(row_of=np.zeros(64, np.int64), moved=np.zeros(64, np.int64))
        shares = first or main
        self._point(pinned=np.zeros(max(1, system.visitors), np.int64) if shares is None else shares._pinned)
        judges = self.spec.judges and first is None
        self._point(sent=np.zeros(BUFFER if judges else 1, layout.SENT))
        self._point(timed=np.zeros(BUFFER if judges and self.spec.timed_s else 1, layout.TIMED))
        fleet["sent_size"], fleet["timed_size"] = len(self._sent), len(self._timed)
        self._replicas = np.zeros(0, layout.REPLICA)
        self._ready = self._emptied = self._killed = self._idled = np.zeros(0, np.int64)
        self._uses, self._pools = np.zeros(0, layout.USE), np.zeros(0, layout.POOL)
        self._tree, self._heaps = np.zeros(0, layout.NODE), np.zeros(0, layout.HEAP)
        logs = self.spec.logs
        self._point(answers=np.zeros(BUFFER if logs else 1))
        fleet["answers_size"] = BUFFER if logs else NOBODY
        self._grow_places(_PLACES)
        self._grow_replicas(rows)

    def _grow_places(self, wanted: int) -> None:
        """Room for so many visits in slots of each replica: slots that are allowed and never used cost nothing."""
        spec, old = self.spec, self._places
        if wanted <= old or old == spec.slots:
            return
        places = self._places = min(spec.slots, max(wanted, 2 * old))
        fleet = self._record[0]
        fleet["places"], fleet["places_left_at"] = places, NOBODY if places == spec.slots else places
        running = np.maximum(np.arange(places + 1), 1)
        cores = (spec.cores, min(spec.cores, spec.steady_cores) if spec.lends else spec.cores)
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
        heaps = aligned(n * each + 1, layout.HEAP)
        heaps["key"] = heaps["other_key"] = np.inf
        if n == len(self._replicas):
            self._tell_heaps(self._replicas, heaps)
        return heaps

    def _tell_heaps(self, replicas: np.ndarray, heaps: np.ndarray) -> None:
        each = (self._places + 2) * layout.HEAP.itemsize
        replicas["heap"] = heaps.ctypes.data + each * np.arange(len(replicas))

    def _grow_replicas(self, n: int) -> None:
        """Room for `n` replicas, a power of two."""
        old = len(self._replicas)
        replicas, heaps = aligned(n, layout.REPLICA), self._new_heaps(n)
        replicas["turn_head"] = replicas["backlog_head"] = replicas["calling"] = -1
        replicas[:old] = self._replicas
        ready = np.zeros(n, np.int64)
        tree = aligned(2 * n, layout.NODE)
        tree["due_s"], tree["load"] = np.inf, NOBODY
        if old:
            heaps[: len(self._heaps) - 1] = self._heaps[:-1]
            ready[:old] = self._ready
            tree[n : n + old] = self._tree[old:]
        due_rows = _winners(n)
        level = n
        while level > 1:
            left, right = slice(level, 2 * level, 2), slice(level + 1, 2 * level, 2)
            above = slice(level // 2, level)
            for key in ("due_s", "load"):
                tree[key][above] = np.minimum(tree[key][left], tree[key][right])
            due_rows[above] = np.where(tree["due_s"][right] < tree["due_s"][left], due_rows[right], due_rows[left])
            level //= 2
        self._tell_heaps(replicas, heaps)
        self._point(replicas=replicas, heaps=heaps, tree=tree, due_rows=due_rows, ready=ready)
        uses = np.zeros(n, layout.USE)
        uses["begin_s"] = np.nan
        uses[:old] = self._uses
        pools = np.zeros(n * self._n_pools, layout.POOL)
        pools["head"] = pools["tail"] = -1
        pools[: len(self._pools)] = self._pools
        rows = np.zeros(_CHOICES * n, np.int32)
        chosen = replicas["chosen"]
        was_chosen = np.flatnonzero(chosen >= CHOSEN)
        rows[chosen[was_chosen] & (len(rows) - 1)] = was_chosen
        self._point(chosen_rows=rows)
        self._record[0]["choice_mask"] = len(rows) - 1
        notices = {name: np.zeros(n, np.int64) for name in ("emptied", "killed", "idled")}
        for name, numbers in notices.items():
            numbers[:old] = getattr(self, f"_{name}")
        self._point(uses=uses, pools=pools, **notices)
        self._record[0]["leaves"] = n
        self._free_rows[:0] = range(n - 1, old - 1, -1)


def _winners(leaves: int) -> np.ndarray:
    """Of each node of a tree in which all are alike: the first leaf below it."""
    winners = aligned(2 * leaves, np.dtype("i4"))
    winners[leaves:] = np.arange(leaves)
    level = leaves
    while level > 1:
        winners[level // 2 : level] = winners[level : 2 * level : 2]
        level //= 2
    return winners


def _like(array: np.ndarray) -> np.ndarray:
    """The same, where a cache line begins."""
    copy = aligned(len(array), array.dtype)
    copy[:] = array
    return copy


def aligned(n: int, dtype: np.dtype[Any]) -> np.ndarray:
    """Zeros that begin where a cache line does, so that a record of one line lies in one."""
    raw = np.zeros(n * dtype.itemsize + fields.CACHE_LINE, np.uint8)
    start = -raw.ctypes.data % fields.CACHE_LINE
    return raw[start : start + n * dtype.itemsize].view(dtype)
