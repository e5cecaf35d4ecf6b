"""Entries of the store: the key of a replay, and its figures made of an entry with the prices and objectives of today.

What a replay depends on: the trace, the services, the plan without its prices and names, the seed, the code. What only
the bill and the verdict depend on is left out: prices, what a month may cost, and which availability is wanted.
"""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Final

from libramen._version import __version__
from libramen.base.code import digest_of, digest_of_text
from libramen.base.times import EPSILON_S
from libramen.bill.bill import Bill
from libramen.bill.costs import costs_of
from libramen.bill.month import Weights
from libramen.outcome.figures import Figures
from libramen.outcome.judged import judged
from libramen.outcome.kept_replays import KeptReplays
from libramen.outcome.measures import Measures, Within
from libramen.outcome.month import MonthFigures
from libramen.prices import PricesOfPlan, PricesOfSize, PricesOfTier
from libramen.runs.cases import Case
from libramen.study.hosting import Hosting
from libramen.study.objectives import Objective, Objectives
from libramen.study.system import System

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
        _places_of(case.system),
        _what_is_counted(case.objectives.model_dump(mode="json")),
        case.seed,
        case.settle_s,
        case.terms.account.model_dump(mode="json"),
        case.scale,
        case.keeps,
    ]
    return digest(told)


def _places_of(system: System) -> Any:
    """Where its users and fleets are, how far that is, and what is answered before any fleet."""
    trips = sorted((sorted(pair), time_s) for pair, time_s in system.round_trips.pairs.items())
    edge = None if system.edge is None else [system.edge.hit, system.edge.time, system.edge.miss_time]
    return [[hosted.region for hosted in system.hosted], trips if system.is_placed else [], edge]


def digest(told: Any) -> str:
    """Of anything that JSON can say."""
    return digest_of_text(json.dumps(told, sort_keys=True, default=str))


def prices_of(case: Case) -> Any:
    """All that the bill and the verdict depend on beyond that: prices, the month and objectives."""
    prices = [
        [
            one.size.model_dump(mode="json"),
            one.tier.model_dump(mode="json", exclude={"sizes", "summary"}) | {"name": one.tier.name},
            one.model_dump(mode="json", include=set(PricesOfPlan.model_fields)),
        ]
        for one in case.system.billed.values()
    ]
    return [case.objectives.model_dump(mode="json"), case.terms.model_dump(mode="json"), prices]


def _without_prices(hosting: Hosting) -> dict[str, Any]:
    document: dict[str, Any] = hosting.model_dump(mode="json", exclude=set(PricesOfPlan.model_fields))
    for entry in (document, *document["mix"]):
        for table, prices in (("size", PricesOfSize), ("tier", PricesOfTier)):
            left_out = {*prices.model_fields, "free", "summary", "sizes"}
            entry[table] = {key: value for key, value in entry[table].items() if key not in left_out}
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
    """What is kept: the figures, and what other bills and months can be made of."""
    return {"figures": figures.to_dict(routes=False), "kept_replays": figures.kept_replays.to_dict()}


def figures_of(document: dict[str, Any], case: Case) -> Figures | None:
    """The figures that were kept, with the names, prices, objectives and month of a case known by the same key.

    Returns:
        None: this month needs another replay.

    Raises:
        KeyError, ValueError, TypeError: it is no such document.
        StudyError: the month has a day that the trace has not.
    """
    kept = Figures.from_dict(document["figures"])
    names, hostings, fleets = case.system.names, case.system.billed, case.system.fleets
    kept_replays: KeptReplays = KeptReplays.from_dict(
        document["kept_replays"], kept.span_s, kept.start, tuple(hostings)
    )
    month_weights = kept_replays.month_weights(case.terms.month)
    if month_weights is None:
        return None
    bill = kept_replays.bill(hostings, case.terms, month_weights)
    months = _Months(kept_replays, month_weights.weights, is_same=kept_replays.is_same(case.terms.month))
    services = {}
    for name, of in zip(names, case.objectives.of_services(names), strict=True):
        if name in kept.services:
            mine = bill.of_service(case.system.shares_of(name), tuple(hostings))
            services[name] = _renewed(
                kept.services[name], mine, of, case.plan.name, fleets[name], months, f"services.{name}"
            )
    whole = _renewed(kept, bill, case.objectives, case.plan.name, fleets[names[0]], months)
    told = dataclasses.replace(kept_replays, table=case.terms.month)
    costs = costs_of(bill, told.use(month_weights.weights), kept.span_s, kept.start, case.system.entries).short()
    return dataclasses.replace(whole, services=services, kept_replays=told, costs=costs)


@dataclass(frozen=True)
class _Months:
    """Figures of a month: those that were kept, where it is the same month, else made anew by hour."""

    kept_replays: KeptReplays
    weights: tuple[Weights, ...]
    is_same: bool

    def measures(self, scope: str, within: Mapping[str, Within], kept: Figures) -> Measures:
        """Of a scope; `within`: the limits that are counted there."""
        whole = Measures(
            kept.n_requests, kept.attempts, kept.endings, kept.latency_s, kept.answered_s, dict(within),
            kept.availability, kept.availability_minutes, kept.time_s, kept.bytes_out,
        )  # fmt: skip
        return self.kept_replays.measures(scope, self.weights, whole)


def _renewed(
    kept: Figures, bill: Bill, wanted: Objectives, plan: str, hosting: Hosting, months: _Months, scope: str = ""
) -> Figures:
    judged = tuple(_judged(kept, bill, wanted, months, scope))
    month = kept.month
    if not months.is_same and scope in months.kept_replays.replays[0].kept:
        month = MonthFigures.of(months.measures(scope, {}, kept), is_binned=True)
    # What all of several services run on has no name.
    tier, size = kept.tier and hosting.tier_name, kept.size and hosting.size_name
    return dataclasses.replace(kept, bill=bill, objectives=judged, plan=plan, tier=tier, size=size, month=month)


def _judged(kept: Figures, bill: Bill, wanted: Objectives, months: _Months, scope: str) -> Iterable[Objective]:
    """As `outcome.judged` does; limits of latency are those that were counted."""
    got = {objective.name: objective for objective in kept.objectives}
    for goal in wanted.goals():
        if goal.key == "month":
            yield Objective(goal.name, goal.wanted, bill.month, bill.month <= goal.wanted)
        elif not months.is_same:
            name = goal.name if goal.service is None else goal.key
            minutes = got[goal.name].minutes
            within = {} if minutes is None else {name: Within(0, minutes.met, minutes.of)}
            yield judged(goal, months.measures(scope or goal.scope, within, kept), bill)
        elif goal.key in _LIMITS:
            share = got[goal.name].got
            met = share is not None and share >= float(goal.wanted) - EPSILON_S
            yield dataclasses.replace(got[goal.name], wanted=goal.wanted, met=met)
        else:
            yield dataclasses.replace(got[goal.name], wanted=goal.wanted)
