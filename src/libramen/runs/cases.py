"""`run_cases`: replays, here or wherever an executor runs them; what comes back is figures.

The trace goes to a worker once, not with every case: a process that was forked has it already, a thread shares it, and
any other maps the file of the cache into its memory.
"""

from __future__ import annotations

import multiprocessing
import os
import pickle
import signal
import sys
from concurrent.futures import Executor, ProcessPoolExecutor, as_completed
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeVar

from libramen.errors import ReplayError
from libramen.outcome.replay import replay

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from types import TracebackType

    from libramen.outcome.figures import Figures
    from libramen.outcome.outcome import Outcome
    from libramen.study.objectives import Objectives
    from libramen.study.plan import JointPlan, Plan
    from libramen.study.service import Service
    from libramen.trace.trace import Trace


@dataclass(frozen=True)
class Case:
    """One replay, all but its trace: small enough to be sent."""

    services: dict[str, Service]
    plan: Plan | JointPlan
    objectives: Objectives
    seed: int = 0
    settle_s: float = 0.0
    currency: str = "EUR"

    def replay(self, trace: Trace, progress: Callable[[float], None] | None = None) -> Outcome:
        """Replay it here, with all that an outcome has."""
        return replay(
            trace,
            self.services,
            self.plan,
            self.objectives,
            self.seed,
            settle=self.settle_s,
            currency=self.currency,
            progress=progress,
        )

    @property
    def can_be_sent(self) -> bool:
        """Whether it can go to another process: not if its rule is a function made on the spot."""
        try:
            pickle.dumps(self)
        except (pickle.PicklingError, AttributeError, TypeError):
            return False
        return True


_Result = TypeVar("_Result")

_known: dict[str, Trace] = {}
"""The traces that this process has, by their key in the cache."""


def _figures(case: Case, trace: Trace) -> Figures:
    return case.replay(trace).figures(routes=False)


def _run_there(task: Callable[[Case, Trace], Any], case: Case, key: str) -> Any:
    """Do a task with a case on the trace of that key: runs in a worker."""
    trace = _known.get(key)
    if trace is None:
        from libramen.trace.cache import find

        trace = find(key)
        if trace is None:
            raise ReplayError("a worker cannot find the trace in the cache; allowed: workers that share its directory")
        _known.clear()  # a worker works on one trace at a time
        _known[key] = trace
    return task(case, trace)


def run_cases(
    cases: Sequence[Case],
    trace: Trace,
    executor: Executor | None = None,
    *,
    progress: Callable[[str, float], None] = lambda _what, _share: None,
) -> Iterator[tuple[int, Figures]]:
    """Replay cases on one trace, and give the figures of each as they come.

    Args:
        cases: what is replayed.
        trace: what all of them are replayed on.
        executor: where they run, from `concurrent.futures` or alike. Default: here, one after the other.
        progress: called with what is being done and the share of it that is done, from 0 to 1.

    Yields:
        the place of a case in `cases`, and its figures.

    Raises:
        StudyError: a plan cannot be replayed on this trace.
        ReplayError: workers of another machine do not find the trace.
    """
    if executor is None or not all(case.can_be_sent for case in cases):
        for number, case in enumerate(cases):
            name = case.plan.name
            outcome = case.replay(trace, lambda share, name=name: progress(name, share))  # type: ignore[misc]
            yield number, outcome.figures(routes=False)
        return
    for done, (number, figures) in enumerate(run_tasks(_figures, cases, trace, executor), start=1):
        progress("plans", done / len(cases))
        yield number, figures


def run_tasks(
    task: Callable[[Case, Trace], _Result], cases: Sequence[Case], trace: Trace, executor: Executor | None = None
) -> Iterator[tuple[int, _Result]]:
    """Do one thing with each of some cases, here or wherever an executor runs it.

    Args:
        task: what is done with a case and the trace; a function of a module, so that it can be sent.
        cases: what is done with.
        trace: what all of them are about.
        executor: where, from `concurrent.futures` or alike. Default: here, one after the other.

    Yields:
        the place of a case in `cases`, and what the task gave.
    """
    if executor is None or not all(case.can_be_sent for case in cases):
        for number, case in enumerate(cases):
            yield number, task(case, trace)
        return
    key = _announce(trace, executor)
    futures = {executor.submit(_run_there, task, case, key): number for number, case in enumerate(cases)}
    try:
        for future in as_completed(futures):
            yield futures[future], future.result()
    finally:
        for future in futures:
            future.cancel()


def _announce(trace: Trace, executor: Executor) -> str:
    """Let the workers know the trace; returns the key by which they will."""
    from libramen.trace.cache import keep, key_of_arrays

    key = trace.source.cache_key or key_of_arrays(trace)
    _known[key] = trace  # for threads, and for processes that are forked from now on
    if trace.source.cache_key is None and not isinstance(executor, LocalProcesses):
        keep(key, trace)
    return key


class LocalProcesses(ProcessPoolExecutor):
    """Processes on this machine. Where they are forked they share the trace and all that is loaded."""

    def __init__(self, workers: int) -> None:
        # Elsewhere than on Linux a process starts from nothing, in about a second.
        forks = sys.platform == "linux"
        if forks:
            from libramen.engine.kernel import state  # noqa: F401  (loaded once, here, and shared)
            from libramen.outcome import counts  # noqa: F401
        super().__init__(workers, multiprocessing.get_context("fork" if forks else "spawn"), initializer=_be_quiet)
        self._forks = forks

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> bool | None:
        """Whoever leaves early does not wait for what is still running."""
        if error is not None:
            for process in list((self._processes or {}).values()):
                process.terminate()
        return super().__exit__(kind, error, trace)


def _be_quiet() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C ends the workers through their parent
    signal.signal(signal.SIGTERM, signal.SIG_DFL)


def cores() -> int:
    """Cores that this process may use."""
    return len(os.sched_getaffinity(0)) if sys.platform == "linux" else os.cpu_count() or 1


@contextmanager
def workers_for(tasks: int, executor: Executor | None, workers: int | None) -> Iterator[Executor | None]:
    """Where some tasks run: on the executor that was given, on as many processes as pay, or here (None).

    Args:
        tasks: how many run at once at most.
        executor: what the caller was given.
        workers: processes, without an executor; None: as many as there are cores.
    """
    n = min(cores() if workers is None else workers, tasks)
    if executor is not None or n <= 1:
        yield executor
    else:
        with LocalProcesses(n) as processes:
            yield processes
