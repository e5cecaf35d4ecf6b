"""Libramen: replay a request trace against hosting plans, and know before you pay.

Every public name can be imported from here; each is loaded when it is first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from libramen._version import __version__
from libramen.base.errors import LibramenError, OutputError, ReplayError, StudyError, TraceError, UnitError

if TYPE_CHECKING:
    from libramen.base.delays import Delay
    from libramen.bill.bill import Bill
    from libramen.bill.lines import BillLine
    from libramen.load.unqueue import unqueue
    from libramen.outcome.figures import Figures
    from libramen.outcome.outcome import Outcome
    from libramen.outcome.replay import replay
    from libramen.questions.check import Check, check
    from libramen.questions.compare import Comparison, compare
    from libramen.questions.events import Events, events
    from libramen.questions.headroom import Headroom, headroom
    from libramen.questions.repeats import Repeats, repeat
    from libramen.questions.search import Search, search
    from libramen.rules.faults import Crash, Dependency, Reclaim, Slow, ZoneLoss
    from libramen.rules.rollouts import Canary, Rolling, StopStart, Switch
    from libramen.rules.scaling import Ahead, Custom, Fixed, Observation, OnArrival, Steps, Target
    from libramen.runs.store import Store
    from libramen.study.objectives import Objectives
    from libramen.study.plan import Plan
    from libramen.study.service import Service, Size, Tier
    from libramen.study.study import Study, load_study
    from libramen.trace.make import make_trace
    from libramen.trace.read import read_trace
    from libramen.trace.shape import scaled_in_chunks, shaped
    from libramen.trace.summary import Summary, summarise
    from libramen.trace.trace import Demand, Trace
    from libramen.trace.write import write_trace
    from libramen.trust.backtest import Backtest, backtest
    from libramen.trust.doubt import Doubt, doubt
    from libramen.trust.fit import Fitted, fit

_HOME = {
    "Ahead": "rules.scaling",
    "Backtest": "trust.backtest",
    "Bill": "bill.bill",
    "BillLine": "bill.lines",
    "Check": "questions.check",
    "Canary": "rules.rollouts",
    "Comparison": "questions.compare",
    "Events": "questions.events",
    "Repeats": "questions.repeats",
    "Store": "runs.store",
    "Switch": "rules.rollouts",
    "events": "questions.events",
    "repeat": "questions.repeats",
    "Headroom": "questions.headroom",
    "headroom": "questions.headroom",
    "Search": "questions.search",
    "search": "questions.search",
    "Crash": "rules.faults",
    "Dependency": "rules.faults",
    "Reclaim": "rules.faults",
    "Slow": "rules.faults",
    "ZoneLoss": "rules.faults",
    "Custom": "rules.scaling",
    "Doubt": "trust.doubt",
    "Delay": "base.delays",
    "Demand": "trace.trace",
    "Figures": "outcome.figures",
    "Fitted": "trust.fit",
    "Fixed": "rules.scaling",
    "Objectives": "study.objectives",
    "Observation": "rules.scaling",
    "OnArrival": "rules.scaling",
    "Outcome": "outcome.outcome",
    "Plan": "study.plan",
    "Rolling": "rules.rollouts",
    "Service": "study.service",
    "Size": "study.service",
    "Steps": "rules.scaling",
    "StopStart": "rules.rollouts",
    "Study": "study.study",
    "Summary": "trace.summary",
    "Target": "rules.scaling",
    "Tier": "study.service",
    "Trace": "trace.trace",
    "backtest": "trust.backtest",
    "check": "questions.check",
    "compare": "questions.compare",
    "doubt": "trust.doubt",
    "fit": "trust.fit",
    "load_study": "study.study",
    "make_trace": "trace.make",
    "read_trace": "trace.read",
    "replay": "outcome.replay",
    "scaled_in_chunks": "trace.shape",
    "shaped": "trace.shape",
    "summarise": "trace.summary",
    "unqueue": "load.unqueue",
    "write_trace": "trace.write",
}

__all__ = [
    "Ahead",
    "Backtest",
    "Bill",
    "BillLine",
    "Canary",
    "Check",
    "Comparison",
    "Crash",
    "Custom",
    "Delay",
    "Demand",
    "Dependency",
    "Doubt",
    "Events",
    "Figures",
    "Fitted",
    "Fixed",
    "Headroom",
    "LibramenError",
    "Objectives",
    "Observation",
    "OnArrival",
    "Outcome",
    "OutputError",
    "Plan",
    "Reclaim",
    "Repeats",
    "ReplayError",
    "Rolling",
    "Search",
    "Service",
    "Size",
    "Slow",
    "Steps",
    "StopStart",
    "Store",
    "Study",
    "StudyError",
    "Summary",
    "Switch",
    "Target",
    "Tier",
    "Trace",
    "TraceError",
    "UnitError",
    "ZoneLoss",
    "__version__",
    "backtest",
    "check",
    "compare",
    "doubt",
    "events",
    "fit",
    "headroom",
    "load_study",
    "make_trace",
    "read_trace",
    "repeat",
    "replay",
    "scaled_in_chunks",
    "search",
    "shaped",
    "summarise",
    "unqueue",
    "write_trace",
]


def __getattr__(name: str) -> Any:
    if name not in _HOME:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = getattr(import_module(f"{__name__}.{_HOME[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted(__all__)
