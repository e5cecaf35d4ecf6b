"""How well settings of a recorded plan explain its log.

Whatever the settings are, unqueueing finds work with which the replay has the percentiles of the log. What wrong
settings cannot have is how latencies go with load: with too many slots nobody waits in the replay who waited in the
log, with too few they wait longer. So the latencies of requests that found as many in progress are compared, in the log
and in the replay.
"""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from libramen.base.errors import TraceError
from libramen.base.streams import stream
from libramen.engine import simulation
from libramen.load.exchange import shuffled_nearby
from libramen.load.instants import in_system
from libramen.load.recorded import Recorded
from libramen.load.unqueue import estimate
from libramen.study.hosting import Hosting
from libramen.study.service import Service
from libramen.study.system import System
from libramen.trace.demand import shares_of
from libramen.trace.trace import Trace

_MOST_REQUESTS: Final = 12_000
_FOR_A_SHARE: Final = 8_000
_COUNTS: Final = (1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128)
_SHARES: Final = tuple(round(0.1 * k, 1) for k in range(1, 11))
_OVERHEADS_S: Final = (0.0, 0.001, 0.002, 0.003, 0.005, 0.01, 0.02, 0.03, 0.05)
_POINTS: Final = (0.25, 0.5, 0.75, 0.95)
_STRATA: Final = 6
_FEW: Final = 60
_NEARBY: Final = 200
_NOISE_RUNS: Final = 3
_FLAT: Final = 0.02
_BUSY: Final = 1.1
IMPOSSIBLE: Final = 10.0
"""How far off a replay counts as that no work explains."""


class Likely(NamedTuple):
    """What a profile comes to: the value with which the replay is nearest, those as good, and whether it tells."""

    best: float
    low: float
    high: float
    tells: bool


def likely(profile: dict[float, float], now: float, noise: float, *, whole_seconds: bool) -> Likely:
    """The likely range of a setting.

    Args:
        profile: how far the replay is from the log, by value.
        now: the value that the study has; of equals the nearest to it is the best.
        noise: how much the distance differs by chance.
        whole_seconds: whether the log's stamps are: what they leave open goes into the distance, and is not chance.
    """
    tried = sorted(profile.items())
    best = min(profile, key=lambda value: (profile[value], abs(value - now)))
    limit = profile[best] + max(2 * noise, (0.75 if whole_seconds else 0.25) * profile[best], 0.005)
    within = [value for value, off in tried if off <= limit]
    possible = [off for _, off in tried if off < IMPOSSIBLE]
    spans_all = min(within) == tried[0][0] and max(within) == tried[-1][0]
    tells = not spans_all and (
        max(possible, default=0.0) - min(possible, default=0.0) > _FLAT or len(possible) < len(tried)
    )
    return Likely(best, min(within), max(within), tells)


def likely_cpu_share(log: Trace, service: Service, hosting: Hosting, seed: int) -> Likely | None:
    """The share of the work that is CPU work, from how latencies stretch with the number in progress.

    None: in this log cores were hardly shared on this plan, so that it tells nothing.
    """
    hosted = hosting.service_of(service)
    if log.latency_s is None or hosted.slots <= hosting.cores:
        return None
    search = NearestSettings(log, service, hosting, None, seed, most=_FOR_A_SHARE)
    if search.stretch() < _BUSY:
        return None
    profile = search.profile("cpu_share", {"cpu_share": search.now("cpu_share")})
    best = min(profile, key=profile.__getitem__)
    noise = search.noise({"cpu_share": best})
    return likely(profile, search.now("cpu_share"), noise, whole_seconds=log.source.whole_seconds)


def _busiest(log: Trace, most: int) -> Trace:
    """The stretch of so many requests that took the least time to come."""
    n = len(log)
    if n <= most:
        return log
    lasted_s = log.at_s[most - 1 :] - log.at_s[: n - most + 1]
    first = int(np.argmin(lasted_s))
    return log.take(np.arange(first, first + most))


class NearestSettings:
    """Looks at settings of the recorded plan, one combination after the other; what was looked at is remembered."""

    def __init__(
        self, log: Trace, service: Service, hosting: Hosting, cpu_share: Any, seed: int, most: int = _MOST_REQUESTS
    ) -> None:
        log = _busiest(log, most)
        self._log, self._hosting, self._cpu_share, self._seed = log, hosting, cpu_share, seed
        self._service = hosting.service_of(service)
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
            return self._hosting.tier.overhead
        if key == "cpu_share":
            return round(float(shares_of(self._log, self._cpu_share).mean()), 3)
        return float(self._service.slots if key == "slots" else self._service.threads_used)

    def stretch(self) -> float:
        """By how much sharing cores makes CPU work longer in the log, with the share of the study: 1 if it does not."""
        log, share = self._log, shares_of(self._log, self._cpu_share)
        found = Recorded(log, self._service, self._hosting.replace(service={})).backwards(
            log.at_s, self._latency_s, share, self._seed
        )
        in_slot_s = log.at_s + self._latency_s - self._hosting.tier.overhead - found.slot_at_s
        taken_s, work_s = float(np.maximum(0.0, in_slot_s).sum()), float(found.work_s.sum())
        return taken_s / max(work_s, 1e-12)

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
        hosting = self._hosting.replace(service={})
        if "overhead" in values:
            hosting = hosting.with_tiers(lambda tier: tier.replace(overhead=values["overhead"]))
        share = values.get("cpu_share", self._cpu_share)
        try:
            found = estimate(self._log, service, hosting, cpu_share=share, seed=seed).trace
        except TraceError:
            return IMPOSSIBLE
        recorded = Recorded(found, service, hosting)
        # With the work of others: with its own a request would take as long as in the log whatever the settings are.
        rng = stream(seed, "backtest", 3)
        order = shuffled_nearby(np.arange(len(found)), found.route_codes, None, _NEARBY, rng)
        found = found.with_demand(found.cpu_s[order], found.wait_s[order], demand="given", notes=())
        results = simulation.run(found, System.of(recorded.service, recorded.hosting), seed=seed).kept
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
