"""What workers do, and how tasks, and the trace, get to them."""

from __future__ import annotations

import pickle
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any
from weakref import WeakKeyDictionary

from libramen.base.errors import ReplayError
from libramen.load.cache import find
from libramen.runs.cases import Case
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    from libramen.runs.pool import Task


_scattered: WeakKeyDictionary[Any, dict[str, Any]] = WeakKeyDictionary()
"""Of each client of a cluster the traces that its workers have, by their key in the cache."""


def _client_of(executor: Any) -> Any:
    """The client of a cluster to which an executor belongs, None: it belongs to none."""
    if type(executor).__module__.partition(".")[0] != "distributed":
        return None
    return getattr(executor, "_client", None)


def _workers_of(client: Any) -> int:
    """How many workers a cluster has; 0 also where it cannot be reached."""
    if client.status != "running":
        return 0
    try:
        return len(client.scheduler_info()["workers"])
    except Exception:  # noqa: BLE001  (it is closing)
        return 0


def _is_of_a_death(error: Exception) -> bool:
    names = {kind.__name__ for kind in type(error).__mro__}
    return bool(names & {"KilledWorker", "CancelledError", "FutureCancelledError", "CommClosedError", "LostTaskError"})


_traces: dict[str, Trace] = {}
"""The traces that this process has, by their key in the cache."""


def _packed(tasks: Sequence[tuple[Task, Case]], is_cluster: bool) -> bytes:
    """Tasks and their cases as they are sent; empty: a case has a rule that cannot be.

    A cluster looks at all that it is given, which for objects takes longer than many a replay, for bytes no time.
    Its workers know nothing of the caller's script, so a rule that is in there goes with the case.
    """
    dumps: Callable[[Any], bytes] = pickle.dumps
    if is_cluster:
        import cloudpickle  # type: ignore[import-untyped]

        dumps = cloudpickle.dumps
    try:
        return dumps(tasks)
    except (pickle.PicklingError, AttributeError, TypeError):
        return b""


def _done(tasks: Sequence[tuple[Task, Case]], trace: Trace) -> list[Any]:
    """What some tasks on one load give; it is made once."""
    first = tasks[0][1]
    if not first.keeps:  # each replay makes it as it goes
        return [task(case, trace) for task, case in tasks]
    load = first.load(trace)
    return [task(replace(case, scale=1.0), load) for task, case in tasks]


def _do_there(packed: bytes, there: Any, _name: str) -> list[Any]:
    """Do tasks with their cases: runs in a worker. `there`: the trace, or its key."""
    tasks = pickle.loads(packed)  # noqa: S301  (packed by whoever sends it)
    if not isinstance(there, str):
        return _done(tasks, there)
    trace = _traces.get(there)
    if trace is None:
        trace = find(there)
        if trace is None:
            raise ReplayError("a worker cannot find the trace in the cache; allowed: workers that share its directory")
        _traces.clear()  # a worker works on one trace at a time
        _traces[there] = trace
    return _done(tasks, trace)
