"""What is hosted, and what it is hosted on: the service, the sizes, the tiers."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, Literal, Self

from pydantic import Field, model_validator

from libramen.fields import (
    Count,
    Money,
    NonNegativeNumber,
    PositiveCount,
    PositiveNumber,
    PositiveSeconds,
    Seconds,
    Table,
)


class Service(Table):
    """How one replica of the service works, and how long its clients wait.

    Durations may be written as `"6s"` or as a number of seconds.

    Example:
        >>> Service(slots=8, threads=2, start="6s").threads_used
        2
    """

    slots: PositiveCount = Field(description="requests in progress at once in one replica")
    threads: PositiveCount | None = Field(
        None, description="requests that may use the CPU at the same moment (default: as many as slots)"
    )
    backlog: Count | None = Field(
        None,
        description="requests that may wait at a replica; beyond it they are refused (default: no limit)",
    )
    start: Seconds = Field(0.0, description="from process start to the first answer [s]")
    drain: Seconds | None = Field(
        None,
        description="how long a draining replica may take before what is left is cut [s] (default: no limit)",
    )
    timeout: PositiveSeconds | None = Field(None, description="after this the client gives up [s] (default: never)")
    on_timeout: Literal["finish"] = Field(
        "finish", description='what the server does then: "finish", all the work all the same'
    )

    @property
    def threads_used(self) -> int:
        """`threads`, or as many as there are slots."""
        return self.slots if self.threads is None else min(self.threads, self.slots)


class Size(Table):
    """One size of instance that a tier sells."""

    name: str = Field("size", exclude=True)
    cores: PositiveNumber = Field(description="cores of a replica; may be a fraction")
    speed: PositiveNumber = Field(1.0, description="work per second of a core, against the reference core")
    per_hour: Money | None = Field(None, description="price of a replica-hour")
    per_month: Money | None = Field(None, description="flat price of a replica for a month")


class ReplicaLimits(Table):
    """How many replicas a tier lets one have."""

    least: Count = Field(1, description="fewest replicas of a plan")
    most: PositiveCount | None = Field(None, description="most replicas of a plan (default: no limit)")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.most is not None and self.least > self.most:
            raise ValueError(f"least = {self.least} is above most = {self.most}; allowed: least at or below most")
        return self


class FreeAllowance(Table):
    """What a month includes without charge."""

    egress_gb: NonNegativeNumber = Field(0.0, description="gigabytes of egress")


class Tier(Table):
    """One way of hosting that can be bought: its limits, its start-up times and its prices.

    Example:
        >>> Tier(billing="per_hour", sizes={"small": Size(cores=1, per_hour="0.03")}).sizes["small"].name
        'small'
    """

    name: str = Field("tier", exclude=True)
    summary: str = Field("", description="one line for the reader")
    replicas: ReplicaLimits = Field(ReplicaLimits(), description="fewest and most replicas")
    autoscaling: bool = Field(False, description="whether a scaling rule may change the number of replicas")
    zones: tuple[str, ...] = Field(("one",), min_length=1, description="names of the zones (default: one zone)")
    provision: Seconds = Field(0.0, description="from the order of a machine to the start of the process [s]")
    overhead: Seconds = Field(0.0, description="network and proxy, added to the latency of every answer [s]")
    billing: Literal["per_second", "per_hour", "per_month"] = Field(description="how replicas are paid for")
    billed_from: Literal["ordered", "ready"] = Field("ordered", description="when the meter of a replica starts")
    minimum_billed: Seconds = Field(0.0, description="least time billed of a replica's life, per_second only [s]")
    fixed_per_month: Money = Field(Decimal(0), description="fixed fee for a month")
    balancer_per_hour: Money = Field(Decimal(0), description="price of the balancer for an hour")
    zone_per_hour: Money = Field(Decimal(0), description="price of each zone of the plan for an hour")
    egress_per_gb: Money = Field(Decimal(0), description="price of a gigabyte (1e9 bytes) sent out")
    free: FreeAllowance = Field(FreeAllowance(), description="allowances of a month")
    sizes: dict[str, Size] = Field(min_length=1, description="the sizes that the tier sells, by name")

    @model_validator(mode="before")
    @classmethod
    def _name_sizes(cls, values: Any) -> Any:
        """A size knows the name under which its tier sells it."""
        return name_entries(values, "sizes")

    @model_validator(mode="after")
    def _has_prices(self) -> Self:
        key = "per_month" if self.billing == "per_month" else "per_hour"
        for name, size in self.sizes.items():
            if getattr(size, key) is None:
                raise ValueError(f"size {name!r} has no {key}, which billing = {self.billing!r} needs")
        if self.minimum_billed and self.billing != "per_second":
            raise ValueError(f"minimum_billed needs billing = 'per_second'; found billing = {self.billing!r}")
        if len(set(self.zones)) != len(self.zones):
            raise ValueError(f"zones: found {list(self.zones)}; allowed: names that differ")
        return self


def name_entries(values: Any, key: str) -> Any:
    """Tell each table under `key` the name by which it is known there."""
    if not isinstance(values, dict) or not isinstance(values.get(key), dict):
        return values
    named: dict[str, Any] = {}
    for name, entry in values[key].items():
        if isinstance(entry, Table):
            named[name] = entry.model_copy(update={"name": name})
        elif isinstance(entry, dict) and "name" not in entry:
            named[name] = {**entry, "name": name}
        else:
            named[name] = entry
    return {**values, key: named}
