"""What speaks against a plan: a problem, and those of what its services share, such as connections and limits."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from libramen.base.shown import sentence_of
from libramen.study.mix import Stock
from libramen.study.study import Study
from libramen.study.system import Hosted, System


@dataclass(frozen=True)
class Problem:
    """One fact that speaks against a plan.

    Attributes:
        kind: what it is; `report/problems.py` has the sentence of each.
        figures: what the sentence says: durations in seconds, shares from 0 to 1.
    """

    kind: str
    figures: dict[str, Any]

    @property
    def text(self) -> str:
        """A sentence, with the figures."""
        return sentence_of(self)


def connections(system: System, number: int) -> Iterator[Problem]:
    """Whether those that call a service may open more connections than it takes."""
    hosted = system.hosted[number]
    most, tier = hosted.hosting.limits[1], hosted.hosting.tier
    waiting = tier.queue_limit if hosted.hosting.has_one_queue else hosted.service.backlog
    if waiting is None:
        return
    opened: dict[str, tuple[int, int]] = {}
    for made in system.calls:
        if made.callee == number and made.call.wait_for_it:
            caller = system.hosted[made.caller]
            opened[caller.name] = caller.hosting.limits[1], made.pool_limit or caller.service.slots
    takes = most * hosted.service.slots + waiting * (1 if hosted.hosting.has_one_queue else most)
    could = sum(replicas * each for replicas, each in opened.values())
    if opened and could > takes:
        yield Problem("connections", {"could_open": could, "opened": opened, "takes": takes})


def shared_limits(system: System) -> Iterator[Problem]:
    """Whether services on one tier may together have more replicas than it allows; a limit is of each of them."""
    by_tier: dict[str, list[tuple[Hosted, Stock]]] = {}
    for hosted in system.hosted:
        for stock in hosted.hosting.stocks:
            if stock.tier.replicas.most is not None:
                by_tier.setdefault(stock.tier.name, []).append((hosted, stock))
    for tier, of_tier in by_tier.items():
        most = of_tier[0][1].tier.replicas.most
        sharing = [hosted for hosted, _ in of_tier]
        # An entry of a mix has all that the tier allows at the most, whatever its number: orders may move to it.
        could = sum(
            min(one.hosting.limits[1], most or 0) if one.hosting.mix else one.hosting.limits[1] for one in sharing
        )
        if len(sharing) > 1 and most is not None and could > most:
            names = [one.name for one in sharing]
            yield Problem("shared_most", {"tier": tier, "most": most, "could": could, "services": names})


def account_limits(study: Study, system: System) -> Iterator[Problem]:
    """Whether services may together want more than the account has."""
    for region, limits in study.account.limits():
        there = [one.hosting for one in system.hosted if region in {None, one.region}]
        most = [one.limits[1] + one.standing_by for one in there]
        cores = sum(n * one.size.cores for n, one in zip(most, there, strict=True))
        for what, allowed, could in (("replicas", limits.replicas, sum(most)), ("cores", limits.cores, cores)):
            if allowed is not None and could > allowed:
                yield Problem("account_most", {"what": what, "most": allowed, "could": could, "region": region})
