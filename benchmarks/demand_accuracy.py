"""How well `demand = "quiet"` finds work that is known, from latencies that a queue has lengthened.

    python benchmarks/demand_accuracy.py

A day of log-normal work (mean 120 ms) is replayed on one replica of two cores that its requests share; the estimate
sees the latencies only. The load is such that the busiest hour uses 30 %, 60 % or 80 % of the cores, with quiet
nights; and, as the hard case, 80 % all day long, where no minute is quiet.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from libramen import Plan, Service, Tier, Trace, make_trace, replay
from libramen.trace.demand import quiet_work

MEAN_S, CORES = 0.120, 2
PEAK = 1.66  # busiest hour of the daily profile, over its mean


def row(name: str, profile: Literal["constant", "daily"], utilisation: float, span: str = "1d") -> str:
    rate = utilisation * CORES / MEAN_S / (PEAK if profile == "daily" else 1.0)
    made = make_trace(
        span=span, rate=rate, profile=profile, mean=MEAN_S, work="log-normal", spread=0.6, cpu_share=1.0, seed=11
    )
    tier = Tier(billing="per_hour", sizes={"s": {"cores": CORES, "per_hour": 0}})
    outcome = replay(made, Service(slots=500), Plan(tier=tier, size="s", replicas=1))
    assert outcome.run.results is not None
    observed, true = outcome.run.results.latency_s, made.cpu_s
    log = Trace.from_arrays(at_s=made.at_s, cpu_s=np.zeros(len(made)), latency_s=observed, span_s=made.span_s)
    quiet = observed.copy()
    quiet_work(log, quiet)
    ratios = [observed.mean() / true.mean(), quiet.mean() / true.mean()]
    ratios += [np.quantile(values, 0.95) / np.quantile(true, 0.95) for values in (observed, quiet)]
    return f"| {name} | " + " | ".join(f"{ratio:.2f}" for ratio in ratios) + " |"


def main() -> None:
    print("| load | observed mean | quiet mean | observed p95 | quiet p95 |")
    print("|---|---|---|---|---|")
    for utilisation in (0.3, 0.6, 0.8):
        print(row(f"{utilisation:.0%} in the busiest hour", "daily", utilisation))
    print(row("80% all day", "constant", 0.8))
    print("each over its true value: 1.00 is right")


if __name__ == "__main__":
    main()
