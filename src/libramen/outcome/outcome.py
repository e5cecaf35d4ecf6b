"""The outcome of a replay: figures, tables, JSON, a picture."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from libramen.engine.plane import ENDINGS, Ending
from libramen.errors import ReplayError
from libramen.outcome import measures
from libramen.outcome.measures import LATENCIES, Measures
from libramen.study.plan import Objective

if TYPE_CHECKING:
    from decimal import Decimal

    import pandas as pd
    import pyarrow as pa
    from matplotlib.figure import Figure

    from libramen.bill.bill import Bill
    from libramen.engine.run import Run
    from libramen.study.plan import Plan
    from libramen.trace.trace import Trace


class Outcome:
    """What came of replaying a trace against a plan.

    Attributes:
        trace, plan, run, seed: what was replayed, and the record of it.
        bill: the `Bill` of a month.
        requests_measured, attempts: how many.
        endings: requests by ending: ok, refused, timed_out, lost, cut, errored; they add up.
        latency_s: mean, p50, p90, p95, p99, p999 and max over ok requests [s], None without any.
        availability: share of requests that are ok; `availability_minutes`: share of the minutes
            with traffic in which at most 1 % failed.
        utilisation: cores in use over cores there.
        requests, series, fleet, decisions, updates, routes: pandas frames.
    """

    def __init__(
        self,
        *,
        trace: Trace,
        plan: Plan,
        run: Run,
        bill: Bill,
        wanted: dict[str, float | Decimal],
        seed: int,
        settle_s: float,
    ) -> None:
        if settle_s < 0 or settle_s > trace.at_s[-1]:
            raise ReplayError(
                f"settle: found {settle_s!r} s; allowed: 0 to the last arrival at {trace.at_s[-1]:.6g} s, "
                "or nothing is measured"
            )
        self.trace, self.plan, self.run, self.bill = trace, plan, run, bill
        self.seed, self.settle_s = seed, settle_s
        self._wanted = wanted
        # Arrivals are in order, so what is measured is one slice.
        self._measured = slice(int(np.searchsorted(trace.at_s, settle_s, side="left")), None)
        figures = Measures.of(run, trace.at_s, self._measured)  # type: ignore[arg-type]
        self.requests_measured = figures.requests
        self.attempts = figures.attempts
        self.endings = figures.endings
        self.latency_s = figures.latency_s
        self.availability = figures.availability
        self.availability_minutes = figures.availability_minutes
        self.utilisation = measures.utilisation(run, plan.size.cores)
        ready = measures.stage_steps(run, "ready")
        self.replicas_min, self.replicas_max = ready.extremes()
        whole = np.array([0.0, run.span_s])
        self.replicas_mean = float(ready.mean(whole)[0])
        self.cold_starts = measures.cold_starts(run)
        self.paid_s = float(measures.paid_steps(run, plan).mean(whole)[0]) * run.span_s

    # -- objectives --------------------------------------------------------------------------------

    @cached_property
    def objectives(self) -> tuple[Objective, ...]:
        """Each objective, what was wanted, what was got, and whether that is met."""
        return tuple(self._objective(name, wanted) for name, wanted in self._wanted.items())

    def _objective(self, name: str, wanted: float | Decimal) -> Objective:
        if name in LATENCIES:
            got = self.latency_s[name]
            return Objective(name, wanted, got, got is not None and got <= float(wanted) + 1e-9)
        if name == "month":
            return Objective(name, wanted, self.bill.month, self.bill.month <= wanted)
        share = getattr(self, name)
        return Objective(name, wanted, share, share is not None and share >= float(wanted) - 1e-9)

    @property
    def meets_all(self) -> bool:
        """Whether every objective is met."""
        return all(objective.met for objective in self.objectives)

    # -- tables ------------------------------------------------------------------------------------

    @cached_property
    def requests(self) -> pd.DataFrame:
        """One row per request, in order of arrival: at_s, route, latency_s, queued_s, ending, replica, attempts."""
        frame: pd.DataFrame = self.requests_table().to_pandas(types_mapper=_nullable_integers)
        return frame

    @cached_property
    def series(self) -> pd.DataFrame:
        """One row per window of `run.window_s`: see `series_arrays`; `time` is local where it is known."""
        import pandas as pd

        frame = pd.DataFrame(self.series_arrays())
        if self.trace.start is not None:
            start = pd.Timestamp(self.trace.start.astimezone(tz=None)).tz_convert(str(self.trace.start.tzinfo))
            frame.insert(1, "time", start + pd.to_timedelta(frame["at_s"], unit="s"))
        return frame

    def series_arrays(self) -> dict[str, np.ndarray]:
        """Series per window, aligned to 0; requests count in the window in which they arrived.

        Keys: at_s (start of the window), arrivals, each ending (all per window); p50_s, p95_s, p99_s
        (over ok requests, NaN without any); in_progress, waiting (means); ready, coming, paid (mean
        replicas); utilisation (NaN without replicas).
        """
        run, edges = self.run, self.run.edges_s
        width, n = np.diff(edges), len(edges) - 1
        window = np.minimum((self.trace.at_s // run.window_s).astype(np.int64), n - 1)
        series: dict[str, np.ndarray] = {"at_s": edges[:-1], "arrivals": np.bincount(window, minlength=n)}
        for code, name in enumerate(ENDINGS):
            series[name] = np.bincount(window[run.results.ending == code], minlength=n)
        series |= _percentiles_per_window(window, run.results.ending == Ending.OK, run.results.latency_s, n)
        cpu, in_progress, waiting = np.diff(run.integrals, axis=0).T
        there = measures.stage_steps(run, "ready", "draining").mean(edges) * width * self.plan.size.cores
        series |= {
            "in_progress": in_progress / width,
            "waiting": waiting / width,
            "ready": measures.stage_steps(run, "ready").mean(edges),
            "coming": measures.stage_steps(run, "coming").mean(edges),
            "paid": measures.paid_steps(run, self.plan).mean(edges),
            "utilisation": np.minimum(1.0, np.divide(cpu, there, out=np.full(n, np.nan), where=there > 1e-9)),
        }
        return series

    @cached_property
    def fleet(self) -> pd.DataFrame:
        """One row per replica: its life in seconds from the start, its zone, its version, what it served."""
        import pandas as pd

        replicas = self.run.replicas
        served = np.bincount(
            self.run.results.replica[self.run.results.ending == Ending.OK], minlength=len(replicas) + 1
        )
        names = (
            "number",
            "zone",
            "version",
            "why",
            "ordered_s",
            "started_s",
            "ready_s",
            "draining_s",
            "gone_s",
            "why_gone",
        )
        frame = pd.DataFrame({name: [getattr(replica, name) for replica in replicas] for name in names})
        times = [name for name in names if name.endswith("_s")]
        return frame.astype(dict.fromkeys(times, float)).assign(served=served[1:])

    @cached_property
    def decisions(self) -> pd.DataFrame:
        """One row per decision of the scaling rule."""
        import pandas as pd

        from libramen.engine.scaler import Decision

        return pd.DataFrame(self.run.decisions, columns=list(Decision._fields))

    @cached_property
    def updates(self) -> pd.DataFrame:
        """One row per rolling update; `mixed_s`: for how long two versions were in use."""
        import pandas as pd

        from libramen.engine.run import UpdateRecord

        return pd.DataFrame(self.run.updates, columns=list(UpdateRecord._fields))

    @cached_property
    def routes(self) -> pd.DataFrame:
        """One row per route: requests, endings, latencies, availability."""
        import pandas as pd

        rows = []
        codes = self.trace.route_codes.copy()
        codes[: self._measured.start] = -1
        for code, route in enumerate(self.trace.routes):
            figures = Measures.of(self.run, self.trace.at_s, np.flatnonzero(codes == code))
            latencies = {f"{name}_s": value for name, value in figures.latency_s.items()}
            rows.append(
                {"route": route, "requests": figures.requests, **figures.endings, **latencies,
                 "availability": figures.availability, "availability_minutes": figures.availability_minutes}
            )  # fmt: skip
        return pd.DataFrame(rows)

    def requests_table(self) -> pa.Table:
        """`requests` as an Arrow table, for writing without pandas."""
        import pyarrow as pa

        results = self.run.results
        routes = pa.DictionaryArray.from_arrays(self.trace.route_codes, list(self.trace.routes))
        endings = pa.DictionaryArray.from_arrays(results.ending.astype(np.int8), list(ENDINGS))
        return pa.table(
            {
                "at_s": self.trace.at_s,
                "route": routes,
                "latency_s": results.latency_s,
                "queued_s": results.queued_s,
                "ending": endings,
                "replica": pa.array(results.replica, mask=results.replica == 0),
                "attempts": results.attempts,
            }
        )

    # -- for machines, notebooks and eyes ----------------------------------------------------------

    def to_dict(self) -> dict[str, Any]:
        """The outcome as the JSON of the command line: plain numbers, None for what does not exist."""
        return {
            "plan": self.plan.name,
            "tier": self.plan.tier.name,
            "size": self.plan.size.name,
            "seed": self.seed,
            "requests": self.requests_measured,
            "attempts": self.attempts,
            "endings": dict(self.endings),
            "latency_s": dict(self.latency_s),
            "availability": {"requests": self.availability, "minutes": self.availability_minutes},
            "utilisation": self.utilisation,
            "replicas": {
                "min": self.replicas_min,
                "mean": self.replicas_mean,
                "max": self.replicas_max,
                "cold_starts": self.cold_starts,
                "paid_s": self.paid_s,
            },
            "bill": {
                "currency": self.bill.currency,
                "month": float(self.bill.month),
                "lines": [
                    {
                        "item": line.item,
                        "quantity": float(line.quantity),
                        "unit": line.unit,
                        "unit_price": float(line.unit_price),
                        "amount": float(line.amount),
                    }
                    for line in self.bill.lines
                ],
            },
            "objectives": [
                {
                    "name": objective.name,
                    "wanted": _plain(objective.wanted),
                    "got": _plain(objective.got),
                    "met": objective.met,
                }
                for objective in self.objectives
            ],
        }

    def plot(self) -> Figure:
        """Requests, latency, replicas and utilisation over the time of the trace."""
        from libramen.draw.replay import draw_outcome

        return draw_outcome(self)

    def __repr__(self) -> str:
        return f"Outcome(plan={self.plan.name!r}, requests={self.requests_measured}, month={self.bill.month})"

    def _repr_html_(self) -> str:
        from libramen.comparison.compare import Comparison

        return Comparison((self,))._repr_html_()


def _nullable_integers(kind: pa.DataType) -> Any:
    """A replica may be missing, so its column is pandas' nullable integer."""
    import pandas as pd

    return pd.Int32Dtype() if str(kind) == "int32" else None


def _plain(value: float | Decimal | None) -> float | None:
    return None if value is None else float(value)


def _percentiles_per_window(
    window: np.ndarray, is_ok: np.ndarray, latency_s: np.ndarray, n: int
) -> dict[str, np.ndarray]:
    """p50_s, p95_s and p99_s of the ok requests of each of n windows, by nearest rank."""
    rows = np.flatnonzero(is_ok)
    rows = rows[np.lexsort((latency_s[rows], window[rows]))]
    ascending = latency_s[rows]
    first = np.searchsorted(window[rows], np.arange(n + 1))
    count = np.diff(first)
    found: dict[str, np.ndarray] = {}
    for name in ("p50", "p95", "p99"):
        rank = np.maximum(1, np.ceil(measures.PERCENTILES[name] * count - 1e-9)).astype(np.int64)
        values = np.full(n, np.nan)
        values[count > 0] = ascending[(first[:-1] + rank - 1)[count > 0]]
        found[f"{name}_s"] = values
    return found
