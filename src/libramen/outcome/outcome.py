"""The outcome of a replay: figures, tables, JSON, a picture."""

from __future__ import annotations

import dataclasses
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from libramen.bill.usage import usage_of
from libramen.errors import ReplayError
from libramen.fields import nearest
from libramen.outcome import measures
from libramen.outcome.judged import judged
from libramen.shown import Shown, figure_of, figure_of_where
from libramen.times import EPSILON_S

if TYPE_CHECKING:
    from collections.abc import Callable
    from datetime import datetime

    import pandas as pd
    import pyarrow as pa
    from matplotlib.figure import Figure

    from libramen.bill.bill import Bill
    from libramen.bill.usage import Used
    from libramen.engine.run import Run
    from libramen.outcome.events import Event, Key
    from libramen.outcome.figures import Figures
    from libramen.outcome.findings import Finding
    from libramen.outcome.measures import Asked, Failures, Hour, Measured, Measures
    from libramen.outcome.scaling import Scaling
    from libramen.outcome.stretch import StretchFigures
    from libramen.outcome.waits import ColdWaits
    from libramen.outcome.where import Where
    from libramen.study.objectives import Goal, Objective
    from libramen.study.system import Hosted, System
    from libramen.trace.trace import Trace


class Outcome(Shown):
    """What came of replaying a trace against a plan.

    Attributes:
        trace: what was replayed; an error where it came in chunks.
        system: the services, what they run on, and who asks whom.
        name: of the service.
        service, plan, run, seed: what it was replayed against, and the record of it.
        bill: the `Bill` of a month.
        requests_measured, attempts: how many; a request that is sent again counts once, its attempts each.
        endings: requests by ending: ok, refused, timed_out, lost, cut, errored; they add up.
        latency_s: mean, p50, p90, p95, p99, p999 and max over ok requests [s], None without any. Percentiles
            are by nearest rank, exact where requests are kept, else within 0.5 %.
        answered_s: within what time p50, p90, ... of **all** requests were answered ok [s], None: so many never were.
        availability: share of requests that are ok; `availability_minutes`: share of the minutes with
            traffic in which at most 1 % failed, or what the objectives say.
        time_s: where the time of the ok requests went, added up [s]; see `measures.Measures`.
        bytes_out: of the answers.
        utilisation: cores in use over cores there.
        requests, series, fleet, stages, decisions, updates, deaths, routes: pandas frames.
        scaling: what the scaling rule did, in figures; see `outcome.scaling.Scaling`.
        findings: what is worth knowing, the most costly first.
        is_part: whether it is about the visits of one of several services.
    """

    def __init__(
        self,
        *,
        trace: Trace | None,
        system: System,
        hosted: Hosted,
        run: Run,
        measured: Measured,
        bill: Bill,
        asked: Asked,
        seed: int,
        settle_s: float,
        again: Callable[..., Outcome] | None = None,
        is_part: bool = False,
    ) -> None:
        self.system = system
        self._trace, (self.name, self.service, self.plan), self.run, self.bill = trace, hosted, run, bill
        self.is_part, self._again = is_part, again
        self.seed, self.settle_s = seed, settle_s
        self._asked, self._measured = asked, measured
        figures = self._whole = measured.measures()
        if not figures.requests and not is_part:
            raise ReplayError(f"settle: found {settle_s!r} s; allowed: up to the last arrival, or nothing is measured")
        self.requests_measured = figures.requests
        self.attempts = figures.attempts
        self.endings = figures.endings
        self.latency_s = figures.latency_s
        self.answered_s = figures.answered_s
        self.availability = figures.availability
        self.availability_minutes = figures.availability_minutes
        self.time_s = figures.time_s
        self.bytes_out = figures.bytes_out
        self._look_at_fleet()

    utilisation: float | None
    replicas_min: int | None
    replicas_mean: float | None
    replicas_max: int | None
    replicas_peak: int | None
    cold_starts: int
    paid_s: float

    def _look_at_fleet(self) -> None:
        run = self.run
        self.utilisation = measures.utilisation(run, self.plan.size.cores)
        ready = measures.stage_steps(run, "ready")
        self.replicas_min, self.replicas_max = ready.extremes()
        whole = np.array([0.0, run.span_s])
        self.replicas_mean = float(ready.mean(whole)[0])
        self.replicas_peak = run.peak
        self.cold_starts = measures.cold_starts(run)
        self.paid_s = float(measures.paid_steps(run, self.plan).mean(whole)[0]) * run.span_s

    @property
    def trace(self) -> Trace:
        """What was replayed.

        Raises:
            ReplayError: it came in chunks, which are gone.
        """
        if self._trace is None:
            raise ReplayError("the trace of this replay came in chunks, which are gone")
        return self._trace

    @property
    def services(self) -> dict[str, Outcome]:
        """The outcome of each service by name; of the only one it is this one."""
        return {self.name: self}

    @property
    def has_trace(self) -> bool:
        """Whether what was replayed is still there."""
        return self._trace is not None

    @property
    def span_s(self) -> float:
        """The time that the trace covers [s]."""
        return self.run.span_s

    @property
    def start(self) -> datetime | None:
        """The instant 0 as a real time, None where it is not known."""
        return self.run.start

    @property
    def failures(self) -> Failures | None:
        """When requests failed, None: none did."""
        return self._measured.failures()

    def failed_between(self, from_s: float, to_s: float) -> tuple[int, int] | None:
        """Of the requests that arrived then, how many failed, and how many there were; None: they were not kept."""
        return self._measured.failed_between(from_s, to_s)

    @property
    def whole(self) -> Measures:
        """The figures of all that are measured."""
        return self._whole

    def of_route(self, route: str) -> Measures:
        """The figures of one route.

        Raises:
            ReplayError: no request asked for it.
        """
        if route not in self.run.routes:
            raise ReplayError(f"no request of the trace has the route {route!r}; {nearest(route, self.run.routes)}")
        return self._by_route[self.run.routes.index(route)]

    @cached_property
    def _by_route(self) -> list[Measures]:
        return [self._measured.measures(code) for code in range(len(self.run.routes))]

    @property
    def usage(self) -> tuple[Used, ...]:
        """What was used, by hour of the clock: what the bill is made of."""
        return usage_of(self.run, self.plan, self._measured)

    # -- objectives --------------------------------------------------------------------------------

    @cached_property
    def objectives(self) -> tuple[Objective, ...]:
        """Each objective, what was wanted, what was got, and whether that is met."""
        return tuple(judged(goal, self._measures_for(goal), self.bill) for goal in self._asked.goals)

    def _measures_for(self, goal: Goal) -> Measures:
        """Of the requests that an objective is about, or the visits."""
        if goal.service is not None:
            return self.services[goal.service].whole
        if goal.route is not None:
            return self.of_route(goal.route)
        return self._whole if goal.window is None else self._measured.measures(window=goal.window)

    @cached_property
    def worst_hour(self) -> Hour | None:
        """The hour of the clock with the most requests that were not answered ok within the first latency objective.

        Without such an objective, with the most failed ones; None: nothing was measured.
        """
        return self._measured.worst_hour()

    @property
    def hides_failures(self) -> bool:
        """Whether more than 1 % of the requests failed, so that the percentiles of the answered ones say too little."""
        return self.availability is not None and self.availability < 0.99

    @property
    def meets_all(self) -> bool:
        """Whether every objective is met."""
        return all(objective.met for objective in self.objectives)

    # -- tables ------------------------------------------------------------------------------------

    @cached_property
    def requests(self) -> pd.DataFrame:
        """One row per request, in order of arrival: at_s, route, latency_s, queued_s, ending, replica, attempts."""
        from libramen.outcome.requests import requests_frame

        return requests_frame(self.requests_table())

    @cached_property
    def series(self) -> pd.DataFrame:
        """One row per window of `run.window_s`: see `series_arrays`; `time` is local where it is known."""
        import pandas as pd

        return self._with_time(pd.DataFrame(self.series_arrays()))

    def _with_time(self, frame: pd.DataFrame) -> pd.DataFrame:
        """The same with a column of local times beside `at_s`, where they are known."""
        import pandas as pd

        if self.start is not None:
            start = pd.Timestamp(self.start.astimezone(tz=None)).tz_convert(str(self.start.tzinfo))
            frame.insert(1, "time", start + pd.to_timedelta(frame["at_s"], unit="s"))
        return frame

    def series_of(self, route: str) -> pd.DataFrame:
        """The series of one route: arrivals, endings and percentiles per window, as in `series`.

        Raises:
            ReplayError: no request asked for it, or requests were not kept.
        """
        import pandas as pd

        self.of_route(route)
        edges = self.run.edges_s
        code = self.run.routes.index(route)
        n = len(edges) - 1
        columns = self._measured.per_window(n, code) | self._measured.percentiles_per_window(n, code)
        return pd.DataFrame({"at_s": edges[:-1], **columns})

    def series_arrays(self) -> dict[str, np.ndarray]:
        """Series per window, aligned to 0; requests count in the window in which they arrived.

        Keys: at_s (start of the window), arrivals, attempts, each ending (all per window); p50_s, p95_s, p99_s
        (over ok requests, NaN without any); in_progress, waiting (means); bank_empty, ready, coming, paid (mean
        replicas; the first: with no saved CPU and more to do than they earn); utilisation (NaN without replicas).
        """
        return self.series_of_counts() | self._percentiles

    @cached_property
    def _percentiles(self) -> dict[str, np.ndarray]:
        return self._measured.percentiles_per_window(len(self.run.edges_s) - 1)

    def series_of_counts(self) -> dict[str, np.ndarray]:
        """The same without percentiles, which take long to compute."""
        return dict(self._series_arrays)

    @cached_property
    def _series_arrays(self) -> dict[str, np.ndarray]:
        from libramen.outcome.series import series

        return series(self.run, self.plan, self._measured)

    @cached_property
    def fleet(self) -> pd.DataFrame:
        """One row per replica: its life in seconds from the start, and what came of it.

        Columns: number, zone, version; why it was ordered (start, scaling, update) and by which decision (its number
        in `decisions`, from 0); ordered_s (it is booting), started_s (its process starts), ready_s (for the first
        time), draining_s, gone_s, NaN where that never was; why_gone (scaling, idle, update) and ended_by, the
        decision that took it away; deaths; served (requests answered ok); core_s (cores in use) and paid_s, up to the
        end of the span. `stages` has all that it went through.
        """
        from libramen.outcome.tables import fleet

        return fleet(self.run, self.plan, self._measured.served(len(self.run.replicas)))

    @cached_property
    def stages(self) -> pd.DataFrame:
        """One row per stage of a replica's life: number, stage, from_s, to_s (infinity: it lasts).

        Stages: booting, starting, ready, down (dead, also while the balancer does not know it), draining.
        """
        from libramen.outcome.tables import stages

        return stages(self.run)

    @cached_property
    def where(self) -> Where:
        """Where the time of the requests went: of all, and of the slowest 1 %."""
        from libramen.outcome.where import Where

        return Where(self)

    @cached_property
    def scaling(self) -> Scaling:
        """What the scaling rule did, in figures."""
        from libramen.outcome.scaling import Scaling

        return Scaling(self)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What is worth knowing of this replay, the most costly first."""
        from libramen.outcome.findings import findings

        return findings(self)

    @cached_property
    def waits(self) -> ColdWaits | None:
        """Requests that waited for a cold start; None: requests were not kept."""
        return self._measured.cold_waits(self.run)

    @cached_property
    def decisions(self) -> pd.DataFrame:
        """One row per decision of the scaling rule, in order: when, what it saw, and what came of it.

        Columns: at_s, and `time`, local where it is known; measure and what was measured from window_from_s to
        window_to_s (NaN: nothing); ready and coming before it acted; floor and ceiling then (NA: none); wanted by the
        rule;
        held_by, what kept it from wanting or getting another number: dead_band, no band, no measure, step_up,
        step_down, floor, ceiling, tier_least, tier_most, pause_up, pause_down, update; ordered, cancelled, drained;
        came_s, when the last replica that it ordered was ready (NaN: none was). Of `on_arrival` those that ordered or
        drained, and the first of each time that it was held back.
        """
        from libramen.outcome.tables import decisions

        return self._with_time(decisions(self.run, self.scaling.came_s))

    @cached_property
    def updates(self) -> pd.DataFrame:
        """One row per rolling update; `mixed_s`: for how long two versions were in use."""
        from libramen.outcome.tables import updates

        return updates(self.run)

    @cached_property
    def deaths(self) -> pd.DataFrame:
        """One row per death of a replica: at_s, replica, why."""
        from libramen.outcome.tables import deaths

        return deaths(self.run)

    @cached_property
    def routes(self) -> pd.DataFrame:
        """One row per route: requests, attempts, endings, latencies, availability, bytes_out, and `time_...`.

        `time_queued_s` and the like say where the time of the ok requests went, added up [s].
        """
        from libramen.outcome.tables import routes

        return routes(self.run.routes, self._by_route)

    @property
    def can_be_replayed(self) -> bool:
        """Whether it can be replayed again, with something left out: its trace is there, and it is about requests."""
        return self._again is not None and not self.is_part and self.run.results is not None

    def without(self, *keys: Key) -> Outcome:
        """The same replay on the same luck, but without some releases or faults; see `outcome.events.Key`.

        Raises:
            ReplayError: its requests were not kept.
        """
        if self._again is None:
            raise ReplayError("the requests of this replay were not kept; allowed: keep_requests=True")
        return self._again(without=keys)

    @cached_property
    def happened(self) -> tuple[Event, ...]:
        """Releases and faults in order of time, with what each has cost: one more replay for each entry of a table."""
        from libramen.outcome.events import worked_out

        return worked_out(self)

    @cached_property
    def events(self) -> pd.DataFrame:
        """One row per release or fault, random ones of a kind together; see `outcome.events.Event` for the columns.

        What each has cost is its difference to a replay without it, which is made when this is first looked at.
        """
        from libramen.outcome.tables import events

        return self._with_time(events(self.happened))

    def requests_table(self) -> pa.Table:
        """`requests` as an Arrow table, for writing without pandas."""
        from libramen.outcome.requests import requests_table

        if self.run.results is None:
            raise ReplayError("the requests of this replay were not kept; allowed: keep_requests=True")
        return requests_table(self.trace, self.run.results)

    # -- for machines, notebooks and eyes ----------------------------------------------------------

    def figures(self, *, routes: bool = True, events: bool = False) -> Figures:
        """All that tables, findings, verdicts and JSON say of it, as a small record of plain values.

        Args:
            routes: whether the figures of each route are in it.
            events: whether it is worked out what each release and fault has cost, by replays without it; else it says
                only when they were.
        """
        from libramen.outcome.days import days_of
        from libramen.outcome.events import happened
        from libramen.outcome.figures import Figures, RouteFigures

        same = (
            "seed", "start", "span_s", "attempts", "endings", "latency_s", "answered_s", "availability",
            "availability_minutes", "utilisation", "replicas_min", "replicas_mean", "replicas_max", "replicas_peak",
            "cold_starts", "paid_s", "bill", "objectives", "worst_hour", "time_s", "bytes_out", "findings",
        )  # fmt: skip
        per_route = None
        if routes:
            shared = [field.name for field in dataclasses.fields(RouteFigures) if field.name != "route"]
            per_route = tuple(
                RouteFigures(route, **{name: getattr(found, name) for name in shared})
                for route, found in zip(self.run.routes, self._by_route, strict=True)
            )
        return Figures(
            plan=self.plan.name,
            **self._hosted_on(),
            requests=self.requests_measured,
            deaths=tuple(self.run.deaths),
            events=() if self.is_part else self.happened if events else tuple(happened(self)),
            routes=per_route,
            days=None if self.is_part else days_of(self, self._asked.limits()),
            **{name: getattr(self, name) for name in same},
        )

    def _hosted_on(self) -> dict[str, Any]:
        """What of the figures says where it is hosted."""
        return {"tier": self.plan.tier.name, "size": self.plan.size.name}

    def to_dict(self, *, routes: bool = True) -> dict[str, Any]:
        """The outcome as the JSON of the command line: plain numbers, None for what does not exist.

        Args:
            routes: whether the figures of each route are in it.
        """
        return self.figures(routes=routes, events=True).to_dict()

    def plot(self, from_s: float | None = None, to_s: float | None = None) -> Figure:
        """Requests, latency, replicas and utilisation over the time of the trace, of a long one its worst stretch too.

        Args:
            from_s: only from there on, in finer windows [s from the start].
            to_s: only up to there, likewise.

        Raises:
            ReplayError: there is no such stretch, or requests were not kept.
        """
        return figure_of(self, from_s, to_s)

    def stretch(self, from_s: float, to_s: float) -> StretchFigures:
        """What came of the requests that arrived in a stretch, and of the fleets meanwhile.

        Args:
            from_s: its begin [s from the start].
            to_s: its end, likewise.

        Raises:
            ReplayError: there is no such stretch, or requests were not kept.
        """
        from libramen.outcome.stretch import stretch_of

        return stretch_of(self, from_s, to_s)

    def in_windows(self, window_s: float) -> Outcome:
        """The same with series in windows of another width [s].

        Raises:
            ReplayError: its requests were not kept.
        """
        if len(self.run.edges_s) > 1 and abs(self.run.window_s - window_s) < EPSILON_S:
            return self
        if self._again is None:
            raise ReplayError("the requests of this replay were not kept; allowed: keep_requests=True")
        return self._again(window_s=window_s)

    def plot_where(self) -> Figure:
        """Where the time of the requests went, as chains of bars: of all, and of the slowest 1 %."""
        return figure_of_where(self)

    def __repr__(self) -> str:
        return f"Outcome(plan={self.plan.name!r}, requests={self.requests_measured}, month={self.bill.month})"
