"""Which region an attempt goes to, in the readable data plane."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from libramen.base.times import tolerance_s
from libramen.engine.plain.balancer import uniforms
from libramen.engine.plain.visit import Attempt, Errand

if TYPE_CHECKING:
    from libramen.engine.plain.server import PlainServer
    from libramen.engine.plain.state import PlainState


class Regions:
    """The regions of each service, and what visitors have seen of them.

    Args:
        world: the data plane.
    """

    def __init__(self, world: PlainState) -> None:
        self._world, self._places = world, world.spec.places
        self._changes: dict[int, list[tuple[float, frozenset[int]]]] = {}  # by service: from when on which were open
        self._seen: dict[tuple[int, int, int], tuple[float, frozenset[int]]] = {}  # when a visitor looked, and saw

    def _all(self, server: int) -> list[PlainServer]:
        """Those of the service of a server, one a region."""
        if self._places is None:
            return [self._world.servers[server]]
        first = self._places.first[server]
        return self._world.servers[first : first + self._places.regions[first]]

    def _open(self, server: int) -> frozenset[int]:
        return frozenset(one.index for one in self._all(server) if one.is_open)

    def note(self) -> None:
        """An event or an order is over: which regions are open may have changed."""
        if self._places is None:
            return
        at_s = max(self._world.last_s, self._world.now_s)
        for server in self._world.servers:
            if self._places.first[server.index] == server.index and server.spec.reroute_s > 0:
                changes, now = self._changes.setdefault(server.index, []), self._open(server.index)
                if not changes or changes[-1][1] != now:
                    changes.append((at_s, now))

    def chosen(self, errand: Errand, now_s: float) -> tuple[PlainServer, bool]:
        """The server that gets the next attempt: of the regions that are open, as far as one knows, the nearest.

        And whether none is: then the attempt is refused there.
        """
        among = self._all(errand.server)
        if self._places is None:
            return among[0], False
        seen = self._known_of(errand, now_s)
        there = [one for one in among if one.index in seen]
        return self._nearest(there or among, errand), not there

    def sent(self, errand: Errand, now_s: float) -> None:
        """The first attempt of a request is sent: whoever is not known saw then which regions are open."""
        if not errand.is_call and errand.visitor < 0 and self._world.servers[errand.server].spec.reroute_s > 0:
            self._seen[self._all(errand.server)[0].index, 0, errand.id] = now_s, self._open(errand.server)

    def _nearest(self, among: list[PlainServer], errand: Errand) -> PlainServer:
        assert self._places is not None
        trips_s = self._places.trips_s[errand.origin]
        return min(among, key=lambda one: (trips_s[one.index], one.index))

    def next_after(self, attempt: Attempt) -> PlainServer | None:
        """The nearest open region that has not turned this attempt away, None: there is none, or it does not spill."""
        server = self._world.servers[attempt.server]
        if not server.spec.spills:
            return None
        left = [
            one
            for one in self._all(server.index)
            if one.is_open and not one.lost and one is not server and one.index not in attempt.turned_away
        ]
        return self._nearest(left, attempt.errand) if left else None

    def origin(self, server: int) -> int:
        """Where the calls of a server come from."""
        return 0 if self._places is None else self._places.origin[server]

    def way_s(self, attempt: Attempt) -> float:
        """Round trips of an answer to an attempt from where it is [s]."""
        return 0.0 if self._places is None else float(self._places.ways_s[attempt.errand.origin][attempt.server])

    # -- what visitors have seen -------------------------------------------------------------------

    def _known_of(self, errand: Errand, now_s: float) -> frozenset[int]:
        """The regions that whoever sends it takes for open: as they were when he looked."""
        now = self._open(errand.server)
        first = self._all(errand.server)[0]
        every_s = first.spec.reroute_s
        if errand.is_call or every_s == 0:
            return now
        is_visitor = errand.visitor >= 0
        who = (first.index, int(is_visitor), errand.visitor if is_visitor else errand.id)
        if who not in self._seen:
            if is_visitor:
                self._seen[who] = now_s, now
            return now
        looked_s, seen = self._seen[who]
        u, _ = uniforms(self._world.spec.seed, "look", who[2], who[1], 0)
        look_s = (math.floor(now_s / every_s - u) + u) * every_s
        if look_s > looked_s:
            seen = now if now_s - look_s < tolerance_s(now_s) else self._open_at(first.index, look_s)
            self._seen[who] = look_s, seen
        return seen

    def _open_at(self, service: int, at_s: float) -> frozenset[int]:
        found: frozenset[int] = frozenset()
        for changed_s, open_then in self._changes[service]:
            if changed_s < at_s + tolerance_s(at_s):
                found = open_then
        return found
