"""What the log behind a trace has seen, beside the load that is replayed."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Final

from libramen.trace.growing import counted
from libramen.trace.source import Demand
from libramen.trace.trace import Trace

_AS_BUSY: Final = 1.05
"""A minute that has no more than so many times the requests counts as one that was seen."""
_MINUTE_S: Final = 60.0


@dataclass(frozen=True)
class Evidence:
    """What the log behind a trace has seen, beside the load that is replayed.

    Attributes:
        demand: how the work was found, and what speaks against it.
        replayed: requests a second in the busiest minute of what is replayed.
    """

    demand: Demand
    replayed: float

    @property
    def logged(self) -> float | None:
        """Requests a second in the busiest minute of the log; None: no log is known."""
        return self.demand.busiest

    @property
    def up_to(self) -> float | None:
        """How many times the load that is replayed the log has seen; None: nobody knows."""
        return None if self.logged is None else self.logged / self.replayed

    def is_beyond(self, factor: float = 1.0) -> bool:
        """Whether so many times the load that is replayed is more than the log has ever seen."""
        return self.up_to is not None and factor > _AS_BUSY * self.up_to

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        found = self.demand.bottleneck
        return {
            "logged_per_s": self.logged,
            "replayed_per_s": self.replayed,
            "bottleneck": None if found is None else asdict(found),
            "doubts": list(self.demand.doubts),
        }


def busiest_minute(trace: Trace) -> float:
    """Requests a second in the busiest minute of a trace; of one that is shorter than a minute, over all of it."""
    return int(counted(trace.at_s, _MINUTE_S).max()) / min(_MINUTE_S, max(trace.span_s, 1e-9))


def evidence_of(trace: Trace, scale: float = 1.0) -> Evidence:
    """What the log behind a trace has seen, beside so many times its load.

    Example:
        >>> evidence_of(load_study("saltmarsh/study.toml").trace()).logged  # doctest: +SKIP
        41.2
    """
    return Evidence(trace.demand, scale * busiest_minute(trace))
