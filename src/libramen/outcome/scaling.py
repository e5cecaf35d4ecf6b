"""What a scaling rule did to a fleet: when capacity came, what was needed, what stood idle, what was undone."""

from __future__ import annotations

import math
from decimal import Decimal
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from libramen.base import units
from libramen.base.times import EPSILON_S
from libramen.bill.usage import is_by_time
from libramen.engine.decisions import Decisions
from libramen.engine.replica import Replica
from libramen.prices.lines import HOURS

if TYPE_CHECKING:
    from libramen.outcome.service_outcome import ServiceOutcome


class Reaction(NamedTuple):
    """One time that the load passed the target and capacity was ordered. Times are seconds from the start."""

    passed_s: float  # start of the window of the series in which the measure passed the target
    ordered_s: float
    came_s: float  # the last replica of the order was ready

    @property
    def took_s(self) -> float:
        """From the load that passed the target to the capacity [s]."""
        return self.came_s - self.passed_s


class Surplus(NamedTuple):
    """Replicas beyond what the target needed: for how long [s], how many replica-seconds, what they cost a month."""

    seconds: float
    replica_s: float
    month: Decimal | None


class Scaling:
    """Looks at a replay whose fleet is scaled; figures per window are those of `outcome.series`."""

    def __init__(self, outcome: ServiceOutcome) -> None:
        self._outcome, self._run, self._hosting = outcome, outcome.run, outcome.hosting
        self.rule = outcome.hosting.scaling

    @property
    def decisions(self) -> Decisions:
        """Of the rule, in order."""
        return self._run.decisions

    @cached_property
    def ordered(self) -> list[Replica]:
        """Replicas that the rule ordered before the end of the trace."""
        return [r for r in self._run.replicas if r.why == "scaling" and r.ordered_s < self._run.span_s]

    @cached_property
    def came_s(self) -> np.ndarray:
        """When the last replica that each decision ordered was ready: float64 (n,), NaN: none was [s]."""
        came_s = np.full(len(self.decisions), np.nan)
        for replica in self._run.replicas:
            if replica.decision is not None and replica.ready_s is not None:
                came_s[replica.decision] = np.fmax(came_s[replica.decision], replica.ready_s)
        return came_s

    # -- the measure over time ---------------------------------------------------------------------

    @property
    def threshold(self) -> float | None:
        """The value of the measure above which the rule wants more, None: it has none."""
        return self.rule.threshold

    @cached_property
    def measured(self) -> np.ndarray | None:
        """The rule's measure in each window of the series: float64 (k,), NaN: none; None: it has no measure."""
        if not self.rule.watches:
            return None
        series, run = self._outcome.series_of_counts(), self._run
        if self.rule.watches == "latency":
            series = self._outcome.series_arrays()
            latency: np.ndarray = series.get(f"{self.rule.reads}_s", series["p95_s"])
            return latency
        width = np.diff(run.edges_s)
        totals = {
            "cpu": (np.diff(run.integrals[:, 0]) / width + self._hosting.reserved_cores * series["ready"])
            / self._hosting.size.cores,
            "in_progress": series["in_progress"],
            "waiting": series["waiting"],
            "rate": series["arrivals"] / width,
        }
        ready = series["ready"]
        none = np.full(len(ready), np.nan)
        measured: np.ndarray = np.divide(totals[self.rule.watches], ready, out=none, where=ready > EPSILON_S)
        return measured

    @cached_property
    def needed(self) -> np.ndarray | None:
        """Replicas that would have kept the measure at the target: float64 (k,); None: it cannot be said."""
        if self.measured is None:
            return None
        needed = self.rule.needed(np.nan_to_num(self.measured) * self._outcome.series_of_counts()["ready"])
        return None if needed is None else np.maximum(needed, self._hosting.least)

    @cached_property
    def surplus(self) -> Surplus | None:
        """What stood beyond what the target needed; None: it cannot be said."""
        if self.needed is None:
            return None
        width = np.diff(self._run.edges_s)
        beyond = np.maximum(0.0, self._outcome.series_of_counts()["ready"] - self.needed)
        replica_s = float(np.sum(beyond * width))
        month = self._price_of(HOURS * replica_s / self._run.span_s)
        return Surplus(float(np.sum(width[beyond >= 0.5])), replica_s, month)

    def _price_of(self, replica_h: float) -> Decimal | None:
        """What so many replica-hours more of a month cost; None: replicas are not paid for by time."""
        price = self._hosting.stocks[-1].size.per_hour  # of a mix the last entry has what is beyond the numbers
        if not is_by_time(self._hosting) or price is None:
            return None
        # More is paid at the price of the last step.
        each: Decimal = price[-1].price if isinstance(price, tuple) else price
        return units.to_cent(Decimal(repr(replica_h)) * each)

    # -- how quickly -------------------------------------------------------------------------------

    @cached_property
    def reactions(self) -> list[Reaction]:
        """Each time that the measure passed the threshold, how long capacity took; without one, from the order.

        What belongs together is one: orders while the measure has not been back at the target since.
        """
        found: list[Reaction] = []
        for number in np.flatnonzero(np.isfinite(self.came_s)).tolist():
            at_s, came_s = self.decisions[number].at_s, float(self.came_s[number])
            if at_s >= self._run.span_s:
                break
            passed_s = self._passed_s(at_s)
            if found and passed_s <= found[-1].passed_s + EPSILON_S:
                continue  # more of the same: the first capacity is what one waited for
            found.append(Reaction(passed_s, at_s, came_s))
        return found

    def _passed_s(self, at_s: float) -> float:
        """Since when, without a break, the measure has been above the threshold at an instant [s]."""
        if self.measured is None or self.threshold is None:
            return at_s
        edges = self._run.edges_s
        window = int(np.searchsorted(edges, at_s - EPSILON_S, side="right")) - 1
        # What was seen lies before the lag; the window of the decision itself may be back at the target by then.
        seen = int(np.searchsorted(edges, max(0.0, at_s - self.rule.lag_s) - EPSILON_S, side="right")) - 1
        for first in (min(window, len(self.measured) - 1), max(0, seen), max(0, seen - 1)):
            if self.measured[first] > self.threshold:
                below = np.flatnonzero(~(self.measured[:first] > self.threshold))
                return min(at_s, float(edges[below[-1] + 1 if len(below) else 0]))
        return at_s

    @cached_property
    def coming(self) -> list[tuple[float, float]]:
        """When capacity that the rule had ordered was on its way: from, to [s], apart from each other.

        While the tier is out of stock nothing is.
        """
        merged: list[tuple[float, float]] = []
        span_s = self._run.span_s
        bought = [(one.bought_s, one) for one in self.ordered if one.bought_s is not None and one.bought_s < span_s]
        for from_s, replica in sorted(bought, key=lambda one: one[0]):
            ends = [end_s for end_s in (replica.ready_s, replica.gone_s) if end_s is not None]
            end_s = min(ends, default=math.inf)
            if merged and from_s <= merged[-1][1]:
                merged[-1] = (merged[-1][0], max(merged[-1][1], end_s))
            else:
                merged.append((from_s, end_s))
        return merged

    @cached_property
    def failed_meanwhile(self) -> int | None:
        """Requests that arrived while ordered capacity was on its way, and failed; None: they were not kept."""
        counts = [self._outcome.failed_between(from_s, min(to_s, self._run.span_s)) for from_s, to_s in self.coming]
        return None if any(count is None for count in counts) else sum(count[0] for count in counts if count)

    # -- what was undone, and what held back -------------------------------------------------------

    def cold_start_s(self, replica: Replica) -> float:
        """How long a replica took, or would have taken at the median, from its order to ready [s]."""
        if replica.ready_s is not None:
            return replica.ready_s - replica.ordered_s
        return self.usual_cold_start_s

    @cached_property
    def usual_cold_start_s(self) -> float:
        """The median of what a new replica takes to be ready, as the plan says [s]."""
        return self._hosting.provision_s + self._outcome.service.start.median_s

    @cached_property
    def undone(self) -> list[Replica]:
        """Replicas that the rule ordered and took away within one more cold start of their being ready.

        Where nothing takes any time, within the time between two decisions.
        """
        return [
            replica
            for replica in self.ordered
            if replica.why_gone in {"scaling", "idle"}
            and (ended_s := replica.gone_s if replica.draining_s is None else replica.draining_s) is not None
            and ended_s
            <= replica.ordered_s
            + self.cold_start_s(replica)
            + max(self.cold_start_s(replica), self.rule.interval_s)
            + EPSILON_S
        ]

    @cached_property
    def held_by(self) -> dict[str, int]:
        """How many decisions each reason held back, the most frequent first."""
        names, counts = np.unique(self.decisions.column("held_by").astype(str), return_counts=True)
        order = np.argsort(-counts, kind="stable")
        quiet = {"", "dead_band", "no measure", "no band"}
        return {str(names[i]): int(counts[i]) for i in order if names[i] not in quiet}

    @cached_property
    def at_the_ceiling_s(self) -> float:
        """For how long the rule wanted more replicas than its ceiling or its tier allows [s]."""
        at_s = np.append(self.decisions.column("at_s"), np.inf)
        held = np.isin(self.decisions.column("held_by").astype(str), ("ceiling", "tier_most"))
        held &= self.decisions.column("wanted") > self.decisions.column("ceiling")
        until_s = np.minimum(at_s[1:], self._run.span_s)
        if not self.rule.interval_s:
            # On arrival: until the fleet, which is at its ceiling then, first has one replica fewer.
            ends = [r.gone_s if r.draining_s is None else r.draining_s for r in self._run.replicas]
            ends_s = np.append(np.sort([s for s in ends if s is not None]), np.inf)
            until_s = np.minimum(ends_s[np.searchsorted(ends_s, at_s[:-1], side="right")], self._run.span_s)
        return float(np.sum(np.maximum(0.0, until_s - at_s[:-1])[held]))
