"""One service of a replay under way: what its parts share, and how they take part in it."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING, Any, Final

from libramen.engine.border.plane import Server
from libramen.engine.border.records import Notices
from libramen.engine.control.agenda import Agenda, ServiceAgenda
from libramen.engine.control.fleet import Fleet
from libramen.engine.control.placement import InTurn
from libramen.study.system import Hosted

if TYPE_CHECKING:
    from libramen.engine.control.region import Region
    from libramen.engine.control.standbys import Standbys


FUTILE: Final = 1000
"""After so many decisions, or promotions, without a ready replica none is expected any more."""


class Part:
    """What takes part in the replay of a service: a scaler, the updates of a plan, a meter.

    A part is made with the `Replay`, enters its events into the agenda, and overrides what it wants to be told.
    """

    def begin(self) -> None:
        """The replay begins, and nothing has happened yet."""

    def before_advance(self) -> None:
        """The data plane is going to run until the next control event."""

    def heed(self, notices: Notices, now_s: float) -> None:
        """The data plane has come back with notices; what concerns the fleet is done already."""

    def update_is_over(self, now_s: float) -> None:
        """No update is under way any more, and the fleet's size may change again."""

    def look_again(self, now_s: float) -> None:
        """What it waits for may be there: machines may be ordered in a zone again, or one of them is under notice."""

    def region_opens(self, now_s: float) -> None:
        """Its region was lost, and is open again."""

    def span_is_over(self, now_s: float) -> None:
        """The time that the trace covers has passed; requests may still be open."""

    @property
    def wants_nothing(self) -> bool:
        """Whether, as things are, it will order nothing more once no request arrives."""
        return True

    @property
    def is_futile(self) -> bool:
        """Whether it would go on for ever without a replica becoming ready."""
        return False

    @property
    def depends_on_numbers(self) -> bool:
        """Whether what it will do depends on what a replica is called."""
        return False


class Replay:
    """One service under way: it, its plan, its place in the data plane, its fleet, and the parts that have joined.

    Args:
        hosted: the service and its plan.
        index: number of the service.
        plane: it, in the data plane.
        agenda: of all services.
        start: the instant 0 as a real time, None: not known.
        seed: random seed.

    Attributes:
        is_out: whether its region is lost, or not yet whole again.
        region: in which it stands, None: that does not matter.
        heir: what would serve in another region if this one is closed, None: nothing does.
        has_moved: whether it does.
    """

    def __init__(
        self, hosted: Hosted, index: int, plane: Server, agenda: Agenda, start: datetime | None, seed: int
    ) -> None:
        self.name, self.service, self.hosting = hosted.name, hosted.service, hosted.hosting
        self.plane, self.start = plane, start
        self.index, self.seed, self.luck = index, seed, hosted.luck
        self.agenda = ServiceAgenda(agenda, index)
        self.placement = InTurn(self.hosting.zones_used)
        self.fleet = Fleet(self.service, self.hosting, plane, self.agenda, self.placement, seed, hosted.luck)
        self.is_out = False
        self.region: Region | None = None
        self.heir: Standbys | None = None
        self.has_moved = False
        self._parts: list[Part] = []

    @property
    def is_updating(self) -> bool:
        """Whether an update is under way, so that the fleet's size is the update's."""
        return self.fleet.updates_to is not None

    @property
    def stands_still(self) -> bool:
        """Whether its rule may change nothing: an update is under way, or its region is out."""
        return self.is_updating or self.is_out

    def join(self, part: Part) -> None:
        """Let a part take part: it is told what it overrides, after those that joined before it."""
        self._parts.append(part)

    def told(self, what: str) -> list[Callable[..., Any]]:
        """The methods of this name of those parts that override it, in the order in which they joined."""
        return [getattr(part, what) for part in self._parts if getattr(type(part), what) is not getattr(Part, what)]

    def tell(self, what: str, *about: object) -> None:
        """Call them."""
        for hear in self.told(what):
            hear(*about)

    def heed(self, notices: Notices, now_s: float) -> None:
        """The data plane has come back with notices about this service."""
        self.fleet.heed(notices, now_s)
        self.tell("heed", notices, now_s)

    def update_is_over(self, now_s: float) -> None:
        """No update is under way any more."""
        self.fleet.updates_to = None
        if not self.is_out:
            self.tell("update_is_over", now_s)

    @property
    def is_futile(self) -> bool:
        """Whether it would go on for ever without a replica becoming ready."""
        return any(part.is_futile for part in self._parts)

    @property
    def depends_on_numbers(self) -> bool:
        """Whether what is to come depends on what a replica is called, beyond which number is the lower."""
        return self.fleet.draws_by_number or any(part.depends_on_numbers for part in self._parts)

    @property
    def nothing_comes(self) -> bool:
        """Whether no replica will ever be ready, once nothing is left to do: held visits would wait for ever."""
        there = [replica for replica in self.fleet.alive() if not (replica.is_held_up or replica.is_lost)]
        return not there and all(part.wants_nothing for part in self._parts)
