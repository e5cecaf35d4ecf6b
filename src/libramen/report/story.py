"""What happened in a replay, in sentences that a person would say."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

import numpy as np

from libramen.base import units
from libramen.base.ranks import PERCENTILES
from libramen.engine.record import UpdateRecord
from libramen.outcome.measures import hides_failures
from libramen.outcome.outcome import Outcome
from libramen.outcome.service_outcome import ServiceOutcome
from libramen.report.prose import clock, times, whose
from libramen.report.section import Cell
from libramen.study.objectives import Objective, show_objective
from libramen.trace.statuses import is_answer

FAILED_SIGN: Final = " *"
"""Behind a percentile of ok requests where more than 1 % of the requests failed."""
FAILED_NOTE: Final = "* more than 1 % of the requests failed: these latencies are of the answered ones only."


def sentences(outcome: Outcome) -> list[str]:
    """Failures, scaling and updates of a replay, a sentence each."""
    said = list(_failures(outcome))
    for one in outcome.services.values():
        of = whose(one.label)
        said += [of + sentence for sentence in (*_deaths(one), *_scaling(one), *_updates(one))]
    return said


def _failures(outcome: Outcome) -> Iterator[str]:
    n, failed, when = outcome.n_requests, outcome.n_requests - outcome.endings["ok"], outcome.failures
    if not failed or when is None:
        in_log = _failed_in_log(outcome)
        more = f", also the {in_log:,} that failed when the log was written" if in_log else ""
        yield f"All {n:,} requests were answered{more}."
    else:
        kinds = ", ".join(
            f"{number:,} {name.replace('_', ' ')}"
            for name, number in outcome.endings.items()
            if name != "ok" and number
        )
        yield (
            f"{failed:,} of {n:,} requests failed ({kinds}), from {clock(outcome, when.first_s)} to "
            f"{clock(outcome, when.last_s)}; the worst minute began at {clock(outcome, when.worst_minute_s)}."
        )
    if outcome.attempts > n:
        again = outcome.attempts - n
        yield (
            f"Clients sent requests again {again:,} {'time' if again == 1 else 'times'}: "
            f"{outcome.attempts:,} attempts in all."
        )


def _failed_in_log(outcome: Outcome) -> int:
    """Of the requests measured, how many the log says had failed, or been given up by their clients."""
    if not outcome.has_trace or outcome.trace.status is None:
        return 0
    status = outcome.trace.status[outcome.trace.at_s >= outcome.settle_s]
    return int(np.count_nonzero(~is_answer(status)))


_DEATHS: Final = {"out_of_memory": "Out of memory", "crash": "Crashed", "zone_loss": "Lost with a zone"}


def _deaths(outcome: ServiceOutcome) -> Iterator[str]:
    for why, what in _DEATHS.items():
        deaths = [death for death in outcome.run.deaths if death.why == why]
        if deaths:
            replicas = len({death.replica for death in deaths})
            yield (
                f"{what} {len(deaths):,} {'time' if len(deaths) == 1 else 'times'} on {replicas} "
                f"{'replica' if replicas == 1 else 'replicas'}, first at {clock(outcome, deaths[0].at_s)}; "
                "what was in progress there was lost."
            )


def _scaling(outcome: ServiceOutcome) -> Iterator[str]:
    scaling, decisions = outcome.scaling, outcome.run.decisions
    if not len(decisions):
        return
    ordered = int(decisions.column("ordered").sum())
    removed = int((decisions.column("cancelled") + decisions.column("drained")).sum())
    acted = int(np.count_nonzero(
        decisions.column("ordered") + decisions.column("cancelled") + decisions.column("drained")
    ))  # fmt: skip
    yield (
        f"The rule decided {times(len(decisions), 'time')} and scaled {times(acted, 'time')}: it ordered {ordered:,} "
        f"and removed {removed:,} replicas; the fleet was {outcome.replicas_min} to {outcome.replicas_max} ready "
        "replicas."
    )
    yield from _how_quickly(outcome)
    if scaling.held_by:
        yield "Decisions held back: " + ", ".join(f"{n:,} by {reason}" for reason, n in scaling.held_by.items()) + "."
    if outcome.waits is not None and len(outcome.waits.wait_s):
        waits_s = outcome.waits.wait_s
        yield (
            f"{times(len(waits_s), 'request')} waited for a cold start, {units.show_duration(float(waits_s.mean()))} "
            f"on average and {units.show_duration(float(waits_s.max()))} at most."
        )
    surplus = scaling.surplus
    if surplus is not None and surplus.seconds:
        cost = "" if surplus.month is None else f": {units.about_money(surplus.month, outcome.bill.currency)} a month"
        yield f"The fleet stood {units.show_duration(surplus.seconds)} above what the target needed{cost}."


def _how_quickly(outcome: ServiceOutcome) -> Iterator[str]:
    scaling = outcome.scaling
    if not scaling.reactions:
        return
    slowest = max(scaling.reactions, key=lambda reaction: reaction.took_s)
    failed = scaling.failed_meanwhile
    meanwhile = ""
    if failed is not None:
        who = times(failed, "request") if failed else "no request"
        meanwhile = f"; {who} that arrived while replicas were on their way failed"
    since = "the load had passed the target" if scaling.threshold is not None else "it was ordered"
    yield (
        f"The slowest capacity came {units.show_duration(slowest.took_s)} after {since}, at "
        f"{clock(outcome, slowest.came_s)}{meanwhile}."
    )


def _why(update: UpdateRecord) -> str:
    """Why a new version was found wanting."""
    assert update.judged is not None
    ended, failed = update.judged
    if update.slower is None:
        return f"of the {ended:,} attempts at the new version that were looked at, {failed:,} had failed"
    new, old = map(units.show_duration, update.slower)
    return f"the p95 of the new version was {new}, of the old one {old}"


def _updates(outcome: ServiceOutcome) -> Iterator[str]:
    for update in outcome.run.updates:
        what = f"The {update.strategy} update due at {clock(outcome, update.due_s)}"
        if update.result == "skipped":
            yield f"{what} was skipped: twice the fleet of {update.replicas} is more than {_limit(update)} allows."
        elif update.result == "not_undone" and update.undone_s is not None and update.judged is not None:
            yield (
                f"{what} failed its check at {clock(outcome, update.undone_s)}, after it was over: {_why(update)}. It "
                f"was not undone, since twice the fleet is more than {_limit(update)} allows."
            )
        elif update.undone_s is not None and update.judged is not None:
            yield f"{what} was undone at {clock(outcome, update.undone_s)}: {_why(update)}."
        elif update.began_s is None:
            yield f"{what} never began: another was under way, or it was undone before."
        elif update.ended_s is None:
            yield f"{what} was not over at the end."
        else:
            took = units.show_duration(update.ended_s - update.began_s)
            failed = _failed_between(outcome, update.began_s, update.ended_s)
            yield f"{what} took {took} for {times(update.replicas, 'replica')}, {_mixed(update)}; {failed}."


def _limit(update: UpdateRecord) -> str:
    return "the account" if update.by_account else "the tier"


def _mixed(update: UpdateRecord) -> str:
    if not update.mixed_s:
        return "never with both versions in use"
    return f"{units.show_duration(update.mixed_s)} of it with both versions in use"


def _failed_between(outcome: ServiceOutcome, from_s: float, to_s: float) -> str:
    counts = outcome.failed_between(from_s, to_s)
    if counts is None:
        return "requests were not kept"
    if not counts[1]:
        return "no request arrived meanwhile"
    return f"{counts[0]:,} of the {counts[1]:,} requests that arrived meanwhile failed"


def show_latency(seconds: float | None, *, hides_failures: bool) -> str:
    """A latency of ok requests, with a sign where so many failed that it says too little."""
    return units.show_duration(seconds) + (FAILED_SIGN if hides_failures and seconds is not None else "")


def latency_cell(seconds: float | None, available: float | None) -> Cell:
    """The same as a cell; `available`: the share of requests that were answered ok."""
    return Cell(show_latency(seconds, hides_failures=hides_failures(available)), seconds)


def wanted_share(objective: Objective) -> str:
    """The share of all requests that a limit on latency is about: `95 %`, `99.9 %`."""
    share = PERCENTILES.get(objective.key, 1.0)
    return f"{100 * share:.4g} %"


def miss(objective: Objective, currency: str) -> str:
    """An objective that is missed: `p95 (91.77 % within 400 ms, wanted 95 %)`."""
    wanted = show_objective(objective.name, objective.wanted, currency)
    if objective.within is None:
        return f"{objective.name} ({_about(objective, currency)}, wanted {wanted})"
    got = units.about_share(objective.within, PERCENTILES.get(objective.key, 1.0))
    return f"{objective.name} ({got} within {wanted}, wanted {wanted_share(objective)})"


def _about(objective: Objective, currency: str) -> str:
    """What came of an objective, as exactly as a sentence needs it."""
    if objective.got is not None and objective.name == "month":
        return units.about_money(objective.got, currency, objective.wanted)
    if objective.got is not None and "availability" in objective.name:
        return units.about_share(float(objective.got), float(objective.wanted))
    return show_objective(objective.name, objective.got, currency)
