"""`[trace]`: where the requests of a study come from, how they are read, and how their work is found."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Final, Literal, Self, cast

import numpy as np
from pydantic import BeforeValidator, Field, SerializeAsAny, model_validator

from libramen.code import digest_of
from libramen.errors import StudyError
from libramen.fields import Seconds
from libramen.shown import WORK, modules_of, reach
from libramen.times import ZoneName
from libramen.trace.options import ReadingKeys
from libramen.trace.shape import STEPS, Mix

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

    from libramen.study.plan import Hosting
    from libramen.study.system import Hosted, System
    from libramen.trace.options import ReadOptions
    from libramen.trace.trace import Trace

_WIDE_SHARE: Final = 0.3


def _as_list(value: object) -> object:
    return [value] if isinstance(value, str) else value


def _as_logged(trace: Trace) -> Trace:
    """The trace, knowing how busy its log was, before anything is shaped."""
    from libramen.trace.evidence import busiest_minute

    return trace if trace.latency_s is None else trace.knowing(busiest=busiest_minute(trace))


class TraceTable(ReadingKeys):
    """`[trace]`: where the requests come from and how they are read."""

    shown_as: ClassVar[str] = "trace"

    files: Annotated[tuple[str, ...], BeforeValidator(_as_list)] = Field(
        min_length=1, description="logs or trace tables, relative to the study file"
    )
    shape: tuple[SerializeAsAny[STEPS], ...] = Field((), description="what is done to the trace, in order")
    recorded_on: str | None = Field(
        None, description="plan on which the log was recorded: what was queueing there is taken out of its latencies"
    )
    server: Literal["field", "file"] = Field(
        "field",
        description="which server answered, for recorded_on: a field says it where there is one, or each file is its",
    )
    cpu_use: str | None = Field(
        None, description="CSV table of the CPU use of the whole fleet while the log was recorded, instead of cpu_share"
    )
    settle: Seconds = Field(0.0, description="requests before this are replayed but not measured [s]")
    time_zone: ZoneName | None = Field(None, description="time zone of the trace (default: the study's)")

    @model_validator(mode="after")
    def _one_speed(self) -> Self:
        if self.recorded_on is not None and self.recorded_speed is not None:
            raise ValueError(
                "recorded_speed and recorded_on are both there; allowed: one of them, since the recorded plan's size "
                "says how fast its cores are"
            )
        if self.server == "file" and not self._unqueues:
            raise ValueError("server has no effect without recorded_on; allowed: to leave it out")
        if self.cpu_use is not None and self.cpu_share is not None:
            raise ValueError(
                "cpu_share and cpu_use are both there; allowed: one of them, since cpu_use finds the share"
            )
        if self.cpu_use is not None and self.demand == "given":
            raise ValueError("cpu_use has no effect with demand = 'given'; allowed: to leave one of them out")
        if self.demand == "unqueued" and self.recorded_on is None:
            raise ValueError(
                "demand = 'unqueued' needs recorded_on, the name of the plan on which the log was recorded"
            )
        return self

    def read(
        self,
        folder: Path,
        *,
        seed: int = 0,
        time_zone: str = "UTC",
        progress: Callable[[float], None] | None = None,
        estimate: bool = True,
        cache: bool = True,
        recorded: System | None = None,
        visitors: bool = False,
    ) -> Trace:
        """Read the files as this table says, or find what was read before.

        Args:
            folder: that the files are relative to.
            seed: random seed.
            time_zone: where the table has none of its own.
            progress: called with the share of the bytes read so far, from 0 to 1.
            estimate: whether demand is estimated and the trace shaped; else it is as it was found.
            cache: whether what was read from the same files in the same way may be taken from the user's cache
                directory, and is kept there.
            recorded: what the plan hosted on which the log was recorded, where `recorded_on` names one.
            visitors: whether it is told who sent each request.
        """
        from libramen.trace.cache import find, keep

        zone = self.time_zone or time_zone
        key = self._key(folder, seed, zone, recorded, estimate=estimate, visitors=visitors) if cache else None
        trace = None if key is None else find(key, self._named(folder))
        if trace is None:
            if estimate and self.demand != "given" and (recorded is not None or self.cpu_use is not None):
                trace = self._found(folder, seed, zone, progress, recorded, visitors=visitors)
            else:
                trace = self._read(folder, seed, zone, progress, estimate=estimate, visitors=visitors)
            if key is not None:
                trace = keep(key, trace)
        elif progress is not None:
            progress(1.0)
        return trace

    @property
    def cpu_share_used(self) -> float:
        """`cpu_share`, or what is assumed without; where it goes by route, that of all other routes."""
        from libramen.trace.demand import CPU_SHARE

        share = self.cpu_share
        if isinstance(share, dict):
            share = share.get("*")
        return CPU_SHARE if share is None else share

    @property
    def _unqueues(self) -> bool:
        """Whether the work is what the recorded plan leaves of the latencies."""
        return self.recorded_on is not None and self.demand in {None, "unqueued"}

    def key(self, folder: Path, seed: int, zone: str, recorded: System | None) -> str | None:
        """By what the cache knows what this table reads."""
        from libramen.errors import TraceError

        try:
            return self._key(folder, seed, self.time_zone or zone, recorded, estimate=True)
        except TraceError:  # a file is not there
            return None

    def estimated(self, trace: Trace, recorded: System | None, folder: Path, seed: int) -> Trace:
        """A part of this table's log, as it was found, with its work."""
        if self.demand == "given" or (self.demand is None and trace.cpu_s.any()):
            return trace
        return self._estimated(trace, recorded, folder, seed, None)

    def _estimated(self, log: Trace, recorded: System | None, folder: Path, seed: int, server: Any) -> Trace:
        """A log, as it was found, with its work."""
        from libramen.trace.demand import with_demand

        only = None if recorded is None else recorded.only
        if recorded is not None and only is None and self._unqueues:
            if self.cpu_use is not None:
                raise StudyError(
                    "[trace] cpu_use is of one fleet, and the recorded plan has several; allowed: cpu_share"
                )
            several = reach(WORK["unqueue_several"])
            return cast("Trace", several(log, recorded, cpu_share=self.cpu_share, seed=seed, server=server))

        def estimate(shares: Any, roughly: bool) -> Trace:
            if recorded is not None and only is not None and self._unqueues:
                how = {"cpu_share": shares, "seed": seed, "server": server, "roughly": roughly}
                return cast("Trace", reach(WORK["unqueue"])(log, only.service, recorded.plan, **how))
            speed = self.recorded_speed if only is None else only.hosting.size.speed
            return with_demand(log, self.demand, cpu_share=shares, recorded_speed=speed, has_cpu=False, seed=seed)

        if self.cpu_use is None and self.cpu_share is None and only is not None and self._unqueues:
            return self._with_likely_share(log, estimate, only, seed)
        if self.cpu_use is None:
            return estimate(self.cpu_share, False)
        return self._with_cpu_use(log, estimate, None if only is None else only.hosting, folder)

    def _with_cpu_use(
        self, log: Trace, estimate: Callable[[Any, bool], Trace], hosting: Hosting | None, folder: Path
    ) -> Trace:
        assert self.cpu_use is not None
        cores = None if hosting is None or hosting.counts else hosting.replicas_used * hosting.size.cores
        use = reach(WORK["read_cpu_use"])(folder / self.cpu_use, log, cores)
        speed = (self.recorded_speed or 1.0) if hosting is None else hosting.size.speed
        return cast("Trace", reach(WORK["with_cpu_use"])(log, use, estimate, speed))

    def _with_likely_share(self, log: Trace, estimate: Callable[[Any, bool], Trace], only: Hosted, seed: int) -> Trace:
        """Where the log was busy on shared cores it tells itself how much of the work is CPU work."""
        found = reach(WORK["likely_cpu_share"])(log, only.service, only.hosting, seed)
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

    def _key(
        self,
        folder: Path,
        seed: int,
        zone: str,
        recorded: System | None,
        *,
        estimate: bool,
        visitors: bool = False,
    ) -> str | None:
        """By what the cache knows what this table reads; None: it cannot be known before it is read."""
        from libramen.trace.cache import key_of
        from libramen.trace.sources import STANDARD_INPUT, expand

        if STANDARD_INPUT in self.files:
            return None
        said: list[Any] = [
            self.model_dump(mode="json", exclude_unset=True),
            str(folder.resolve()),
            seed,
            zone,
            estimate,
            visitors,
        ]
        if estimate:  # the code that finds the work is not imported here
            said += [digest_of(module) for module in modules_of(WORK)]
        if recorded is not None and estimate:
            said += [table.model_dump(mode="json") for one in recorded.hosted for table in (one.service, one.hosting)]
        mixed = [folder / step.mix for step in self.shape if isinstance(step, Mix)] if estimate else []
        if self.cpu_use is not None and estimate:
            mixed.append(folder / self.cpu_use)
        return key_of([*expand(folder / file for file in self.files), *mixed], said, __name__)

    def _read(
        self,
        folder: Path,
        seed: int,
        zone: str,
        progress: Callable[[float], None] | None,
        *,
        estimate: bool,
        visitors: bool = False,
    ) -> Trace:
        from libramen.trace.options import checked_options
        from libramen.trace.read import read_requests, read_trace
        from libramen.trace.shape import shaped

        options, files = self._options(seed, zone) | {"visitors": visitors}, self._paths(folder)
        if not estimate:
            return read_requests(files, checked_options(options), progress, hints=True).trace
        return shaped(_as_logged(read_trace(files, **options, progress=progress)), self.shape, seed=seed, folder=folder)

    def _found(
        self,
        folder: Path,
        seed: int,
        zone: str,
        progress: Callable[[float], None] | None,
        recorded: System | None,
        *,
        visitors: bool = False,
    ) -> Trace:
        """Read the files, and find their work with the recorded plan, the measured CPU use, or both."""
        from libramen.errors import TraceError
        from libramen.trace.options import checked_options
        from libramen.trace.read import read_requests, whole_load
        from libramen.trace.shape import shaped

        options = checked_options({**self._options(seed, zone), "demand": None, "visitors": visitors})
        requests = read_requests(self._paths(folder), options, progress)
        if requests.has_cpu and self.demand is None:
            if self.cpu_use is not None:
                raise TraceError("cpu_use has no effect: the trace itself says cpu_s; allowed: to leave it out")
            return self._read(folder, seed, zone, progress, estimate=True, visitors=visitors)
        log, server = requests.trace, requests.server
        if self.server == "file":
            server = np.zeros(len(log), np.int32) if requests.file is None else requests.file
        if self._shows_whole_servers(options, log, server):
            # All that was on these servers is known, so what queued there is: the others come afterwards.
            log = whole_load(self._estimated(log, recorded, folder, seed, server), options)
        else:
            # Of what is missing some queued before what is there: likely others in their stead tell more than nobody.
            whole = whole_load(log, options)
            log = self._estimated(whole, recorded, folder, seed, server if len(whole) == len(log) else None)
        return shaped(_as_logged(log), self.shape, seed=seed, folder=folder)

    def _shows_whole_servers(self, options: ReadOptions, log: Trace, server: np.ndarray | None) -> bool:
        """Whether the log has all requests of some servers, and of each the one that it was on."""
        is_sampled = options.sampled.share != 1 or log.source.sampled_share is not None
        # Measured CPU use is that of all servers.
        return server is not None and not is_sampled and self.cpu_use is None and bool((server >= 0).all())

    def _options(self, seed: int, zone: str) -> dict[str, Any]:
        """The keywords of `read_trace` that this table says."""
        mine = ("files", "shape", "settle", "time_zone", "recorded_on", "server", "cpu_use")
        options = {key: getattr(self, key) for key in self.model_fields_set if key not in mine}
        return options | {"time_zone": zone, "seed": seed}

    def _named(self, folder: Path) -> list[str]:
        from libramen.trace.sources import expand

        return [str(path) for path in expand(folder / file for file in self.files)]

    def _paths(self, folder: Path) -> list[str | Path]:
        return [file if file == "-" else folder / file for file in self.files]
