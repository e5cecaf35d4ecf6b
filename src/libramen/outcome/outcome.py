"""The outcome of a replay: figures, tables, JSON, a picture."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any, Final

import numpy as np

from libramen.base import heavy
from libramen.base.errors import ReplayError
from libramen.base.fields import nearest
from libramen.base.shown import Shown, figure_of, figure_of_costs, figure_of_where
from libramen.base.times import EPSILON_S
from libramen.bill.bill import Bill
from libramen.bill.costs import Costs, costs_of, hour_costs
from libramen.bill.month import clock_hours
from libramen.bill.usage import Used
from libramen.outcome.events import Event
from libramen.outcome.figures import Figures
from libramen.outcome.findings import Finding
from libramen.outcome.measures import ALL, Asked, Measures, Scope
from libramen.outcome.month import Key, WeightedReplays
from libramen.outcome.of_requests import OfRequests
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.outcome.stretch import StretchFigures
from libramen.outcome.where import Where
from libramen.study.edge import EDGE
from libramen.study.objectives import Goal
from libramen.study.system import System
from libramen.study.terms import Terms
from libramen.trace.trace import Trace

_NOT_KEPT: Final = "the requests of this replay were not kept; allowed: keep_requests=True"


class _OfOnly:
    """An attribute that stands for that of the only service; of several it is something else, or None."""

    def __init__(self, of_several: Callable[[Outcome], Any] = lambda _outcome: None) -> None:
        self._of_several = of_several

    def __set_name__(self, owner: type, name: str) -> None:
        self._name = name

    def __get__(self, outcome: Outcome | None, owner: type) -> Any:
        if outcome is None:
            return self
        return self._of_several(outcome) if outcome.only is None else getattr(outcome.only, self._name)


class _OfAll(_OfOnly):
    """A frame that stands for that of the only service; of several the rows of all, with a column `service`."""

    def __init__(self) -> None:
        super().__init__(self._of_each)

    def _of_each(self, outcome: Outcome) -> Any:
        import pandas as pd

        frames = []
        for name, one in outcome.services.items():
            frame = getattr(one, self._name).copy()
            frame.insert(0, "service", name)
            frames.append(frame)
        there = [frame for frame in frames if len(frame)]
        return pd.concat(there, ignore_index=True) if there else frames[0]


class Outcome(OfRequests, Shown):
    """What came of replaying a trace against a plan: of its requests, and of the fleet of each service.

    What is said of fleets is in `services`. Of one service `fleet`, `stages`, `decisions`, `updates`, `deaths`,
    `scaling`, `waits`, `utilisation` and the numbers of replicas stand for those of the only one. Of several the frames
    have the rows of all, with a column `service`, and the others are None.

    Attributes:
        trace: what was replayed; an error where it came in chunks.
        system, plan: the services, what they run on, and who asks whom.
        services: the `ServiceOutcome` of each service by name; `only`: that of the only one, None: there are several.
        run, seed: the record of the replay, and its random seed.
        bill: the `Bill` of a month; of several services each line says whose it is.
        terms: the currency, what a month is made of, the account's limits, tax and fees.
        weighted_replays: the replays of which a month is made, and how often each hour counts. Objectives, `month` and
            the bill are about the month, all else about the trace.
        n_requests, attempts: how many; a request that is sent again counts once, its attempts each.
        endings: requests by ending: ok, refused, timed_out, lost, cut, errored; they add up.
        latency_s: mean, p50, p90, p95, p99, p999 and max over ok requests [s], None without any. Percentiles
            are by nearest rank, exact where requests are kept, else within 0.5 %.
        answered_s: within what time p50, p90, ... of **all** requests were answered ok [s], None: so many never were.
        availability: share of requests that are ok; `availability_minutes`: share of the minutes with
            traffic in which at most 1 % failed, or what the objectives say.
        time_s: where the time of the ok requests went, added up [s]; see `measures.Measures`.
        bytes_out: of the answers.
        requests, series, routes, areas, events: pandas frames.
        findings: what is worth knowing, the most costly first.
    """

    def __init__(
        self,
        *,
        trace: Trace | None,
        system: System,
        services: dict[str, ServiceOutcome],
        weighted_replays: WeightedReplays,
        bill: Bill,
        terms: Terms,
        asked: Asked,
        seed: int,
        settle_s: float,
        again: Callable[..., Outcome] | None = None,
    ) -> None:
        with_events = weighted_replays.with_events
        month = weighted_replays.measures(with_events.whole)
        super().__init__(
            with_events.run, with_events.measured, with_events.whole, bill, asked, seed, month, weighted_replays.scale
        )
        self._trace, self._again = trace, again
        self.system, self.plan, self.services = system, system.plan, services
        self.run, self.settle_s, self.weighted_replays, self.terms = with_events.run, settle_s, weighted_replays, terms
        self.only = next(iter(services.values())) if len(services) == 1 else None
        self.cold_starts = sum(one.cold_starts for one in services.values())
        self.paid_s = sum(one.paid_s for one in services.values())

    time_s = _OfOnly(lambda outcome: outcome.where.time_s)
    tier = _OfOnly()
    size = _OfOnly()
    utilisation = _OfOnly()
    replicas_min = _OfOnly()
    replicas_mean = _OfOnly()
    replicas_max = _OfOnly()
    replicas_peak = _OfOnly()
    scaling = _OfOnly()
    waits = _OfOnly()
    died = _OfOnly(lambda _outcome: ())
    _counts = _OfOnly(OfRequests.counts)
    fleet = _OfAll()
    stages = _OfAll()
    decisions = _OfAll()
    updates = _OfAll()
    deaths = _OfAll()

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
    def has_trace(self) -> bool:
        """Whether what was replayed is still there."""
        return self._trace is not None

    def of_route(self, route: str) -> Measures:
        """The figures of one route.

        Raises:
            ReplayError: no request asked for it.
        """
        if route not in self.run.routes:
            raise ReplayError(f"no request of the trace has the route {route!r}; {nearest(route, self.run.routes)}")
        return self._by_route[self.run.routes.index(route)]

    @cached_property
    def by_area(self) -> dict[str, Measures]:
        """The figures of each area, where it is known where users are."""
        names = self._trace.areas if self._trace is not None else self._measured.areas
        return {name: self._measured.measures(Scope(area=name)) for name in names}

    def taken_in(self, area: str) -> dict[str, int] | None:
        """How many requests from an area were taken in each region at last; None: they were not kept, or there is none.

        Those that came before `settle` are left out.
        """
        results, trace = self.run.results, self._trace
        if results is None or trace is None or trace.area is None or not self.system.is_placed:
            return None
        there = (trace.area == trace.areas.index(area)) & (trace.at_s >= self.settle_s)
        found = dict.fromkeys(self.system.regions, 0)
        of_each = np.bincount(results.server[there], minlength=len(self.system.hosted))
        for number, hosted in enumerate(self.system.hosted):
            found[str(hosted.region)] += int(of_each[number])
        if self.system.edge is not None:
            found[EDGE] = int(of_each[len(self.system.hosted) :].sum())
        return found

    @cached_property
    def areas(self) -> heavy.DataFrame:
        """One row per area, with the columns of `routes`; no rows where nobody knows where users are."""
        from libramen.outcome.tables import routes

        return routes(list(self.by_area), list(self.by_area.values())).rename(columns={"route": "area"})

    @cached_property
    def _by_route(self) -> list[Measures]:
        return [self._measured.measures(Scope(route)) for route in self.run.routes]

    @property
    def usage(self) -> tuple[Used, ...]:
        """What was used, by hour of the clock; `Used.service` says whose it is."""
        return tuple(
            row._replace(service=row.service or name) for name, one in self.services.items() for row in one.usage
        )

    def _month_for(self, goal: Goal) -> Measures:
        scope = Scope.of(goal)
        if scope == ALL:
            return self._month
        if goal.service is not None:
            return self.weighted_replays.of_visits(goal.service)
        whole = self._measured.measures(scope) if goal.route is None else self.of_route(goal.route)
        return self.weighted_replays.measures(whole, scope)

    def scopes(self) -> dict[str, Scope]:
        """What objectives are about, by name; "" is all requests."""
        return {"": ALL} | {goal.scope: Scope.of(goal) for goal in self._asked.goals}

    # -- tables ------------------------------------------------------------------------------------

    @cached_property
    def requests(self) -> heavy.DataFrame:
        """One row per request, in order of arrival: at_s, route, latency_s, queued_s, ending, replica, attempts.

        Where places matter also area and region, that of the last attempt; its replica is a number of that region.
        """
        from libramen.outcome.requests import requests_frame

        return requests_frame(self.requests_table())

    @cached_property
    def where(self) -> Where:
        """Where the time of the requests went: of all, and of the slowest 1 %."""
        from libramen.outcome.where import Where

        return Where(self)

    @cached_property
    def costs(self) -> Costs:
        """Where the money of a month goes: by service, by route, by hour, and by what it is paid for."""
        return costs_of(self.bill, self.weighted_replays.use(), self.span_s, self.start, self.system.entries)

    def series_table(self) -> heavy.DataFrame:
        """One row per window of `run.window_s`, with units in the names of columns, for a file.

        at [s] (begin of the window), time (local, where it is known), arrivals, attempts, each ending, p50 to p99 [s]
        of ok requests; of each service its ready, coming and paid replicas, requests in progress and waiting (means)
        and its use; money: what the hour costs when it happens once, by the window's share of it.
        """
        from libramen.outcome import tables

        costs = hour_costs(self.bill, self.weighted_replays.use(), self.span_s, self.start)
        return tables.series(self, costs / np.diff(clock_hours(self.span_s, self.start)))

    def cost_rows(self, study: str, month: str | None = None) -> list[dict[str, Any]]:
        """The month as rows of the open cost and usage specification, version 1.0; they add up to the bill.

        Each line of the bill by service, zone and day of the trace. `report.cost_file.write_costs` writes them.

        Args:
            study: whose costs they are.
            month: the calendar month that is billed, such as "2031-06". Default: the one (UTC) in which the trace
                starts.

        Returns:
            A row each: the name of a column -> text, Decimal, datetime (UTC) or None.

        Raises:
            OutputError: it is no month, or nobody says which.

        Example:
            >>> rows = study.replay("noon").cost_rows(study.name)
            >>> sum(row["BilledCost"] for row in rows)
            Decimal('140.16')
        """
        from libramen.bill.cost_rows import Account, billing_month, rows_of

        whose = {share: one.of for one in self.system.hosted for share in one.hosting.shares(one.name)}
        account = Account(study, self.plan.name, self.system.billed, billing_month(month, self.start), whose)
        return list(rows_of(self.bill, self.weighted_replays.use(), self.span_s, self.start, account))

    def plot_costs(self) -> heavy.Figure:
        """Where the money of a month goes: by what it is paid for, by route, and by hour.

        Returns:
            A Matplotlib figure: `figure.savefig("money.png")` keeps it (or .svg), and a notebook shows it.
        """
        return figure_of_costs(self)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What is worth knowing of this replay, the most costly first."""
        from libramen.outcome.findings import find

        return find(self)

    @cached_property
    def routes(self) -> heavy.DataFrame:
        """One row per route: requests, attempts, endings, latencies, availability, bytes_out, and `time_...`.

        `time_queued_s` and the like say where the time of the ok requests went, added up [s].
        """
        from libramen.outcome.tables import routes

        return routes(self.run.routes, self._by_route)

    @property
    def can_be_replayed(self) -> bool:
        """Whether it can be replayed again, with something left out: its trace is there."""
        return self._again is not None and self.run.results is not None

    def without(self, *keys: Key) -> Outcome:
        """The same replay on the same luck, but without some releases or faults; see `outcome.month.Key`.

        Raises:
            ReplayError: its requests were not kept.
        """
        if self._again is None:
            raise ReplayError(_NOT_KEPT)
        return self._again(without=keys, base=self.weighted_replays.base)

    @cached_property
    def happened(self) -> tuple[Event, ...]:
        """Releases and faults in order of time, with what each has cost: one more replay for each entry of a table."""
        from libramen.outcome.events import worked_out

        return worked_out(self)

    @cached_property
    def events(self) -> heavy.DataFrame:
        """One row per release or fault, random ones of a kind together; see `outcome.events.Event` for the columns.

        What each has cost is its difference to a replay without it, which is made when this is first looked at.
        """
        from libramen.outcome.tables import events

        return self._with_time(events(self.happened))

    def requests_table(self) -> heavy.Table:
        """`requests` as an Arrow table, for writing without pandas."""
        from libramen.outcome.requests import requests_table

        if self.run.results is None:
            raise ReplayError(_NOT_KEPT)
        return requests_table(self.trace, self.run.results, [one.region for one in self.system.hosted])

    # -- for machines, notebooks and eyes ----------------------------------------------------------

    def figures(self, *, routes: bool = True, events: bool = False) -> Figures:
        """All that tables, findings, verdicts and JSON say of it, as a small record of plain values.

        Args:
            routes: whether the figures of each route are in it.
            events: whether it is worked out what each release and fault has cost, by replays without it; else it says
                only when they were.
        """
        from libramen.outcome.figures import figures_of

        return figures_of(self, self._by_route if routes else None, events=events)

    def to_dict(self, *, routes: bool = True) -> dict[str, Any]:
        """The outcome as the JSON of the command line: plain numbers, None for what does not exist.

        Args:
            routes: whether the figures of each route are in it.
        """
        return self.figures(routes=routes, events=True).to_dict()

    def plot(self, from_s: float | None = None, to_s: float | None = None) -> heavy.Figure:
        """Requests, latency, replicas and utilisation over the time of the trace, of a long one its worst stretch too.

        Args:
            from_s: only from there on, in finer windows [s from the start].
            to_s: only up to there, likewise.

        Returns:
            A Matplotlib figure: `figure.savefig("plan.png")` keeps it (or .svg), and a notebook shows it.

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
            raise ReplayError(_NOT_KEPT)
        return self._again(window_s=window_s)

    def plot_where(self) -> heavy.Figure:
        """Where the time of the requests went, service after service: of all, and of the slowest 1 %.

        Returns:
            A Matplotlib figure: `figure.savefig("where.png")` keeps it (or .svg), and a notebook shows it.
        """
        return figure_of_where(self)

    def __repr__(self) -> str:
        return f"Outcome(plan={self.plan.name!r}, requests={self.n_requests}, month={self.bill.month})"
