"""`fit`: which settings of the recorded plan explain a log best, with the replay itself as the model.

Whatever the settings are, unqueueing finds work with which the replay has the percentiles of the log. What wrong
settings cannot have is how latencies go with load: with too many slots nobody waits in the replay who waited in the
log, with too few they wait longer. So the latencies of requests that found as many in
progress are compared, in the log and in the replay. What stands beside the likely ranges is a profile: one setting is
moved, the others stay at their best (Coles, An Introduction to Statistical Modeling of Extreme Values, 2.6.5, 2001).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from libramen import units
from libramen.demand.recorded import Recorded
from libramen.demand.unqueue import in_system, shuffled_nearby, unqueue
from libramen.engine import control
from libramen.errors import StudyError, TraceError
from libramen.fields import nearest
from libramen.streams import stream
from libramen.trace.demand import shares_of

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from libramen.study.plan import Plan
    from libramen.study.service import Service
    from libramen.study.study import Study
    from libramen.trace.trace import Trace

FITTED: Final = ("slots", "threads", "cpu_share", "overhead")
_MOST_REQUESTS: Final = 12_000
_COUNTS: Final = (1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128)
_SHARES: Final = tuple(round(0.1 * k, 1) for k in range(1, 11))
_OVERHEADS_S: Final = (0.0, 0.001, 0.002, 0.003, 0.005, 0.01, 0.02, 0.03, 0.05)
_POINTS: Final = (0.25, 0.5, 0.75, 0.95)
_STRATA: Final = 6
_FEW: Final = 60
_NEARBY: Final = 200
_ROUNDS: Final = 2
_NOISE_RUNS: Final = 3
_FLAT: Final = 0.02
_IMPOSSIBLE: Final = 10.0


@dataclass(frozen=True)
class Fitted:
    """What a log tells of one setting.

    Attributes:
        key: its name.
        now: its value in the study.
        best: the value with which the replay is nearest to the log.
        low, high: the likely range: nearer than chance would make the best one differ.
        tells: whether the log can tell at all; else all that was tried is about as near.
        tried: each value, and how far the replay is from the log there (mean relative difference of percentiles;
            10: no work explains the log).
    """

    key: str
    now: float
    best: float
    low: float
    high: float
    tells: bool
    tried: tuple[tuple[float, float], ...]

    def show(self, value: float) -> str:
        """A value as it is written in a study."""
        if self.key == "overhead":
            return units.show_duration(value)
        return f"{100 * value:.0f} %" if self.key == "cpu_share" else f"{value:g}"

    @property
    def line(self) -> str:
        """The line to paste, and where."""
        if self.key == "overhead":
            return f'overhead = "{1000 * self.best:g}ms"    # in the [tiers.NAME] of the recorded plan'
        if self.key == "cpu_share":
            return f'cpu_share = "{100 * self.best:.0f}%"    # in [trace]'
        return f"{self.key} = {self.best:g}    # in [service], or in the [plans.NAME.service] of the recorded plan"

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        return {
            "key": self.key,
            "now": self.now,
            "best": self.best if self.tells else None,
            "low": self.low,
            "high": self.high,
            "tells": self.tells,
            "tried": [{"value": value, "off": off} for value, off in self.tried],
        }


def fit(
    study: Study,
    keys: Iterable[str],
    *,
    seed: int = 0,
    cache: bool = True,
    progress: Callable[[str, float], None] | None = None,
) -> tuple[Fitted, ...]:
    """Find the settings of the recorded plan that explain the log best.

    Args:
        study: from `load_study`; `[trace] recorded_on` names the plan.
        keys: any of `"slots"`, `"threads"`, `"cpu_share"`, `"overhead"`.
        seed: random seed.
        cache: whether what was read before may be taken from the user's cache directory.
        progress: called with what is being done and the share of it that is done.

    Raises:
        StudyError: a key is unknown, or no recorded plan is named.
        TraceError: the log cannot be read.

    Example:
        >>> [found.best for found in fit(study, ["slots"])]  # doctest: +SKIP
        [4.0]
    """
    wanted = tuple(dict.fromkeys(keys))
    for key in wanted:
        if key not in FITTED:
            raise StudyError(f"--fit: unknown key {key!r}; {nearest(key, FITTED)}")
    name = study.trace_table.recorded_on
    if not wanted or name is None:
        raise StudyError(
            f"{study.path}: fit needs keys, and [trace] recorded_on, the plan on which the log was recorded"
        )
    log = study.replace(trace={"shape": ()}).log(seed=seed, cache=cache)
    if log.latency_s is None:
        raise StudyError(f"{study.path}: the log has no latencies, so it tells nothing of its servers")
    search = _Search(_busiest(log), study.service, study.plan(name), study.trace_table.cpu_share, seed)
    tell = progress or (lambda _what, _share: None)
    values = {key: search.now(key) for key in wanted}
    profiles: dict[str, dict[float, float]] = {key: {} for key in wanted}
    steps = _ROUNDS if len(wanted) > 1 else 1
    for number in range(steps * len(wanted)):
        key = wanted[number % len(wanted)]
        tell(f"fitting {key}", number / (steps * len(wanted)))
        profiles[key] = search.profile(key, values)
        values[key] = min(profiles[key], key=lambda value: (profiles[key][value], abs(value - search.now(key))))
    noise = search.noise(values)
    tell("fitting", 1.0)
    return tuple(_fitted(key, search.now(key), profiles[key], noise) for key in wanted)


def _fitted(key: str, now: float, profile: dict[float, float], noise: float) -> Fitted:
    tried = tuple(sorted(profile.items()))
    best = min(profile, key=lambda value: (profile[value], abs(value - now)))
    limit = profile[best] + max(2 * noise, 0.25 * profile[best], 0.005)
    likely = [value for value, off in tried if off <= limit]
    possible = [off for _, off in tried if off < _IMPOSSIBLE]
    spans_all = min(likely) == tried[0][0] and max(likely) == tried[-1][0]
    tells = not spans_all and (max(possible) - min(possible) > _FLAT or len(possible) < len(tried))
    return Fitted(key, now, best, min(likely), max(likely), tells, tried)


def _busiest(log: Trace) -> Trace:
    """The stretch of so many requests that took the least time to come."""
    n = len(log)
    if n <= _MOST_REQUESTS:
        return log
    lasted_s = log.at_s[_MOST_REQUESTS - 1 :] - log.at_s[: n - _MOST_REQUESTS + 1]
    first = int(np.argmin(lasted_s))
    return log.take(np.arange(first, first + _MOST_REQUESTS))


class _Search:
    """Looks at settings of the recorded plan, one combination after the other; what was looked at is remembered."""

    def __init__(self, log: Trace, service: Service, plan: Plan, cpu_share: Any, seed: int) -> None:
        self._log, self._plan, self._cpu_share, self._seed = log, plan, cpu_share, seed
        self._service = plan.service_of(service)
        assert log.latency_s is not None
        self._latency_s = log.latency_s
        found = self._in_progress(log.latency_s)
        self._edges = np.unique(np.quantile(found, np.linspace(0, 1, _STRATA + 1)[1:-1]))
        self._stratum = np.searchsorted(self._edges, found)
        self._most = max(4.0, 4 * float(found.max()))
        self._known: dict[tuple[tuple[str, float], ...], float] = {}

    def now(self, key: str) -> float:
        """The value that the study has."""
        if key == "overhead":
            return self._plan.tier.overhead
        if key == "cpu_share":
            return round(float(shares_of(self._log, self._cpu_share).mean()), 3)
        return float(self._service.slots if key == "slots" else self._service.threads_used)

    def profile(self, key: str, values: dict[str, float]) -> dict[float, float]:
        """How far the replay is from the log for each value of a key, the others as they are."""
        found = {value: self.off({**values, key: value}) for value in self._candidates(key, values)}
        if key in {"slots", "threads"}:  # between the values that were tried, next to the best
            best = min(found, key=found.__getitem__)
            for value in (best - 1, best + 1, best - 2, best + 2):
                if value >= 1 and value not in found and self._allowed(key, value, values):
                    found[value] = self.off({**values, key: value})
        return found

    def _candidates(self, key: str, values: dict[str, float]) -> list[float]:
        grid: dict[str, tuple[float, ...]] = {
            "slots": _COUNTS, "threads": _COUNTS, "cpu_share": _SHARES, "overhead": _OVERHEADS_S,
        }  # fmt: skip
        some = {float(value) for value in grid[key] if self._allowed(key, float(value), values)}
        return sorted(some | {values[key]})

    def _allowed(self, key: str, value: float, values: dict[str, float]) -> bool:
        if key == "overhead":
            return value <= float(np.quantile(self._latency_s, 0.05))
        if key == "threads":
            return value <= values.get("slots", self._service.slots)
        return key == "cpu_share" or value <= self._most

    def noise(self, values: dict[str, float]) -> float:
        """How much the distance differs by chance alone: standard deviation over a few seeds."""
        return float(np.std([self.off(values, seed=self._seed + k) for k in range(_NOISE_RUNS)]))

    def off(self, values: dict[str, float], seed: int | None = None) -> float:
        """How far the replay with these settings is from the log."""
        key = (*sorted(values.items()), ("seed", float(self._seed if seed is None else seed)))
        if key not in self._known:
            self._known[key] = self._look(values, self._seed if seed is None else seed)
        return self._known[key]

    def _look(self, values: dict[str, float], seed: int) -> float:
        changes = {name: round(values[name]) for name in ("slots", "threads") if name in values}
        if "slots" in changes and "threads" not in changes and self._service.threads is not None:
            changes["threads"] = min(self._service.threads, changes["slots"])
        service = self._service.replace(**changes) if changes else self._service
        plan = self._plan.replace(service={})
        if "overhead" in values:
            plan = plan.replace(tier=plan.tier.replace(overhead=values["overhead"]))
        share = values.get("cpu_share", self._cpu_share)
        try:
            found = unqueue(self._log, service, plan, cpu_share=share, seed=seed)
        except TraceError:
            return _IMPOSSIBLE
        recorded = Recorded(found, service, plan)
        # With the work of others: with its own a request would take as long as in the log whatever the settings are.
        rng = stream(seed, "backtest", 3)
        order = shuffled_nearby(np.arange(len(found)), found.route_codes, _NEARBY, rng)
        found = found.with_demand(found.cpu_s[order], found.wait_s[order], demand="given", notes=())
        results = control.run(found, recorded.service, recorded.plan, seed=seed).results
        assert results is not None
        return self._distance(found.at_s, results.latency_s, seed)

    def _in_progress(self, latency_s: np.ndarray, at_s: np.ndarray | None = None, seed: int = 0) -> np.ndarray:
        """How many each found in progress, as far as the stamps of the log tell."""
        at_s = self._log.at_s if at_s is None else at_s
        if self._log.source.whole_seconds:
            at_s = np.floor(at_s) + stream(seed, "backtest", 2).random(len(at_s))
        return in_system(at_s, latency_s)

    def _distance(self, at_s: np.ndarray, latency_s: np.ndarray, seed: int) -> float:
        """Mean relative difference of percentiles among requests that found as many in progress."""
        stratum = np.searchsorted(self._edges, self._in_progress(latency_s, at_s, seed))
        total, weight = 0.0, 0
        for number in range(len(self._edges) + 1):
            mine, theirs = self._latency_s[self._stratum == number], latency_s[stratum == number]
            if len(mine) < _FEW:
                continue
            if len(theirs) < _FEW:  # the replay is never as busy, or always busier
                total += len(mine)
            else:
                one, other = (np.quantile(taken_s, _POINTS) for taken_s in (mine, theirs))
                total += len(mine) * float(np.abs(np.log(np.maximum(other, 1e-3) / np.maximum(one, 1e-3))).mean())
            weight += len(mine)
        return total / max(1, weight)
