"""How traces are read: one table of options, from which `[trace]`, `read_trace` and their messages come."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal, get_args

from pydantic import BeforeValidator, Field, ValidationError, WithJsonSchema, field_validator

from libramen.base import units
from libramen.base.delays import DelayField
from libramen.base.errors import TraceError, UnitError
from libramen.base.fields import Count, Factor, Fraction, PositiveCount, Table, describe, nearest, text_or_number
from libramen.base.times import ZoneName
from libramen.trace.leave_out import LeaveOut

Format = Literal["common", "combined", "w3c", "spans", "csv", "json_lines", "parquet", "arrow", "counts"]
FORMATS: tuple[str, ...] = get_args(Format)
Demand = Literal["given", "quiet", "observed", "unqueued"]


class Sample(Table):
    """Which part of the requests a log has."""

    share: Fraction = Field(gt=0, description="share of the requests that the log has")
    by: Literal["request", "visitor"] = Field("request", description="what was drawn: requests, or visitors with all")


def _sample(value: object) -> object:
    return value if isinstance(value, Mapping | Sample) else {"share": value}


def _sampled_schema() -> WithJsonSchema:
    """A share, or a table with it."""
    return text_or_number(
        units.SHARE, units.FRACTION_PATTERN, Sample.model_json_schema(), exclusiveMinimum=0, maximum=1
    )


class ReadingKeys(Table):
    """How files are read: keys of `[trace]` and keywords of `read_trace`."""

    format: Format | None = Field(None, description="format of the files (default: found by content)")
    columns: dict[str, str] = Field({}, description="columns of a table: the model's name = the table's name")
    line_format: str | None = Field(None, description="directives of the common-log family that describe a line")
    latency_field: int | str | None = Field(None, description="piece of a line that is the request time: number or key")
    latency_unit: Literal["s", "ms", "us"] | None = Field(
        None,
        description="unit of the request time (default: found in logs; in tables as the name of a column says, else s)",
    )
    server_field: int | str | None = Field(
        None, description="piece of a line that says which server answered, for recorded_on: number or key"
    )
    stamp: Literal["arrival", "answer"] | None = Field(
        None, description="what a time stamp is of (default: the answer in logs, else the arrival)"
    )
    within_second: Literal["draw", "even", "none"] = Field(
        "draw", description="how whole-second time stamps are spread within their second"
    )
    counts: Literal["poisson", "even"] = Field("poisson", description="how counts per interval become requests")
    work: DelayField | None = Field(
        None, description="what a request takes, where no latencies are known: a duration, or two percentiles"
    )
    routes: tuple[tuple[str, str], ...] = Field((), description="pairs of a pattern of paths and a route")
    leave_out: tuple[LeaveOut, ...] = Field((), description="requests that are not replayed")
    sampled: Annotated[Sample, BeforeValidator(_sample), _sampled_schema()] = Field(
        Sample(share=1.0), description='share of the requests that the log has, or { share = 0.1, by = "visitor" }'
    )
    servers: tuple[PositiveCount, PositiveCount] = Field(
        (1, 1), description="the log is from so many of so many servers"
    )
    demand: Demand | None = Field(
        None,
        description="how cpu_s and wait_s come about (default: given when the trace has cpu_s, unqueued with "
        "recorded_on, else quiet)",
    )
    cpu_share: Fraction | dict[str, Fraction] | None = Field(
        None,
        description='share of the work that is CPU work (default: 40 %), for all or by route ("*": the others)',
    )
    recorded_speed: Factor | None = Field(
        None, description="speed of the core on which the log was recorded (default: 1)"
    )
    callees: dict[str, str] = Field(
        {}, description="what spans call other services (peer.service, server.address, ...) = name of the service"
    )

    @field_validator("servers")
    @classmethod
    def _in_order(cls, servers: tuple[int, int]) -> tuple[int, int]:
        if servers[0] > servers[1]:
            raise UnitError(list(servers), "two numbers such as [2, 5], for two of five")
        return servers


class ReadOptions(ReadingKeys):
    """The options of `read_trace`."""

    time_zone: ZoneName = Field("UTC", description="time zone of the trace")
    seed: Count = Field(0, description="random seed")
    visitors: bool = Field(False, description="whether visitors are told apart, by address and agent")

    @property
    def wants_visitors(self) -> bool:
        """Whether it matters who sent a request: also where a sample of visitors is multiplied back."""
        return self.visitors or (self.sampled.by == "visitor" and self.sampled.share != 1)


def checked_options(options: dict[str, Any]) -> ReadOptions:
    """The options of `read_trace`.

    Raises:
        TraceError: one is unknown or not allowed.
    """
    known = ReadOptions.model_fields
    for name in options:
        if name not in known:
            raise TraceError(f"read_trace: unknown option {name!r}; {nearest(name, known)}")
    said = {name: value for name, value in options.items() if value is not None or known[name].default is None}
    try:
        return ReadOptions.model_validate(said)
    except ValidationError as error:
        raise TraceError(describe(error, ReadOptions, "", place="")) from None
