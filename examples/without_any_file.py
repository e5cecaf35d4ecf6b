"""Build a trace and plans in Python: is one fast server better than two slow ones? (It is.) And with a database?"""

import numpy as np

from libramen import Objectives, Plan, Service, Tier, Trace, replay

rng = np.random.default_rng(1)
n = 200_000
trace = Trace.from_arrays(
    at_s=np.cumsum(rng.exponential(1 / 14, n)),  # 14 requests a second
    cpu_s=rng.exponential(0.1, n),  # 0.1 core-seconds each: 1.4 cores busy
)
service = Service(slots=1, backlog=1000, timeout="30s")
tier = Tier(
    name="quay",
    billing="per_hour",
    sizes={"slow": {"cores": 1, "per_hour": "0.02"}, "fast": {"cores": 1, "speed": 2, "per_hour": "0.05"}},
)

for size, replicas in (("slow", 2), ("fast", 1)):
    plan = Plan(name=f"{replicas} x {size}", tier=tier, size=size, replicas=replicas)
    outcome = replay(trace, service, plan, Objectives(p95="1s", month=40))
    print(f"{plan.name}: mean {outcome.latency_s['mean']:.3f} s, p95 {outcome.latency_s['p95']:.3f} s")
    for objective in outcome.objectives:
        print(f"  {objective.name}: wanted {objective.wanted}, got {objective.got:.4g}, met: {objective.met}")

# One server of speed 2 is M/M/1 with mean work 0.05 s: mean latency 0.05 / (1 - 0.7) = 0.167 s.

# Now each request asks a database twice, over one connection from each of two replicas or over eight.
for pool in (1, 8):
    web = Service(slots=20, calls=[{"to": "database", "times": 2, "cpu": "10ms", "wait": "30ms", "pool": pool}])
    database = Service(slots=50)
    plans = {"web": Plan(tier=tier, size="slow", replicas=2), "database": Plan(tier=tier, size="fast")}
    outcome = replay(trace, {"web": web, "database": database}, plans)
    connecting = outcome.services["web"].time_s["connecting"] / outcome.endings["ok"]
    print(
        f"pool of {pool}: mean {outcome.latency_s['mean']:.3f} s, of which {connecting:.3f} s waiting for a connection"
    )
    print(f"  database: {outcome.services['database'].utilisation:.0%} of its CPU in use")
