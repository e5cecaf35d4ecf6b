"""A scaling rule of your own, in ten lines: a rate per replica, and ready before tickets go on sale."""

import math

from libramen import Observation, Plan, load_study, replay


def by_rate(seen: Observation, per_replica: float) -> int:
    """Asked every 20 s; `seen` is a libramen.Observation. In a study: `rule = "python:rule_of_your_own:by_rate"`."""
    rate, ready, now = seen.measures["rate"], seen.measures["ready"], seen.local_time
    if rate is None or ready is None:  # nothing was ready to be measured
        return seen.have
    needed = math.ceil(rate * ready / per_replica)
    on_sale = now is not None and now.hour == 17 and now.minute >= 45
    quiet = seen.state.get("quiet", 0) + 1 if needed < seen.have else 0  # decisions in a row; kept between them
    seen.state["quiet"] = quiet
    return max(needed if quiet == 0 or quiet > 15 else seen.have, 16 if on_sale else 2)


if __name__ == "__main__":
    study = load_study("saltmarsh/study.toml")
    scaling = {
        "rule": by_rate,
        "arguments": {"per_replica": 3.0},
        "every": "20s",
        "lag": "20s",
        "ceiling": 24,
    }
    own = Plan(name="own", tier=study.tiers["tidal"], size="small", replicas=2, scaling=scaling)
    trace = study.trace()
    for plan in (study.plans["brisk"], study.plans["planned"], own):
        outcome = replay(trace, study.service, plan, study.objectives, terms=study.terms)
        met = "meets all" if outcome.meets_all else "misses some"
        print(f"{plan.name}: {outcome.bill.month} {study.currency} a month, {outcome.month.availability:.3%} ok, {met}")
    print(
        outcome.decisions.query("ordered > 0")[["time", "measure", "wanted", "ordered", "came_s"]].tail(3).to_string()
    )
