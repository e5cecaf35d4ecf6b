"""What a service runs on: what is bought, how many, and what is done with it."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar, Literal, NamedTuple, Self

from pydantic import Field, SerializeAsAny, field_validator, model_validator

from libramen.base.delays import Delay, DelayField
from libramen.base.errors import StudyError
from libramen.base.fields import Replicas, Seconds, nearest
from libramen.base.times import At, Moment, Timeline
from libramen.prices import PricesOfPlan
from libramen.prices.lines import in_steps
from libramen.prices.replica_hours import BY_TIME
from libramen.rules.faults import KINDS, RegionLoss
from libramen.rules.rollouts import STRATEGIES
from libramen.rules.rollouts.update import Rollout
from libramen.rules.scaling import RULES, Fixed
from libramen.study.balancers import BALANCERS, Balancer, BalancerName
from libramen.study.listed import number_or_list
from libramen.study.mix import Stock, composed, misfits, most_of, with_size
from libramen.study.places import Elsewhere, regions_of
from libramen.study.service import Service, Size, Tier


class Due(NamedTuple):
    """A release or a fault that is due.

    Attributes:
        at_s: when, from the start of the trace [s].
        place: of the entry in the plan's table (from 0).
        entry: a `Rollout` or a `Fault`.
    """

    at_s: float
    place: int
    entry: Any


class Hosting(PricesOfPlan):  # type: ignore[misc]
    """What a service runs on: what is bought, how many, and what is done with it.

    It holds its tier and size themselves. In Python the size may also be named, if the tier
    sells it; `scaling` and `rollouts` may be written as tables (dictionaries with a study's keys).

    Example:
        >>> tier = Tier(billing="per_hour", sizes={"small": {"cores": 1, "per_hour": "0.03"}})
        >>> Hosting(tier=tier, size="small", replicas=2).zones_used
        ('one',)
    """

    shown_as: ClassVar[str] = "Plan"

    plan: str = Field("plan", exclude=True)
    """Name of the plan that it is part of, for messages."""
    tier: Tier = Field(description="name of the tier")
    size: Size = Field(description="name of the size")
    mix: tuple[Stock, ...] = Field(
        (),
        description="machines of several tiers side by side, instead of tier and size: entries with tier, size and, "
        "but for the last, replicas; orders fill the first that is short",
    )
    replacement: Literal["same", "other"] = Field(
        "same",
        description='what becomes of an order that its tier cannot meet, of a mix only: "same", it is tried again '
        'there; "other", it goes at once to the first other entry that can meet it',
    )
    replicas: Replicas | tuple[tuple[At, Replicas], ...] | None = Field(
        None,
        union_mode="left_to_right",
        description="the fleet at the start (default: the tier's least); or how many were ready from which moment on, "
        'a list such as [["2031-06-05T06:00", 3], ...], for a plan on which a log was recorded',
    )
    zones: tuple[str, ...] | None = Field(
        None,
        min_length=1,
        description="zones over which replicas are spread in turn (default: all the tier's)",
    )
    balancer: BalancerName = Field("least_busy", description="which replica gets a request")
    scaling: SerializeAsAny[RULES] = Field(Fixed(), description="the scaling rule")
    regions: dict[str, dict[str, Any]] = Field(
        {},
        description='where fleets of it stand: a list such as ["east"], or a table by name with what differs there '
        "(default: places do not matter)",
    )
    spill: bool = Field(False, description="whether what a region would refuse goes on to the next nearest one")
    reroute: Seconds = Field(
        0.0, description="so often a visitor looks which regions are open [s] (default: at every attempt)"
    )
    standby: Replicas | Elsewhere = Field(
        0,
        union_mode="left_to_right",
        description="replicas beside these that stand by, ready and paid, and serve nobody; or a table with region, "
        "replicas (1) and promote: they stand by in another region, and are the home when this one is closed",
    )
    promote: DelayField = Field(
        Delay(0.0), description="from when one that serves is gone or found dead to when a standby serves [s]"
    )
    heir_of: str | None = Field(None, exclude=True)
    """Of standbys in another region the home in whose place they would serve."""
    service: dict[str, Any] = Field({}, description="keys of the service that differ for this plan")
    rollouts: tuple[SerializeAsAny[STRATEGIES], ...] = Field((), description="rolling updates")
    faults: tuple[SerializeAsAny[KINDS], ...] = Field((), description="what breaks")

    region: str | None = Field(None, exclude=True)
    """The region in which this fleet stands, None: places do not matter, or it stands in all `regions`."""

    copies_gb: float = Field(0.0, exclude=True)
    """Of standbys in another region what is copied there in a month [GB]."""
    part_of: str | None = Field(None, exclude=True)
    """Of one entry of a mixed fleet, as it is paid for, the name of that fleet."""
    breaks_too: bool = Field(False, exclude=True)
    """Whether a fault of another service may break it: one that takes its region."""

    def in_regions(self) -> list[Hosting]:
        """What runs in each region; of a plan without regions itself.

        Raises:
            StudyError: a key of a region is not allowed there.
        """
        losses = [fault for fault in self.faults if isinstance(fault, RegionLoss)]
        stands_in = [*self.regions, *([self.standby.region] if isinstance(self.standby, Elsewhere) else [])]
        for fault in losses if self.region is None else ():
            if fault.region not in {None, *stands_in}:
                known = nearest(str(fault.region), self.regions) if self.regions else "allowed: a plan with regions"
                raise StudyError(f"plan {self.plan!r}: faults: region: found {fault.region!r}; {known}")
            if not self.regions:
                raise StudyError(f"plan {self.plan!r}: faults: region_loss needs regions; allowed: a plan with regions")
        for rollout in self.rollouts if self.region is None else ():
            for name in rollout.regions:
                if name not in self.regions:
                    known = nearest(name, self.regions) if self.regions else "allowed: a plan with regions"
                    raise StudyError(f"plan {self.plan!r}: rollouts: regions: found {name!r}; {known}")
        if not self.regions:
            return [self]
        found = []
        for name, keys in self.regions.items():
            where = f"plan {self.plan!r}: regions.{name}"
            faults = [fault for fault in losses if fault.region in {None, name}]
            own = keys.get("faults", [fault for fault in self.faults if not isinstance(fault, RegionLoss)])
            rollouts = [one for one in self.rollouts if not one.regions or name in one.regions]
            if "rollouts" in keys and any(one.regions for one in rollouts):
                raise StudyError(
                    f"{where}: rollouts: a release of the plan goes from region to region, and this one has its own; "
                    "allowed: one of the two"
                )
            keys = {"rollouts": rollouts, **keys, "faults": [*own, *faults]}  # noqa: PLW2901
            for tier in (one.tier for one in self.stocks):
                if tier.regions and name not in tier.regions:
                    raise StudyError(f"{where}: tier {tier.name!r} has no such region; {nearest(name, tier.regions)}")
            try:
                there: dict[str, Any] = {"tier": self.tier.in_region(name), "size": self.size.name}
                there |= {"spill": False, "reroute": 0.0}
                if self.mix:
                    there["mix"] = [
                        Stock(tier=one.tier.in_region(name), size=one.size.name, replicas=one.replicas)
                        for one in self.mix
                    ]
                here = {"region": name, "spill": self.spill, "reroute": self.reroute}
                if isinstance(self.standby, Elsewhere):
                    here["standby"] = 0
                    there["standby"] = 0
                found.append(self.replace(**{"regions": {}, **there, **keys}).model_copy(update=here))
                if isinstance(self.standby, Elsewhere):
                    found.append(self._heirs(self.standby, name, losses))
            except StudyError as error:
                raise StudyError(f"{where}: {str(error).removeprefix('[Plan] ')}") from None
        return found

    def _heirs(self, standby: Elsewhere, home: str, losses: list[RegionLoss]) -> Hosting:
        """What stands by in another region: nobody serves there unless the home is closed."""
        if self.tier.regions and standby.region not in self.tier.regions:
            raise StudyError(
                f"standby: tier {self.tier.name!r} has no region {standby.region!r}; "
                f"{nearest(standby.region, self.tier.regions)}"
            )
        alike = {"regions": {}, "spill": False, "reroute": 0.0, "standby": 0, "rollouts": (), "faults": losses}
        tier = self.tier.in_region(standby.region)
        there = self.replace(**alike, tier=tier, size=self.size.name, promote=0)
        own = {"region": standby.region, "replicas": 0, "standby": standby.replicas, "promote": standby.promote}
        own["copies_gb"] = standby.copies_gb
        mine = tuple(loss for loss in losses if loss.region in {None, standby.region})
        heirs: Hosting = there.model_copy(update={**own, "heir_of": home, "faults": mine})
        return heirs

    def replace(self, **values: Any) -> Self:
        """A copy with other values, read and checked like those of a file.

        With another tier and no size, the size of the same name there.

        Raises:
            StudyError: a key is unknown, or its value is not allowed.

        Example:
            >>> tier = Tier(billing="per_hour", sizes={"small": {"cores": 1, "per_hour": "0.03"}})
            >>> Hosting(tier=tier, size="small").replace(replicas=2).replicas_used
            2
        """
        if values.get("mix"):  # its first entry says the tier and the size
            first = Stock.of(values["mix"][0])
            values = {"tier": first.tier, "size": first.size, **values}
        if isinstance(values.get("tier"), Tier) and "size" not in values:
            values["size"] = self.size.name
        if isinstance(values.get("size"), str) and "tier" not in values:
            values["tier"] = self.tier
        changed: Self = super().replace(**values)
        return changed

    def with_tiers(self, change: Callable[[Tier], Tier]) -> Self:
        """A copy on changed tiers: of a mix those of all entries.

        Example:
            >>> tier = Tier(billing="per_hour", sizes={"small": {"cores": 1, "per_hour": "0.03"}})
            >>> one = Hosting(tier=tier, size="small")
            >>> one.with_tiers(lambda tier: tier.replace(detect="5s")).tier.detect
            5.0
        """
        if not self.mix:
            return self.replace(tier=change(self.tier), size=self.size)
        return self.replace(mix=[one.replace(tier=change(one.tier), size=one.size) for one in self.mix])

    def beside(self, folder: Path, *, trusted: bool) -> Self:
        """The same for a study in a folder; see `AnyRule.beside`."""
        scaling = self.scaling.beside(folder, trusted=trusted)
        return self if scaling is self.scaling else self.model_copy(update={"scaling": scaling})

    def due(self, table: Literal["rollouts", "faults"], trace: Timeline) -> list[Due]:
        """When the entries of a table are due in a trace; those that come at random are not.

        Raises:
            StudyError: one is due at a time that is not in the trace.
        """
        return [
            Due(at_s, place, entry)
            for place, entry in enumerate(getattr(self, table))
            if entry.at is not None
            for at_s in entry.at.offsets(
                trace, daily=entry.daily, days=entry.days, where=f"plan {self.plan!r}: {table}[{place + 1}].at"
            )
        ]

    @property
    def balances(self) -> Balancer:
        """What there is to know of its balancer."""
        return BALANCERS[self.balancer]

    @property
    def has_one_queue(self) -> bool:
        """Whether requests wait in one queue for any replica, and replicas have no backlog."""
        return self.tier.holds_requests or self.balances.queues

    @property
    def may_err(self) -> bool:
        """Whether attempts may fail by themselves: of a new version, or because of what the service waits for."""
        return any(rollout.error_rate > 0 for rollout in self.rollouts) or any(fault.may_err for fault in self.faults)

    @property
    def may_break(self) -> bool:
        """Whether there are faults, the plan's own, its region's or its tier's."""
        return (
            bool(self.faults)
            or self.breaks_too
            or any(one.tier.interruptible and one.tier.reclaimed_every is not None for one in self.stocks)
        )

    def service_of(self, service: Service) -> Service:
        """The service as it is hosted: with its own keys, and with slots where these go by the cores.

        Raises:
            StudyError: a key of the plan's is unknown, or its value is not allowed.
        """
        return (service.replace(**self.service) if self.service else service).on(self.size)

    @property
    def stocks(self) -> tuple[Stock, ...]:
        """The entries of `mix`; without one, what all replicas are of."""
        return self.mix or (Stock.model_construct(tier=self.tier, size=self.size, replicas=None),)

    def tier_of(self, entry: int) -> Tier:
        """Of an entry of `mix` (from 0); without one, that of all replicas."""
        return self.mix[entry].tier if self.mix else self.tier

    @property
    def tier_name(self) -> str:
        """Of its tier, of a mix of all of them: "tidal + driftwood"."""
        return " + ".join(one.tier.name for one in self.stocks)

    @property
    def size_name(self) -> str:
        """Of its size, of a mix of those of all entries, each once."""
        return " + ".join(dict.fromkeys(one.size.name for one in self.stocks))

    @property
    def least(self) -> int:
        """The fewest replicas that its tier allows; of a mix the greatest of these."""
        return max(one.tier.replicas.least for one in self.stocks)

    @property
    def most(self) -> int | None:
        """The most replicas that its tier allows, None: any number; of a mix all entries together."""
        of_each = [one.tier.replicas.most for one in self.stocks]
        return None if None in of_each else sum(n for n in of_each if n is not None)

    def most_under(self, rollout: Rollout) -> int | None:
        """The most replicas that its tiers allow at once under a release, None: any number.

        Orders fill a mix entry by entry, and stop at one that is full, unless another tier may replace it. Where a
        release has two versions side by side, each fills the entries by itself.
        """
        if not self.mix or self.replacement == "other":
            return self.most
        return most_of(self.mix, 1 + rollout.splits)

    @property
    def provision_s(self) -> float:
        """The median from the order of a machine to the start of its process, of a mix of the slowest entry [s]."""
        return max(one.tier.provision.median_s for one in self.stocks)

    def shares(self, name: str) -> dict[str, Hosting]:
        """What is paid for under names of its own: of a mix each entry, of others the fleet itself.

        Of an entry `replicas` is how many are of it while there are the fewest.

        Args:
            name: of the fleet; the first entry has it, too, and with it balancer, egress and commitments.
        """
        if not self.mix:
            return {name: self}
        there = composed(self.mix, min(self.limits[0], self.replicas_used))
        found: dict[str, Hosting] = {}
        for stock, n in zip(self.mix, there, strict=True):
            most = stock.tier.replicas.most
            own = {"tier": stock.tier, "size": stock.size, "mix": (), "part_of": name, "scaling": Fixed()}
            own |= {"replicas": n if most is None else min(n, most)}
            own |= {"committed": ()} if found else {}
            found[f"{name} on {stock.tier.plain_name}" if found else name] = self.model_copy(update=own)
        return found

    @property
    def replicas_used(self) -> int:
        """`replicas`, or the tier's least; of a list the first."""
        if isinstance(self.replicas, tuple):
            return self.replicas[0][1]
        return self.least if self.replicas is None else self.replicas

    @property
    def counts(self) -> tuple[tuple[Moment, int], ...]:
        """How many replicas were ready from which moment on, where `replicas` is a list; else empty."""
        return self.replicas if isinstance(self.replicas, tuple) else ()

    @property
    def standing_by(self) -> int:
        """How many replicas stand by here, beside those that serve."""
        return self.standby if isinstance(self.standby, int) else 0

    @property
    def reserved_cores(self) -> float:
        """Cores of a replica that the platform takes."""
        return self.tier.reserved_of(self.size)

    @property
    def cores(self) -> float:
        """Cores of a replica that requests have."""
        return self.size.cores - self.reserved_cores

    @property
    def steady_cores(self) -> float | None:
        """Of lent cores those that requests may use for ever; None: cores are not lent."""
        return None if self.size.steady_cores is None else self.size.steady_cores - self.reserved_cores

    @property
    def alone(self) -> float:
        """CPU work that a request gets done in a second when it has a warm replica to itself [core-seconds]."""
        return self.size.speed * min(1.0, self.cores)

    @property
    def zones_used(self) -> tuple[str, ...]:
        """`zones`, or all of the tier's."""
        return self.zones or self.tier.zones

    @property
    def base_limits(self) -> tuple[int, int]:
        """Fewest and most replicas of the scaling rule while no entry of its timetable says otherwise."""
        floor, ceiling = self.scaling.bounds or (None, None)
        most = sys.maxsize if self.most is None else self.most
        return self.least if floor is None else floor, most if ceiling is None else ceiling

    @property
    def limits(self) -> tuple[int, int]:
        """Fewest and most replicas that the scaling rule can lead to."""
        floor, ceiling = self.base_limits
        if self.scaling.bounds is None:
            listed = [n for _, n in self.counts] or [self.replicas_used]
            floor, ceiling = min(listed), max(listed)
        if not self.scaling.timetable:
            return floor, ceiling
        within = [
            (max(entry.floor, floor), max(entry.floor, min(ceiling, entry.ceiling or ceiling)))
            if self.scaling.bounds is None
            else (entry.floor, entry.ceiling or ceiling)
            for entry in self.scaling.timetable
        ]
        return min(low for low, _ in within), max(high for _, high in within)

    @field_validator("replicas", mode="before")
    @classmethod
    def _number_or_list(cls, value: Any) -> Any:
        return number_or_list(value)

    @field_validator("regions", mode="before")
    @classmethod
    def _list_or_table(cls, value: Any) -> Any:
        return regions_of(value)

    @model_validator(mode="after")
    def _spills_somewhere(self) -> Self:
        splits = [rollout.strategy for rollout in self.rollouts if rollout.splits]
        for keys in self.regions.values():
            splits += [one["strategy"] for one in keys.get("rollouts", ()) if isinstance(one, dict)
                       and one.get("strategy") in {"switch", "canary"}]  # fmt: skip
        if self.spill and splits:
            raise ValueError(f"spill: a rollout is a {splits[0]}; allowed: one of the two, since versions have sides")
        if (self.spill or self.reroute) and not self.regions and self.region is None:
            key = "spill" if self.spill else "reroute"
            raise ValueError(f"{key} has no effect without regions; allowed: regions, or to leave it out")
        return self

    @model_validator(mode="after")
    def _stands_by(self) -> Self:
        strategies = [rollout.strategy for rollout in self.rollouts]
        if self.mix and isinstance(self.standby, Elsewhere):
            raise ValueError("standby, mix: which entry would stand by is not said; allowed: one of the two")
        if isinstance(self.standby, Elsewhere):
            if self.region is None and (len(self.regions) != 1 or self.standby.region in self.regions):
                raise ValueError(
                    f"standby: in {self.standby.region!r}, of a plan in {' and '.join(self.regions) or 'no region'}; "
                    "allowed: of a plan with one region, in another one"
                )
            if self.scaling.decides or "handover" in strategies:
                raise ValueError("standby: in another region it needs rule fixed without a timetable, and no handover")
            return self
        if self.mix and self.standby:
            raise ValueError("standby, mix: which entry would stand by is not said; allowed: one of the two")
        if not self.standby:
            if "handover" in strategies:
                raise ValueError("rollouts: a handover needs a standby; allowed: standby of 1 or more, or another one")
            if not (self.promote.is_constant and self.promote.median_s == 0):
                raise ValueError("promote has no effect without standby; allowed: standby of 1 or more")
            return self
        if self.scaling.decides or self.counts:
            raise ValueError(
                "standby: the number of replicas changes, and a rule would drain it; allowed: rule fixed without a "
                "timetable"
            )
        other = next((name for name in strategies if name != "handover"), None)
        if other is not None:
            raise ValueError(f"standby: a {other} release would drain it; allowed: handover")
        most = self.most
        if most is not None and self.replicas_used + self.standby > most:
            raise ValueError(
                f"standby: {self.replicas_used} replicas and {self.standby} beside them; tier {self.tier.name!r} "
                f"allows {most}"
            )
        return self

    @model_validator(mode="before")
    @classmethod
    def _size_by_name(cls, values: Any) -> Any:
        if isinstance(values, dict) and isinstance(mix := values.get("mix"), list | tuple) and mix:
            stocks = [one if isinstance(one, Stock) else Stock.model_validate(one) for one in mix]
            first: dict[str, Any] = {"tier": stocks[0].tier, "size": stocks[0].size}
            own = {key: values[key] for key in first if values.get(key) is not None}
            if any(value not in (first[key], first[key].name) for key, value in own.items()):
                raise ValueError(f"mix, {' and '.join(own)}: found both; allowed: mix, or tier and size")
            return {**values, **first, "mix": stocks}
        return with_size(values)

    @model_validator(mode="after")
    def _mixes(self) -> Self:
        if not self.mix and self.replacement != "same":
            raise ValueError("replacement has no effect without mix; allowed: a mix, or to leave it out")
        if self.mix and self.replicas != ():  # an empty list is refused elsewhere
            whole = max([self.replicas_used, *(n for _, n in self.counts)])
            problem = next(misfits(self.mix, whole), None)
            if problem is not None:
                raise ValueError(problem)
        return self

    @model_validator(mode="after")
    def _may_commit(self) -> Self:
        if self.committed and self.tier.billing not in BY_TIME:
            raise ValueError(
                f"committed: tier {self.tier.name!r} has billing = {self.tier.billing!r}; allowed: per_second or "
                "per_hour"
            )
        if self.committed and in_steps(self.size.per_hour):
            raise ValueError(f"committed: size {self.size.name!r} has its per_hour in steps; allowed: a single price")
        return self

    @model_validator(mode="after")
    def _fits_the_tier(self) -> Self:
        tier, least, most = self.tier, self.least, self.most
        named = " and ".join(repr(one.tier.name) for one in self.stocks)
        of = f"tiers {named} allow" if self.mix else f"tier {named} allows"
        allowed = f"{of} {least} to {most if most is not None else 'any number'}"
        if self.replicas == ():
            raise ValueError("replicas: found an empty list; allowed: a number, or pairs of a moment and a number")
        numbers: dict[str, int | None] = {"replicas": self.replicas_used}
        numbers |= {f"replicas[{place}]": n for place, (_, n) in enumerate(self.counts, start=1)}
        for table, there in (
            ("scaling", self.scaling.decides),
            ("rollouts", bool(self.rollouts)),
            ("faults", bool(self.faults)),
        ):
            if self.counts and there:
                raise ValueError(f"{table}: the fleet is a list (replicas), which says all; allowed: to leave it out")
        fixed = next((one.tier for one in self.stocks if not one.tier.autoscaling), tier)
        problem = self.scaling.problem(fixed.name, autoscaling=fixed.autoscaling, is_limited=most is not None)
        if problem is not None:
            raise ValueError(problem)
        numbers |= self.scaling.numbers
        for key, number in numbers.items():
            if number is not None and not (least <= number and (most is None or number <= most)):
                raise ValueError(f"{key}: found {number}; {allowed}")
        problem = self.scaling.conflict(self.base_limits[1])
        if problem is not None:
            raise ValueError(problem)
        for zone in self.zones_used:
            if zone not in tier.zones:
                raise ValueError(f"zones: found {zone!r}; {nearest(zone, tier.zones)}")
        for place, fault in enumerate(self.faults, start=1):
            tiers = {one.tier.plain_name: one.tier.interruptible for one in self.stocks}
            problem = fault.problem(self.zones_used, tiers)
            if problem is not None:
                raise ValueError(f"faults[{place}]: {problem}")
        for rollout in self.rollouts:
            problem = None if self.scaling.decides else rollout.problem(self.replicas_used, self.most_under(rollout))
            if problem is not None:
                raise ValueError(f"rollouts: {problem}")
        return self
