"""Synthetic traces: arrivals by a profile and a process, work by a distribution."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any, Final, Literal

import numpy as np

from libramen.base import units
from libramen.base.errors import TraceError, UnitError
from libramen.base.streams import stream
from libramen.trace.arrays import MOST_REQUESTS, instant_of
from libramen.trace.demand import CPU_SHARE
from libramen.trace.growing import BLOCK, Growing, blocks, remapped
from libramen.trace.source import Source
from libramen.trace.trace import Trace

PROFILES: Final = ("constant", "daily", "weekly")
ARRIVALS: Final = ("poisson", "bursty", "closed")
WORK: Final = ("constant", "exponential", "log-normal", "pareto", "table")
# Relative rates of the hours of a day: quiet nights, a morning peak, a busy evening. Mean 1.
_DAY: Final = np.array(
    [
        0.3, 0.2, 0.15, 0.12, 0.15, 0.3, 0.7, 1.3, 1.7, 1.5, 1.3, 1.3,
        1.4, 1.3, 1.2, 1.2, 1.3, 1.5, 1.6, 1.6, 1.5, 1.2, 0.8, 0.5,
    ]
)  # fmt: skip
_WEEKDAYS: Final = np.array([1.1, 1.1, 1.1, 1.1, 1.15, 0.8, 0.65])
_STEP_S: Final = 60.0
_BURST_SHARE: Final = 0.2


def make_trace(
    *,
    span: str | float = "1d",
    rate: float | None = None,
    peak: float | None = None,
    profile: Literal["constant", "daily", "weekly"] | Sequence[float] = "constant",
    arrivals: Literal["poisson", "bursty", "closed"] = "poisson",
    burst: float = 5.0,
    burst_length: str | float = "30s",
    crowd_at: str | float | None = None,
    crowd: float = 10.0,
    crowd_fades: str | float = "15m",
    clients: int = 100,
    think: str | float = "10s",
    work: str = "exponential",
    mean: str | float = "100ms",
    spread: float = 1.0,
    table: Sequence[float] = (),
    cpu_share: float = CPU_SHARE,
    routes: Mapping[str, Mapping[str, Any]] | None = None,
    bytes_out: float | None = None,
    start: date | str | None = None,
    time_zone: str | None = None,
    seed: int = 0,
) -> Trace:
    """Make a trace.

    Args:
        span: the time that it covers.
        rate: mean arrivals per second over the profile (not for `"closed"`). Default: 10.
        peak: arrivals per second in its busiest hour, instead of the mean.
        profile: `"constant"`, `"daily"`, `"weekly"`, or relative rates of the 24 hours of a day or
            the 168 of a week, from midnight of the first day on.
        arrivals: `"poisson"`; `"bursty"`: a Markov-modulated Poisson process of two states, a fifth of the
            time at `burst` times the rate of the rest, for `burst_length` on average (Fischer and
            Meier-Hellstern, Performance Evaluation 18, 1993); `"closed"`: `clients` that each send a
            request, wait for as long as its work is, think for an exponential time of mean `think`, and
            so on.
        burst: rate of the high state, as a multiple of the low one.
        burst_length: mean length of the high state.
        clients: how many there are in a closed population.
        think: mean time between an answer and the client's next request.
        crowd_at: when a flash crowd comes: the rate jumps to `crowd` times and fades with the time
            constant `crowd_fades`.
        crowd: height of the flash crowd, as a multiple of the rate.
        crowd_fades: its time constant.
        work: `"constant"`, `"exponential"`, `"log-normal"` (`spread`: standard deviation of the
            logarithm), `"pareto"` (`spread`: the exponent, above 1) or `"table"` (draws from `table` [s]).
        mean: mean of the work.
        spread: as `work` says.
        table: as `work` says.
        cpu_share: share of the work that is CPU work, the rest is waiting.
        routes: by name tables with `share` (of the requests) and any of work, mean, spread, table,
            cpu_share and bytes_out of its own. Default: one route `"all"`.
        bytes_out: size of each answer.
        start: the instant 0, as in `Trace.from_arrays`.
        time_zone: zone for local times.
        seed: random seed.

    Raises:
        TraceError: an argument is not allowed.

    Example:
        >>> len(make_trace(span="1h", rate=1.0, seed=1))
        3620
    """
    span_s, mean_s, burst_s, think_s, fades_s = map(_seconds, (span, mean, burst_length, think, crowd_fades))
    crowd_s = None if crowd_at is None else _seconds(crowd_at)
    _require(span_s > 0, "span", span, "above 0")
    rate = _mean_rate(rate, peak, profile, span_s)
    for name, number in (("burst", burst), ("crowd", crowd), ("clients", clients), ("spread", spread)):
        _require(_is_number(number) and 0 <= number <= 1e6, name, number, "a number of 0 to 1000000")
    _require(arrivals in ARRIVALS, "arrivals", arrivals, ", ".join(ARRIVALS))
    _require(rate * span_s <= MOST_REQUESTS, "rate", rate, f"up to {MOST_REQUESTS:,} requests in all")
    rng = stream(seed, "make")
    default = {
        "work": work, "mean": mean_s, "spread": spread, "table": table, "cpu_share": cpu_share, "bytes_out": bytes_out,
    }  # fmt: skip
    is_table = isinstance(routes, Mapping) and all(isinstance(kind, Mapping) for kind in routes.values())
    _require(routes is None or is_table, "routes", routes, "a table by name of tables")
    kinds = {"all": {"share": 1.0}} if not routes else dict(routes)
    if arrivals == "closed":
        _require(clients >= 1, "clients", clients, "1 or more")
        at_s = _closed(rng, span_s, clients, think_s, mean_s)
    else:
        grid_s = np.arange(0.0, span_s, _STEP_S if span_s > 60 * _STEP_S else span_s / 60)
        level = rate * _levels(profile, grid_s) * _crowded(grid_s, crowd_s, crowd, fades_s)
        at_s = _open(rng, grid_s, level, span_s, burst if arrivals == "bursty" else None, burst_s)
    at_s.sort()  # in its place
    _require(len(at_s) > 0, "rate", rate, "high enough for one request within the span")
    names, route, cpu_s, wait_s, size = _worked(rng, seed, kinds, default, len(at_s))
    ordered, lookup = _in_order(names, np.unique(route).tolist())
    said = f"made: {arrivals} arrivals, profile {profile}, seed {seed}"
    return Trace.of_own_arrays(
        at_s=at_s, cpu_s=cpu_s, wait_s=wait_s, route_codes=remapped(route, lookup), routes=tuple(ordered),
        bytes_out=size, in_s={}, span_s=span_s, start=instant_of(start, time_zone),
        source=Source(format="made", notes=(said,)),
    )  # fmt: skip


def _seconds(text: str | float) -> float:
    try:
        return units.parse_duration(text)
    except UnitError as error:
        raise TraceError(f"make_trace: {error}") from None


def _mean_rate(rate: float | None, peak: float | None, profile: str | Sequence[float], span_s: float) -> float:
    """Arrivals per second over the profile, which may be given by those of its busiest hour."""
    _require(rate is None or peak is None, "peak", peak, "rate or peak, not both")
    if peak is not None:
        _require(_is_number(peak) and peak > 0, "peak", peak, "a number above 0")
        rate = peak / float(np.max(_levels(profile, np.arange(0.0, span_s, min(3600.0, span_s)))))
    rate = 10.0 if rate is None else rate
    _require(_is_number(rate) and rate > 0, "rate", rate, "a number above 0")
    return rate


def _crowded(grid_s: np.ndarray, crowd_s: float | None, crowd: float, fades_s: float) -> np.ndarray:
    """By how much a flash crowd raises the rate: float64 like `grid_s`."""
    if crowd_s is None:
        return np.ones(len(grid_s))
    fading = np.exp(-(grid_s - crowd_s) / max(fades_s, 1e-9))
    return np.where(grid_s < crowd_s, 1.0, 1 + (crowd - 1) * fading)


def _in_order(names: Sequence[str], there: Sequence[int]) -> tuple[list[str], np.ndarray]:
    """The names of the routes that are there, in order, and the code of each among them: int32 (names,)."""
    ordered = sorted(str(names[k]) for k in there)
    return ordered, np.array([ordered.index(str(name)) if k in there else 0 for k, name in enumerate(names)], np.int32)


def _worked(
    rng: np.random.Generator, seed: int, kinds: dict[str, Any], default: dict[str, Any], n: int
) -> tuple[list[str], np.ndarray, np.ndarray, np.ndarray, np.ndarray | None]:
    """Names of the routes; of each of n requests its route, CPU work and wait [s], and the bytes of its answer."""
    names, given = list(kinds), [kind.get("share", 1.0) for kind in kinds.values()]
    _require(
        all(_is_number(share) and 0 <= share <= 1e9 for share in given) and sum(given) > 0,
        "routes",
        names,
        "shares of 0 or more, not all 0",
    )
    shares = np.array(given, float)
    route = np.empty(n, np.int32)
    for rows in blocks(n):
        route[rows] = rng.choice(len(names), rows.stop - rows.start, p=shares / shares.sum())
    cpu_s, wait_s = np.empty(n), np.empty(n)
    sizes: list[float] = []
    for k, kind in enumerate(kinds.values()):
        own = {**default, **kind}
        unknown = set(kind) - {"share", *default}
        _require(not unknown, f"routes.{names[k]}", ", ".join(sorted(unknown)), ", ".join(["share", *default]))
        draws = stream(seed, "make", 1 + k)
        for rows in blocks(n):
            here = rows.start + np.flatnonzero(route[rows] == k)
            drawn = _work(draws, len(here), own)
            cpu_s[here], wait_s[here] = own["cpu_share"] * drawn, (1 - own["cpu_share"]) * drawn
        sent = own["bytes_out"]
        _require(sent is None or (_is_number(sent) and 0 <= sent <= 1e15), "bytes_out", sent, "a number of bytes")
        sizes.append(float(sent or 0))
    size = None
    if any(sizes):
        size = np.empty(n)
        for rows in blocks(n):
            size[rows] = np.array(sizes)[route[rows]]
        size = size if size.any() else None
    return names, route, cpu_s, wait_s, size


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and -1e300 < value < 1e300


def _require(holds: bool, name: str, found: object, allowed: str) -> None:
    if not holds:
        raise TraceError(f"{name}: found {found!r}; allowed: {allowed}")


def _levels(profile: str | Sequence[float], at_s: np.ndarray) -> np.ndarray:
    """The profile at some times, relative to its mean."""
    hours = np.ones(24)
    if isinstance(profile, str):
        _require(profile in PROFILES, "profile", profile, f"{', '.join(PROFILES)}, or 24 or 168 numbers")
        if profile == "daily":
            hours = _DAY
        elif profile == "weekly":
            hours = np.concatenate([_DAY * weekday for weekday in _WEEKDAYS])
    else:
        try:
            hours = np.asarray(profile, float)
        except (TypeError, ValueError):
            hours = np.zeros(0)
        fits = hours.ndim == 1 and len(hours) in {24, 168} and bool((hours >= 0).all()) and hours.sum() > 0
        _require(fits, "profile", profile, "24 or 168 numbers of 0 or more")
    level: np.ndarray = (hours / hours.mean())[(at_s // 3600).astype(int) % len(hours)]
    return level


def _open(
    rng: np.random.Generator, grid_s: np.ndarray, level: np.ndarray, span_s: float, burst: float | None, burst_s: float
) -> np.ndarray:
    """Arrivals at a rate that is `level` from each point of the grid on, in bursts or not."""
    width_s = np.diff(np.append(grid_s, span_s))
    if burst is None:
        count = rng.poisson(level * width_s)
        ends = np.concatenate([[0], np.cumsum(count)])
        drawn = np.empty(int(ends[-1]))
        first = 0
        while first < len(count):  # as many intervals as have a block of arrivals, one at least
            last = max(first + 1, int(np.searchsorted(ends, ends[first] + BLOCK, side="right")) - 1)
            some, here = slice(first, last), slice(int(ends[first]), int(ends[last]))
            drawn[here] = rng.random(here.stop - here.start)
            drawn[here] *= np.repeat(width_s[some], count[some])
            drawn[here] += np.repeat(grid_s[some], count[some])
            first = last
        return drawn
    _require(burst >= 1, "burst", burst, "1 or more")
    _require(burst_s > 0, "burst_length", burst_s, "above 0")
    calm_s = burst_s * (1 - _BURST_SHARE) / _BURST_SHARE
    n = int(2 * span_s / (burst_s + calm_s) * 1.5 + 50)
    lengths = np.empty(2 * n)
    lengths[0::2], lengths[1::2] = rng.exponential(calm_s, n), rng.exponential(burst_s, n)
    ends = np.cumsum(lengths)
    while ends[-1] < span_s:
        ends = np.concatenate([ends, ends[-1] + np.cumsum(rng.permutation(lengths))])
    low = 1 / (1 - _BURST_SHARE + _BURST_SHARE * burst)
    # Draw at the highest rate, then keep each with the chance of its state (thinning, Lewis and Shedler 1979).
    at_s = _open(rng, grid_s, level * low * burst, span_s, None, burst_s)
    kept = Growing(np.float64)
    for rows in blocks(len(at_s)):
        in_burst = np.searchsorted(ends, at_s[rows], side="right") % 2 == 1
        kept.add(at_s[rows][in_burst | (rng.random(rows.stop - rows.start) < 1 / burst)])
    return kept.take()


def _closed(rng: np.random.Generator, span_s: float, clients: int, think_s: float, mean_s: float) -> np.ndarray:
    """Arrivals of clients that think between requests."""
    _require(think_s + mean_s > 0, "think", think_s, "above 0, or work above 0")
    per_client = int(span_s / (think_s + mean_s) * 1.3 + 30)
    steps = rng.exponential(think_s, (clients, per_client))
    steps[:, 1:] += rng.exponential(mean_s, (clients, per_client - 1))
    at_s = np.cumsum(steps, axis=1)
    while (short := at_s[:, -1] < span_s).any():
        more = rng.exponential(think_s, (int(short.sum()), per_client)) + rng.exponential(
            mean_s, (int(short.sum()), per_client)
        )
        tail = np.full((clients, per_client), np.inf)
        tail[short] = at_s[short, -1:] + np.cumsum(more, axis=1)
        at_s = np.concatenate([at_s, tail], axis=1)
    within: np.ndarray = at_s[at_s < span_s]
    return within


def _work(rng: np.random.Generator, n: int, kind: Mapping[str, Any]) -> np.ndarray:
    """Work of n requests [s], of the kind's mean."""
    work, spread = kind["work"], kind["spread"]
    _require(_is_number(spread) and 0 <= spread <= 1e6, "spread", spread, "a number of 0 to 1000000")
    try:
        mean_s = units.parse_duration(kind["mean"])
    except UnitError as error:
        raise TraceError(f"mean: {error}") from None
    _require(work in WORK, "work", work, ", ".join(WORK))
    share = kind["cpu_share"]
    _require(_is_number(share) and 0 <= share <= 1, "cpu_share", share, "0 to 1")
    if work == "constant":
        return np.full(n, mean_s)
    if work == "exponential":
        return rng.exponential(mean_s, n)
    if work == "log-normal":
        _require(spread > 0, "spread", spread, "above 0")
        return mean_s * rng.lognormal(-(spread**2) / 2, spread, n)
    if work == "pareto":
        _require(spread > 1, "spread", spread, "above 1, or the mean would be infinite")
        drawn: np.ndarray = mean_s * (spread - 1) / spread * (1 + rng.pareto(spread, n))
        return drawn
    try:
        values = np.asarray(kind["table"], float)
    except (TypeError, ValueError):
        values = np.zeros(0)
    fits = values.ndim == 1 and values.size > 0 and bool((np.isfinite(values) & (values >= 0)).all())
    _require(fits, "table", kind["table"], "seconds of 0 or more")
    return rng.choice(values, n)
