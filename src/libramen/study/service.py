"""What is hosted, and what it is hosted on: the service, the sizes, the tiers."""

from __future__ import annotations

import math
from typing import Annotated, Any, Final, Literal, Self

from pydantic import Field, model_validator

from libramen.base.delays import Delay, DelayField
from libramen.base.fields import (
    USUAL_CORES,
    USUAL_SPEED,
    AtLeastOne,
    Bytes,
    Count,
    Factor,
    Fraction,
    NonNegativeNumber,
    PositiveBytes,
    PositiveCount,
    PositiveReplicas,
    PositiveSeconds,
    Replicas,
    Seconds,
    Table,
    usually,
)
from libramen.prices import FreeAllowance, PricesOfSize, PricesOfTier
from libramen.prices.scaled import times
from libramen.study.calls import Call


class Service(Table):
    """How one replica of the service works, and how long its clients wait.

    Durations may be written as `"6s"` or as a number of seconds.

    Example:
        >>> Service(slots=8, threads=2, start="6s").threads_used
        2
    """

    slots: PositiveCount = Field(1, description="requests in progress at once in one replica (or slots_per_core)")
    slots_per_core: Factor | None = Field(
        None, description="the same for each core of a replica, instead of slots; rounded down, at least 1"
    )
    threads: PositiveCount | None = Field(
        None, description="requests that may use the CPU at the same moment (default: as many as slots)"
    )
    backlog: Count | None = Field(
        None,
        description="requests that may wait at a replica; beyond it they are refused (default: no limit)",
    )
    start: Annotated[DelayField, usually(1800.0)] = Field(
        Delay(0.0), description="from process start to the first answer [s], or two percentiles"
    )
    warm_up: Annotated[Seconds, usually(7200.0)] = Field(
        0.0, description="for so long after it became ready a replica is slower [s]"
    )
    warm_up_factor: AtLeastOne = Field(
        1.0, description="CPU work of a request on a replica that has just become ready, against a warm one"
    )
    memory_base: Bytes = Field(0, description="memory of a replica without requests [bytes]")
    memory_per_request: Bytes = Field(0, description="memory of each request that holds a slot [bytes]")
    drain: Seconds | None = Field(
        None,
        description="how long a draining replica may take before what is left is cut [s] (default: no limit)",
    )
    timeout: Annotated[PositiveSeconds | None, usually(900.0)] = Field(
        None, description="after this the client gives up [s] (default: never)"
    )
    on_timeout: Literal["finish", "drop"] = Field(
        "finish",
        description='what the server does then: "finish", all the work all the same; "drop", it discards what is '
        "past its deadline when it would take a slot",
    )
    retries: Annotated[int, Field(ge=0, le=100)] = Field(
        0, description="how many more times a client sends a request that failed"
    )
    retry_after: Annotated[Seconds, usually(900.0)] = Field(
        1.0, description="pause between a failure and the next attempt, twice as long after each [s]"
    )
    retry_jitter: Fraction = Field(0.0, description="each pause is at random up to this share longer or shorter")
    routes: tuple[str, ...] = Field(
        (), description="requests of the trace that arrive here, as patterns, where there are several services"
    )
    cpu_share: Fraction | None = Field(
        None, description="CPU work as a share of the work that others know of it (default: that of the trace)"
    )
    calls: tuple[Call, ...] = Field((), description="what its visits ask of other services")
    exchanges: Annotated[float, Field(ge=1, le=1000, allow_inf_nan=False)] = Field(
        1.0, description="round trips between user and region that a request takes, where places matter"
    )

    @model_validator(mode="before")
    @classmethod
    def _says_its_slots(cls, values: Any) -> Any:
        # A misspelt key is the news, not that another one is missing then.
        if isinstance(values, dict) and set(values) <= set(cls.model_fields):
            if "slots" not in values and values.get("slots_per_core") is None:
                raise ValueError("slots is missing; allowed: slots, or slots_per_core")
            if "slots" in values and values.get("slots_per_core") is not None:
                raise ValueError("slots and slots_per_core are both there; allowed: one of them")
        return values

    def replace(self, **values: Any) -> Self:
        """A copy with other values, read and checked like those of a file; of slots and slots_per_core the new holds.

        Raises:
            StudyError: a key is unknown, or its value is not allowed.
        """
        kept = {name: getattr(self, name) for name in self.model_fields_set if name not in values}
        for one, other in (("slots", "slots_per_core"), ("slots_per_core", "slots")):
            if one in values:
                kept.pop(other, None)
        return type(self)(**kept, **values)

    def on(self, size: Size) -> Self:
        """The service on replicas of a size: with slots, where these go by the cores."""
        if self.slots_per_core is None:
            return self
        return self.replace(slots=max(1, math.floor(self.slots_per_core * size.cores + 1e-9)))

    @property
    def threads_used(self) -> int:
        """`threads`, or as many as there are slots."""
        return self.slots if self.threads is None else min(self.threads, self.slots)


class Size(PricesOfSize):  # type: ignore[misc]
    """One size of instance that a tier sells."""

    name: str = Field("size", exclude=True)
    cores: Annotated[Factor, USUAL_CORES] = Field(description="cores of a replica; may be a fraction")
    speed: Annotated[Factor, USUAL_SPEED] = Field(
        1.0, description="work per second of a core, against the reference core"
    )
    memory: PositiveBytes | None = Field(None, description="memory of a replica [bytes] (default: no limit)")
    steady_cores: Factor | None = Field(
        None, description="where CPU is only lent: cores that may be used for ever (default: all, nothing is lent)"
    )
    bank: NonNegativeNumber | None = Field(
        None, description="where CPU is only lent: most that can be saved up [core-seconds]"
    )
    bank_at_start: NonNegativeNumber | None = Field(
        None, description="what a replica begins with [core-seconds] (default: a full bank)"
    )
    reserved_cores: NonNegativeNumber | None = Field(
        None, description="cores that the platform takes on every replica, all the time (default: the tier's)"
    )

    @property
    def bank_at_start_used(self) -> float:
        """`bank_at_start`, or a full bank [core-seconds]."""
        return (self.bank or 0.0) if self.bank_at_start is None else self.bank_at_start

    @model_validator(mode="after")
    def _lends(self) -> Self:
        if (self.steady_cores is None) != (self.bank is None):
            there, missing = ("bank", "steady_cores") if self.steady_cores is None else ("steady_cores", "bank")
            raise ValueError(f"{missing} is missing; {there} needs it: CPU is lent with both or not at all")
        if self.bank_at_start is not None and self.bank_at_start > (self.bank or 0.0):
            raise ValueError(f"bank_at_start = {self.bank_at_start:g} is above bank = {self.bank or 0:g}")
        return self


class ReplicaLimits(Table):
    """How many replicas a tier lets one have."""

    least: Replicas = Field(1, description="fewest replicas of a plan")
    most: PositiveReplicas | None = Field(None, description="most replicas of a plan (default: no limit)")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.most is not None and self.least > self.most:
            raise ValueError(f"least = {self.least} is above most = {self.most}; allowed: least at or below most")
        return self


_PRICES_OF_USE: Final = ("per_million_requests", "per_core_second", "per_gb_second")
_FREE_USE: Final = ("requests", "core_seconds", "gb_seconds")


class Health(Table):
    """How a balancer finds out that a replica is dead: by checks, at a random phase of each process's own.

    A check takes no slot, and fails only when the process is dead or its machine gone. A replica is out at the
    `after`-th failed check in a row and `timeout`.

    Example:
        >>> Health(every="10s").after
        3
    """

    every: Annotated[PositiveSeconds, usually(3600.0)] = Field(description="from one check to the next [s]")
    after: PositiveCount = Field(3, description="failed checks in a row after which a replica is out")
    timeout: Annotated[Seconds, usually(300.0)] = Field(1.0, description="after which a check has failed [s]")
    first: Count = Field(0, description="good checks before a new replica counts as ready")


ServiceCategory = Literal[
    "AI and Machine Learning", "Analytics", "Business Applications", "Compute", "Databases", "Developer Tools",
    "Identity", "Integration", "Internet of Things", "Management and Governance", "Media", "Migration", "Mobile",
    "Multicloud", "Networking", "Security", "Storage", "Web", "Other",
]  # fmt: skip
"""Those of the open cost and usage specification."""


class TierRegion(PricesOfTier):  # type: ignore[misc]
    """What differs in a region of a tier: a factor on all its prices, or single prices.

    Example:
        >>> TierRegion(prices=1.15).prices
        1.15
    """

    prices: Annotated[float, Field(gt=0, le=1000, allow_inf_nan=False)] = Field(
        1.0, description="a factor on the prices of the tier and its sizes; not on shares, allowances or quantities"
    )


class Tier(PricesOfTier):  # type: ignore[misc]
    """One way of hosting that can be bought: its limits, its start-up times and its prices.

    Example:
        >>> Tier(billing="per_hour", sizes={"small": Size(cores=1, per_hour="0.03")}).sizes["small"].name
        'small'
    """

    name: str = Field("tier", exclude=True)
    region: str | None = Field(None, exclude=True)
    """In which it is this tier, see `in_region`; None: in none in particular."""
    summary: str = Field("", description="one line for the reader")
    category: ServiceCategory = Field(
        "Compute", description="what kind of service the tier is, as tables of costs call it (`--costs`)"
    )
    replicas: ReplicaLimits = Field(ReplicaLimits(), description="fewest and most replicas")
    autoscaling: bool = Field(False, description="whether a scaling rule may change the number of replicas")
    zones: tuple[str, ...] = Field(("one",), min_length=1, description="names of the zones (default: one zone)")
    provision: Annotated[DelayField, usually(7200.0)] = Field(
        Delay(0.0), description="from the order of a machine to the start of the process [s], or two percentiles"
    )
    detect: Annotated[Seconds, usually(7200.0)] = Field(
        0.0, description="from the death of a replica to when the balancer knows it [s]"
    )
    health: Health | None = Field(None, description="how it finds that out, instead of detect")
    restarts: Literal["at_once", "when_found"] = Field(
        "at_once",
        description='when the process of a dead replica is started again: "at_once", whatever the balancer knows of '
        'it; "when_found", when it knows',
    )
    order_fails: Fraction = Field(0.0, description="share of orders that fail, since the tier is out of stock")
    order_again: PositiveSeconds = Field(60.0, description="from a failed order to the next try [s]")
    interruptible: bool = Field(False, description="whether machines may be taken back")
    reclaimed_every: PositiveSeconds | None = Field(
        None, description="mean time after which a machine is taken back, at random, interruptible only [s]"
    )
    notice: Seconds = Field(0.0, description="from the notice to when a machine is taken back, interruptible only [s]")
    reserved_cores: NonNegativeNumber = Field(
        0.0, description="cores that the platform takes on every replica, all the time; requests have the rest"
    )
    on_notice: Literal["replace", "drain"] = Field(
        "replace",
        description='what a replica does under notice: "replace", it serves until another is ready in its place, or '
        'until the drain of the service before its end; "drain", it drains',
    )
    holds_requests: bool = Field(
        False,
        description="requests wait for a replica with a free slot instead of being refused; none waits at replicas",
    )
    queue_limit: Count | None = Field(
        None, description="most requests held so, or in the shared queue (default: no limit)"
    )
    overhead: Annotated[Seconds, usually(10.0)] = Field(
        0.0, description="network and proxy, added to the latency of every answer [s]"
    )
    billing: Literal["per_second", "per_hour", "per_month", "per_request"] = Field(
        description="how replicas are paid for"
    )
    billed_from: Literal["ordered", "ready"] = Field("ordered", description="when the meter of a replica starts")
    minimum_billed: Seconds = Field(0.0, description="least time billed of a replica's life, per_second only [s]")
    granularity: Seconds = Field(
        0.0, description="each period in use is rounded up to whole numbers of this, per_request only [s]"
    )
    free: FreeAllowance = Field(FreeAllowance(), description="allowances of a month")
    regions: dict[str, TierRegion] = Field(
        {}, description="the regions that the tier has, each with what differs in price (default: any, alike)"
    )
    sizes: dict[str, Size] = Field(min_length=1, description="the sizes that the tier sells, by name")

    @model_validator(mode="before")
    @classmethod
    def _name_sizes(cls, values: Any) -> Any:
        """A size knows the name under which its tier sells it."""
        return name_entries(values, "sizes")

    def _has_prices_of_replicas(self) -> None:
        key = "per_month" if self.billing == "per_month" else "per_hour"
        for name, size in self.sizes.items():
            if getattr(size, key) is None:
                raise ValueError(f"size {name!r} has no {key}, which billing = {self.billing!r} needs")
        prices = {name: getattr(self, name) for name in (*_PRICES_OF_USE, "granularity")}
        prices |= {f"free.{name}": getattr(self.free, name) for name in _FREE_USE}
        for key, price in prices.items():
            if price:
                raise ValueError(f"{key} needs billing = 'per_request'; found billing = {self.billing!r}")

    def _has_prices_of_use(self) -> None:
        if not any(getattr(self, key) for key in _PRICES_OF_USE):
            raise ValueError(f"billing = 'per_request' needs one or more of {', '.join(_PRICES_OF_USE)}")
        for name, size in self.sizes.items():
            for key in ("per_hour", "per_month"):
                if getattr(size, key) is not None:
                    raise ValueError(f"size {name!r} has {key}, but billing = 'per_request' pays for use")
            if self.per_gb_second and size.memory is None:
                raise ValueError(f"size {name!r} has no memory, which per_gb_second needs")

    @model_validator(mode="after")
    def _is_found_one_way(self) -> Self:
        if self.health is not None and "detect" in self.model_fields_set:
            raise ValueError("detect, health: both say when a dead replica is found; allowed: one of the two")
        asks = self.reclaimed_every is not None or self.notice or "on_notice" in self.model_fields_set
        if not self.interruptible and asks:
            raise ValueError("reclaimed_every, notice, on_notice: they need interruptible = true")
        if self.order_fails >= 1:
            raise ValueError("order_fails: found 100%; allowed: less, else no order is ever met")
        return self

    @model_validator(mode="after")
    def _leaves_cores(self) -> Self:
        for name, size in self.sizes.items():
            reserved = self.reserved_of(size)
            for key, there in (("cores", size.cores), ("steady_cores", size.steady_cores)):
                if there is not None and reserved and reserved >= there:
                    raise ValueError(
                        f"reserved_cores: {reserved:g} on size {name!r}, which has {key} = {there:g}; allowed: less, "
                        "so that something is left for requests"
                    )
        return self

    def in_region(self, name: str) -> Tier:
        """The tier as it is in a region, with its prices there: a tier of its own, for steps, allowances and fees."""
        region = self.regions.get(name) or TierRegion()
        own = {key: getattr(region, key) for key in region.model_fields_set if key != "prices"}
        scaled = {
            key: times(getattr(self, key), region.prices)
            for key in self.model_fields_set
            if key in PricesOfTier.model_fields and key not in own
        }
        sizes = {
            size_name: size.model_copy(
                update={
                    key: times(getattr(size, key), region.prices)
                    for key in size.model_fields_set
                    if key in PricesOfSize.model_fields
                }
            )
            for size_name, size in self.sizes.items()
        }
        there: Tier = self.model_copy(
            update={**scaled, **own, "sizes": sizes, "name": f"{self.name} {name}", "region": name, "regions": {}}
        )
        return there

    @property
    def plain_name(self) -> str:
        """Its name, without the region in which it is."""
        return self.name if self.region is None else self.name.removesuffix(f" {self.region}")

    def reserved_of(self, size: Size) -> float:
        """Cores that the platform takes on a replica of a size."""
        return self.reserved_cores if size.reserved_cores is None else size.reserved_cores

    @property
    def detect_about(self) -> float:
        """From the death of a replica to when the balancer knows it, on average [s]."""
        if self.health is None:
            return self.detect
        return (self.health.after - 0.5) * self.health.every + self.health.timeout

    @model_validator(mode="after")
    def _has_prices(self) -> Self:
        if self.billing == "per_request":
            self._has_prices_of_use()
        else:
            self._has_prices_of_replicas()
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
