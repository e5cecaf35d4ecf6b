"""What the log behind a trace has seen, beside the load that is replayed."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, Final

from libramen.trace.growing import counted

if TYPE_CHECKING:
    from libramen.trace.trace import Bottleneck, Trace

_AS_BUSY: Final = 1.05
"""A minute that has no more than so many times the requests counts as one that was seen."""
_MINUTE_S: Final = 60.0


@dataclass(frozen=True)
class Evidence:
    """What the log behind a trace has seen, beside the load that is replayed.

    Attributes:
        logged: requests a second in the busiest minute of the log; None: the trace is not of a log, or its work was
            given with it.
        replayed: requests a second in the busiest minute of what is replayed.
        bottleneck: what the log shows to slow requests down and the study does not have; None: nothing.
        doubts: what else speaks against the work that was found, a sentence each.
    """

    logged: float | None
    replayed: float
    bottleneck: Bottleneck | None
    doubts: tuple[str, ...]

    @property
    def up_to(self) -> float | None:
        """How many times the load that is replayed the log has seen; None: nobody knows."""
        return None if self.logged is None else self.logged / self.replayed

    def is_beyond(self, factor: float = 1.0) -> bool:
        """Whether so many times the load that is replayed is more than the log has ever seen."""
        return self.up_to is not None and factor > _AS_BUSY * self.up_to

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        return {
            "logged_per_s": self.logged,
            "replayed_per_s": self.replayed,
            "bottleneck": None if self.bottleneck is None else asdict(self.bottleneck),
            "doubts": list(self.doubts),
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
    demand = trace.demand
    return Evidence(demand.busiest, scale * busiest_minute(trace), demand.bottleneck, demand.doubts)
