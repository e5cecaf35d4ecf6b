"""What to do about a finding: a clause a kind. `docs/findings.md` has them beside what each finding means."""

from __future__ import annotations

from typing import Final

from libramen.outcome.findings import Finding


def advice(finding: Finding) -> str:
    """What to do about it."""
    return ADVICE[finding.kind]


ADVICE: Final = {
    "slots_full": (
        "more `slots`, if the memory of a replica and what is behind it allow that; else more replicas. Where "
        "the slots wait for another service, look there first."
    ),
    "cpu_full": "more replicas, or a bigger size; for a scaling rule a lower target, or a higher ceiling.",
    "slots_and_cpu_full": "more replicas, or a size with more CPU and slots for it. More slots alone make it slower.",
    "reacted_late": (
        'look at which part of that was long; a higher floor, a `timetable` before a known hour, or `rule = "ahead"`.'
    ),
    "at_the_ceiling": "raise `ceiling`, or choose a bigger size where the tier is the limit.",
    "floor_never_left": "a lower floor, or no rule.",
    "flapping": "`pause_down`, `down_after`, a `dead_band`, or a longer `window`.",
    "never_scaled_down": (
        "look for a `floor` in the timetable, a `pause_down` that is too long, or a measure that does not "
        "fall, such as `pinned` visitors."
    ),
    "blind_measure": '`measure = "waiting"`, `"in_progress"` or `"latency"`.',
    "first_visitor_waited": "a floor of one, if that wait is too long; its price is in the bill.",
    "cold_starts_cost": (
        "order earlier (a lower target, `ahead`, a timetable), start faster, or hold requests meanwhile "
        "(`holds_requests` of the tier, a `backlog`)."
    ),
    "bank_empty": (
        "a size whose CPU is its own, or more replicas of this one; the price per month is not that of the "
        "cores on its label."
    ),
    "out_of_memory": "fewer `slots`, or more memory.",
    "out_of_stock": "a floor high enough to live through that, a second zone, or a tier that is not `interruptible`.",
    "account_full": "ask for more, before the day on which you need it; or lower ceilings elsewhere.",
    "pinned": '`balancer = "least_busy"` if the service does not need them to stay.',
    "edge": "nothing; compare with the plan without it: what it saves in replicas and egress is in the bill.",
    "mixed": "`libramen events` says what it costs when all machines of such a tier are taken back at once.",
    "standby": "`libramen events` says what a crash would have cost without it.",
    "release_skipped": "another strategy, or a higher limit of tier or account.",
    "release_not_over": "look at what holds it up: `batch`, start-up times, orders that fail, an account that is full.",
    "bottleneck": "give it more; replicas of its callers would not help.",
    "connections_exhausted": "a `pool` in the call, or more slots.",
    "pool_too_small": "a bigger pool.",
    "retries_multiply": (
        "fewer `retries`, longer pauses, a longer `timeout`; more capacity helps only until the next time."
    ),
    "queue_grows": 'more workers; `measure = "waiting"` scales them.',
    "workers_idle": "fewer, or a rule whose floor is zero.",
    "callee_down": "a second replica, in a second zone; a pool and a `backlog` bridge seconds.",
}
