"""Keys of a plan that are varied: from ranges to plans, one for each combination."""

from __future__ import annotations

import itertools
import math
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from libramen.checks.check import check_plan
from libramen.errors import StudyError
from libramen.fields import nearest
from libramen.rules.scaling import CLASSES
from libramen.study.plan import Plan
from libramen.study.service import Service, Size, Tier
from libramen.study.system import System

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from libramen.study.study import Study
    from libramen.trace.trace import Trace

MOST: Final = 100_000
"""Combinations of one search."""
_FIRST: Final = ("tier", "size", "scaling.rule")
"""What others are about: these are changed before them."""
_PARTS: Final = ("scaling", "rollouts", "size", "tier", "service")


class Combination(NamedTuple):
    """One combination of values.

    Attributes:
        varied: key -> value, in the order of the keys.
        plan: the plan with them; None: it is not possible.
        services: the services with them.
        why_not: why it is not possible.
    """

    varied: dict[str, Any]
    plan: Plan | None
    services: dict[str, Service]
    why_not: str = ""


def combinations(study: Study, plan: Plan, ranges: Mapping[str, Iterable[Any]]) -> list[Combination]:
    """All combinations of values, in the order of the keys: the last one changes first.

    Args:
        study: its tiers and services.
        plan: what is not varied.
        ranges: the values of each key: of the plan bare, else `scaling.K`, `rollouts.N.K` (N from 1), `size.K`,
            `tier.K`, `service.K`.

    Raises:
        StudyError: there is no such key; a key has no values; there are too many combinations.
    """
    values: dict[str, Sequence[Any]] = {}
    for key, some in ranges.items():
        if isinstance(some, str) or not hasattr(some, "__iter__"):
            some = (some,)  # noqa: PLW2901
        values[key] = tuple(dict.fromkeys(some))
        _check_key(key, plan)
        if not values[key]:
            raise StudyError(f"vary {key}: found no value; allowed: one or more")
    n = math.prod(map(len, values.values()))
    if n > MOST:
        raise StudyError(f"vary: {n:,} combinations; allowed: up to {MOST:,}")
    return [
        _combined(study, plan, dict(zip(values, chosen, strict=True))) for chosen in itertools.product(*values.values())
    ]


def _check_key(key: str, plan: Plan) -> None:
    part, _, rest = key.partition(".")
    bare = [name for name in Plan.model_fields if name not in {"name", "scaling", "service", "rollouts", "faults"}]
    if not rest:
        if part not in bare:
            raise StudyError(f"vary: unknown key {key!r}; {nearest(key, bare)}, or {', '.join(_PARTS)} with a key")
        return
    if part not in _PARTS:
        raise StudyError(f"vary {key!r}: {nearest(part, _PARTS)}")
    if part in (known := _keys_of_parts()) and rest not in known[part]:
        raise StudyError(f"vary {key!r}: unknown key {rest!r} of {part}; {nearest(rest, known[part])}")
    if part == "rollouts":
        number, _, inner = rest.partition(".")
        if not inner or not number.isdigit() or not 1 <= int(number) <= len(plan.rollouts):
            raise StudyError(
                f"vary {key!r}: allowed: rollouts.N.KEY, N from 1 to the {len(plan.rollouts)} rollouts of plan "
                f"{plan.name!r}"
            )


def _keys_of_parts() -> dict[str, list[str]]:
    """What may stand behind `scaling.` (a key of any rule), `size.`, `tier.` and `service.`."""
    return {
        "scaling": sorted({key for rule in CLASSES for key in rule.model_fields}),
        "size": [key for key in Size.model_fields if key != "name"],
        "tier": [key for key in Tier.model_fields if key not in {"name", "sizes"}],
        "service": list(Service.model_fields),
    }


def _combined(study: Study, plan: Plan, varied: dict[str, Any]) -> Combination:
    services = study.services
    try:
        changed = plan
        for key in sorted(varied, key=lambda key: _FIRST.index(key) if key in _FIRST else len(_FIRST)):
            changed, services = _with(study, changed, services, key, varied[key], varied)
        changed = _lifted(changed, varied).replace(name=name_of(plan, varied))
        System.of(services, changed)
    except StudyError as error:
        return Combination(varied, None, services, str(error))
    return Combination(varied, changed, services)


def name_of(plan: Plan, varied: Mapping[str, Any]) -> str:
    """What a combination is called: `brisk replicas=5 size=small`."""
    return " ".join([plan.name, *(f"{key}={value}" for key, value in varied.items())])


def _with(
    study: Study, plan: Plan, services: dict[str, Service], key: str, value: Any, varied: Mapping[str, Any]
) -> tuple[Plan, dict[str, Service]]:
    part, _, rest = key.partition(".")
    if not rest:
        if key == "tier":
            return plan.replace(tier=_tier(study, value), size=str(varied.get("size", plan.size.name))), services
        if key == "replicas" and "scaling.floor" in varied:  # checked together, when the floor is there
            return plan, services
        return plan.replace(**{key: value}), services
    if part == "scaling":
        if rest == "rule":
            return plan.replace(scaling=_same_keys(plan, value, varied)), services
        replicas = {"replicas": max(value, plan.replicas_used)} if rest == "floor" and "replicas" not in varied else {}
        return plan.replace(scaling=plan.scaling.replace(**{rest: value}), **replicas), services
    if part == "rollouts":
        number, _, inner = rest.partition(".")
        rollouts = list(plan.rollouts)
        rollouts[int(number) - 1] = rollouts[int(number) - 1].replace(**{inner: value})
        return plan.replace(rollouts=rollouts), services
    if part == "size":
        return plan.replace(size=plan.size.replace(**{rest: value})), services
    if part == "tier":
        return plan.replace(tier=plan.tier.replace(**{rest: value}), size=plan.size), services
    return plan, {name: service.replace(**{rest: value}) for name, service in services.items()}


def _tier(study: Study, name: Any) -> Tier:
    if name not in study.tiers:
        raise StudyError(f"vary tier: found {name!r}; {nearest(str(name), study.tiers)}")
    return study.tiers[name]


def _same_keys(plan: Plan, rule: Any, varied: Mapping[str, Any]) -> dict[str, Any]:
    """Another rule with those keys of the plan's that it has, too, and those that are varied."""
    classes = {of.model_fields["rule"].default: of for of in CLASSES if "rule" in of.model_fields}
    fields = classes[rule].model_fields if rule in classes else {}
    kept = {key: getattr(plan.scaling, key) for key in plan.scaling.model_fields_set if key in fields and key != "rule"}
    own = {key.removeprefix("scaling."): value for key, value in varied.items() if key.startswith("scaling.")}
    return kept | {key: value for key, value in own.items() if key in fields} | {"rule": rule}


def _lifted(plan: Plan, varied: Mapping[str, Any]) -> Plan:
    """`replicas` below a varied floor is lifted to it."""
    if "replicas" not in varied or "scaling.floor" not in varied:
        return plan
    return plan.replace(replicas=max(varied["replicas"], varied["scaling.floor"]))


def sensible(study: Study, plan: Plan, trace: Trace) -> dict[str, range]:
    """Numbers of replicas worth trying: up to three times what the busiest minute needs at full use, and two more.

    Of a plan that scales its floor, and its ceiling from what that minute needs on; else its replicas.
    """
    (found,) = check_plan(study, trace, System.of(study.services, plan))
    needs = max(1, found.needs_cpu, found.needs_slots)
    tier = plan.tier.replicas
    most = 3 * needs + 2 if tier.most is None else min(tier.most, 3 * needs + 2)
    least = min(max(1, tier.least), most)
    if not plan.scaling.decides or plan.scaling.bounds is None:
        return {"replicas": range(least, most + 1)}
    return {
        "scaling.floor": range(max(tier.least, 0), min(most, needs) + 1),
        "scaling.ceiling": range(min(max(needs, least), most), most + 1),
    }


def read_values(text: str) -> tuple[Any, ...]:
    """Values as the command line writes them: `2..20`, `small,medium`, `50%,60%`.

    Raises:
        StudyError: a range is none.
    """
    found: list[Any] = []
    for piece in text.split(","):
        low, dots, high = piece.strip().partition("..")
        if dots:
            if not (low.isdigit() and high.isdigit() and int(low) <= int(high)):
                raise StudyError(f"vary: found {piece.strip()!r}; allowed: a range such as 2..20")
            found += range(int(low), int(high) + 1)
        else:
            found.append(_read(low))
    return tuple(found)


def _read(text: str) -> Any:
    if text in {"true", "false"}:
        return text == "true"
    for kind in (int, float):
        try:
            return kind(text)
        except ValueError:
            continue
    return text
