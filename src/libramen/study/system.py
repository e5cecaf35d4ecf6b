"""The services of a study as one plan hosts them, and who asks whom."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Final, NamedTuple
from zlib import crc32

import numpy as np

from libramen.base.errors import StudyError
from libramen.base.fields import nearest
from libramen.study.calls import Call
from libramen.study.edge import EDGE, Edge
from libramen.study.hosting import Hosting
from libramen.study.places import NO_TRIPS, NOWHERE, RoundTrips
from libramen.study.plan import ALONE, Plan
from libramen.study.service import Service, Size, Tier
from libramen.study.terms import Account

_MOST_PLACES: Final = 1_000_000_000
_EPSILON: Final = 1e-9


class Hosted(NamedTuple):
    """One service as a plan hosts it, in one of its regions: a fleet.

    Attributes:
        name: of it, among all of the plan.
        label: its name where there are others, else None: what is said of it is said of all.
        number: of the service (from 0); its regions have the same.
        of: what the service is called.
    """

    name: str
    service: Service
    hosting: Hosting
    label: str | None = None
    number: int = 0
    of: str = ""

    @property
    def region(self) -> str | None:
        """Where it stands, None: that does not matter."""
        return self.hosting.region

    @property
    def luck(self) -> int:
        """The number of its random streams: a region has its own, whatever other regions the plan has."""
        return self.number if self.region is None else self.number + ((crc32(self.region.encode()) + 1) << 8)


class Made(NamedTuple):
    """One entry of a table of calls, with all that follows from the other services.

    Attributes:
        caller, callee: numbers of the fleets; the callee's first one, where it has several.
        call: what the study says.
        group: entries of one caller with one number are made at one instant.
        pool: which of the pools of the caller's replicas, -1: none.
        pool_limit, pool_timeout: its connections, and how long a call waits for one [s].
        place: of its first time in the tree of calls, after the visit that makes it.
        places_each: that one time of it takes.
    """

    caller: int
    callee: int
    call: Call
    group: int
    pool: int
    pool_limit: int
    pool_timeout: float
    place: int
    places_each: int


@dataclass(frozen=True)
class System:
    """The services of a plan.

    Attributes:
        plan: that hosts them.
        hosted: each service, in the order of the study, in each of its regions, in the order of the plan.
        calls: who asks whom, by caller, in the order of the study.
        round_trips: between places.
    """

    plan: Plan
    hosted: tuple[Hosted, ...]
    calls: tuple[Made, ...] = ()
    round_trips: RoundTrips = NO_TRIPS

    @classmethod
    def of(
        cls,
        services: Service | Mapping[str, Service],
        plan: Plan | Hosting | Mapping[str, Plan | Hosting],
        round_trips: RoundTrips | None = None,
    ) -> System:
        """What a plan hosts.

        Args:
            services: one, or several by name.
            plan: a plan, or what each of the services runs on, by name; of one service also that alone.
            round_trips: between places, where the plan has regions.

        Raises:
            StudyError: a service is not in the plan; calls go in a circle, or to a service that is not there.
        """
        named = {ALONE: services} if isinstance(services, Service) else dict(services)
        if not named or not all(isinstance(service, Service) for service in named.values()):
            raise StudyError(f"services: found {services!r}; allowed: a Service, or several by name")
        if isinstance(plan, Hosting):
            plan = Plan(name=plan.plan, services={ALONE: plan})
        if not isinstance(plan, Plan | Mapping):
            raise StudyError(f"plan: found {plan!r}; allowed: a Plan, or what each service runs on, by name")
        whole = plan if isinstance(plan, Plan) else Plan(services=dict(plan))
        if whole.is_short and ALONE not in named:
            if len(named) > 1:
                raise StudyError(f"plan {whole.name!r}: it is for one service, and there are {', '.join(named)}")
            whole = Plan(name=whole.name, services=dict.fromkeys(named, whole.only), edge=whole.edge)
        parts = whole.services
        for name in parts:
            if name not in named:
                raise StudyError(f"plan {whole.name!r}: there is no service {name!r}; {nearest(name, named)}")
        hosted: list[Hosted] = []
        for number, (name, service) in enumerate(named.items()):
            if name not in parts:
                raise StudyError(
                    f"plan {whole.name!r}: service {name!r} has no plan; allowed: "
                    f"[plans.{whole.name}.services.{name}], or [services.{name}.plan] for all plans"
                )
            fleets = parts[name].in_regions()
            for fleet in fleets:
                known_as = name
                if len(fleets) > 1:
                    known_as = str(fleet.region) if len(named) == 1 else f"{name} in {fleet.region}"
                label = known_as if len(named) > 1 or len(fleets) > 1 else None
                hosted.append(Hosted(known_as, fleet.service_of(service), fleet, label, number, name))
        # A loss is an event of its region, whichever service's faults it stands among.
        lost = {one.region for one in hosted for fault in one.hosting.faults if fault.kind == "region_loss"}
        hosted = [
            one._replace(hosting=one.hosting.model_copy(update={"breaks_too": True})) if one.region in lost else one
            for one in hosted
        ]
        _are_paid_apart(whole, hosted)
        placed = [one.of for one in hosted if one.region is not None]
        if placed and len(placed) < len(hosted):
            other = next(one.of for one in hosted if one.region is None)
            raise StudyError(
                f"plan {whole.name!r}: service {placed[0]!r} has regions and {other!r} has none; allowed: regions for "
                "all services of a plan, or for none"
            )
        return cls(whole, tuple(hosted), _calls(hosted), round_trips or NO_TRIPS)

    @property
    def is_placed(self) -> bool:
        """Whether it matters where users and fleets are."""
        return self.hosted[0].region is not None

    @property
    def services(self) -> tuple[Hosted, ...]:
        """Each service in its first region."""
        return tuple(one for at, one in enumerate(self.hosted) if self.first[at] == at)

    @property
    def first(self) -> tuple[int, ...]:
        """Of each fleet the number of the first one of its service."""
        numbers = [one.number for one in self.hosted]
        return tuple(numbers.index(number) for number in numbers)

    @property
    def regions(self) -> tuple[str, ...]:
        """All in which something stands, in the order in which they are met."""
        return tuple(dict.fromkeys(one.region for one in self.hosted if one.region is not None))

    @property
    def fleets(self) -> dict[str, Hosting]:
        """What each fleet runs on, by name."""
        return {one.name: one.hosting for one in self.hosted}

    def areas_of(self, areas: Iterable[str]) -> tuple[str, ...]:
        """All places from which requests may come, given those of a trace; none where nobody is anywhere."""
        known = tuple(areas)
        if not self.is_placed and not known and not (self.edge is not None and self.edge.miss_time):
            return ()
        return tuple(dict.fromkeys((NOWHERE, *known, *self.round_trips.places)))

    @property
    def edge(self) -> Edge | None:
        """What answers some requests before any fleet."""
        return self.plan.edge

    @property
    def shares(self) -> dict[str, Hosting]:
        """What each fleet is paid for as, by name: itself, or each entry of its mix, the first under the same name."""
        return {name: share for one in self.hosted for name, share in one.hosting.shares(one.name).items()}

    @property
    def entries(self) -> dict[str, str]:
        """Of the names of `shares` that are an entry of a mixed fleet the name of that fleet."""
        return {name: one.part_of for name, one in self.shares.items() if one.part_of is not None}

    def shares_of(self, name: str) -> tuple[str, ...]:
        """The names under which a fleet is paid for."""
        return tuple(share for share, one in self.shares.items() if (one.part_of or share) == name)

    @property
    def billed(self) -> dict[str, Hosting]:
        """All that is paid for, by name: `shares`, and the edge as if it were a fleet, on a tier of its own."""
        edge = self.edge
        fleets = self.shares
        if edge is None:
            return fleets
        prices = {"per_million_requests": edge.per_million_requests, "egress_per_gb": edge.per_gb}
        size = Size(name=EDGE, cores=1)
        tier = Tier(
            name=EDGE, billing="per_request", per_million_requests=1, replicas={"least": 0}, sizes={EDGE: size},
        )  # fmt: skip
        at_edge = Hosting(plan=self.name, tier=tier, size=tier.sizes[EDGE], replicas=0)
        # A tier of this kind has a price above nothing; an edge may have none, and is given its own afterwards.
        at_edge = at_edge.model_copy(update={"tier": tier.model_copy(update=prices)})
        if edge.miss_per_gb is not None:
            of_misses = {"egress_per_gb": edge.miss_per_gb}
            fleets = {
                name: one.model_copy(update={"tier": one.tier.model_copy(update=of_misses)})
                for name, one in fleets.items()
            }
        return fleets | {EDGE: at_edge}

    def of_service(self, name: str) -> list[int]:
        """Numbers of the fleets of a service."""
        return [at for at, one in enumerate(self.hosted) if one.of == name]

    def as_logged(self) -> System:
        """The same for a log, which knows nothing of round trips: it was written where the fleet stands.

        Raises:
            StudyError: a service has several regions, and the log does not say which had what.
        """
        if not self.is_placed:
            return self
        if len(self.regions) > 1:
            raise StudyError(
                f"plan {self.name!r}: it stands in {' and '.join(self.regions)}; allowed for a plan on which a log was "
                "recorded: one region"
            )
        hosted = [one._replace(hosting=one.hosting.model_copy(update={"region": None, "spill": False, "reroute": 0.0}))
                  for one in self.hosted]  # fmt: skip
        plan = Plan(name=self.plan.name, services={one.of: one.hosting for one in hosted})
        return System(plan, tuple(hosted), self.calls)

    @property
    def name(self) -> str:
        """Of the plan."""
        return self.plan.name

    @property
    def only(self) -> Hosted | None:
        """The only service, in one place, to which all requests come; None: there are several, or an edge before it."""
        return self.hosted[0] if len(self.hosted) == 1 and self.edge is None else None

    @property
    def labels(self) -> tuple[str, ...]:
        """Of the services, where there are several; else none."""
        return tuple(hosted.label for hosted in self.hosted if hosted.label)

    @property
    def service_labels(self) -> tuple[str, ...]:
        """Of the services, whatever regions they have, where there are several; else none."""
        names = tuple(one.of for one in self.services)
        return names if len(names) > 1 else ()

    @property
    def names(self) -> tuple[str, ...]:
        """Of the services."""
        return tuple(one.name for one in self.hosted)

    @property
    def columns(self) -> tuple[str, ...]:
        """Names of the services whose work the trace must say."""
        names = [
            self.hosted[made.callee].of
            for made in self.calls
            if made.call.of_wait is None and not made.call.has_own_work
        ]
        return tuple(dict.fromkeys(names))

    @property
    def looks_at_routes(self) -> bool:
        """Whether some call is made by requests of some routes only."""
        return any(made.call.routes for made in self.calls)

    def calls_of(self, server: int) -> tuple[Made, ...]:
        """The calls that a service makes."""
        return tuple(made for made in self.calls if made.caller == server)

    def servers_of(self, routes: Sequence[str]) -> np.ndarray:
        """At which service requests of each route arrive: int32 (routes,).

        Raises:
            StudyError: nobody takes the requests of some route, or two services would.
        """
        called = {made.callee for made in self.calls}
        entrances = [(n, one) for n, one in enumerate(self.hosted) if self.first[n] == n]
        rest = [n for n, one in entrances if not one.service.routes and n not in called]
        found = []
        for route in routes:
            takers = [n for n, one in entrances if any(fnmatchcase(route, p) for p in one.service.routes)]
            if not takers and len(rest) != 1:
                names = " and ".join(repr(self.hosted[n].of) for n in rest)
                raise StudyError(
                    f"plan {self.name!r}: requests of the route {route!r} match the routes of no service, and "
                    + (f"{names} have none and are called by none" if rest else "every other service is called")
                    + "; allowed: routes for each of them, or one service without that takes the rest"
                )
            found.append(takers[0] if takers else rest[0])
        return np.array(found, np.int32)

    def applies(self, routes: Sequence[str]) -> np.ndarray:
        """Which routes make each call: int64 (services + calls, routes), 1: they do. The first rows are of users.

        Raises:
            StudyError: the calls of one visit take more than all of its wait.
        """
        table = np.ones((len(self.hosted) + len(self.calls), max(1, len(routes))), np.int64)
        for row, made in enumerate(self.calls, start=len(self.hosted)):
            if made.call.routes:
                table[row] = [any(fnmatchcase(route, p) for p in made.call.routes) for route in routes] or [False]
        for server, one in enumerate(self.hosted):
            shares = np.array([m.call.of_wait or 0.0 if m.caller == server else 0.0 for m in self.calls])
            total = shares @ table[len(self.hosted) :] if len(shares) else np.zeros(1)
            if (total > 1 + 1e-9).any():
                route = routes[int(np.argmax(total))] if routes else ""
                raise StudyError(
                    f"services.{one.of}.calls: of_wait is {total.max():.0%} together for requests of {route!r}; "
                    "allowed: at most 100 %"
                )
        return table

    @property
    def parts(self) -> tuple[tuple[int, int], ...]:
        """Of each fleet a place for its service, each before all that it leads to, and the end of those places."""
        services = [n for n, first in enumerate(self.first) if first == n]
        below = {n: {m.callee for m in self.calls if m.caller == n} for n in services}
        order: list[int] = []

        def visit(n: int) -> None:
            if n not in order:
                for m in sorted(below[n], reverse=True):
                    visit(m)
                order.append(n)

        for n in reversed(services):
            visit(n)
        place = {n: at for at, n in enumerate(reversed(order))}
        ends: dict[int, int] = {}
        for n in order:
            ends[n] = max([place[n] + 1, *(ends[m] for m in below[n])])
        return tuple((place[n], ends[n]) for n in self.first)


def _are_paid_apart(plan: Plan, hosted: Sequence[Hosted]) -> None:
    """See that no two things that are paid for have one name.

    Raises:
        StudyError: two have; else the one would have the bill of the other.
    """
    names = [name for one in hosted for name in one.hosting.shares(one.name)]
    names += [EDGE] if plan.edge is not None else []
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise StudyError(
            f"plan {plan.name!r}: two lines of its bill would be called {twice!r}, that of the service and that of "
            f"{'the edge' if twice == EDGE else 'an entry of a mix'}; allowed: another name for the service"
        )


def _calls(hosted: Sequence[Hosted]) -> tuple[Made, ...]:
    names = [one.of for one in hosted]
    sizes = _sizes(hosted)
    made: list[Made] = []
    for caller, one in enumerate(hosted):
        calls = one.service.calls
        limits, patience = _pools(one)
        callees = list(dict.fromkeys(call.to for call in calls))
        place, group = 1, 0
        for number, call in enumerate(calls):
            follows = number > 0 and call.at_once and calls[number - 1].at_once
            group += not follows
            callee = names.index(call.to)
            limit = limits[call.to] if call.wait_for_it else None
            made.append(
                Made(
                    caller,
                    callee,
                    call,
                    group,
                    callees.index(call.to) if limit else -1,
                    limit or 0,
                    patience.get(number, math.inf),
                    place,
                    sizes[call.to],
                )
            )
            place += call.times * sizes[call.to]
    return tuple(made)


def _pools(one: Hosted) -> tuple[dict[str, int | None], dict[int, float]]:
    """Connections of a replica to each callee, and how long each entry waits for one [s]."""
    limits: dict[str, int | None] = {call.to: None for call in one.service.calls}
    for call in one.service.calls:
        if call.pool is not None:
            if limits[call.to] not in {None, call.pool}:
                raise StudyError(
                    f"services.{one.of}.calls: pool to {call.to!r}: found {limits[call.to]} and {call.pool}; "
                    "allowed: one number, since entries to one service share it"
                )
            limits[call.to] = call.pool
    patience = {}
    for number, call in enumerate(one.service.calls):
        if call.pool_timeout is not None:
            if limits[call.to] is None:
                raise StudyError(f"services.{one.of}.calls: pool_timeout to {call.to!r} has no effect without pool")
            patience[number] = call.pool_timeout
    return limits, patience


def _sizes(hosted: Sequence[Hosted]) -> dict[str, int]:
    """How many visits one visit of each service can lead to, itself included.

    Raises:
        StudyError: a call goes to a service that is not there, or calls go in a circle.
    """
    named = {one.of: one for one in hosted}
    sizes: dict[str, int] = {}

    def size(name: str, path: tuple[str, ...]) -> int:
        if name in path:
            circle = " -> ".join((*path[path.index(name) :], name))
            raise StudyError(f"services.{name}.calls: {circle}; allowed: calls that do not go in a circle")
        if name not in sizes:
            total = 1
            for call in named[name].service.calls:
                if call.to not in named:
                    raise StudyError(
                        f"services.{name}.calls: to: there is no service {call.to!r}; {nearest(call.to, named)}"
                    )
                total += call.times * size(call.to, (*path, name))
            if total > _MOST_PLACES:
                raise StudyError(f"services.{name}.calls: one visit can lead to {total:,} calls; allowed: up to 10^9")
            sizes[name] = total
        return sizes[name]

    for name in named:
        size(name, ())
    return sizes


def check_distances(system: System, areas: Iterable[str] = ()) -> None:
    """See that it is told how far it is from everywhere to wherever something may be sent.

    Args:
        system: the services of a plan, in their regions.
        areas: where users are, as far as that is known.

    Raises:
        StudyError: of some pair it is not.
    """
    if not system.is_placed:
        return
    called = {made.callee for made in system.calls}
    pairs = [
        (area, str(one.region))
        for at, one in enumerate(system.hosted)
        if one.service.routes or system.first[at] not in called
        for area in areas
    ]
    for made in system.calls:
        mine = str(system.hosted[made.caller].region)
        pairs += [(mine, str(one.region)) for at, one in enumerate(system.hosted) if system.first[at] == made.callee]
    for pair in pairs:
        try:
            system.round_trips.between(*pair)
        except StudyError as error:
            raise StudyError(f"plan {system.name!r}: {error}") from None


def check_account(plan: Plan, account: Account) -> None:
    """See that an account has room for the fleets of a plan at the start, and for its commitments.

    Raises:
        StudyError: it has not.
    """
    fleets = [fleet for hosting in plan.services.values() for fleet in hosting.in_regions()]
    for region, limits in account.limits():
        there = [one for one in fleets if region in {None, one.region}]
        starts = sum(one.replicas_used + one.standing_by for one in there)
        cores = sum((one.replicas_used + one.standing_by) * one.size.cores for one in there)
        committed = sum(entry.replicas for one in there for entry in one.committed)
        where = f"plan {plan.name!r}"
        says = "as [account] says" if region is None else f"as [account.regions.{region}] says"
        fleets_there = "its fleets at the start" if region is None else f"its fleets in {region} at the start"
        if limits.replicas is not None and starts > limits.replicas:
            found = f"{fleets_there} are {starts} replicas"
            raise StudyError(f"{where}: {found}; allowed: up to {limits.replicas}, {says}")
        if limits.cores is not None and cores > limits.cores + _EPSILON:
            found = f"{fleets_there} have {cores:g} cores"
            raise StudyError(f"{where}: {found}; allowed: up to {limits.cores:g}, {says}")
        if limits.replicas is not None and committed > limits.replicas:
            raise StudyError(f"{where}: {committed} replicas are committed; allowed: up to {limits.replicas}, {says}")
