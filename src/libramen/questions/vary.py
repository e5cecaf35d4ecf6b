"""Keys of a plan that are varied: from ranges to plans, one for each combination."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Final, NamedTuple

from libramen.base.errors import StudyError
from libramen.base.fields import nearest
from libramen.prices import PricesOfPlan, PricesOfSize, PricesOfTier
from libramen.prices.replica_hours import Commitment
from libramen.questions.check import check_plan
from libramen.rules.scaling import CLASSES
from libramen.study.edge import Edge
from libramen.study.hosting import Hosting
from libramen.study.mix import Stock
from libramen.study.plan import Plan, only_of
from libramen.study.service import Service, Size, Tier
from libramen.study.study import Study
from libramen.study.system import System, check_account, check_distances
from libramen.trace.trace import Trace

MOST: Final = 100_000
"""Combinations of one search."""
_FIRST: Final = ("tier", "size", "scaling.rule")
"""What others are about: these are changed before them."""
_PARTS: Final = ("scaling", "rollouts", "committed", "mix", "size", "tier")
_TABLES: Final = {"plan", "scaling", "service", "rollouts", "faults", "region", "mix"}
_LISTS: Final = ("rollouts", "committed", "mix")
"""Tables of which a plan may have several: with a number, from 1."""
_MOST_SCALE: Final = 1000


PLAN: Final = "plan"
"""The plan of which other keys are varied, by its name."""
SCALE: Final = "trace.scale"
"""The load as a multiple of the trace's: not a key of a plan, but a scenario."""


class Combination(NamedTuple):
    """One combination of values.

    Attributes:
        varied: key -> value, in the order of the keys.
        plan: the plan with them; None: it is not possible.
        why_not: why it is not possible.
    """

    varied: dict[str, Any]
    plan: Plan | None
    why_not: str = ""

    @property
    def scale(self) -> float:
        """The load as a multiple of the trace's."""
        return float(self.varied.get(SCALE, 1.0))


def combinations(study: Study, plan: Plan | None, ranges: Mapping[str, Iterable[Any]]) -> list[Combination]:
    """All combinations of values, in the order of the keys: the last one changes first.

    Args:
        study: its tiers and services.
        plan: what is not varied; None: the plan is varied, too.
        ranges: the values of each key: `plan`, names of the study's; of the plan bare, else `scaling.K`,
            `rollouts.N.K` (N from 1), `size.K`, `tier.K`, `mix.N.K` of a mixed fleet, `committed.N.K` (`committed.K`
            where there is one, or none yet); of the part of a plan that is for service N, `plan.services.N.` and such a
            key; `plan.regions` (names joined by +), `plan.regions.R.K` of region R, `plan.edge.K`; of a service
            `service.K` or `services.N.K`; `trace.scale`.

    Raises:
        StudyError: there is no such plan or key; a key has no values; there are too many combinations.
    """
    plans = _plans(study, plan, ranges)
    misfits: dict[str, dict[str, str]] = {name: {} for name in plans}  # plan -> key -> why it has none
    values: dict[str, Sequence[Any]] = {}
    for key, some in ranges.items():
        if isinstance(some, str) or not hasattr(some, "__iter__"):
            some = (some,)  # noqa: PLW2901
        _check_of_any(key, plans, study, misfits)
        values[key] = tuple(distinct(some))
        if not values[key]:
            raise StudyError(f"vary {key}: found no value; allowed: one or more")
    for scale in values.get(SCALE, ()):
        if isinstance(scale, bool) or not isinstance(scale, int | float) or not 0 < scale <= _MOST_SCALE:
            raise StudyError(f"vary {SCALE}: found {scale!r}; allowed: a number above 0, at most {_MOST_SCALE:,}")
    n = math.prod(map(len, values.values()))
    if n > MOST:
        raise StudyError(f"vary: {n:,} combinations; allowed: up to {MOST:,}")
    found = []
    for chosen in itertools.product(*values.values()):
        varied = dict(zip(values, chosen, strict=True))
        name = str(varied[PLAN]) if plan is None else plan.name
        why_not = next(iter(misfits[name].values()), None)
        found.append(_combined(study, plans[name], varied) if why_not is None else Combination(varied, None, why_not))
    return found


def _plans(study: Study, plan: Plan | None, ranges: Mapping[str, Iterable[Any]]) -> dict[str, Plan]:
    """The plans that are varied, by name.

    Raises:
        StudyError: there is no such plan, none is said, or both one and several are.
    """
    if plan is not None:
        if PLAN in ranges:
            raise StudyError(f"vary plan: found it beside the plan {plan.name!r}; allowed: one of the two")
        return {plan.name: plan}
    names = ranges.get(PLAN, ())
    names = (names,) if isinstance(names, str) else tuple(names)
    if not names:
        raise StudyError("search: there is no plan; allowed: a plan, or several as vary plan=NAME,NAME")
    for name in names:
        if name not in study.plans:
            raise StudyError(f"vary plan: found {name!r}; {nearest(str(name), study.plans)}")
    return {name: study.plan(name) for name in names}


def _check_of_any(key: str, plans: Mapping[str, Plan], study: Study, misfits: dict[str, dict[str, str]]) -> None:
    """Whether a key is one of any of the plans; why it is none of the others goes to `misfits`.

    Raises:
        StudyError: it is one of none.
    """
    if key == PLAN:
        return
    refused: StudyError | None = None
    for name, plan in plans.items():
        try:
            _check_key(key, plan, study)
        except StudyError as error:
            misfits[name][key], refused = str(error), error
    if refused is not None and all(key in keys for keys in misfits.values()):
        raise refused


def distinct(values: Iterable[Any]) -> list[Any]:
    """Each value once, by how it is written: lists and tables have no other way to be told apart."""
    return list({f"{type(value).__name__} {value!r}": value for value in values}.values())


def _check_key(key: str, plan: Plan, study: Study) -> None:
    if key == SCALE:
        return
    part, _, rest = key.partition(".")
    if part == "services":
        name, dot, inner = rest.partition(".")
        if not dot or name not in study.services:
            raise StudyError(f"vary {key!r}: allowed: services.N.KEY; {nearest(name, study.services)}")
        _check_inner(key, "service", inner)
    elif part == "plan" and rest.partition(".")[0] in {"regions", "edge"}:
        if rest.startswith("edge"):
            _check_inner(key, "edge", rest.removeprefix("edge."))
            if plan.edge is None:
                raise StudyError(f"vary {key!r}: plan {plan.name!r} has no edge; allowed: a plan with one")
            return
        _check_hosting_key(key, rest, only_of(plan.services, f"vary {key!r}", f"plan.services.N.{rest}"))
    elif part == "plan":
        table, _, inner = rest.partition(".")
        name, _, inner = inner.partition(".")
        if table != "services" or not inner or name not in plan.services:
            raise StudyError(f"vary {key!r}: allowed: plan.services.N.KEY; {nearest(name, plan.services)}")
        _check_hosting_key(key, inner, plan.services[name])
    elif part == "service":
        only_of(study.services, f"vary {key!r}", f"services.N.{rest}")
        _check_inner(key, part, rest)
    else:
        _check_hosting_key(key, key, only_of(plan.services, f"vary {key!r}", f"plan.services.N.{key}"))


def _check_hosting_key(key: str, path: str, hosting: Hosting) -> None:
    part, _, rest = path.partition(".")
    if part == "regions" and rest:
        name, _, inner = rest.partition(".")
        if name not in hosting.regions:
            allowed = nearest(name, hosting.regions) if hosting.regions else "allowed: a plan with regions"
            raise StudyError(f"vary {key!r}: plan {hosting.plan!r} has no region {name!r}; {allowed}")
        if inner not in {"replicas", "size", "zones"} and not inner.startswith("scaling."):
            raise StudyError(f"vary {key!r}: found {inner!r}; allowed: replicas, size, zones or scaling.KEY")
        return
    if hosting.mix and part in {"tier", "size"}:
        raise StudyError(
            f"vary {key!r}: plan {hosting.plan!r} has a mix; allowed: that of one of its entries, as in mix.1.{part}"
        )
    bare = [name for name, field in Hosting.model_fields.items() if name not in _TABLES and not field.exclude]
    if not rest:
        if part not in bare:
            more = ", ".join(f"{one}.KEY" for one in (*_PARTS, "service"))
            raise StudyError(f"vary: unknown key {key!r}; {nearest(part, bare)}, or {more}, {PLAN}, {SCALE}")
        return
    if part not in _PARTS:
        raise StudyError(f"vary {key!r}: {nearest(part, (*_PARTS, 'regions', 'service', 'services', 'plan.edge'))}")
    if part in _LISTS:
        there = len(getattr(hosting, part))
        if part == "committed" and "." not in rest and there <= 1:
            _check_inner(key, part, rest)
            return
        number, _, inner = rest.partition(".")
        if not inner or not number.isdigit() or not 1 <= int(number) <= there:
            found = f"plan {hosting.plan!r} has {there} entries in {part}"
            raise StudyError(f"vary {key!r}: {found}; allowed: {part}.N.KEY, with N from 1 to how many there are")
        if part in {"committed", "mix"}:
            _check_inner(key, part, inner)
    else:
        _check_inner(key, part, rest)


def _check_inner(key: str, part: str, rest: str) -> None:
    """What may stand behind `scaling.` (a key of any rule), `size.`, `tier.` and `service.`."""
    known = {
        "scaling": sorted({key for rule in CLASSES for key in rule.model_fields}),
        "size": [key for key in Size.model_fields if key != "name"],
        "tier": [key for key in Tier.model_fields if key not in {"name", "sizes"}],
        "service": list(Service.model_fields),
        "edge": list(Edge.model_fields),
        "committed": list(Commitment.model_fields),
        "mix": list(Stock.model_fields),
    }[part]
    if rest not in known:
        raise StudyError(f"vary {key!r}: unknown key {rest!r} of {part}; {nearest(rest, known)}")


def _combined(study: Study, plan: Plan, varied: dict[str, Any]) -> Combination:
    of_hosting: dict[str, dict[str, Any]] = {}  # service -> the keys of what it runs on
    of_services: dict[str, dict[str, Any]] = {}  # service -> its own keys, which its plan may have changed
    of_edge: dict[str, Any] = {}
    for key, value in varied.items():
        part, _, rest = key.partition(".")
        if part == "service":
            of_services.setdefault(next(iter(plan.services)), {})[rest] = value
        elif part == "plan" and rest.startswith("edge."):
            of_edge[rest.removeprefix("edge.")] = value
        elif part == "plan" and rest.partition(".")[0] == "regions":
            of_hosting.setdefault(next(iter(plan.services)), {})[rest] = value
        elif part in {"services", "plan"} and rest:
            name, _, inner = rest.removeprefix("services.").partition(".")
            (of_services if part == "services" else of_hosting).setdefault(name, {})[inner] = value
        elif key not in {SCALE, PLAN}:
            of_hosting.setdefault(next(iter(plan.services)), {})[key] = value

    def change(name: str, one: Hosting) -> Hosting:
        return _with_all(study, one, of_hosting.get(name, {}), of_services.get(name, {}))

    try:
        edge = {"edge": plan.edge.replace(**of_edge)} if plan.edge is not None and of_edge else {}
        changed = plan.each(change).replace(name=name_of(plan, varied), **edge)
        check_distances(System.of(study.services, changed, study.round_trips), study.trace_table.areas)
        check_account(changed, study.account)
    except StudyError as error:
        return Combination(varied, None, str(error))
    return Combination(varied, changed)


def _with_all(study: Study, hosting: Hosting, varied: dict[str, Any], service: dict[str, Any]) -> Hosting:
    changed = hosting
    for key in sorted(varied, key=lambda key: _FIRST.index(key) if key in _FIRST else len(_FIRST)):
        changed = _with(study, changed, key, varied[key], varied)
    for key in varied:
        part = key.partition(".")[0]
        if part != "regions" and changed.regions and all(part in keys for keys in changed.regions.values()):
            there = ", ".join(changed.regions)
            raise StudyError(
                f"vary {key!r}: each of its regions ({there}) has its own; allowed: that of one, as in regions.R.{key}"
            )
    changed = _lifted(changed, varied)
    changed = changed.beside(study.path.parent, trusted=study.trusts_code)
    return changed.replace(service={**changed.service, **service}) if service else changed


def part_of(key: str) -> tuple[str, str]:
    """The service to whose part of a plan a key belongs, "" of the only one, and the key there."""
    service, dot, path = key.removeprefix("plan.services.").partition(".")
    return (service, path) if dot and key.startswith("plan.services.") else ("", key)


def is_price(key: str) -> bool:
    """Whether a key is of prices alone: what becomes of requests does not depend on it."""
    part, _, rest = part_of(key)[1].partition(".")
    if part == "tier":
        return rest in PricesOfTier.model_fields or rest == "free"
    return rest in PricesOfSize.model_fields if part == "size" else part in PricesOfPlan.model_fields


def name_of(plan: Plan, varied: Mapping[str, Any]) -> str:
    """What a combination is called: `brisk replicas=5 size=small`. The load is not part of it: it is not the plan's.

    A plan that is varied comes first, as in the name of any other.
    """
    return " ".join([plan.name, *(f"{key}={value}" for key, value in varied.items() if key not in {SCALE, PLAN})])


def short_key(key: str) -> str:
    """A key as tables and pictures show it: `web.replicas` of `plan.services.web.replicas`, `target` of a rule's."""
    for prefix in ("plan.services.", "plan.", "services.", "scaling.", "trace."):
        key = key.removeprefix(prefix)
    return key.replace(".scaling.", ".")


def _with(study: Study, hosting: Hosting, key: str, value: Any, varied: Mapping[str, Any]) -> Hosting:
    part, _, rest = key.partition(".")
    if part == "regions":
        return hosting.replace(regions=_regions(hosting, rest, value))
    if not rest:
        if key == "tier":
            return hosting.replace(tier=_tier(study, value), size=str(varied.get("size", hosting.size.name)))
        if key == "replicas" and "scaling.floor" in varied:  # checked together, when the floor is there
            return hosting
        return hosting.replace(**{key: value})
    if part == "scaling":
        if rest == "rule":
            return hosting.replace(scaling=_same_keys(hosting, value, varied))
        replicas = (
            {"replicas": max(value, hosting.replicas_used)} if rest == "floor" and "replicas" not in varied else {}
        )
        return hosting.replace(scaling=hosting.scaling.replace(**{rest: value}), **replicas)
    if part == "mix":
        number, _, inner = rest.partition(".")
        stocks = list(hosting.mix)
        stock, one = stocks[int(number) - 1], {inner: value}
        if inner == "tier":
            one = {"tier": _tier(study, value), "size": varied.get(f"mix.{number}.size", stock.size.name)}
        elif inner == "size":
            one = {"tier": stock.tier, "size": value}
        stocks[int(number) - 1] = stock.replace(**one)
        return hosting.replace(mix=stocks)
    if part in _LISTS:
        number, _, inner = (rest if "." in rest else f"1.{rest}").partition(".")
        entries = list(getattr(hosting, part)) or [Commitment(replicas=0)]  # there are rollouts, or the key is unknown
        entries[int(number) - 1] = entries[int(number) - 1].replace(**{inner: value})
        return hosting.replace(**{part: entries})
    if part == "size":
        return hosting.replace(size=hosting.size.replace(**{rest: value}))
    return hosting.replace(tier=hosting.tier.replace(**{rest: value}), size=hosting.size)


def _regions(hosting: Hosting, rest: str, value: Any) -> dict[str, dict[str, Any]]:
    """The regions of a plan with others ("east+west"), or with another key of one of them ("east.replicas")."""
    if not rest:
        names = str(value).split("+") if isinstance(value, str) else list(value)
        return {name: hosting.regions.get(name, {}) for name in names}
    name, _, key = rest.partition(".")
    if name not in hosting.regions:
        raise StudyError(f"regions.{name}: the plan does not stand there; {nearest(name, hosting.regions)}")
    keys = dict(hosting.regions[name])
    if key.startswith("scaling."):
        rule = next(one for one in hosting.in_regions() if one.region == name).scaling
        keys["scaling"] = rule.replace(**{key.removeprefix("scaling."): value})
    else:
        keys[key] = value
    return {**hosting.regions, name: keys}


def _tier(study: Study, name: Any) -> Tier:
    if name not in study.tiers:
        raise StudyError(f"vary tier: found {name!r}; {nearest(str(name), study.tiers)}")
    return study.tiers[name]


def _same_keys(hosting: Hosting, rule: Any, varied: Mapping[str, Any]) -> dict[str, Any]:
    """Another rule with those keys of the plan's that it has, too, and those that are varied."""
    classes = {of.model_fields["rule"].default: of for of in CLASSES if "rule" in of.model_fields}
    fields = classes[rule].model_fields if rule in classes else {}
    kept = {
        key: getattr(hosting.scaling, key)
        for key in hosting.scaling.model_fields_set
        if key in fields and key != "rule"
    }
    own = {key.removeprefix("scaling."): value for key, value in varied.items() if key.startswith("scaling.")}
    return kept | {key: value for key, value in own.items() if key in fields} | {"rule": rule}


def _lifted(hosting: Hosting, varied: Mapping[str, Any]) -> Hosting:
    """`replicas` below a varied floor is lifted to it."""
    if "replicas" not in varied or "scaling.floor" not in varied:
        return hosting
    return hosting.replace(replicas=max(varied["replicas"], varied["scaling.floor"]))


def sensible(study: Study, plan: Plan, trace: Trace) -> dict[str, range]:
    """Numbers of replicas worth trying: up to three times what the busiest minute needs at full use, and two more.

    Of a plan that scales its floor, and its ceiling from what that minute needs on; else its replicas. Of several
    services, whose combinations are many, the replicas of those that do not scale, from what that minute needs on.
    """
    system = System.of(study.services, plan, study.round_trips)
    needs: dict[str, dict[str | None, int]] = {}  # service -> region -> replicas of its busiest minute
    for hosted, found in zip(system.hosted, check_plan(study, trace, system), strict=True):
        if hosted.hosting.heir_of is None:
            needs.setdefault(hosted.of, {})[hosted.region] = max(1, found.needs_cpu, found.needs_slots)
    # Of several services the combinations are many.
    start, try_of = ("plan.", _sensible) if len(plan.services) == 1 else ("plan.services.{}.", _at_full_use)
    ranges: dict[str, range] = {}
    for (name, part), of_region in zip(plan.services.items(), needs.values(), strict=True):
        place = start.format(name)
        # A region with replicas of its own has a range of its own.
        own = {region: n for region, n in of_region.items() if "replicas" in part.regions.get(str(region), {})}
        others = [n for region, n in of_region.items() if region not in own]
        if others:
            ranges |= try_of(part, max(others), place)
        for region, n in own.items():
            ranges |= _at_full_use(part, n, f"{place}regions.{region}.")
    return ranges


def _at_full_use(hosting: Hosting, needs: int, place: str) -> dict[str, range]:
    """Replicas from what the busiest minute needs on; nothing of a fleet that scales."""
    most = hosting.most
    high = 3 * needs + 1 if most is None else min(most, 3 * needs + 1)
    return {} if hosting.scaling.decides or needs > high else {f"{place}replicas": range(needs, high + 1)}


def _sensible(hosting: Hosting, needs: int, _place: str) -> dict[str, range]:
    """Of the only service, whose keys need no place."""
    most = 3 * needs + 2 if hosting.most is None else min(hosting.most, 3 * needs + 2)
    least = min(max(1, hosting.least), most)
    if not hosting.scaling.decides or hosting.scaling.bounds is None:
        return {"replicas": range(least, most + 1)}
    return {
        "scaling.floor": range(hosting.least, min(most, needs) + 1),
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
