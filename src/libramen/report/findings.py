"""The sentences of findings: one function a kind, of its figures."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from libramen.base import units
from libramen.outcome.findings import BUSY, SHORT, Finding
from libramen.report.prose import clock, times


def sentence(finding: Finding) -> str:
    """What was found, with its figures."""
    said = _SENTENCES[finding.kind](finding)
    return said if finding.service is None or finding.kind in _NAMES_SERVICE else f"{finding.service}: {said}"


def _lasted(finding: Finding) -> str:
    return units.show_duration(finding.seconds)


def _at(finding: Finding, key: str) -> str:
    return clock(finding.clock, finding.figures[key])


def _of_them_failed(failed: int | None) -> str:
    if failed is None:
        return ""
    return f"; {f'{failed:,}' if failed else 'none'} of the requests that arrived meanwhile failed"


def _reacted_late(found: Finding) -> str:
    return (
        f"Reacted late: at {_at(found, 'passed_s')} the load passed the target, "
        f"{units.show_duration(found.figures['ordered_after_s'])} later the first replica that came was ordered, and "
        f"{_lasted(found)} after the load had passed it was there{_of_them_failed(found.requests)}."
    )


def _flapping(found: Finding) -> str:
    return (
        f"Flapping: {found.replicas:,} of {found.figures['ordered']:,} replicas that the rule ordered were taken away "
        f"again before they had been ready for as long as they took to start; they were there for {_lasted(found)} in "
        "all."
    )


def _never_scaled_down(found: Finding) -> str:
    told = found.figures
    return (
        f"Never scaled down: the rule ordered {times(told['ordered'], 'replica')} and removed none; for "
        f"{_lasted(found)} after that the fleet was larger than the target needed, at {_at(found, 'at_s')} "
        f"{told['ready']} instead of {told['needed']}."
    )


def _at_the_ceiling(found: Finding) -> str:
    most, ceiling = found.figures["wanted"], found.figures["ceiling"]
    whose = "the most that its tier allows" if found.limit == "tier" else "its ceiling"
    failed = found.requests
    cost = f"; {times(failed, 'request')} failed between the first time and the last" if failed else ""
    wanted = f" (once {most})" if most > ceiling + 1 else ""
    return f"At the ceiling: for {_lasted(found)} the rule wanted more than {ceiling} replicas{wanted}, {whose}{cost}."


def _floor_never_left(found: Finding) -> str:
    floor = found.replicas
    return (
        f"The floor of {floor} was never left: the rule decided {times(found.figures['decisions'], 'time')} and did "
        f"nothing that a fixed fleet of {floor} would not do."
    )


def _first_visitor_waited(found: Finding) -> str:
    return (
        f"First visitors waited: {times(found.replicas or 0, 'time')} a request came when no replica was ready, and "
        f"{times(found.requests or 0, 'request')} waited for a cold start then, "
        f"{units.show_duration(found.figures['mean_s'])} on average and {_lasted(found)} at most."
    )


def _cold_starts_cost(found: Finding) -> str:
    return (
        f"Cold starts cost {times(found.requests or 0, 'failed request')}: so many arrived in the {_lasted(found)} in "
        "all during which replicas that the rule had ordered were on their way "
        f"({units.show_share(found.figures['share'], 0)} of all failures)."
    )


def _bank_empty(found: Finding) -> str:
    return (
        f"Out of saved CPU: replicas had spent what they had saved and were slowed down to what they earn for "
        f"{_lasted(found)} in all, {units.show_share(found.figures['share'], 0)} of the time that they were ready, for "
        f"the first time at {_at(found, 'first_s')}."
    )


def _blind_measure(found: Finding) -> str:
    told = found.figures
    measure, cpu = told["measure"], told["cpu"]
    measured = units.show_share(told["measured"]) if measure == "cpu" else f"{told['measured']:.3g}"
    waited_for = "a slot" if cpu < SHORT else f"a slot, and CPU is short too ({units.show_share(cpu, 0)} in use)"
    return (
        f"The measure cannot see the bottleneck: for {_lasted(found)} all slots were full and requests waited, while "
        f"{measure} did not pass the target; at {_at(found, 'at_s')} {measure} was {measured} and "
        f"{told['waiting']:,.0f} requests waited. What they wait for is {waited_for}: waiting or latency would see it."
    )


def _slots_full(found: Finding) -> str:
    what, helps = "Slots full", "there was CPU to spare, so more slots or more replicas would help"
    if found.kind == "slots_and_cpu_full":
        what = "Slots full, and CPU short"
        helps = "both are short, so more replicas would help, or a size with more CPU and slots for it"
    return (
        f"{what}: for {_lasted(found)}, first at {_at(found, 'first_s')}, all {found.figures['slots']} slots of every "
        f"replica were taken while {units.show_share(found.figures['cpu'], 0)} of the CPU was in use: "
        f"{helps}{_of_them_failed(found.requests)}."
    )


def _cpu_full(found: Finding) -> str:
    return (
        f"CPU full: for {_lasted(found)}, first at {_at(found, 'first_s')}, more than {units.show_share(BUSY, 0)} of "
        f"the cores were in use, and requests took turns{_of_them_failed(found.requests)}."
    )


def _out_of_memory(found: Finding) -> str:
    told = found.figures
    return (
        f"Out of memory: replicas died {times(told['deaths'], 'time')}, first at {_at(found, 'first_s')}; "
        f"{told['memory'] / 1e9:.3g} GB hold {told['fits']} requests in progress, and a replica has {told['slots']} "
        "slots."
    )


def _out_of_stock(found: Finding) -> str:
    return (
        f"Out of stock: {found.replicas:,} of {times(found.figures['ordered'], 'order')} failed at first and had to be "
        f"tried again, the slowest for {units.show_duration(found.figures['slowest_s'])}."
    )


def _release_skipped(found: Finding) -> str:
    told = found.figures
    return (
        f"Release skipped: {times(told['releases'], 'release')} could not begin, first that of "
        f"{_at(found, 'due_s')} ({told['strategy']}): it needs {2 * (found.replicas or 0)} replicas at once, and the "
        f"tier has {told['most']}."
    )


def _pinned(found: Finding) -> str:
    said, told = [], found.figures
    if "busiest" in told:
        said.append(
            f"the busiest replica used {units.show_share(told['busiest'], 0)} of its CPU where the mean is "
            f"{units.show_share(told['mean'], 0)}, and least_busy would share it evenly"
        )
    if found.requests:
        by = sorted(told["moved_by"].items(), key=lambda entry: -entry[1])
        causes = ", ".join(f"{n:,} by {cause}" for cause, n in by)
        said.append(f"{times(found.requests, 'visitor')} had to move to another replica ({causes})")
    return f"Pinned visitors: {'; '.join(said)}."


def _bottleneck(found: Finding) -> str:
    told = found.figures
    used = "all its slots were taken" if told["short_of"] == "slots" else "all its CPU was in use"
    more = f": more replicas of {told['caller']} would not help" if told["caller_cpu"] < SHORT else ""
    return (
        f"{found.service} is the bottleneck: for {_lasted(found)}, first at {_at(found, 'first_s')}, {used} and it "
        f"answered {told['rate']:.3g} visits a second, while {told['caller']} used "
        f"{units.show_share(told['caller_cpu'], 0)} of its CPU{more}; {times(found.requests or 0, 'request')} that "
        "arrived meanwhile failed."
    )


def _connections_exhausted(found: Finding) -> str:
    told = found.figures
    who = ", ".join(f"{one['replicas']} x {one['each']} of {one['service']}" for one in told["opened"])
    room = f"{told['slots']} slots" + (f" and a backlog of {told['backlog']}" if told["backlog"] else "")
    return (
        f"{found.service} refused {times(found.requests or 0, 'visit')} for want of connections: those that call it "
        f"may open {told['could_open']} ({who}), and it has {room}. A pool, or more slots, would help."
    )


def _pool_too_small(found: Finding) -> str:
    told = found.figures
    failed = f"; {times(found.requests, 'call')} never got one" if found.requests else ""
    return (
        f"The pool of {told['pool']} from each replica of {found.service} to {told['callee']} is too small: visits of "
        f"{found.service} waited {units.show_duration(told['mean_s'])} for a connection on average "
        f"({units.show_share(told['share'], 0)} of their time){failed}, while at most {told['taken']:.3g} of the "
        f"{told['slots']} slots of {told['callee']} were taken."
    )


def _retries_multiply(found: Finding) -> str:
    told = found.figures
    return (
        f"Retries multiply the load on {found.service}: for {_lasted(found)}, first at {_at(found, 'first_s')}, each "
        f"visit was sent {told['attempts_each']:.2f} times, {told['attempts_rate']:.3g} attempts a second for "
        f"{told['rate']:.3g} visits, and {times(found.requests or 0, 'visit')} failed all the same."
    )


def _queue_grows(found: Finding) -> str:
    told = found.figures
    return (
        f"The queue of {found.service} grows faster than its workers: {told['rate']:.3g} visits a second came in the "
        f"last {_lasted(found)} and {told['done_rate']:.3g} were done; {told['waiting']:,.0f} waited at the end."
    )


def _workers_idle(found: Finding) -> str:
    return (
        f"Workers of {found.service} are idle: {units.show_share(found.figures['taken'], 1)} of their slots were taken "
        "on average, and all of them are paid for; fewer, or a fleet that scales to zero on what waits, would do."
    )


def _callee_down(found: Finding) -> str:
    return (
        f"{found.service} was without a working replica {times(found.figures['times'], 'time')}, for {_lasted(found)} "
        f"in all, first at {_at(found, 'first_s')}: {times(found.requests or 0, 'request')} failed that arrived then "
        "or in the minute after."
    )


_NAMES_SERVICE: Final = {
    "bottleneck": _bottleneck,
    "callee_down": _callee_down,
    "connections_exhausted": _connections_exhausted,
    "pool_too_small": _pool_too_small,
    "queue_grows": _queue_grows,
    "retries_multiply": _retries_multiply,
    "workers_idle": _workers_idle,
}
"""Kinds whose sentences say of which service they are."""
_SENTENCES: Final[dict[str, Callable[[Finding], str]]] = {
    "at_the_ceiling": _at_the_ceiling,
    "bank_empty": _bank_empty,
    "blind_measure": _blind_measure,
    "cold_starts_cost": _cold_starts_cost,
    "cpu_full": _cpu_full,
    "first_visitor_waited": _first_visitor_waited,
    "flapping": _flapping,
    "floor_never_left": _floor_never_left,
    "never_scaled_down": _never_scaled_down,
    "out_of_memory": _out_of_memory,
    "out_of_stock": _out_of_stock,
    "pinned": _pinned,
    "reacted_late": _reacted_late,
    "release_skipped": _release_skipped,
    "slots_and_cpu_full": _slots_full,
    "slots_full": _slots_full,
    **_NAMES_SERVICE,
}
