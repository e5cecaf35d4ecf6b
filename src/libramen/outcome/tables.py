"""Tables of a fleet and what was decided about it: replicas, stages, decisions, updates, deaths; and of the routes."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import asdict, fields
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from libramen.bill.month import clock_hours
from libramen.engine.decisions import Decision
from libramen.engine.record import ServiceRun, UpdateRecord
from libramen.engine.replica import Death
from libramen.outcome import measures
from libramen.outcome.events import Event
from libramen.outcome.measures import Measures
from libramen.study.hosting import Hosting

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome


def fleet(run: ServiceRun, hosting: Hosting, served: np.ndarray) -> pd.DataFrame:
    """See `Outcome.fleet`; `served`: requests answered ok by each replica."""
    replicas = run.replicas
    names = ("number", "zone", "version", "why", "decision", "ordered_s", "started_s", "ready_s", "draining_s",
             "gone_s", "why_gone", "ended_by", "deaths", "core_s")  # fmt: skip
    frame = pd.DataFrame({name: [getattr(replica, name) for replica in replicas] for name in names})
    times = [name for name in names if name.endswith("_s")]
    if hosting.mix:
        frame.insert(2, "tier", [hosting.mix[replica.entry].tier.plain_name for replica in replicas])
    frame = frame.astype(dict.fromkeys(times, float) | {"decision": "Int64", "ended_by": "Int64"})
    never_started = (frame["gone_s"] < frame["started_s"]).to_numpy()
    frame["started_s"] = np.where(never_started, np.nan, frame["started_s"])
    paid = np.array([_within(measures.paid_time(replica, hosting), run.span_s) for replica in replicas])
    return frame.assign(served=served, paid_s=paid)


def stages(run: ServiceRun) -> pd.DataFrame:
    """See `Outcome.stages`."""
    rows = [(replica.number, *row) for replica in run.replicas for row in replica.lived()]
    return pd.DataFrame(rows, columns=["number", "stage", "from_s", "to_s"])


def _within(time: tuple[float, float], span_s: float) -> float:
    """How much of a time lies within the span [s]."""
    from_s, to_s = time
    return max(0.0, min(to_s, span_s) - from_s)


def decisions(run: ServiceRun, came_s: np.ndarray) -> pd.DataFrame:
    """See `Outcome.decisions`; `came_s`: when the last replica that each ordered was ready."""
    frame = pd.DataFrame({name: run.decisions.column(name) for name in Decision._fields})
    frame["ceiling"] = frame["ceiling"].astype("Int64").mask(frame["ceiling"] == sys.maxsize)
    frame["came_s"] = came_s
    return frame


def updates(run: ServiceRun) -> pd.DataFrame:
    """See `Outcome.updates`."""
    return pd.DataFrame(run.updates, columns=list(UpdateRecord._fields))


def deaths(run: ServiceRun) -> pd.DataFrame:
    """See `Outcome.deaths`."""
    return pd.DataFrame(run.deaths, columns=[one.name for one in fields(Death)])


def routes(names: Sequence[str], of_each: Sequence[Measures]) -> pd.DataFrame:
    """See `Outcome.routes`."""
    rows = [
        {
            "route": route,
            "requests": of.n_requests,
            "attempts": of.attempts,
            **of.endings,
            **{f"{name}_s": value for name, value in of.latency_s.items()},
            "availability": of.availability,
            "availability_minutes": of.availability_minutes,
            "bytes_out": of.bytes_out,
            **{f"time_{name}_s": value for name, value in of.time_s.items()},
        }
        for route, of in zip(names, of_each, strict=True)
    ]
    return pd.DataFrame(rows)


_OF_FLEETS = ("in_progress", "waiting", "bank_empty", "ready", "coming", "paid", "utilisation")


def series(outcome: Outcome, costs: np.ndarray) -> pd.DataFrame:
    """See `Outcome.series_table`; `costs`: of each hour of the clock what a second costs."""
    frame = outcome.series
    named = {"at_s": "at [s]"} | {f"{name}_s": f"{name} [s]" for name in ("p50", "p95", "p99")}
    parts = [frame[[name for name in frame if name not in _OF_FLEETS]].rename(columns=named)]
    for one in outcome.services.values():
        counts = one.series_of_counts()
        fleet = pd.DataFrame({key: counts[key] for key in _OF_FLEETS if key in counts})
        parts.append(fleet.add_prefix(f"{one.label} " if one.label else ""))
    money = pd.DataFrame({f"money [{outcome.bill.currency}]": _per_window(outcome, costs)})
    return pd.concat([*parts, money], axis=1)


def _per_window(outcome: Outcome, costs: np.ndarray) -> np.ndarray:
    """What a window costs: float64 (windows,)."""
    hours_s = clock_hours(outcome.span_s, outcome.start)
    windows_s = outcome.run.edges_s
    edges_s = np.union1d(hours_s, np.minimum(windows_s, outcome.span_s))
    middles = (edges_s[1:] + edges_s[:-1]) / 2
    hour, window = (
        np.clip(np.searchsorted(of, middles, side="right") - 1, 0, len(of) - 2) for of in (hours_s, windows_s)
    )
    return np.bincount(window, costs[hour] * np.diff(edges_s), len(windows_s) - 1)


def events(happened: tuple[Event, ...]) -> pd.DataFrame:
    """See `Outcome.events`."""
    columns = [one.name for one in fields(Event) if one.name != "p95_s"]
    frame = pd.DataFrame([asdict(event) for event in happened], columns=[*columns, "p95_s"])
    for name in ("before", "during", "after"):
        frame[f"p95_{name}_s"] = [None if event.p95_s is None else event.p95_s[name] for event in happened]
    frame.insert(0, "at_s", frame.pop("at_s"))
    return frame.drop(columns="p95_s")
