"""The engine against a little simulator of its own: every request of random fleets with deaths, checks and notices."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from builders import make_plan, make_tier
from libramen import Service, Trace, replay
from little import LittleSimulator


def quarters(most: float) -> Any:
    return st.integers(0, int(4 * most)).map(lambda k: k / 4)


@st.composite
def faults(draw: st.DrawFn) -> dict[str, Any]:
    fault = {"at": draw(quarters(10)), "replica": draw(st.sampled_from([None, 1, 2, 3, 4, 5]))}
    if draw(st.integers(0, 2)):
        return fault | {"kind": "crash", "detect": draw(st.sampled_from([None, None, 0, 0.5, 2]))}
    return fault | {"kind": "reclaim", "notice": draw(st.sampled_from([0, 0.5, 1, 2, 4]))}


@st.composite
def cases(draw: st.DrawFn) -> dict[str, Any]:
    at = sorted(draw(st.lists(quarters(12), min_size=3, max_size=40)))
    health = {
        "every": draw(st.sampled_from([0.5, 1, 2])),
        "after": draw(st.integers(1, 3)),
        "timeout": draw(st.sampled_from([0, 0.25, 1.5])),
        "first": draw(st.integers(0, 2)),
    }
    case: dict[str, Any] = {
        "at": at,
        "wait": draw(st.lists(quarters(4).map(lambda s: s + 0.25), min_size=len(at), max_size=len(at))),
        "n": draw(st.integers(1, 4)),
        "slots": draw(st.integers(1, 3)),
        "backlog": draw(st.sampled_from([None, 0, 1, 2])),
        "holds": draw(st.booleans()),
        "queue_limit": draw(st.sampled_from([None, None, 2])),
        "balancer": draw(st.sampled_from(["least_busy", "least_busy", "round_robin"])),
        "detect": draw(st.sampled_from([0, 0.5, 1, 3])),
        "health": draw(st.sampled_from([None, health])),
        "start": draw(quarters(2)),
        "provision": draw(quarters(3)),
        "restarts": draw(st.sampled_from(["at_once", "when_found"])),
        "on_notice": draw(st.sampled_from(["replace", "drain"])),
        "drain": draw(st.sampled_from([None, None, 0, 0.5, 1, 3])),
        "faults": draw(st.lists(faults(), max_size=4)),
    }
    if case["health"]:  # a fault's own detection beside checks is not what this is about
        case["faults"] = [fault | {"detect": None} if fault["kind"] == "crash" else fault for fault in case["faults"]]
    return case


@settings(max_examples=max(60, settings().max_examples))
@given(cases())
def test_every_request_ends_as_it_does_there(case: dict[str, Any]) -> None:
    found = {"health": case["health"]} if case["health"] else {"detect": case["detect"]}
    tier = make_tier(
        provision=case["provision"], restarts=case["restarts"], interruptible=True, on_notice=case["on_notice"],
        holds_requests=case["holds"], queue_limit=case["queue_limit"], **found,
    )  # fmt: skip
    plan = make_plan(tier, replicas=case["n"], balancer=case["balancer"], faults=case["faults"])
    service = Service(slots=case["slots"], backlog=case["backlog"], start=case["start"], drain=case["drain"])
    trace = Trace.from_arrays(at_s=case["at"], cpu_s=np.zeros(len(case["at"])), wait_s=case["wait"], span_s=30)
    outcome = replay(trace, service, plan)
    frame = outcome.requests
    for request, (ending, latency_s) in LittleSimulator(case).run().items():
        assert frame["ending"][request] == ending
        assert frame["latency_s"][request] == pytest.approx(latency_s, abs=1e-9)
