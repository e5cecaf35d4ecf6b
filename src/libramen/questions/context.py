"""In what a question about a study is asked: on which trace, with which luck, where replays run, what is kept."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Final, Self, TypedDict

from libramen.base.errors import StudyError
from libramen.base.fields import nearest
from libramen.base.shown import bar_of_notebook
from libramen.runs.cases import Case, workers_for
from libramen.runs.pool import Pool
from libramen.runs.store import Store
from libramen.study.plan import Plan
from libramen.study.study import Study
from libramen.trace.trace import Trace

_PAYS: Final = 1_500_000
"""Requests, of all replays together, for which it pays to start processes: half a second of replays."""


class Reading(TypedDict, total=False):
    """Keywords of every question; see `Context`."""

    seed: int
    cache: bool
    progress: Callable[[str, float], None] | None


class Asking(Reading, total=False):
    """Keywords of every question that replays a trace many times; see `Context`."""

    trace: Trace | None
    executor: Executor | None
    workers: int | None
    store: Store | None
    known_only: bool


@dataclass(frozen=True)
class Context:
    """What all questions share, with the same defaults in Python and on the command line.

    Attributes:
        study: from `load_study`.
        trace: what is replayed. Default: the study's own, read or found in the cache.
        seed: random seed, the same for every plan.
        executor: where replays run, from `concurrent.futures` or alike. Default: on this machine.
        workers: processes among which replays are divided, without an executor; the result is the same to the byte.
            Default: as many as there are cores, where that pays and they can be forked. 1: here, one after the other.
        cache: whether a trace that was read before may be taken from the user's cache directory.
        store: where figures are looked up and kept. Default: nowhere; the command line keeps them in the cache
            directory, where it can be told not to.
        known_only: raise `runs.pool.NotKept` where something is not in the store, instead of replaying it.
        progress: called with what is being done and the share of it that is done, from 0 to 1. Default: a bar beneath
            the cell in a notebook, elsewhere nothing.
    """

    study: Study
    trace: Trace | None = None
    seed: int = 0
    executor: Executor | None = None
    workers: int | None = None
    cache: bool = True
    store: Store | None = None
    progress: Callable[[str, float], None] | None = None
    known_only: bool = False

    @classmethod
    def of(cls, study: Study, asked: Reading, kind: type[Reading] = Asking) -> Self:
        """The context of a question that was asked with some keywords.

        Args:
            study: from `load_study`.
            asked: the keywords.
            kind: which there are.

        Raises:
            TypeError: there is no such keyword.
        """
        known = list(kind.__annotations__)
        for key in asked:
            if key not in known:
                raise TypeError(f"unknown keyword {key!r}; {nearest(key, known)}")
        return cls(study, **asked)

    def report(self, what: str, share: float) -> None:
        """Tell what is being done, and the share of it that is done."""
        progress = self._bar if self.progress is None else self.progress
        if progress is not None:
            progress(what, share)

    @cached_property
    def _bar(self) -> Callable[[str, float], None] | None:
        found: Callable[[str, float], None] | None = bar_of_notebook()
        return found

    @cached_property
    def load(self) -> Trace:
        """The trace, read when it is first asked for.

        Raises:
            TraceError: it cannot be read.
        """
        if self.trace is not None:
            return self.trace
        told = "reading the trace"
        return self.study.trace(seed=self.seed, progress=lambda share: self.report(told, share), cache=self.cache)

    def plan(self, plan: str | Plan) -> Plan:
        """A plan of the study by its name, or a plan; its rules may run.

        Raises:
            StudyError: there is no such plan, or a rule of it may not run.
        """
        if not isinstance(plan, str | Plan):
            raise StudyError(f"plans: found {plan!r}; allowed: names of plans of the study, or plans")
        chosen = self.study.plan(plan) if isinstance(plan, str) else plan
        for hosting in chosen.services.values():
            try:
                hosting.scaling.may_run()
            except StudyError as error:
                raise StudyError(f"plan {chosen.name!r}: {error}") from None
        return chosen

    def cases(self, plans: Iterable[str | Plan] | None) -> list[Case]:
        """One replay for each of some plans, names of the study's or plans; None: all of the study.

        Raises:
            StudyError: there is no such plan, two have one name, or a rule may not run.
        """
        chosen = [self.plan(plan) for plan in (self.study.plans if plans is None else plans)]
        names = [plan.name for plan in chosen]
        for name in names:
            if names.count(name) > 1:
                raise StudyError(
                    f"plans: two are called {name!r}; allowed: names that differ, as plan.replace(name=...)"
                )
        if not chosen:
            raise StudyError("plans: found none; allowed: one or more")
        return [Case.of(self.study, plan, self.seed) for plan in chosen]

    @contextmanager
    def pool(self, tasks: int, memory: int | None = None, *, at_once: int | None = None) -> Iterator[Pool]:
        """Where replays are handed in.

        Args:
            tasks: how many there are, about.
            memory: what traces and replays may take together [bytes]. Default: no limit.
            at_once: how many run at once at most. Default: all.
        """
        workers = self.workers
        if workers is None and len(self.load) * tasks < _PAYS:
            workers = 1
        with (
            workers_for(tasks if at_once is None else at_once, self.executor, workers) as there,
            Pool(self.load, there, self.store, memory, known_only=self.known_only) as pool,
        ):
            yield pool


def split(given: dict[str, Any]) -> tuple[Asking, dict[str, Any]]:
    """Keywords of a context, and the others.

    Example:
        >>> split({"seed": 3, "replicas": [2, 3]})
        ({'seed': 3}, {'replicas': [2, 3]})
    """
    own = Asking.__annotations__.keys()
    asked: Any = {key: value for key, value in given.items() if key in own}
    return asked, {key: value for key, value in given.items() if key not in own}
