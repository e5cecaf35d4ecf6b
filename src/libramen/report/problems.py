"""The sentences of what speaks against a plan before anything is replayed."""

from __future__ import annotations

import math
import sys
from typing import Any, Final

from libramen.base import units
from libramen.questions.shared import Problem
from libramen.report.prose import and_list
from libramen.report.wording import say


def sentence(problem: Problem) -> str:
    """A problem, with its figures."""
    return say(_SENTENCES[problem.kind], problem.figures | _words(problem.kind, problem.figures))


def _words(kind: str, told: dict[str, Any]) -> dict[str, Any]:
    """What a sentence needs beside its figures."""
    if kind in {"short_of_cpu", "short_of_slots"}:
        return {"limit": f"the ceiling is {told['most']}" if told["scales"] else f"the plan has {told['most']}"}
    if kind == "connections":
        of = (f"{replicas} x {each} of {name}" for name, (replicas, each) in told["opened"].items())
        return {"who": ", ".join(of)}
    if kind == "no_backlog":
        limit = "" if told["limit"] is None else f" (queue_limit = {told['limit']})"
        return {
            "because": "its tier holds requests" if told["holds"] else "its balancer is shared_queue",
            "limit": limit,
        }
    if kind == "account_most":
        could = math.inf if told["could"] >= sys.maxsize else told["could"]
        region = told["region"]
        return {"could": could, "where": f" in {region}" if region else "", "there": " there" if region else ""}
    if kind == "shared_most":
        return {"who": and_list(told["services"])}
    if kind == "over_budget":
        fewest = [f"{n} replicas of {service}" if service else f"{n} replicas" for n, service in told["fewest"]]
        amounts = {key: units.show_money(told[key], told["currency"]) for key in ("least", "wanted")}
        return amounts | {"fewest": and_list(fewest)}
    if kind == "fault_gap":
        gap = "from then on" if math.isinf(told["gap_s"]) else say("for at least {gap_s:duration}", told)
        return {"ever": gap, "fault": told["fault"].replace("_", " ")}
    return {}


_SENTENCES: Final = {
    "account_most": (
        "it may want {could:,g} {what} at once{where}, and the account has {most:,g}{there}: what is more is held back "
        "until a replica is gone"
    ),
    "connections": (
        "those that call it may open {could_open:,} connections ({who}), and it takes {takes:,}: more are refused"
    ),
    "fault_gap": "its {fault} leaves no replica that works {ever}",
    "handover_waits": (
        "without drain a hand-over waits for the last request of the replica that is handed over, and new ones are "
        "not served meanwhile"
    ),
    "lent": (
        "its CPU is only lent: the trace needs {needed:.3g} cores on average, {most} of this size earn {earned:.3g}; "
        "what they begin with lasts {lasts_s:duration} at that rate"
    ),
    "little_memory": (
        "a replica runs out of memory with {too_many} requests in progress: its {gb:.3g} GB hold {holds}, and it has "
        "{slots} slots"
    ),
    "many_decisions": (
        "it decides {decisions:,.0f} times, every {every_s:duration} over {span_s:duration}: a replay takes some "
        "{takes_s:duration} and {gb:.2g} GB for that alone"
    ),
    "many_replicas": "it begins with {replicas:,} replicas: some {gb:.2g} GB in a replay",
    "never_judged": (
        "its {strategy} update can never be judged: that takes {least} attempts within {watch_s:duration}, and at most "
        "{most:,.0f} arrive"
    ),
    "no_backlog": (
        "backlog = {backlog} has no effect: {because}, so requests wait in one queue{limit}, not at replicas"
    ),
    "no_memory": ("not one request fits into the {gb:.3g} GB of a replica, of which memory_base takes the most"),
    "no_such_replica": "its {fault} is of replica {number}, and the plan has {has}",
    "nobody_there": "it has no replica, and {visits:,.0f} visits are made to it",
    "over_budget": "even with {fewest} and no egress a month costs {least}, the objective is {wanted}",
    "peak_paid": (
        "its {strategy} update needs up to {peak} replicas at once instead of {has}; the tier bills the month's peak"
    ),
    "shared_most": (
        "{who} may together have {could} replicas on tier {tier}; its limit of {most} is applied to each service alone"
    ),
    "short_of_cpu": "the busiest minute needs {needs} replicas of this size at 100 % of their CPU, {limit}",
    "short_of_slots": "the busiest minute fills the slots of {needs} replicas even if nothing queues, {limit}",
    "timeout": (
        "{late:share 2} of the requests need longer than the timeout of {timeout:duration} even without queueing"
    ),
    "too_many_decisions": (
        "it would decide {decisions:,.0f} times, every {every_s:duration} over {span_s:duration}; a replay keeps up to "
        "{most:,}"
    ),
    "far": (
        "{area} is {far:duration} from {region}, its nearest region: {goal} of {wanted:duration} cannot be met there, "
        "where it is at least {alone:duration} even if each request is alone on a warm replica"
    ),
    "too_far": (
        "{area} is {far:duration} away: {goal} of {wanted:duration} cannot be met from {region}, whatever is bought"
    ),
    "too_slow": (
        "{goal} of {wanted:duration} cannot be met: on this size it is {alone:duration} even for requests without "
        "queueing"
    ),
    "update_gap": "its {strategy} update leaves no replica ready for at least {gap_s:duration}",
}
