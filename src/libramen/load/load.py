"""From `[trace]` of a study to its trace: read, with its work found, shaped, and kept in the cache."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Final

import numpy as np

from libramen.base.errors import StudyError, TraceError
from libramen.load.cache import find, keep, key_of
from libramen.load.evidence import busiest_minute
from libramen.study.hosting import Hosting
from libramen.study.places import NO_TRIPS, RoundTrips
from libramen.study.system import Hosted, System
from libramen.study.trace_table import TraceTable
from libramen.trace.demand import with_demand
from libramen.trace.options import ReadOptions, checked_options
from libramen.trace.read import read_requests, read_trace, whole_load
from libramen.trace.shape import shaped
from libramen.trace.sources import STANDARD_INPUT, expand
from libramen.trace.steps import Mix
from libramen.trace.trace import Trace

_WIDE_SHARE: Final = 0.3


@dataclass(frozen=True)
class Load:
    """What a study says of its requests, and all that finding their work depends on.

    Attributes:
        table: `[trace]`.
        folder: that its files are relative to.
        seed: random seed.
        zone: the time zone, where the table has none of its own.
        recorded: what the plan hosted on which the log was recorded, where `recorded_on` names one.
        visitors: whether it is told who sent each request.
        trips: round trips between places.
        region: where that plan's fleet stood, None: nobody says.
        exchanges: round trips that a request takes.
    """

    table: TraceTable
    folder: Path
    seed: int = 0
    zone: str = "UTC"
    recorded: System | None = None
    visitors: bool = False
    trips: RoundTrips = NO_TRIPS
    region: str | None = None
    exchanges: float = 1.0

    def trace(
        self, progress: Callable[[float], None] | None = None, *, cache: bool = True, estimate: bool = True
    ) -> Trace:
        """Read the files as the table says, or find what was read before.

        Args:
            progress: called with the share of the bytes read so far, from 0 to 1.
            cache: whether what was read from the same files in the same way may be taken from the user's cache
                directory, and is kept there.
            estimate: whether work is estimated and the trace shaped; else it is as it was found.

        Raises:
            TraceError: a file cannot be read as a trace.
        """
        key = self._key(estimate=estimate) if cache else None
        trace = None if key is None else find(key, self._names())
        if trace is None:
            finds = self.table.demand != "given" and (self.recorded is not None or self.table.cpu_use is not None)
            trace = self._found(progress) if estimate and finds else self._read(progress, estimate=estimate)
            return trace if key is None else keep(key, trace)
        if progress is not None:
            progress(1.0)
        return trace

    def key(self) -> str | None:
        """By what the cache knows it; None: by nothing."""
        try:
            return self._key(estimate=True)
        except TraceError:  # a file is not there
            return None

    def estimated(self, log: Trace) -> Trace:
        """A part of the log, as it was found, with its work."""
        if self.table.demand == "given" or (self.table.demand is None and log.cpu_s.any()):
            return log
        return self._estimated(log, None)

    def _key(self, *, estimate: bool) -> str | None:
        """By what the cache knows what is read; None: it cannot be known before it is read."""
        if STANDARD_INPUT in self.table.files:
            return None
        said: list[Any] = [
            self.table.model_dump(mode="json", exclude_unset=True),
            str(self.folder.resolve()),
            self.seed,
            self._zone,
            estimate,
            self.visitors,
            sorted((*sorted(pair), time_s) for pair, time_s in self.trips.pairs.items()),
            self.region,
            self.exchanges,
        ]
        mixed = []
        if estimate:
            hosted = () if self.recorded is None else self.recorded.hosted
            said += [table.model_dump(mode="json") for one in hosted for table in (one.service, one.hosting)]
            mixed = [self.folder / step.mix for step in self.table.shape if isinstance(step, Mix)]
            mixed += [] if self.table.cpu_use is None else [self.folder / self.table.cpu_use]
        return key_of([*expand(self.folder / file for file in self.table.files), *mixed], said, __name__)

    @property
    def _zone(self) -> str:
        return self.table.time_zone or self.zone

    def _names(self) -> list[str]:
        return [str(path) for path in expand(self.folder / file for file in self.table.files)]

    def _paths(self) -> list[str | Path]:
        return [file if file == STANDARD_INPUT else self.folder / file for file in self.table.files]

    def _options(self) -> dict[str, Any]:
        return self.table.options(self.seed, self._zone) | {"visitors": self.visitors}

    def _shaped(self, log: Trace) -> Trace:
        """The trace that a log becomes; it knows how busy the log was."""
        known = log if log.latency_s is None else log.knowing(busiest=busiest_minute(log))
        trace = shaped(known, self.table.shape, seed=self.seed, folder=self.folder)
        return trace.with_areas(self.table.areas, self.seed) if self.table.areas else trace

    def _at_the_fleet(self, log: Trace) -> Trace:
        """The log with latencies as the fleet saw them, where users did: without round trips.

        Raises:
            TraceError: nobody says how far they were.
        """
        if self.table.seen_by == "server" or log.latency_s is None:
            return log
        if log.area is None:
            raise TraceError('seen_by = "user": the log does not say where users were; allowed: a column area')
        if self.region is None:
            raise TraceError('seen_by = "user" needs recorded_on, a plan with a region: it says how far users were')
        try:
            far_s = np.array([self.exchanges * self.trips.between(area, self.region) for area in log.areas])
        except StudyError as error:
            raise TraceError(f'seen_by = "user": {error}') from None
        return replace(log, latency_s=np.maximum(0.0, log.latency_s - far_s[log.area]))

    def _read(self, progress: Callable[[float], None] | None, *, estimate: bool) -> Trace:
        if not estimate:
            found = read_requests(self._paths(), checked_options(self._options()), progress, hints=True).trace
            return self._at_the_fleet(found)
        if self.table.seen_by == "user" and self.recorded is None:
            raise TraceError('seen_by = "user" needs recorded_on, a plan with a region: it says how far users were')
        return self._shaped(read_trace(self._paths(), **self._options(), progress=progress))

    def _found(self, progress: Callable[[float], None] | None) -> Trace:
        """Read the files, and find their work with the recorded plan, the measured CPU use, or both."""
        options = checked_options({**self._options(), "demand": None})
        requests = read_requests(self._paths(), options, progress)
        if requests.has_cpu and self.table.demand is None:
            if self.table.cpu_use is not None:
                raise TraceError("cpu_use has no effect: the trace itself says cpu_s; allowed: to leave it out")
            return self._read(progress, estimate=True)
        log, server = self._at_the_fleet(requests.trace), requests.server
        if self.table.server == "file":
            server = np.zeros(len(log), np.int32) if requests.file is None else requests.file
        if self._shows_whole_servers(options, log, server):
            # All that was on these servers is known, so what queued there is: the others come afterwards.
            return self._shaped(whole_load(self._estimated(log, server), options))
        # Of what is missing some queued before what is there: likely others in their stead tell more than nobody.
        whole = whole_load(log, options)
        return self._shaped(self._estimated(whole, server if len(whole) == len(log) else None))

    def _shows_whole_servers(self, options: ReadOptions, log: Trace, server: np.ndarray | None) -> bool:
        """Whether the log has all requests of some servers, and of each the one that it was on."""
        is_sampled = options.sampled.share != 1 or log.source.sampled_share is not None
        # Measured CPU use is that of all servers.
        return server is not None and not is_sampled and self.table.cpu_use is None and bool((server >= 0).all())

    def _estimated(self, log: Trace, server: np.ndarray | None) -> Trace:
        """A log, as it was found, with its work."""
        table, recorded = self.table, self.recorded if self.table.unqueues else None
        only = None if self.recorded is None else self.recorded.only
        hosting = None if only is None else only.hosting
        unqueued = None if recorded is None else recorded.only
        if recorded is not None and unqueued is None:
            if table.cpu_use is not None:
                raise StudyError(
                    "[trace] cpu_use is of one fleet, and the recorded plan has several; allowed: cpu_share"
                )
            from libramen.load.several import unqueue_several

            return unqueue_several(log, recorded, cpu_share=table.cpu_share, seed=self.seed, server=server)

        def estimate(shares: Any, roughly: bool) -> Trace:
            if recorded is not None and unqueued is not None:
                from libramen.load.unqueue import unqueue

                how: Any = {"cpu_share": shares, "seed": self.seed, "server": server, "roughly": roughly}
                return unqueue(log, unqueued.service, recorded.plan, **how)
            speed = table.recorded_speed if hosting is None else hosting.size.speed
            return with_demand(log, table.demand, cpu_share=shares, recorded_speed=speed, has_cpu=False, seed=self.seed)

        if table.cpu_use is not None:
            return self._with_cpu_use(log, estimate, hosting)
        if table.cpu_share is None and unqueued is not None:
            return self._with_likely_share(log, estimate, unqueued)
        return estimate(table.cpu_share, False)

    def _with_cpu_use(self, log: Trace, estimate: Callable[[Any, bool], Trace], hosting: Hosting | None) -> Trace:
        from libramen.load.cpu_use import read_cpu_use, with_cpu_use

        assert self.table.cpu_use is not None
        cores = None if hosting is None or hosting.counts else hosting.replicas_used * hosting.size.cores
        use = read_cpu_use(self.folder / self.table.cpu_use, log, cores)
        speed = (self.table.recorded_speed or 1.0) if hosting is None else hosting.size.speed
        return with_cpu_use(log, use, estimate, speed)

    def _with_likely_share(self, log: Trace, estimate: Callable[[Any, bool], Trace], only: Hosted) -> Trace:
        """Where the log was busy on shared cores it tells itself how much of the work is CPU work."""
        from libramen.load.explain import likely_cpu_share

        found = likely_cpu_share(log, only.service, only.hosting, self.seed)
        if found is None:
            return estimate(None, False)
        between = f"{100 * found.low:.0f} to {100 * found.high:.0f} %"
        if not found.tells or found.high - found.low > _WIDE_SHARE:
            return estimate(None, False).noted(
                f"cpu_share is a guess, 40 %: from how latencies stretch with the number in progress, {between} is as "
                "likely"
            )
        return estimate(found.best, False).noted(
            f"cpu_share is {100 * found.best:.0f} %, from how latencies stretch with the number in progress; likely "
            f"{between}"
        )
