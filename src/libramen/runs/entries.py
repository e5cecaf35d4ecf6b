"""Entries of the store: the key of a replay, and its figures made of an entry with the prices and objectives of today.

What a replay depends on: the trace, the services, the plan without its prices and names, the seed, the code. What only
the bill and the verdict depend on is left out: prices, what a month may cost, and which availability is wanted.
"""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Iterable
from fractions import Fraction
from typing import Any, Final

from libramen._version import __version__
from libramen.base.code import digest_of, digest_of_text
from libramen.base.times import EPSILON_S
from libramen.bill.bill import Bill, summed
from libramen.bill.prices import lines_of
from libramen.outcome.figures import Figures
from libramen.runs.cases import Case
from libramen.study.objectives import Objective, Objectives
from libramen.study.plan import Hosting

_SIZE_PRICES: Final = {"per_hour", "per_month"}
_TIER_PRICES: Final = {
    "summary", "sizes", "per_million_requests", "per_core_second", "per_gb_second", "balancer_per_hour",
    "zone_per_hour", "egress_per_gb", "fixed_per_month", "free",
}  # fmt: skip
_LIMITS: Final = {"availability", "availability_minutes"}
"""Objectives of which only the verdict depends on what is wanted."""


_CODE: Final = "libramen.runs.pool"
"""The module by whose code replays are made, kept and looked up."""


def key_of(case: Case, trace_key: str) -> str | None:
    """The key of the replay of a case to the end.

    Args:
        case: what is replayed.
        trace_key: the key of the trace.

    Returns:
        a digest; None: a rule of the user's own may change without a sign of it.
    """
    if any(hosted.hosting.scaling.rule.startswith("python:") for hosted in case.system.hosted):
        return None
    told = [
        __version__,
        digest_of(_CODE),
        trace_key,
        [
            (hosted.name, hosted.service.model_dump(mode="json"), _without_prices(hosted.hosting))
            for hosted in case.system.hosted
        ],
        _what_is_counted(case.objectives.model_dump(mode="json")),
        case.seed,
        case.settle_s,
        case.scale,
        case.keeps,
    ]
    return digest(told)


def digest(told: Any) -> str:
    """Of anything that JSON can say."""
    return digest_of_text(json.dumps(told, sort_keys=True, default=str))


def prices_of(case: Case) -> Any:
    """All that the bill and the verdict depend on beyond that: prices and objectives."""
    prices = [
        [one.size.model_dump(mode="json"), one.tier.model_dump(mode="json", exclude={"sizes", "summary"})]
        for one in case.plan.services.values()
    ]
    return [case.objectives.model_dump(mode="json"), prices]


def _without_prices(hosting: Hosting) -> dict[str, Any]:
    document = hosting.model_dump(mode="json")
    document["size"] = {key: value for key, value in document["size"].items() if key not in _SIZE_PRICES}
    document["tier"] = {key: value for key, value in document["tier"].items() if key not in _TIER_PRICES}
    return document


def _what_is_counted(wanted: Any) -> Any:
    """Objectives without what only the verdict depends on."""
    if isinstance(wanted, dict):
        return {
            key: value is not None if key in _LIMITS else _what_is_counted(value)
            for key, value in wanted.items()
            if key != "month"
        }
    return [_what_is_counted(one) for one in wanted] if isinstance(wanted, list) else wanted


# -- figures, kept and made again --------------------------------------------------------------------


def document_of(figures: Figures) -> dict[str, Any]:
    """What is kept: the figures, and what was used of which the bill is made."""
    used = [{item: str(amount) for item, amount in one.bill.used.items()} for one in figures.parts.values()]
    return {"figures": figures.to_dict(routes=False), "used": used}


def figures_of(document: dict[str, Any], case: Case) -> Figures:
    """The figures that were kept, with the names, prices and objectives of a case that is known by the same key.

    Raises:
        KeyError, ValueError, TypeError: it is no such document.
    """
    kept = Figures.from_dict(document["figures"])
    names = case.system.names
    bills, services = {}, {}
    for name, used, of in zip(names, document["used"], case.objectives.of_services(names), strict=True):
        one, hosting = kept.services.get(name, kept), case.plan.of(name)
        amounts = {item: Fraction(amount) for item, amount in used.items()}
        bills[name] = Bill(case.currency, lines_of(hosting, amounts), one.bill.note, one.bill.assumes, amounts)
        services[name] = _renewed(one, bills[name], of, case.plan.name, hosting)
    whole = _renewed(kept, summed(bills), case.objectives, case.plan.name, case.plan.of(names[0]))
    return dataclasses.replace(whole, services={name: services[name] for name in kept.services})


def _renewed(kept: Figures, bill: Bill, wanted: Objectives, plan: str, hosting: Hosting) -> Figures:
    judged = tuple(_judged(kept.objectives, bill, wanted))
    # What all of several services run on has no name.
    tier, size = kept.tier and hosting.tier.name, kept.size and hosting.size.name
    return dataclasses.replace(kept, bill=bill, objectives=judged, plan=plan, tier=tier, size=size)


def _judged(kept: Iterable[Objective], bill: Bill, wanted: Objectives) -> Iterable[Objective]:
    """As `outcome.judged` does; limits of latency are those that were counted."""
    got = {objective.name: objective for objective in kept}
    for goal in wanted.goals():
        if goal.key == "month":
            yield Objective(goal.name, goal.wanted, bill.month, bill.month <= goal.wanted)
        elif goal.key in _LIMITS:
            share = got[goal.name].got
            met = share is not None and share >= float(goal.wanted) - EPSILON_S
            yield dataclasses.replace(got[goal.name], wanted=goal.wanted, met=met)
        else:
            yield dataclasses.replace(got[goal.name], wanted=goal.wanted)
