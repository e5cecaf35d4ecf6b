"""CPU work per route, from the CPU use of the fleet that monitoring has measured.

Utilisation law (Denning and Buzen, Computing Surveys 10, 1978): the cores in use are the throughput of each route times
its core-seconds per request, added up. Over many intervals that is a linear regression in which nothing can be below
0: non-negative least squares (Lawson and Hanson, Solving Least Squares Problems, 1974).
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from datetime import datetime, tzinfo
from pathlib import Path
from typing import Final, NamedTuple

import numpy as np

from libramen.base import units
from libramen.base.errors import TraceError
from libramen.base.times import existing
from libramen.trace.demand import latencies_of
from libramen.trace.formats.table import whole
from libramen.trace.source import RouteCpu
from libramen.trace.sources import Opened
from libramen.trace.trace import Trace

_FEWEST: Final = 10
_FEW_REQUESTS: Final = 30
_WIDE: Final = 0.3
_ALIKE: Final = 0.95
_REST: Final = 0.25
_PASSES: Final = 2


class CpuUse(NamedTuple):
    """Cores in use, as measured: arrays of one length."""

    from_s: np.ndarray  # float64, begin of each interval [s from the start of the trace]
    length_s: np.ndarray  # float64 [s]
    cores: np.ndarray  # float64, mean cores in use


def read_cpu_use(path: Path, trace: Trace, fleet_cores: float | None) -> CpuUse:
    """Read what monitoring has measured.

    Args:
        path: a CSV table with `time` (ISO 8601) or `at_s`, the begin of each interval, and either `cores` (mean cores
            in use of the whole fleet) or `share` (of the fleet's cores). An interval lasts to the next.
        trace: the log, for its start.
        fleet_cores: cores of the recorded fleet, for a `share`; None: not known.

    Raises:
        TraceError: it cannot be read, or does not overlap the log.
    """
    names, rows = _rows_of(path)
    measures = [name for name in ("cores", "share") if name in names]
    if len(measures) != 1 or not {"time", "at_s"} & set(names):
        raise TraceError(
            f"{path}: found the columns {', '.join(names)}; allowed: time (or at_s), and cores or share, for the CPU "
            "use of the whole fleet"
        )
    measured = np.array([_number(path, line, measures[0], row) for line, row in rows])
    if "time" in names:
        if trace.start is None:
            raise TraceError(f"{path}: its times are real ones, and the log does not say when it begins; allowed: at_s")
        begin_s = trace.start.timestamp()
        at_s = np.array([_instant(path, line, row["time"], trace.start.tzinfo) - begin_s for line, row in rows])
    else:
        at_s = np.array([_number(path, line, "at_s", row) for line, row in rows])
    if measures[0] == "share":
        if fleet_cores is None:
            raise TraceError(
                f"{path}: a share is of the cores of a fleet, and which one is not said; allowed: recorded_on in "
                "[trace], or a column cores"
            )
        measured = measured * fleet_cores
    order = np.argsort(at_s, kind="stable")
    at_s, measured = at_s[order], measured[order]
    if not (np.isfinite(measured).all() and np.isfinite(at_s).all() and (measured >= 0).all()):
        raise TraceError(f"{path}: found cells that are empty or below 0; allowed: numbers of 0 or more in every row")
    length_s = np.diff(at_s)
    if len(length_s) == 0 or not (length_s > 0).all():
        raise TraceError(f"{path}: found {len(at_s)} rows, or a time twice; allowed: one row an interval, two or more")
    length_s = np.append(length_s, np.median(length_s))
    inside = (at_s >= 0) & (at_s + length_s <= trace.span_s + 1e-6)
    if np.count_nonzero(inside) < _FEWEST:
        raise TraceError(
            f"{path}: {np.count_nonzero(inside)} of its {len(at_s)} intervals are in the time of the log; allowed: "
            f"{_FEWEST} or more (is the time zone right? a stamp without an offset is a local time of the log)"
        )
    return CpuUse(at_s[inside], length_s[inside], measured[inside])


def _rows_of(path: Path) -> tuple[list[str], list[tuple[int, dict[str, str]]]]:
    """The names of the columns of a CSV file, and its rows with their lines.

    By the standard library: Arrow's conversions of text load pandas, and this is a small table.
    """
    with Opened(path) as opened:
        text = whole(opened).decode("utf-8-sig", "replace")
    reader = csv.DictReader(io.StringIO(text), skipinitialspace=True, restval="")
    try:
        rows = [(reader.line_num, row) for row in reader]
    except csv.Error as error:
        raise TraceError(f"{path}: this is not a CSV table: {error}") from None
    return [str(name).strip() for name in reader.fieldnames or ()], rows


def _number(path: Path, line: int, column: str, row: dict[str, str]) -> float:
    text = row[column].strip()
    try:
        return float(text)
    except ValueError:
        raise TraceError(
            f"{path}: line {line}, column {column}: found {text[:40]!r}; allowed: a number such as 0.25"
        ) from None


def _instant(path: Path, line: int, text: str, zone: tzinfo | None) -> float:
    """Seconds since 1970 of an ISO time; without an offset it is a local time of the log."""
    try:
        instant = datetime.fromisoformat(text.strip())
    except ValueError:
        raise TraceError(
            f"{path}: line {line}, column time: found {text[:40]!r}; allowed: an ISO 8601 time such as "
            "2031-06-07T09:30:00+01:00"
        ) from None
    return (instant if instant.tzinfo or zone is None else existing(instant, zone)).timestamp()


def throughput(trace: Trace, use: CpuUse) -> np.ndarray:
    """Requests of each route in each interval: float64 (intervals, routes).

    A request that is in progress in several counts in each for the share of its time that it spends there.
    """
    assert trace.latency_s is not None
    edges_s = np.append(use.from_s, use.from_s[-1] + use.length_s[-1])
    n, routes = len(use.from_s), len(trace.routes)
    ends_s = trace.at_s + trace.latency_s
    counts = np.zeros((n, routes))
    # The share of each request that lies before an edge, differenced.
    first, last = (np.searchsorted(edges_s, taken_s, side="right") - 1 for taken_s in (trace.at_s, ends_s))
    whole = (first == last) & (first >= 0) & (first < n)
    np.add.at(counts, (first[whole], trace.route_codes[whole]), 1.0)
    for row in np.flatnonzero((first != last) & (last >= 0) & (first < n)).tolist():
        inner = np.clip(edges_s[max(0, first[row]) : min(n, last[row] + 1) + 1], trace.at_s[row], ends_s[row])
        parts = np.diff(inner) / max(ends_s[row] - trace.at_s[row], 1e-12)
        begin = max(0, first[row])
        counts[begin : begin + len(parts), trace.route_codes[row]] += parts
    return counts


def cpu_per_route(trace: Trace, use: CpuUse) -> tuple[list[RouteCpu], float, float]:
    """Core-seconds per request of each route, on the cores that were measured.

    Args:
        trace: the log with its latencies.
        use: what was measured.

    Returns:
        an entry a route; cores in use without any request; the share of the measured variance that is not explained.
    """
    from scipy.optimize import nnls

    requests = throughput(trace, use)
    busy = requests.sum(axis=0) >= _FEW_REQUESTS
    rare = requests[:, ~busy].sum(axis=1)
    columns = [requests[:, code] for code in np.flatnonzero(busy)]
    names = [trace.routes[code] for code in np.flatnonzero(busy)]
    if rare.any():
        columns.append(rare)
        names.append("")
    matrix = np.column_stack([*columns, use.length_s])
    spent = use.cores * use.length_s
    weight = np.ones(len(spent))
    for _ in range(_PASSES):  # what is measured is off in proportion to what it is
        found, _ = nnls(matrix * weight[:, None], spent * weight)
        fitted = matrix @ found
        weight = 1.0 / np.maximum(fitted, 0.05 * float(np.median(fitted)) + 1e-12)
        weight /= weight.mean()
    active = found > 0
    some = (matrix * weight[:, None])[:, active]
    residuals = (spent - fitted) * weight
    degrees = max(1, len(spent) - int(active.sum()))
    covariance = np.linalg.pinv(some.T @ some) * float(residuals @ residuals) / degrees
    error = np.full(len(found), np.nan)
    error[active] = np.sqrt(np.diag(covariance))
    idle = ~active
    if idle.any():  # at the bound of 0: how far above it may be, from the column by itself
        alone = matrix[:, idle] * weight[:, None]
        error[idle] = np.sqrt(float(residuals @ residuals) / degrees / np.maximum((alone**2).sum(axis=0), 1e-12))
    alike = together(matrix[:, :-1] / use.length_s[:, None], names, _ALIKE)
    by_name = {
        name: RouteCpu(name, float(value), float(deviation), alike.get(name, ""))
        for name, value, deviation in zip(names, found[:-1].tolist(), error[:-1].tolist(), strict=True)
    }
    rest = by_name.get("")
    routes = [
        by_name.get(route) or RouteCpu(route, rest.core_s if rest else 0.0, rest.error if rest else np.nan, "")
        for route in trace.routes
    ]
    variance = float(((spent - spent.mean()) ** 2).sum())
    unexplained = float(((spent - fitted) ** 2).sum()) / variance if variance else 0.0
    return routes, float(found[-1]), unexplained


def together(columns: np.ndarray, names: list[str], from_: float) -> dict[str, str]:
    """Which of these columns, float64 (n, names), goes with which other one: correlated by so much or more."""
    varies = columns.std(axis=0) > 0
    if np.count_nonzero(varies) < 2:
        return {}
    correlation = np.corrcoef(columns[:, varies], rowvar=False)
    np.fill_diagonal(correlation, -1.0)
    some = [name for name, is_so in zip(names, varies, strict=True) if is_so]
    return {
        name: some[int(np.argmax(row))]
        for name, row in zip(some, correlation, strict=True)
        if float(row.max()) >= from_
    }


def with_cpu_use(
    log: Trace, use: CpuUse, estimate: Callable[[dict[str, float] | None, bool], Trace], speed: float
) -> Trace:
    """The trace with the CPU work of each route as measured; the rest of its work is wait.

    Args:
        log: as it was found, with latencies.
        use: what was measured.
        estimate: gives the log its work, for shares of CPU work by route (None: the default), and quickly or well.
        speed: of the measured cores.

    Raises:
        TraceError: the log has no latencies.
    """
    latencies_of(log, "cpu_use")
    routes, base, unexplained = cpu_per_route(log, use)
    # How long cores were shared depends on how much of the work is CPU work, and the other way round.
    shares = _shares(estimate(None, True), routes, speed)
    trace = estimate(shares, False)
    shares = _shares(trace, routes, speed)
    share_of_each = np.array([shares[route] for route in trace.routes])[trace.route_codes]
    work_s = trace.cpu_s / speed + trace.wait_s
    trace = trace.with_demand(
        share_of_each * work_s * speed,
        (1 - share_of_each) * work_s,
        demand=trace.demand.kind,
        notes=(),
        routes=trace.demand.routes,
        doubts=trace.demand.doubts,
    )
    notes = [
        f"cpu_use: {len(use.cores):,} intervals of measured CPU use say how many core-seconds a request of each route "
        f"takes; {units.show_share(unexplained)} of the variance is not explained"
        + (f", and {base:.2g} cores are in use without any request" if base > 1e-3 else "")
    ]
    if unexplained > _REST:
        notes.append(
            "cpu_use: much of the measured use does not go with the requests of this log: other work on these "
            "machines, or a log of some of the traffic?"
        )
    for route in routes:
        if route.alike:
            notes.append(
                f"cpu_use: routes {route.route!r} and {route.alike!r} always come together: which of them takes how "
                "much CPU cannot be told"
            )
        elif not route.error <= _WIDE * max(route.core_s, 1e-9):
            notes.append(
                f"cpu_use: the CPU work of route {route.route!r} is uncertain: {units.show_duration(route.core_s)} ± "
                f"{units.show_duration(route.error)} per request"
            )
        if shares[route.route] >= 1.0:
            notes.append(
                f"cpu_use: route {route.route!r} takes more CPU than time: all of its work counts as CPU work "
                "(several cores for one request, or work after the answer?)"
            )
    return trace.measured(routes, *notes)


def _shares(trace: Trace, routes: list[RouteCpu], speed: float) -> dict[str, float]:
    """The share of its work that is CPU work, by route."""
    counts = np.maximum(1, np.bincount(trace.route_codes, minlength=len(trace.routes)))
    work_s = np.bincount(trace.route_codes, trace.cpu_s / speed + trace.wait_s, len(trace.routes)) / counts
    return {
        route.route: float(np.clip(route.core_s / max(mean_s, 1e-12), 0.0, 1.0))
        for route, mean_s in zip(routes, work_s.tolist(), strict=True)
    }
