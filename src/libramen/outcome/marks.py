"""What is marked over the time of a replay: its releases and faults."""

from __future__ import annotations

from typing import NamedTuple

from libramen.outcome.service_outcome import ServiceOutcome
from libramen.rules.faults import BY_KIND


class Mark(NamedTuple):
    """A release or a fault, over the time of a replay.

    Attributes:
        began_s, ended_s: from when to when [s]; the same: it is over at once.
        name: what it is called.
        is_fault: whether it is a fault.
    """

    began_s: float
    ended_s: float
    name: str
    is_fault: bool


def marks_of(one: ServiceOutcome) -> list[Mark]:
    """The releases and faults of a service in the order of their begin.

    Of faults those last that change how quick a fleet is; the others are over at once.
    """
    marks = []
    for update in one.run.updates:
        if update.began_s is not None and update.result != "skipped":
            ended_s = one.run.span_s if update.ended_s is None else update.ended_s
            undone = ", undone" if update.result == "undone" else ""
            marks.append(Mark(update.began_s, ended_s, f"{update.strategy} release{undone}", is_fault=False))
    for fault in one.run.faults:
        lasts_s = (fault.lasts_s or 0.0) if not BY_KIND[fault.kind].changes_fleet else 0.0
        marks.append(Mark(fault.at_s, fault.at_s + lasts_s, BY_KIND[fault.kind].names[0], is_fault=True))
    return sorted(mark for mark in marks if mark.began_s < one.run.span_s)
