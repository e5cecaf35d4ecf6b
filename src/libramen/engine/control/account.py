"""The most that all services of a plan may have at once: orders beyond it are held back until a replica is gone."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from libramen.engine.control.agenda import Agenda, Kind
from libramen.study.terms import Account

if TYPE_CHECKING:
    from libramen.engine.control.fleet import Fleet
    from libramen.engine.control.replaying import Replay

_EPSILON: Final = 1e-9


class AccountLimits:
    """Counts replicas and cores of all services, ordered ones included, draining ones until they are gone.

    Args:
        account: the limits.
        agenda: of all services.
    """

    def __init__(self, account: Account, agenda: Agenda) -> None:
        self._account, self._agenda = account, agenda
        self._replays: list[Replay] = []
        self._is_short = self._is_planned = False

    def join(self, replay: Replay) -> None:
        """Another service, in the order of the study."""
        self._replays.append(replay)
        replay.fleet.account = self

    def room(self, fleet: Fleet) -> int:
        """How many replicas more a fleet may order."""
        place = next(replay.hosting.region for replay in self._replays if replay.fleet is fleet)
        room = MANY
        for region, limits in self._account.limits():
            if region not in {None, place}:
                continue
            fleets = [replay.fleet for replay in self._replays if region in {None, replay.hosting.region}]
            if limits.replicas is not None:
                room = min(room, limits.replicas - sum(one.n_alive for one in fleets))
            if limits.cores is not None:
                used = sum(one.n_alive * one.cores for one in fleets)
                room = min(room, int((limits.cores - used) / fleet.cores + _EPSILON))
        return max(0, room)

    def hold_back(self) -> None:
        """An order is not made."""
        self._is_short = True

    def gone(self, now_s: float) -> None:
        """A replica of some service is: what was held back is tried again, after all else of the instant."""
        if self._is_short and not self._is_planned:
            self._is_planned = True
            self._agenda.add(now_s, Kind.DECISION, self._try_again)

    def _try_again(self, now_s: float) -> None:
        self._is_short = self._is_planned = False
        for replay in self._replays:
            replay.fleet.order_owed(now_s)
            replay.tell("look_again", now_s)


MANY: Final = 10**9
