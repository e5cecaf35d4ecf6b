"""A call: what visits of one service ask of another one."""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self

from pydantic import Field, model_validator

from libramen.base.delays import DelayField
from libramen.base.fields import Bytes, Fraction, PositiveCount, PositiveSeconds, Seconds, Table, usually


class Call(Table):
    """What a visit of a service asks of another one when its CPU work is done.

    Its work is a share of the caller's wait (`of_wait`), or `cpu` and `wait`, or, with none of them, the column
    `in_NAME_s` of the trace, NAME being the service that is called.

    Example:
        >>> Call(to="database", times=3, of_wait="80%", pool=10).pool
        10
    """

    to: str = Field(description="the service that is called")
    routes: tuple[str, ...] = Field((), description="requests of the trace that lead to it, as patterns (default: all)")
    share: Annotated[Fraction, Field(gt=0)] = Field(
        1.0, description="probability that a visit makes it (a cache that misses)"
    )
    times: Annotated[int, Field(ge=1, le=10_000)] = Field(1, description="how often, one after the other")
    at_once: bool = Field(
        False, description="all at one instant; with entries that stand next to it and say so too, they are one fan-out"
    )
    of_wait: Fraction | None = Field(
        None, description="that share of the caller's wait is really spent there, in all times together"
    )
    cpu: DelayField | None = Field(None, description="CPU work of each [core-seconds], or two percentiles (default: 0)")
    wait: DelayField | None = Field(None, description="wait of each [s], or two percentiles (default: 0)")
    bytes: Bytes = Field(0, description="of its answer: it is paid for where it goes to another region")
    timeout: Annotated[PositiveSeconds | None, usually(900.0)] = Field(
        None, description="the caller gives up after this [s] (default: never)"
    )
    retries: Annotated[int, Field(ge=0, le=100)] = Field(0, description="how many more times a failed one is sent")
    retry_after: Annotated[Seconds, usually(900.0)] = Field(
        1.0, description="pause before the next attempt, twice as long after each [s]"
    )
    retry_jitter: Fraction = Field(0.0, description="each pause is at random up to this share longer or shorter")
    pool: PositiveCount | None = Field(
        None, description="connections from each replica to that service, shared by all entries (default: no limit)"
    )
    pool_timeout: Annotated[PositiveSeconds | None, usually(900.0)] = Field(
        None, description="a call waits so long for a connection, and has failed then [s] (default: for ever)"
    )
    if_it_fails: Literal["fail", "go_on"] = Field("fail", description="what the visit does when it has failed")
    wait_for_it: bool = Field(True, description="false: work that is put on a queue; the visit goes on at once")

    @property
    def has_own_work(self) -> bool:
        """Whether its work is written here."""
        return self.cpu is not None or self.wait is not None

    @model_validator(mode="before")
    @classmethod
    def _makes_sense(cls, values: Any) -> Any:
        if not isinstance(values, dict):
            return values
        said = {key for key, value in values.items() if value is not None}
        if "of_wait" in said:
            for key in ("cpu", "wait"):
                if key in said:
                    raise ValueError(f"of_wait and {key} are both there; allowed: of_wait, or cpu and wait")
            if "share" in said:
                raise ValueError(
                    "of_wait and share are both there; allowed: one of them, since of_wait is of every visit"
                )
        if values.get("wait_for_it") is False:
            for key in ("pool", "pool_timeout", "if_it_fails"):
                if key in said:
                    raise ValueError(f"{key} with wait_for_it = false; allowed: to leave it out, since nobody waits")
        return values

    @model_validator(mode="after")
    def _repeats(self) -> Self:
        for key in ("retry_after", "retry_jitter"):
            if key in self.model_fields_set and not self.retries:
                raise ValueError(
                    f"{key} has no effect without retries; allowed: retries of 1 or more, or to leave it out"
                )
        return self
