"""The sentences of findings: a template a kind, and the words that it needs beside its figures."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from typing import Any, Final

from libramen.base import units
from libramen.outcome.findings import BUSY, SHORT, Finding
from libramen.report.prose import and_list, times
from libramen.report.wording import say


def sentence(finding: Finding) -> str:
    """What was found, with its figures."""
    figures = vars(finding) | finding.figures | {"service": finding.service or "the service"}
    words = _WORDS.get(finding.kind)
    said = say(_SENTENCES[finding.kind], figures | (words(finding) if words else {}), finding.clock)
    return f"{finding.service}: {said}" if finding.service and finding.kind not in _NAMES_SERVICE else said


def _meanwhile(found: Finding) -> dict[str, str]:
    if found.requests is None:
        return {"failed": ""}
    many = f"{found.requests:,}" if found.requests else "none"
    return {"failed": f"; {many} of the requests that arrived meanwhile failed"}


def _ceiling(found: Finding) -> dict[str, str]:
    most, failed = found.figures["wanted"], found.requests
    return {
        "once": f" (once {most})" if most > found.figures["ceiling"] + 1 else "",
        "whose": "the most that its tier allows" if found.limit == "tier" else "its ceiling",
        "cost": f"; {times(failed, 'request')} failed between the first time and the last" if failed else "",
    }


def _blind(found: Finding) -> dict[str, str]:
    measured, cpu = found.figures["measured"], found.figures["cpu"]
    short = f"a slot, and CPU is short too ({units.show_share(cpu, 0)} in use)"
    return {
        "measured": units.show_share(measured) if found.figures["measure"] == "cpu" else f"{measured:.3g}",
        "waited_for": "a slot" if cpu < SHORT else short,
    }


def _pinned(found: Finding) -> dict[str, str]:
    said, told = [], found.figures
    if "busiest" in told:
        said.append(
            say(
                "the busiest replica used {busiest:share 0} of its CPU where the mean is {mean:share 0}, and "
                "least_busy would share it evenly",
                told,
            )
        )
    if found.requests:
        by = sorted(told["moved_by"].items(), key=lambda entry: -entry[1])
        causes = ", ".join(f"{n:,} by {cause}" for cause, n in by)
        said.append(f"{times(found.requests, 'visitor')} had to move to another replica ({causes})")
    return {"said": "; ".join(said)}


def _edge(found: Finding) -> dict[str, str]:
    n = found.figures["none_ready"]
    return {"stale": f"; {times(n, 'request')} of them while no replica was ready, and copies grow old" if n else ""}


def _standby(found: Finding) -> dict[str, str]:
    told = found.figures
    meanwhile = say("; nobody served for {none_s:duration} in all", told)
    if told["home"] is not None:
        lost = ", and the writes of the last moments may be lost" if found.replicas else ""
        meanwhile = f" in the place of {told['home']}{lost}"
    return {"cost": units.about_money(Decimal(str(told["money"])), told["currency"]), "meanwhile": meanwhile}


def _bottleneck(found: Finding) -> dict[str, str]:
    told = found.figures
    return {
        "used": "all its slots were taken" if told["short_of"] == "slots" else "all its CPU was in use",
        "more": f": more replicas of {told['caller']} would not help" if told["caller_cpu"] < SHORT else "",
    }


def _connections(found: Finding) -> dict[str, str]:
    told = found.figures
    return {
        "who": ", ".join(f"{one['replicas']} x {one['each']} of {one['service']}" for one in told["opened"]),
        "room": f"{told['slots']} slots" + (f" and a backlog of {told['backlog']}" if told["backlog"] else ""),
    }


def _mixed(found: Finding) -> dict[str, str]:
    parts = []
    for key, what, became in (
        ("taken", "machine", "{were} taken back"),
        ("moved", "order", "could not be met there, and went to another tier at once"),
    ):
        of_tier = found.figures[key]
        if of_tier:
            named = and_list([f"{times(n, what)} of {name}" for name, n in of_tier.items()])
            were = "was" if sum(of_tier.values()) == 1 else "were"
            parts.append(f"{named} {became.format(were=were)}")
    return {"said": "; ".join(parts)}


_FULL: Final = (
    "{what}: for {seconds:duration}, first at {first_s:clock}, all {slots} slots of every replica were taken while "
    "{cpu:share 0} of the CPU was in use: {helps}{failed}."
)
_WORDS: Final[dict[str, Callable[[Finding], dict[str, Any]]]] = {
    "at_the_ceiling": _ceiling,
    "blind_measure": _blind,
    "bottleneck": _bottleneck,
    "connections_exhausted": _connections,
    "cpu_full": lambda found: {"busy": BUSY, **_meanwhile(found)},
    "out_of_memory": lambda found: {"gb": found.figures["memory"] / 1e9},
    "edge": _edge,
    "mixed": _mixed,
    "pinned": _pinned,
    "standby": _standby,
    "pool_too_small": lambda found: {
        "never": f"; {times(found.requests, 'call')} never got one" if found.requests else ""
    },
    "reacted_late": _meanwhile,
    "release_not_over": lambda found: {
        "why": f"; orders were held back {times(found.figures['held'], 'time')}, since the account is full"
        if found.figures["held"]
        else ""
    },
    "release_skipped": lambda found: {
        "twice": 2 * (found.replicas or 0),
        "limit": "the account has no room for them"
        if found.figures["by_account"]
        else f"the tier has {found.figures['most']}",
    },
    "slots_and_cpu_full": lambda found: {
        "what": "Slots full, and CPU short",
        "helps": "both are short, so more replicas would help, or a size with more CPU and slots for it",
        **_meanwhile(found),
    },
    "slots_full": lambda found: {
        "what": "Slots full",
        "helps": "there was CPU to spare, so more slots or more replicas would help",
        **_meanwhile(found),
    },
}
"""What a sentence needs beside the figures of its finding."""
_NAMES_SERVICE: Final = {
    "bottleneck": (
        "{service} is the bottleneck: for {seconds:duration}, first at {first_s:clock}, {used} and it answered "
        "{rate:.3g} visits a second, while {caller} used {caller_cpu:share 0} of its CPU{more}; "
        "{requests:times request} that arrived meanwhile failed."
    ),
    "callee_down": (
        "{service} was without a working replica {times:times time}, for {seconds:duration} in all, first at "
        "{first_s:clock}: {requests:times request} failed that arrived then or in the minute after."
    ),
    "connections_exhausted": (
        "{service} refused {requests:times visit} for want of connections: those that call it may open {could_open} "
        "({who}), and it has {room}. A pool, or more slots, would help."
    ),
    "pool_too_small": (
        "The pool of {pool} from each replica of {service} to {callee} is too small: visits of {service} waited "
        "{mean_s:duration} for a connection on average ({share:share 0} of their time){never}, while at most "
        "{taken:.3g} of the {slots} slots of {callee} were taken."
    ),
    "queue_grows": (
        "The queue of {service} grows faster than its workers: {rate:.3g} visits a second came in the last "
        "{seconds:duration} and {done_rate:.3g} were done; {waiting:,.0f} waited at the end."
    ),
    "retries_multiply": (
        "Retries multiply the load on {service}: for {seconds:duration}, first at {first_s:clock}, each visit was sent "
        "{attempts_each:.2f} times, {attempts_rate:.3g} attempts a second for {rate:.3g} visits, and "
        "{requests:times visit} failed all the same."
    ),
    "workers_idle": (
        "Workers of {service} are idle: {taken:share 1} of their slots were taken on average, and all of them are paid "
        "for; fewer, or a fleet that scales to zero on what waits, would do."
    ),
}
"""Kinds whose sentences say of which service they are."""
_SENTENCES: Final = _NAMES_SERVICE | {
    "at_the_ceiling": (
        "At the ceiling: for {seconds:duration} the rule wanted more than {ceiling} replicas{once}, {whose}{cost}."
    ),
    "bank_empty": (
        "Out of saved CPU: replicas had spent what they had saved and were slowed down to what they earn for "
        "{seconds:duration} in all, {share:share 0} of the time that they were ready, for the first time at "
        "{first_s:clock}."
    ),
    "blind_measure": (
        "The measure cannot see the bottleneck: for {seconds:duration} all slots were full and requests waited, while "
        "{measure} did not pass the target; at {at_s:clock} {measure} was {measured} and {waiting:,.0f} requests "
        "waited. What they wait for is {waited_for}: waiting or latency would see it."
    ),
    "cold_starts_cost": (
        "Cold starts cost {requests:times failed request}: so many arrived in the {seconds:duration} in all during "
        "which replicas that the rule had ordered were on their way ({share:share 0} of all failures)."
    ),
    "cpu_full": (
        "CPU full: for {seconds:duration}, first at {first_s:clock}, more than {busy:share 0} of the cores were in "
        "use, and requests took turns{failed}."
    ),
    "edge": (
        "Edge: it answered {requests:times request} ({share:share 0}), {gb:.3g} GB, and kept work from the fleets that "
        "would have filled {busy:.2g} replicas all the time{stale}."
    ),
    "mixed": "Mixed fleet: {said}.",
    "standby": ("Standby: promoted {replicas:times time}{meanwhile}. Standing by costs {cost} a month."),
    "first_visitor_waited": (
        "First visitors waited: {replicas:times time} a request came when no replica was ready, and "
        "{requests:times request} waited for a cold start then, {mean_s:duration} on average and {seconds:duration} at "
        "most."
    ),
    "flapping": (
        "Flapping: {replicas:,} of {ordered:,} replicas that the rule ordered were taken away again before they had "
        "been ready for as long as they took to start; they were there for {seconds:duration} in all."
    ),
    "floor_never_left": (
        "The floor of {replicas} was never left: the rule decided {decisions:times time} and did nothing that a fixed "
        "fleet of {replicas} would not do."
    ),
    "never_scaled_down": (
        "Never scaled down: the rule ordered {ordered:times replica} and removed none; for {seconds:duration} after "
        "that the fleet was larger than the target needed, at {at_s:clock} {ready} instead of {needed}."
    ),
    "out_of_memory": (
        "Out of memory: replicas died {deaths:times time}, first at {first_s:clock}; {gb:.3g} GB hold {fits} requests "
        "in progress, and a replica has {slots} slots."
    ),
    "account_full": (
        "Account full: orders were held back {replicas:times time}, first at {first_s:clock} and last at "
        "{last_s:clock}, since all services together had as many replicas or cores as the account allows."
    ),
    "out_of_stock": (
        "Out of stock: {replicas:,} of {ordered:times order} failed at first and had to be tried again, the slowest "
        "for {slowest_s:duration}."
    ),
    "pinned": "Pinned visitors: {said}.",
    "reacted_late": (
        "Reacted late: at {passed_s:clock} the load passed the target, {ordered_after_s:duration} later the first "
        "replica that came was ordered, and {seconds:duration} after the load had passed it was there{failed}."
    ),
    "release_not_over": (
        "Release not over: that of {due_s:clock} ({strategy}, {replicas} replicas) was still under way at the end{why}."
    ),
    "release_skipped": (
        "Release skipped: {releases:times release} could not begin, first that of {due_s:clock} ({strategy}): it needs "
        "{twice} replicas at once, and {limit}."
    ),
    "slots_and_cpu_full": _FULL,
    "slots_full": _FULL,
}
