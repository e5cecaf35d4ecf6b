"""Whether an objective is met."""

from __future__ import annotations

from libramen.base.times import EPSILON_S
from libramen.bill.bill import Bill
from libramen.outcome.measures import Measures
from libramen.study.objectives import Goal, Minutes, Objective


def judged(goal: Goal, measures: Measures, bill: Bill) -> Objective:
    """An objective: what was wanted, what was got, and whether that is met.

    A limit on a percentile is met if that share of **all** requests was answered ok within it: one that failed is not.

    Args:
        goal: what is wanted.
        measures: of the requests that it is about.
        bill: of the month.
    """
    name, key, wanted = goal.name, goal.key, goal.wanted
    if key == "month":
        return Objective(name, wanted, bill.month, bill.month <= wanted)
    if goal.share is not None:
        within = measures.within[name if goal.service is None else key]
        n, got = measures.n_requests, measures.latency_s[key]
        met = n > 0 and within.requests >= goal.share * n - EPSILON_S * max(1.0, n)
        share = within.requests / n if n else None
        return Objective(name, wanted, got, met, share, Minutes(within.minutes_met, within.minutes))
    if key == "mean":
        got = measures.latency_s[key]
        return Objective(name, wanted, got, got is not None and got <= float(wanted) + EPSILON_S)
    share = getattr(measures, key)
    return Objective(name, wanted, share, share is not None and share >= float(wanted) - EPSILON_S)
