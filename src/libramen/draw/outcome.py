"""The picture of a replay: of its only service, or of several."""

from __future__ import annotations

from typing import TYPE_CHECKING

from libramen.draw.replay import draw_one
from libramen.draw.system import draw_system
from libramen.outcome.outcome import Outcome

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def draw_outcome(outcome: Outcome, from_s: float | None = None, to_s: float | None = None) -> Figure:
    """All of it, or only the stretch from `from_s` to `to_s` [s].

    Raises:
        ReplayError: there is no such stretch.
    """
    if outcome.only is None:
        return draw_system(outcome, from_s, to_s)
    return draw_one(outcome, outcome.only, from_s, to_s)
