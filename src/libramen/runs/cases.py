"""A case, which is one replay to be made, and the processes of this machine that make replays."""

from __future__ import annotations

import multiprocessing
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final

from libramen.outcome.figures import Figures
from libramen.outcome.month import may_happen_once, singles_of
from libramen.outcome.outcome import Outcome
from libramen.outcome.replay import replay_system
from libramen.study.objectives import Objectives
from libramen.study.plan import Plan
from libramen.study.study import Study
from libramen.study.system import System
from libramen.study.terms import Terms
from libramen.trace.shape import scaled_in_chunks
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    from types import TracebackType


_LOOK_S: Final = 0.5


@dataclass(frozen=True)
class Case:
    """One replay, all but its trace: small enough to be sent.

    Attributes:
        system: the services, what they run on, and who asks whom.
        objectives: what is wanted.
        scale: the load as a multiple of the trace's, made as the last step of its shaping.
        keeps: whether what becomes of each request is kept; else the load is made some stretches at a time, and
            percentiles are counted, within 0.5 %.
    """

    system: System
    objectives: Objectives
    seed: int = 0
    settle_s: float = 0.0
    terms: Terms = field(default_factory=Terms)
    scale: float = 1.0
    keeps: bool = True

    @classmethod
    def of(cls, study: Study, plan: Plan, seed: int = 0, *, scale: float = 1.0) -> Case:
        """The replay of a plan with all else as a study says."""
        return cls(study.system(plan), study.objectives, seed, study.trace_table.settle, study.terms, scale)

    @property
    def plan(self) -> Plan:
        """What is bought."""
        return self.system.plan

    def replays_of(self, trace: Trace) -> int:
        """How many replays a month is made of: two, where single events happen once."""
        once = self.terms.month.has_events_once and may_happen_once(trace.span_s)
        return 2 if once and singles_of(self.system, set()) else 1

    def load(self, trace: Trace) -> Trace:
        """The trace, scaled."""
        if self.scale == 1.0:
            return trace
        from libramen.trace.steps import OF_A_LOAD, Scale

        return Scale(scale=self.scale).apply(trace, self.seed, number=OF_A_LOAD)

    def replay(self, trace: Trace, progress: Callable[[float], None] | None = None, **how: Any) -> Outcome:
        """Replay it here, with all that an outcome has; `how`: others of `replay_system`."""
        whole = self.keeps or self.scale == 1.0
        return replay_system(
            self.load(trace) if whole else scaled_in_chunks(trace, self.scale, seed=self.seed),
            self.system,
            self.objectives,
            self.seed,
            settle=self.settle_s,
            terms=self.terms,
            keep_requests=self.keeps,
            span_s=None if whole else trace.span_s,
            progress=progress,
            **how,
        )

    def figures(self, trace: Trace) -> Figures:
        """Replay it here: all that is said of it in comparisons."""
        return self.replay(trace).figures(routes=False)


class LocalProcesses(Executor):
    """Processes on this machine, started with the first task. Where they are forked they share all that is loaded."""

    def __init__(self, workers: int) -> None:
        self.workers = workers
        self._processes: ProcessPoolExecutor | None = None

    def submit(self, function: Callable[..., Any], /, *arguments: Any, **named: Any) -> Future[Any]:
        """As of any executor."""
        if self._processes is None:
            if forks():
                from libramen.engine.kernel import state  # noqa: F401  (loaded once, here, and shared)
                from libramen.outcome import counts  # noqa: F401
            self._processes = ProcessPoolExecutor(
                self.workers,
                multiprocessing.get_context("fork" if forks() else "spawn"),
                initializer=_begin,
                initargs=(os.getpid(),),
            )
        return self._processes.submit(function, *arguments, **named)

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """As of any executor."""
        if self._processes is not None:
            self._processes.shutdown(wait, cancel_futures=cancel_futures)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> bool | None:
        """Whoever leaves early does not wait for what is still running."""
        if error is not None and self._processes is not None:
            for process in list((self._processes._processes or {}).values()):
                process.terminate()
        return super().__exit__(kind, error, trace)


def _begin(parent: int) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C ends the workers through their parent
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()


def _end_with(parent: int) -> None:
    """End when the parent has: one that was killed could not say so, and a worker would wait for work for ever."""
    while os.getppid() == parent:
        time.sleep(_LOOK_S)
    os._exit(1)


def forks() -> bool:
    """Whether processes are forked; elsewhere than on Linux they start from nothing, in about a second."""
    return sys.platform == "linux"


def cores() -> int:
    """Cores that this process may use."""
    return len(os.sched_getaffinity(0)) if sys.platform == "linux" else os.cpu_count() or 1


@contextmanager
def workers_for(tasks: int, executor: Executor | None, workers: int | None) -> Iterator[Executor | None]:
    """Where some tasks run: on the executor that was given, on as many processes as pay, or here (None).

    Args:
        tasks: how many run at once at most.
        executor: what the caller was given.
        workers: processes, without an executor; None: as many as there are cores, where they are forked: a process
            that starts from nothing runs the user's script again.
    """
    n = min((cores() if forks() else 1) if workers is None else workers, tasks)
    if executor is not None or n <= 1:
        yield executor
    else:
        with LocalProcesses(n) as processes:
            yield processes
