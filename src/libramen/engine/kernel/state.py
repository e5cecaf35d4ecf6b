"""The compiled data plane as the control plane sees it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from libramen.engine.border.records import Chunk, Ended, Results, Signal
from libramen.engine.kernel import fields, layout, reach
from libramen.engine.kernel.advance import advance_of
from libramen.engine.kernel.arrays import BUFFER, WorldArrays, aligned
from libramen.engine.kernel.comparable import ComparableState
from libramen.engine.kernel.server import KernelServer
from libramen.engine.kernel.side import KernelSide

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from libramen.engine.border.specs import SystemSpec

_SIGNALS: Final[tuple[Signal, ...]] = tuple(Signal)
_CHUNK: Final = tuple(f"_{name}" for name in fields.ADDRESSES["WORLD"] if name.startswith("chunk_"))
_ROWS: Final = 2
"""For so many replicas there is room at the least."""


class KernelState(WorldArrays):
    """A data plane; see `engine.plane.DataPlane` for what each method promises.

    Args:
        spec: the services and who asks whom.
        results: what is filled with what becomes of requests, None: they are not kept.
        tallies: whether visits that have ended are handed over.
        buffer: for how many of these there is room.
        visits: for how many that are under way.
    """

    _derived = frozenset({
        "tally", "_event_s", "_control_s", "_notice_s", "_n_ended", "_order_fields", "_address", "_advance", "_fleets",
        "_given_edges_s", "_edges_s", "_applies", *_CHUNK,
    })  # fmt: skip

    def __init__(
        self,
        spec: SystemSpec,
        results: Results | None,
        *,
        tallies: bool = False,
        buffer: int = BUFFER,
        visits: int = 1024,
    ) -> None:
        super().__init__(spec, results, tallies=tallies, buffer=buffer)
        self.tally: Callable[[Ended], None] | None = None
        self._given_edges_s: np.ndarray | None = None
        self.on_asked: Callable[[int, float], float] = lambda _server, _now_s: np.inf
        fleets = aligned(int(self._record[0]["n_fleets"]), layout.FLEET)
        self._point(fleets=fleets)
        # First the only or first sides of all services, behind them the second ones.
        second = iter(range(len(spec.servers), len(fleets)))
        pairs = [(index, next(second)) if server.splits else (index,) for index, server in enumerate(spec.servers)]
        self._sides: list[KernelSide] = []
        for index, server in enumerate(spec.servers):
            rows, other = max(_ROWS, 1 << (server.replicas - 1).bit_length()), pairs[index][1:] or (-1,)
            main = None if spec.places is None or spec.places.first[index] == index else spec.places.first[index]
            self._sides.append(
                KernelSide(
                    self, fleets, index, rows, first=None, at=index, other=other[0],
                    main=None if main is None else self._sides[main],
                )
            )  # fmt: skip
        for index, at in (pair for pair in pairs if len(pair) > 1):
            first = self._sides[index]
            self._sides.append(KernelSide(self, fleets, index, _ROWS, first=first, at=at, other=index))
        self._told_late = [
            index
            for index, server in enumerate(spec.servers)
            if server.reroute_s > 0 and spec.places is not None and spec.places.first[index] == index
        ]
        self.servers = [KernelServer(self, [self._sides[at] for at in pair]) for pair in pairs]
        self.grow_visits(visits)
        self._cache_views()

    def _cache_views(self) -> None:
        # After every call: one number each, reached more quickly than through the record.
        self._event_s, self._control_s, self._notice_s, self._n_ended = (
            self._record[name] for name in ("event_s", "control_s", "notice_s", "n_ended")
        )
        self._order_fields = [
            self._record[name]
            for name in ("order", "order_s", "order_fleet", "order_row", "order_number", "order_warm")
        ]
        self._address = reach.address_of(self._record)
        self._advance = advance_of(lean=reach.is_lean(self._record, self._fleets))

    def __setstate__(self, state: dict[str, Any]) -> None:
        """A copy, which is handed in the latest chunk once more."""
        vars(self).update(state, tally=None, _given_edges_s=None)
        self._fleets = aligned(len(self._sides), layout.FLEET)
        for side in self._sides:
            side.move_to(self._fleets)
        self._adopt(aligned(1, layout.WORLD))

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
        kinds = {"route": np.int32, "server": np.int32, "visitor": np.int32, "area": np.int32, "hit": np.int32}
        arrays = ("at_s", "cpu_s", "wait_s", "route", "bytes_out", "server", "visitor", "area", "hit")
        names = {"given_s": "chunk_given"} | {name: f"chunk_{name}" for name in arrays}
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
            for side in self._sides:
                side.set_edges(self._edges_s)

    def advance(self, until_s: float) -> Signal:
        """Let everything happen that comes before a control event at `until_s`."""
        while True:
            for first in self._told_late:
                self._note_regions(first)
            signal: int = self._advance(self._address, until_s)
            if signal < len(_SIGNALS):
                return _SIGNALS[signal]
            if signal == layout.FULL:
                self._record["full"] = 0
                if self._n_ended.item() >= self._record["ended_full"].item():
                    self.flush()
                for side in self._sides:
                    side.make_room()
            elif signal == layout.ASKING:
                until_s = min(until_s, self._tell_asked())
            else:
                self.flush()
                self.grow_visits(2 * len(self._visits))

    def _note_regions(self, first: int) -> None:
        """Which regions of a service are open may have changed: visitors will see it when they look next."""
        assert self.spec.places is not None
        servers = self.servers[first : first + self.spec.places.regions[first]]
        now_open = sum(1 << k for k, server in enumerate(servers) if server.is_open)
        self._sides[first].note_open(now_open, max(self._event_s.item(), self._control_s.item()))

    def _tell_asked(self) -> float:
        """A call is about to be sent within an event, and finds no slot. Returns when the next control event is."""
        asked = (number for number, server in enumerate(self.servers) if server.is_asked())
        return min((self.on_asked(number, self._record["event_s"].item()) for number in asked), default=np.inf)

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

    def lose(self, servers: Sequence[int], now_s: float) -> None:
        """All that these services have is lost as one event."""
        for number in servers:
            self.servers[number].strike()
        self.order(layout.LOSE, now_s, warm=False)

    def find_silent(self, servers: Sequence[int], now_s: float) -> None:
        """It is known that these are lost: what has heard nothing is lost now."""
        for number in servers:
            self.servers[number].strike()
        self.order(layout.FIND_SILENT, now_s, warm=False)

    def has_notices(self) -> bool:
        """Whether some server has notices; it is not said again until something new comes about."""
        if self._notice_s.item() == np.inf:
            return False
        self._record["notice_s"] = np.inf
        return True

    @property
    def turns(self) -> np.ndarray:
        """The CPU work of each request, where departures are forced."""
        return self._turns[:, :3]

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

    def comparable_state(self, ranks: Sequence[Mapping[int, int]], now_s: float) -> list[Any]:
        """The state that decides its future; see `comparable`."""
        return ComparableState(self, self._sides, ranks, now_s).all()

    def flush(self) -> None:
        """Hand over what has ended."""
        n = self._n_ended.item()
        if self.tally is None or not n:
            return
        ended = self._ended[:n]
        self.tally(Ended(*(ended[name] for name in Ended._fields)))
        self._record["n_ended"] = 0
