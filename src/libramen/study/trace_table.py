"""`[trace]`: where the requests of a study come from, how they are read, and how their work is found."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Final, Literal, Self

from pydantic import BeforeValidator, Field, SerializeAsAny, WithJsonSchema, model_validator

from libramen.base.fields import Fraction, Seconds
from libramen.base.times import ZoneName
from libramen.trace.options import ReadingKeys
from libramen.trace.shape import STEPS

_FILES: Final = {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}, "minItems": 1}]}


def _as_list(value: object) -> object:
    return [value] if isinstance(value, str) else value


class TraceTable(ReadingKeys):
    """`[trace]`: where the requests come from and how they are read."""

    shown_as: ClassVar[str] = "trace"

    files: Annotated[tuple[str, ...], BeforeValidator(_as_list), WithJsonSchema(_FILES)] = Field(
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
    areas: dict[str, Fraction] = Field(
        {},
        description="where users are: shares of the areas, which make 1, drawn for each visitor, or each request "
        "(default: the trace's column `area`)",
    )
    behind_edge: bool = Field(False, description="an edge answered others: these are its misses, and no plan has hits")
    seen_by: Literal["server", "user"] = Field(
        "server", description='where logged latencies were measured: "user", round trips are part of them'
    )

    @model_validator(mode="after")
    def _shares_make_one(self) -> Self:
        total = sum(self.areas.values())
        if self.areas and abs(total - 1) > 1e-9:
            raise ValueError(f"areas: the shares make {100 * total:g} %; allowed: 100 %")
        return self

    @model_validator(mode="after")
    def _one_speed(self) -> Self:
        if self.recorded_on is not None and self.recorded_speed is not None:
            raise ValueError(
                "recorded_speed and recorded_on are both there; allowed: one of them, since the recorded plan's size "
                "says how fast its cores are"
            )
        found_by = next((name for name in ("recorded_on", "cpu_use") if getattr(self, name) is not None), None)
        if self.work is not None and found_by is not None:
            raise ValueError(
                f"work and {found_by} are both there; allowed: one of them, since work is told or found from latencies"
            )
        if self.server == "file" and not self.unqueues:
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

    @property
    def cpu_share_used(self) -> float:
        """`cpu_share`, or what is assumed without; where it goes by route, that of all other routes."""
        from libramen.trace.demand import CPU_SHARE

        share = self.cpu_share
        if isinstance(share, dict):
            share = share.get("*")
        return CPU_SHARE if share is None else share

    @property
    def unqueues(self) -> bool:
        """Whether the work is what the recorded plan leaves of the latencies."""
        return self.recorded_on is not None and self.demand in {None, "unqueued"}

    def options(self, seed: int, zone: str) -> dict[str, Any]:
        """The keywords of `read_trace` that this table says."""
        mine = {"files", "shape", "settle", "time_zone", "recorded_on", "server", "cpu_use"}
        mine |= {"areas", "behind_edge", "seen_by"}  # where users are
        options = {key: getattr(self, key) for key in self.model_fields_set if key not in mine}
        return options | {"time_zone": zone, "seed": seed}
