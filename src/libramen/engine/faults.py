"""The faults of a plan: when each strikes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from libramen.engine.agenda import Kind
from libramen.engine.replaying import Part

if TYPE_CHECKING:
    from collections.abc import Sequence

    from libramen.engine.agenda import Action
    from libramen.engine.replaying import Replay
    from libramen.rules.faults.fault import Fault


class Faults(Part):
    """Lets each fault strike when it is due: `due` has the instant of each [s]."""

    def __init__(self, replay: Replay, due: Sequence[tuple[float, Fault]]) -> None:
        self._fleet = replay.fleet
        for at_s, fault in due:
            replay.agenda.add(at_s, Kind.FAULT, self._strike(fault), fault.number)

    def _strike(self, fault: Fault) -> Action:
        def strike(now_s: float) -> None:
            fault.strike(self._fleet, now_s)

        return strike
