"""What came of requests: of those of a trace, or of the visits to one of its services."""

from __future__ import annotations

from datetime import datetime
from functools import cached_property

import numpy as np

from libramen.base import heavy
from libramen.bill.bill import Bill
from libramen.engine.record import Run, ServiceRun
from libramen.outcome.judged import judged
from libramen.outcome.measured import Measured
from libramen.outcome.measures import Asked, Failures, Hour, Measures, hides_failures
from libramen.outcome.month import MonthFigures
from libramen.study.objectives import Goal, Objective


class OfRequests:
    """What came of requests, or of visits; see `Outcome` for what the attributes are.

    Args:
        run: the record of them.
        measured: what was kept or counted of them.
        whole: the figures of all of them.
        bill: of a month.
        asked: what is asked of them.
        seed: random seed.
        month: the figures of a month of them.
        scale: how often the month has each request that is counted there.
    """

    def __init__(
        self, run: Run | ServiceRun, measured: Measured, whole: Measures, bill: Bill, asked: Asked, seed: int,
        month: Measures,
        scale: float,
    ) -> None:  # fmt: skip
        self._asked, self._measured, self._whole = asked, measured, whole
        self.bill, self.seed = bill, seed
        self._month, self._scale = month, scale
        self.span_s, self.start, self._edges_s = run.span_s, run.start, run.edges_s
        self.n_requests = whole.n_requests
        self.attempts = whole.attempts
        self.endings = whole.endings
        self.latency_s = whole.latency_s
        self.answered_s = whole.answered_s
        self.availability = whole.availability
        self.availability_minutes = whole.availability_minutes
        self.bytes_out = whole.bytes_out

    span_s: float
    """The time that the trace covers [s]."""
    start: datetime | None
    """The instant 0 as a real time, None where it is not known."""

    @property
    def whole(self) -> Measures:
        """The figures of all that are measured."""
        return self._whole

    @property
    def failures(self) -> Failures | None:
        """When requests failed, None: none did."""
        return self._measured.failures()

    def failed_between(self, from_s: float, to_s: float) -> tuple[int, int] | None:
        """Of the requests that arrived then, how many failed, and how many there were; None: they were not kept."""
        return self._measured.failed_between(from_s, to_s)

    @cached_property
    def objectives(self) -> tuple[Objective, ...]:
        """Each objective, what was wanted, what was got in a month, and whether that is met."""
        return tuple(judged(goal, self._month_for(goal), self.bill) for goal in self._asked.goals)

    def _month_for(self, goal: Goal) -> Measures:  # noqa: ARG002  (of a service all are about all of its visits)
        """Of the requests that an objective is about, or the visits, in a month."""
        return self._month

    @cached_property
    def month(self) -> MonthFigures:
        """Availability, latencies and endings of a month."""
        return MonthFigures.of(self._month, self._scale)

    @property
    def meets_all(self) -> bool:
        """Whether every objective is met."""
        return all(objective.met for objective in self.objectives)

    @cached_property
    def worst_hour(self) -> Hour | None:
        """The hour of the clock with the most requests that were not answered ok within the first latency objective.

        Without such an objective, with the most failed ones; None: nothing was measured.
        """
        return self._measured.worst_hour()

    @property
    def hides_failures(self) -> bool:
        """Whether more than 1 % of the requests failed, so that the percentiles of the answered ones say too little."""
        return hides_failures(self.availability)

    @cached_property
    def series(self) -> heavy.DataFrame:
        """One row per window of `run.window_s`: see `series_arrays`; `time` is local where it is known."""
        import pandas as pd

        return self._with_time(pd.DataFrame(self.series_arrays()))

    def _with_time(self, frame: heavy.DataFrame) -> heavy.DataFrame:
        """The same with a column of local times beside `at_s`, where they are known."""
        import pandas as pd

        if self.start is not None:
            start = pd.Timestamp(self.start.astimezone(tz=None)).tz_convert(str(self.start.tzinfo))
            frame.insert(1, "time", start + pd.to_timedelta(frame["at_s"], unit="s"))
        return frame

    def series_arrays(self) -> dict[str, np.ndarray]:
        """Series per window, aligned to 0; requests count in the window in which they arrived.

        Keys: at_s (start of the window), arrivals, attempts, each ending (all per window); p50_s, p95_s, p99_s
        (over ok requests, NaN without any). Of one service also in_progress, waiting (means); bank_empty, ready,
        coming, paid (mean replicas; the first: with no saved CPU and more to do than they earn); utilisation (NaN
        without replicas).
        """
        return self.series_of_counts() | self._percentiles

    @cached_property
    def _percentiles(self) -> dict[str, np.ndarray]:
        return self._measured.percentiles_per_window(len(self._edges_s) - 1)

    def series_of_counts(self) -> dict[str, np.ndarray]:
        """The same without percentiles, which take long to compute."""
        return dict(self._counts)

    _counts: dict[str, np.ndarray]

    def counts(self) -> dict[str, np.ndarray]:
        """Of each window its begin, arrivals, attempts, and each ending."""
        return {"at_s": self._edges_s[:-1], **self._measured.per_window(len(self._edges_s) - 1)}
