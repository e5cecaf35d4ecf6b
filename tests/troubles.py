"""Hypothesis strategies: releases of every strategy, faults of every kind, tiers on which things go wrong."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from hypothesis import strategies as st

ZONES = ["east", "west"]
_versions = st.fixed_dictionaries(
    {},
    optional={
        "cpu_factor": st.sampled_from([0.5, 1.5, 2]),
        "memory_factor": st.sampled_from([0.5, 1.5]),
        "error_rate": st.sampled_from([0.25, 1.0]),
        "start": st.sampled_from([0, 0.5, 3]),
        "crashes_after": st.sampled_from([0.5, 2]),
        "build": st.sampled_from([0.5, 2]),
    },
)
_judged = st.fixed_dictionaries(
    {
        "rollback_above": st.sampled_from([None, 0, 0.25, 0.5]),
        "rollback_slower": st.sampled_from([None, None, 1, 1.5]),
        "watch": st.sampled_from([0.5, 2, 10]),
        "judge_every": st.sampled_from([0.25, 0.75]),
        "judge_least": st.integers(1, 4),
        "keep_judging": st.sampled_from([None, 0, 0.5, 4]),
    }
)


@st.composite
def rollouts(
    draw: st.DrawFn,
    span_s: float,
    n: int,
    *,
    fixed: bool,
    strategies: Sequence[str] = ("stop_start", "rolling", "switch", "canary"),
) -> dict[str, Any]:
    """One release of a fleet that starts with n; `fixed`: no rule changes that."""
    release: dict[str, Any] = {"at": draw(st.sampled_from([0, 0.25, span_s / 4, span_s / 2]))}
    if draw(st.booleans()):
        release |= draw(_versions)
    if draw(st.booleans()):
        release |= draw(_judged)
    strategy = draw(st.sampled_from(strategies))
    release["strategy"] = strategy
    if strategy == "switch":
        return release | {"keep_old": draw(st.sampled_from([0, 0.5, 3]))}
    if strategy == "canary":
        step = st.fixed_dictionaries(
            {"share": st.sampled_from([0.125, 0.3, 0.5, 1]), "hold": st.sampled_from([0, 0.5, 2])}
        )
        return release | {"steps": draw(st.lists(step, min_size=1, max_size=3))}
    if strategy == "handover":
        return release
    release["in_place"] = draw(st.booleans())
    if strategy == "rolling":
        spare = draw(st.integers(0, 2))
        most_kept = n - 1 if spare == 0 and fixed and n else n
        release |= {"batch": draw(st.integers(1, 3)), "spare": spare, "keep": draw(st.integers(0, max(0, most_kept)))}
    return release


@st.composite
def faults(draw: st.DrawFn, span_s: float, *, interruptible: bool) -> dict[str, Any]:
    """One fault, at a time or at random."""
    kinds = ["crash", "crash", "zone_loss", "dependency", "slow", "no_stock", *(["reclaim"] if interruptible else [])]
    fault: dict[str, Any] = {"kind": draw(st.sampled_from(kinds))}
    kind = fault["kind"]
    if draw(st.integers(0, 3)) == 0:
        fault["every_about"] = draw(st.sampled_from([1, 4, 20]))
    else:
        fault["at"] = draw(st.sampled_from([0, 0.25, 0.375, span_s / 4, span_s / 2, 0.75 * span_s]))
    if kind in {"crash", "zone_loss"}:
        fault["detect"] = draw(st.sampled_from([None, 0, 0.25, 2]))
    if kind in {"crash", "reclaim", "slow"}:
        fault["replica"] = draw(st.sampled_from([None, 1, 2, 3, "any"]))
    if kind == "reclaim":
        fault["notice"] = draw(st.sampled_from([None, 0, 1]))
        if fault["replica"] is None:
            fault["share"] = draw(st.sampled_from([None, 0.5, 1]))
    if kind == "zone_loss":
        fault |= {"zone": draw(st.sampled_from(ZONES)), "lasts": draw(st.sampled_from([None, 0.5, 3]))}
    if kind in {"dependency", "slow"}:
        fault |= {"lasts": draw(st.sampled_from([None, 0.5, 3])), "slower": draw(st.sampled_from([1, 2.5]))}
    if kind == "no_stock":
        fault |= {"lasts": draw(st.sampled_from([None, 0.5, 3])), "zone": draw(st.sampled_from([None, *ZONES]))}
    if kind == "dependency":
        fault["errors"] = draw(st.sampled_from([0, 0.25, 1]))
    return fault


@st.composite
def tiers(draw: st.DrawFn) -> dict[str, Any]:
    """Keys of a tier: zones, checks of health, machines that are taken back, orders that fail."""
    keys: dict[str, Any] = {"zones": ZONES, "restarts": draw(st.sampled_from(["at_once", "at_once", "when_found"]))}
    if draw(st.booleans()):
        keys["health"] = {
            "every": draw(st.sampled_from([0.5, 2])),
            "after": draw(st.integers(1, 3)),
            "timeout": draw(st.sampled_from([0, 0.25, 1.5])),
            "first": draw(st.integers(0, 2)),
        }
    else:
        keys["detect"] = draw(st.sampled_from([0, 0, 1, 2.5]))
    if draw(st.booleans()):
        keys |= {"interruptible": True, "notice": draw(st.sampled_from([0, 0.5, 2]))}
        keys["on_notice"] = draw(st.sampled_from(["replace", "replace", "drain"]))
        keys |= {"reclaimed_every": draw(st.sampled_from([2, 10]))} if draw(st.booleans()) else {}
    if draw(st.integers(0, 2)) == 0:
        keys |= {"order_fails": draw(st.sampled_from([0.25, 0.75])), "order_again": draw(st.sampled_from([0.5, 2]))}
    return keys
