"""The steps of shaping: one class a step, its fields the keys of `[trace] shape`."""

from __future__ import annotations

import fnmatch
from abc import abstractmethod
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Annotated, Any, ClassVar, Final

import numpy as np
from pydantic import Field

from libramen.base import units
from libramen.base.delays import Delay, DelayField
from libramen.base.errors import TraceError
from libramen.base.fields import USUAL_GROWTH, Factor as Multiple, PositiveSeconds, Seconds, Share, Table
from libramen.base.streams import stream
from libramen.base.times import MONTH_H, WEEKDAYS, At, Days, Moment, daily_edges, existing, seconds_between
from libramen.trace.arrays import MOST_REQUESTS
from libramen.trace.multiply import Factor, multiplied, multiplied_in_chunks
from libramen.trace.trace import Trace, shifted

OF_A_SAMPLE: Final = 1_000_000


OF_A_LOAD: Final = 1_000_001


OF_A_DOUBT: Final = 1_000_002
"""Numbers of steps that do not stand in a list: a sample that is multiplied back, a load factor of a search, and from
the last one on loads that might have come instead."""


_DAY_S: Final = 86400.0


_MONTH_S: Final = 3600.0 * MONTH_H


class Step(Table):
    """What all steps have in common. The first key of a step tells which one it is."""

    tag: ClassVar[str] = ""

    @classmethod
    def __pydantic_init_subclass__(cls, **_kwargs: Any) -> None:
        cls.tag = next(iter(cls.model_fields))

    @abstractmethod
    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:
        """The shaped trace.

        Args:
            trace: is not changed.
            seed: random seed.
            number: place of the step in its list, so that two equal steps draw differently.
            folder: that paths in the step are relative to.

        Raises:
            TraceError: nothing would be left, or the step does not fit the trace.
        """


class Scale(Step):
    """Thin or multiply the requests.

    What independent users would do (`multiply`): below 1 each visitor stays with that chance, or each request where
    visitors are not known. Above 1 all stay, and copies of each stretch of steady rate come, turned round by lags of
    their own. A greater scale has all requests of a smaller one, at the same times.
    """

    scale: Multiple = Field(description="requests per request: 0.5 halves, 2 doubles")
    between: tuple[At, At] | None = Field(
        None,
        description='only then: two times of day, every day, ["12:00", "14:00"], or two instants (default: always)',
    )

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        factor, most = self.factor(trace)
        return multiplied(trace, factor, most, seed, number)

    def in_chunks(self, trace: Trace, seed: int = 0, *, number: int = 0) -> Iterator[Trace]:
        """The same requests, about a million at a time, so that never all of them are in memory."""
        factor, most = self.factor(trace)
        return multiplied_in_chunks(trace, factor, most, seed, number)

    def factor(self, trace: Trace) -> tuple[Factor, float]:
        """How many requests there are to be for each, at a time; and the most that can be."""
        edges_s = None if self.between is None else _edges(trace, *self.between, where="between")
        scale = float(self.scale)

        def at(rows: np.ndarray, at_s: np.ndarray) -> np.ndarray:  # noqa: ARG001  (it is the same for all)
            if edges_s is None:
                return np.full(len(at_s), scale)
            inside = np.searchsorted(edges_s, at_s, side="right") % 2 == 1
            return np.where(inside, scale, 1.0)

        return at, scale if edges_s is None else max(1.0, scale)


class Grow(Step):
    """Grow steadily: so much a month of 730 h, compounded, from the start of the trace on."""

    grow: Annotated[Share, USUAL_GROWTH] = Field(description='growth in a month: "10%"')

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        each = 1 + float(self.grow)
        return multiplied(
            trace, lambda _rows, at_s: each ** (at_s / _MONTH_S), each ** (trace.span_s / _MONTH_S), seed, number
        )


class Campaign(Step):
    """A bump: at a time the rate begins to rise to `height` times what it was, stays there, and falls back."""

    campaign: At = Field(description="when it begins")
    height: Multiple = Field(description="the rate at its top, as a multiple of what it would be")
    rise: Seconds = Field(60.0, description="from its begin to its top [s]")
    lasts: Seconds = Field(0.0, description="how long it stays at its top [s]")
    fall: PositiveSeconds = Field(1800.0, description="from its top back to nothing [s]")
    routes: tuple[str, ...] = Field((), description="patterns of the routes that it is on (default: all)")
    daily: bool = Field(False, description="on every day of the trace, for a time of day (default: on the first)")
    days: Days = Field((), description="on every day of the trace that is one of these")

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        every = self.campaign.offsets(trace, daily=True, where="campaign")
        begins = every if self.daily or self.days else every[:1]
        if self.days:
            local = [trace.local_time(at_s) for at_s in every]
            begins = [
                at_s
                for at_s, when in zip(every, local, strict=True)
                if when is not None and WEEKDAYS[when.weekday()] in self.days
            ]
            if not begins:
                raise TraceError(f"campaign: the trace has no {' or '.join(self.days)} at {self.campaign.text}")
        on = fits(trace, self.routes) if self.routes else np.ones(len(trace), bool)

        def at(rows: np.ndarray, at_s: np.ndarray) -> np.ndarray:
            factor = np.ones(len(at_s))
            for begin_s in begins:
                # Where two overlap the one that changes more counts.
                further = np.maximum if self.height >= 1 else np.minimum
                factor = further(factor, 1 + (self.height - 1) * self._bump(at_s - begin_s))
            return np.where(on[rows], factor, 1.0)

        shaped = multiplied(trace, at, max(1.0, float(self.height)), seed, number)
        if len(every) > len(begins) == 1 and not self.days:
            first = trace.local_time(begins[0])
            when = f"{first:%a %d %b}" if first is not None else "the first day"
            shaped = shaped.noted(
                f"the campaign is on {when} only, of the {len(every)} days that have a {self.campaign.text}; "
                'daily = true or days = ["fri"] put it on more'
            )
        return shaped

    def _bump(self, since_s: np.ndarray) -> np.ndarray:
        """How far up it is, from 0 to 1, so long after its begin."""
        rising = np.ones(len(since_s)) if self.rise == 0 else np.clip(since_s / self.rise, 0, 1)
        falling = np.clip(1 - (since_s - self.rise - self.lasts) / self.fall, 0, 1)
        bump: np.ndarray = np.where(since_s < 0, 0, rising * falling)
        return bump


class Repeat(Step):
    """Repeat the trace until it is that long: day after day by the clock, or week after week.

    A trace of a week or more repeats by whole weeks, a shorter one by whole days, one of less than
    20 h end to end. Across a change of clocks local times stay.
    """

    repeat: PositiveSeconds = Field(description='how long the trace then is: "7d", "30d"')

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        length_s = float(self.repeat)
        if length_s <= trace.span_s:
            raise TraceError(
                f"repeat: found {units.show_duration(length_s)}; allowed: longer than the trace, which covers "
                f"{units.show_duration(trace.span_s)} (between = [...] cuts it)"
            )
        wanted = len(trace) * length_s / trace.span_s
        if wanted > MOST_REQUESTS:
            raise TraceError(f"repeat: it would make {wanted:.3g} requests; allowed: up to {MOST_REQUESTS:,}")
        shifts = [0.0]
        while (shift := self._shift(trace, len(shifts))) < length_s:
            shifts.append(shift)
        rows = np.tile(np.arange(len(trace)), len(shifts))
        at_s = np.concatenate([trace.at_s + shift for shift in shifts])
        kept = at_s < length_s
        gaps = tuple(gap for shift in shifts for gap in shifted(trace.gaps, shift, length_s))
        return trace.take(rows[kept], at_s[kept], span_s=length_s, gaps=gaps)

    def _shift(self, trace: Trace, k: int) -> float:
        """When the k-th copy begins [s]."""
        if trace.span_s < 20 * 3600:
            return k * trace.span_s
        days = int(np.ceil(trace.span_s / _DAY_S - 0.17))
        if trace.span_s >= 7 * _DAY_S - 1:
            days = int(np.ceil((trace.span_s - 1) / (7 * _DAY_S) - 0.024)) * 7
        if trace.start is None or trace.start.tzinfo is None:
            return k * days * _DAY_S
        wall = trace.start.replace(tzinfo=None) + timedelta(days=k * days)
        return seconds_between(trace.start, existing(wall, trace.start.tzinfo))


class Between(Step):
    """Only what arrives in a window; its begin becomes the start."""

    between: tuple[At, At] = Field(description='begin and end: ["06:00", "12:00"]')

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        begin_s = self.between[0].offsets(trace, daily=False, where="between")[0]
        ends = [s for s in self.between[1].offsets(trace, daily=True, where="between") if s > begin_s]
        if not ends:
            raise TraceError(f'between: "{self.between[1].text}" is not after "{self.between[0].text}" in the trace')
        rows = np.flatnonzero((trace.at_s >= begin_s) & (trace.at_s < ends[0]))
        start = trace.local_time(begin_s)
        return _left(trace, rows, "between").take(
            rows, trace.at_s[rows] - begin_s, span_s=ends[0] - begin_s, start=start,
            gaps=shifted(trace.gaps, -begin_s, ends[0] - begin_s),
        )  # fmt: skip


class Only(Step):
    """Only some routes."""

    only: tuple[str, ...] = Field(min_length=1, description='patterns of routes: ["/tickets/*"]')

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        rows = np.flatnonzero(fits(trace, self.only))
        return _left(trace, rows, "only").take(rows)


class Without(Step):
    """All but some routes."""

    without: tuple[str, ...] = Field(min_length=1, description='patterns of routes: ["/admin/*"]')

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        rows = np.flatnonzero(~fits(trace, self.without))
        return _left(trace, rows, "without").take(rows)


class Mix(Step):
    """Another trace on top, from the same start."""

    mix: str = Field(description="file of the other trace")

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        from libramen.trace.read import read_trace

        return mixed(trace, read_trace(folder / self.mix, seed=seed))


class Job(Step):
    """Requests of a route of their own at set times: a nightly run, a report every quarter of an hour."""

    job: str = Field(description="their route, which a service of workers takes")
    at: At | None = Field(None, description="when it begins (or every)")
    daily: bool = Field(False, description="on every day of the trace, for a time of day (default: on the first)")
    every: PositiveSeconds | None = Field(
        None, description="it begins so long after the start, and again and again [s]"
    )
    count: Annotated[int, Field(ge=1, le=10_000_000)] = Field(1, description="how many requests it is, each time")
    over: Seconds = Field(0.0, description="they come evenly over so long [s]")
    cpu: DelayField = Field(Delay(0.0), description="CPU work of each [core-seconds], or two percentiles")
    wait: DelayField = Field(Delay(0.0), description="wait of each [s], or two percentiles")

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        if (self.at is None) == (self.every is None):
            both = "neither at nor every" if self.at is None else "at and every"
            raise TraceError(f"job: found {both}; allowed: one of them")
        if self.every is not None:
            begins = np.arange(self.every, trace.span_s, self.every)
        else:
            assert self.at is not None
            begins = np.array(self.at.offsets(trace, daily=self.daily, where="job: at"))
        within = np.arange(self.count) * (self.over / self.count)
        at_s = np.sort((begins[:, None] + within).ravel())
        at_s = at_s[at_s < trace.span_s]
        if not len(at_s):
            raise TraceError(f"job: none of {self.job!r} is in the trace")
        if len(at_s) + len(trace) > MOST_REQUESTS:
            raise TraceError(f"job: {len(at_s):,} requests are too many; allowed: {MOST_REQUESTS:,} with the trace")
        rng = stream(seed, "shape", number)
        n = len(at_s)
        cpu_s, wait_s = (_drawn(delay, n, rng) for delay in (self.cpu, self.wait))
        jobs = replace(
            trace,
            at_s=at_s,
            cpu_s=cpu_s,
            wait_s=wait_s,
            route_codes=np.zeros(n, np.int32),
            routes=(self.job,),
            bytes_out=None if trace.bytes_out is None else np.zeros(n),
            latency_s=None if trace.latency_s is None else cpu_s + wait_s,
            status=None if trace.status is None else np.full(n, 200, np.int16),
            visitor=None,
            area=None if trace.area is None else np.zeros(n, np.int32),
            areas=() if trace.area is None else ("",),  # nobody is anywhere
            in_s={},
        )
        return mixed(trace, jobs)


def _drawn(delay: Delay, n: int, rng: np.random.Generator) -> np.ndarray:
    if delay.is_constant:
        return np.full(n, delay.median_s)
    drawn: np.ndarray = delay.median_s * np.exp(np.minimum(700.0, delay.sigma * rng.standard_normal(n)))
    return drawn


class Jitter(Step):
    """Move each arrival by a uniform draw of at most so much, to and fro, within the span."""

    jitter: PositiveSeconds = Field(description='at most so far: "5s"')

    def apply(self, trace: Trace, seed: int = 0, *, number: int = 0, folder: Path = Path()) -> Trace:  # noqa: D102, ARG002
        moved = trace.at_s + stream(seed, "shape", number).uniform(-self.jitter, self.jitter, len(trace))
        # What would leave the span is reflected at its ends, so that none piles up there.
        moved = np.abs(moved)
        moved = np.where(moved > trace.span_s, 2 * trace.span_s - moved, moved)
        return trace.take(np.arange(len(trace)), np.clip(moved, 0.0, trace.span_s))


def _edges(trace: Trace, begin: Moment, end: Moment, where: str) -> np.ndarray:
    """When it is between two moments: from, to, ... [s]; between two times of day on every day of the trace."""
    if begin.time_of_day is not None and end.time_of_day is not None:
        if trace.start is None:
            raise TraceError(f"{where} needs to know when the trace starts, and this trace does not say")
        return np.array(daily_edges(begin.time_of_day, end.time_of_day, trace.start, trace.span_s))
    from_s = begin.offsets(trace, daily=False, where=where)[0]
    ends = [s for s in end.offsets(trace, daily=True, where=where) if s > from_s]
    if not ends:
        raise TraceError(f'{where}: "{end.text}" is not after "{begin.text}" in the trace')
    return np.array([from_s, ends[0]])


def fits(trace: Trace, patterns: Sequence[str]) -> np.ndarray:
    """Which requests are on a route that fits one of some patterns; bool (n,)."""
    hits = [any(fnmatch.fnmatchcase(route, pattern) for pattern in patterns) for route in trace.routes]
    fitting: np.ndarray = np.array(hits, bool)[trace.route_codes]
    return fitting


def mixed(trace: Trace, other: Trace) -> Trace:
    """Both traces at once, from one start; the span is the longer one."""
    routes = sorted({*trace.routes, *other.routes})
    index = {route: code for code, route in enumerate(routes)}

    def codes(one: Trace) -> np.ndarray:
        joint: np.ndarray = np.array([index[route] for route in one.routes], np.int32)[one.route_codes]
        return joint

    joined: dict[str, Any] = {}
    for name in ("cpu_s", "wait_s", "bytes_out", "latency_s", "status"):
        a, b = getattr(trace, name), getattr(other, name)
        joined[name] = None if a is None or b is None else np.concatenate([a, b])
    joined["visitor"] = None
    if trace.visitor is not None or other.visitor is not None:
        mine, theirs = (
            np.full(len(one), -1, np.int32) if one.visitor is None else one.visitor for one in (trace, other)
        )
        # Whoever is in both is taken for two.
        joined["visitor"] = np.concatenate([mine, np.where(theirs >= 0, theirs + trace.n_visitors, -1)])
    joined["area"], joined["areas"] = _joined_areas(trace, other)
    names = dict.fromkeys((*trace.in_s, *other.in_s))
    joined["in_s"] = {
        name: np.concatenate([one.in_s.get(name, np.zeros(len(one))) for one in (trace, other)]) for name in names
    }
    at_s = np.concatenate([trace.at_s, other.at_s])
    both = replace(
        trace,
        at_s=at_s,
        route_codes=np.concatenate([codes(trace), codes(other)]),
        routes=tuple(routes),
        span_s=max(trace.span_s, other.span_s),
        **joined,
    )
    return both.take(np.arange(len(at_s)))


def _joined_areas(trace: Trace, other: Trace) -> tuple[np.ndarray | None, tuple[str, ...]]:
    """Where the requests of both come from; those of which nobody knows it are `unknown`."""
    if trace.area is None and other.area is None:
        return None, ()
    told = [(one.area, one.areas) if one.area is not None else (np.zeros(len(one), np.int32), ("unknown",))
            for one in (trace, other)]  # fmt: skip
    names = tuple(dict.fromkeys(name for _, areas in told for name in areas))
    codes = [np.array([names.index(name) for name in areas], np.int32)[area] for area, areas in told]
    return np.concatenate(codes), names


def _left(trace: Trace, rows: np.ndarray, step: str) -> Trace:
    if not rows.size:
        raise TraceError(f"{step} leaves no request of the trace; its routes are {', '.join(trace.routes[:10])}")
    return trace
