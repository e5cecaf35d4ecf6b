"""A plan: for each service what it runs on, how many, and what is done with it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, Self, TypeVar

from pydantic import Field

from libramen.base.errors import StudyError
from libramen.base.fields import Table, nearest
from libramen.study.edge import Edge
from libramen.study.hosting import Hosting

_Part = TypeVar("_Part")

ALONE: Final = "service"
"""What the only service of a study is called that has no other name."""


class Plan(Table):
    """What could be bought: for each service by name, what it runs on.

    Of one service its keys may stand in the plan itself, a short form: it is called `service` then.

    Example:
        >>> from libramen import Tier
        >>> tier = Tier(billing="per_hour", sizes={"small": {"cores": 1, "per_hour": "0.03"}})
        >>> Plan(name="one", tier=tier, size="small", replicas=2).only.replicas_used
        2
        >>> two = Plan(name="two", services={"web": Hosting(tier=tier, size="small")})
        >>> two.of("web").replicas_used
        1
    """

    name: str = Field("plan", exclude=True)
    services: dict[str, Hosting] = Field(min_length=1, description="what each service runs on")
    edge: Edge | None = Field(None, description="what answers some requests near the users, before any fleet")

    def __init__(self, **values: Any) -> None:
        named = {key: values[key] for key in ("name", "edge") if key in values}
        of = {"plan": values.get("name", "plan")}
        if "services" not in values:
            keys = {key: value for key, value in values.items() if key not in {"name", "edge"}}
            values = named | {"services": {ALONE: Hosting(**keys, **of)}}
        elif isinstance(parts := values["services"], dict):
            values |= {"services": {name: _part(part, of) for name, part in parts.items()}}
        super().__init__(**values)

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            """What a service runs on is asked of that, since a plan may be of several."""
            if name in Hosting.model_fields or isinstance(getattr(Hosting, name, None), property):
                raise AttributeError(f"a plan has no {name!r}, what a service runs on has: plan.only.{name}")
            return super().__getattr__(name)

    def replace(self, **values: Any) -> Self:
        """A copy with other values; of a plan of one service those of what it runs on may be given as they are.

        Raises:
            StudyError: a key is unknown, or its value is not allowed.

        Example:
            >>> from libramen import Tier
            >>> tier = Tier(billing="per_hour", sizes={"small": {"cores": 1, "per_hour": "0.03"}})
            >>> Plan(tier=tier, size="small").replace(name="two", replicas=2).only.replicas_used
            2
        """
        own = {key: value for key, value in values.items() if key in type(self).model_fields}
        if len(own) < len(values):
            rest = {key: value for key, value in values.items() if key not in own}
            own["services"] = dict.fromkeys(self.services, self.only.replace(**rest))
        return super().replace(**own)

    @property
    def only(self) -> Hosting:
        """What the only service runs on.

        Raises:
            StudyError: there are several.
        """
        return only_of(self.services, f"plan {self.name!r}", "plan.of(service)")

    @property
    def is_short(self) -> bool:
        """Whether it is of one service that has no name, so that its keys stand in the plan itself."""
        return set(self.services) == {ALONE}

    def place_of(self, service: str) -> tuple[str, ...]:
        """The keys of the table of a study file in which it stands what a service runs on."""
        return ("plans", self.name) if self.is_short else ("plans", self.name, "services", service)

    def of(self, service: str) -> Hosting:
        """What one service runs on.

        Raises:
            StudyError: the plan says nothing of it.
        """
        if service not in self.services:
            raise StudyError(f"plan {self.name!r}: there is no service {service!r}; {nearest(service, self.services)}")
        return self.services[service]

    def each(self, change: Callable[[str, Hosting], Hosting]) -> Plan:
        """What a change makes of each part."""
        changed = {name: change(name, part) for name, part in self.services.items()}
        return Plan(name=self.name, services=changed, edge=self.edge)

    def beside(self, folder: Path, *, trusted: bool) -> Plan:
        """The plan of a study in a folder; see `AnyRule.beside`."""
        return self.each(lambda _name, part: part.beside(folder, trusted=trusted))


def only_of(services: Mapping[str, _Part], place: str, allowed: str) -> _Part:
    """What there is of the only service.

    Args:
        services: what there is of each, by name.
        place: what an error says of where it was.
        allowed: what an error says is allowed instead.

    Raises:
        StudyError: there are several.
    """
    if len(services) > 1:
        raise StudyError(f"{place}: there are the services {', '.join(services)}; allowed: {allowed}")
    return next(iter(services.values()))


def _part(given: Any, plan: dict[str, str]) -> Any:
    """What a service runs on, of a plan of that name: it may be given as a plan of one service."""
    if isinstance(given, Plan):
        given = given.only
    return (
        given | plan
        if isinstance(given, dict)
        else given.model_copy(update=plan)
        if isinstance(given, Hosting)
        else given
    )
