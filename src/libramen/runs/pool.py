"""Many replays on one trace: looked up, made here or wherever an executor makes them, and kept.

The trace goes to a worker once, not with every case: a process that was forked has it already, a thread shares it, the
workers of a cluster get it scattered among them, and any other process maps the file of the cache into its memory.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Collection, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from typing import TYPE_CHECKING, Any, Final, Protocol, Self
from uuid import uuid4

from libramen.base.errors import LibramenError, ReplayError
from libramen.load.cache import keep
from libramen.outcome.figures import Figures
from libramen.runs import entries
from libramen.runs.cases import Case, LocalProcesses
from libramen.runs.memory import bytes_of
from libramen.runs.store import MISSING, Store
from libramen.runs.workers import (
    _client_of,
    _do_there,
    _done,
    _is_of_a_death,
    _packed,
    _scattered,
    _traces,
    _workers_of,
)
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    from types import TracebackType


_LOOK_S: Final = 1.0
_PATIENCE_S: Final = 10.0
"""So long a cluster may be without a worker."""
_TRIES: Final = 4
"""How often a task is sent whose worker has died."""


class Task(Protocol):
    """What is done with a case."""

    def __call__(self, case: Case, trace: Trace) -> Any:
        """Do it: runs in a worker."""

    def look_up(self, store: Store, key: str, case: Case) -> Any:
        """What was kept of it, MISSING: nothing."""

    def keep(self, store: Store, key: str, case: Case, result: Any) -> None:
        """Keep it."""


class Whole:
    """Replays a case to the end: its figures."""

    def __call__(self, case: Case, trace: Trace) -> Figures:
        """Runs in a worker."""
        return case.figures(trace)

    def look_up(self, store: Store, key: str, case: Case) -> Any:
        """The figures, with the prices, the month and the objectives of the case."""
        return store.get(key, lambda document: entries.figures_of(document, case) or MISSING)

    def keep(self, store: Store, key: str, case: Case, result: Figures) -> None:  # noqa: ARG002
        """The figures, and what was used of which the bill is made."""
        store.put(key, entries.document_of(result))


class NotKept(Exception):  # noqa: N818  (it is no error: whoever asks goes on without)
    """Something would have to be replayed, and nothing is to be."""


class Ticket:
    """A task that has been handed in.

    Attributes:
        number: its place among all that were handed in, from 0.
        case: the case.
    """

    def __init__(self, pool: Pool, number: int, case: Case, task: Task) -> None:
        self._pool, self.number, self.case, self.task = pool, number, case, task
        self._done: Any = MISSING
        self._batch: _Batch | None = None
        self._place = 0

    def look_up(self) -> bool:
        """Whether it was kept, and so is done."""
        store, key = self._pool.store, self._pool.key_of(self.case)
        if store is not None and key is not None:
            self._done = self.task.look_up(store, key, self.case)
        return self._done is not MISSING

    def put_in(self, batch: _Batch, place: int) -> None:
        """It is done with others."""
        self._batch, self._place = batch, place

    def done(self, result: Any) -> None:
        """It is done, and kept."""
        self._done = result
        store, key = self._pool.store, self._pool.key_of(self.case)
        if store is not None and key is not None:
            self.task.keep(store, key, self.case, result)

    @property
    def result(self) -> Any:
        """What the task gave, when it is done."""
        if self._done is MISSING:
            assert self._batch is not None
            self.done(self._batch.results()[self._place])
        return self._done

    @property
    def future(self) -> Future[Any] | None:
        """What it is waited for with; None: it is done, or has not been sent yet."""
        return None if self._batch is None or self._done is not MISSING else self._batch.future

    @property
    def is_done(self) -> bool:
        """Whether `result` need not wait."""
        return self._done is not MISSING or (self.future is not None and self.future.done())


class _Batch:
    """Tasks on one load, which a worker makes once for all of them."""

    def __init__(self, pool: Pool, tickets: Sequence[Ticket]) -> None:
        self._pool, self.tickets = pool, tickets
        self.future: Future[Any] | None = None
        self._tries = 0
        self._found: list[Any] | None = None
        for place, ticket in enumerate(tickets):
            ticket.put_in(self, place)
        self.bytes = pool.bytes_of(tickets[0].case)
        self.packed = b""  # what is sent; empty: it is done here
        if pool.executor is not None:
            self.packed = _packed([(ticket.task, ticket.case) for ticket in tickets], pool.is_cluster)

    def begin(self) -> None:
        """Send it, or do it here."""
        if self.packed:
            self._tries += 1
            self.future = self._pool.send(self.packed)
            return
        tasks = [(ticket.task, ticket.case) for ticket in self.tickets]
        for ticket, result in zip(self.tickets, _done(tasks, self._pool.trace), strict=True):
            ticket.done(result)

    def results(self) -> list[Any]:
        """What the tasks gave, when they are done."""
        while self._found is None:
            if self.future is None:
                self._pool.wait_for_room()
                continue
            try:
                self._pool.wait_for([self.future])
                self._found = self.future.result()
            except LibramenError:
                raise
            except Exception as error:
                # A worker that dies takes with it what it was doing, and the trace if it alone had it.
                if not self._pool.may_send_again(error):
                    raise
                if self._tries >= _TRIES:
                    raise ReplayError(f"the cluster: {_TRIES} workers died one after the other of one replay") from None
                self.begin()
        return self._found


class Pool:
    """Where tasks are handed in.

    Args:
        trace: what all of them are about.
        executor: where they are done, from `concurrent.futures` or alike. Default: here, when they are handed in.
        store: where figures are looked up and kept. Default: nowhere.
        memory: what the loads and their replays may take together on this machine [bytes]: what has no room waits, and
            what alone takes more is done alone. Default: no limit.
        known_only: raise `NotKept` where something is not in the store, instead of doing it.
    """

    def __init__(
        self,
        trace: Trace,
        executor: Executor | None = None,
        store: Store | None = None,
        memory: int | None = None,
        *,
        known_only: bool = False,
    ) -> None:
        self.trace, self.executor, self.store, self.memory = trace, executor, store, memory
        self._known_only = known_only
        self._tickets: list[Ticket] = []
        self._waiting: deque[_Batch] = deque()
        self._sent: list[_Batch] = []
        self._keys: dict[int, str | None] = {}
        self._there: Any = None  # how workers know the trace

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for ticket in self._tickets:
            if ticket.future is not None:
                ticket.future.cancel()

    @property
    def is_cluster(self) -> bool:
        """Whether the workers are those of a cluster."""
        return _client_of(self.executor) is not None

    @property
    def _workers(self) -> int:
        """How many of this machine's there are, as far as that is known."""
        return self.executor.workers if isinstance(self.executor, LocalProcesses) else 1

    def key_of(self, case: Case) -> str | None:
        """The key of the replay of a case in the store; None: it is not kept."""
        if self.store is None:
            return None
        if id(case) not in self._keys:  # the tickets keep all cases alive
            self._keys[id(case)] = entries.key_of(case, self.trace.content_key)
        return self._keys[id(case)]

    def bytes_of(self, case: Case) -> int:
        """What the load of a case and its replay take."""
        return int(bytes_of(self.trace, case.replays_of(self.trace)) * (max(1.0, case.scale) if case.keeps else 1.0))

    def hand_in(self, case: Case, task: Task) -> Ticket:
        """A task, which is done from now on."""
        return self.hand_in_all([(case, task)])[0]

    def hand_in_all(self, asked: Sequence[tuple[Case, Task]]) -> list[Ticket]:
        """Tasks, which are done from now on: those on one load together, where no worker has nothing to do for it."""
        tickets = [Ticket(self, len(self._tickets) + n, case, task) for n, (case, task) in enumerate(asked)]
        self._tickets += tickets
        loads: dict[tuple[float, bool, int], list[Ticket]] = {}
        for ticket in tickets:
            if not ticket.look_up():
                if self._known_only:
                    raise NotKept
                case = ticket.case
                # Nothing is made for it, or nobody is short of memory.
                alone = case.scale == 1.0 or self.is_cluster or not case.keeps
                key = (case.scale, case.keeps, -1 - ticket.number if alone else case.seed)
                loads.setdefault(key, []).append(ticket)
        groups = list(loads.values())
        while 0 < len(groups) < self._workers and len(most := max(groups, key=len)) > 1:
            groups.remove(most)
            groups += [most[: len(most) // 2], most[len(most) // 2 :]]
        self._waiting += [_Batch(self, together) for together in groups]
        self._pump()
        return tickets

    def _pump(self) -> None:
        """Send what has room, in the order in which it was handed in."""
        self._sent = [batch for batch in self._sent if batch.future is not None and not batch.future.done()]
        while self._waiting:
            batch = self._waiting[0]
            taken = sum(sent.bytes for sent in self._sent)
            if self._sent and self.memory is not None and not self.is_cluster and taken + batch.bytes > self.memory:
                return
            self._waiting.popleft()
            batch.begin()
            if batch.future is not None:
                self._sent.append(batch)

    def wait_for_room(self) -> None:
        """Until something more has been sent."""
        self.wait_for([batch.future for batch in self._sent if batch.future is not None])
        self._pump()

    def wait_for(self, futures: Collection[Future[Any]]) -> set[Future[Any]]:
        """Until one of some futures is done; returns those that are.

        Raises:
            ReplayError: the cluster has no worker any more, or cannot be reached.
        """
        since_s = time.monotonic()
        while futures:
            done, _ = wait(futures, timeout=_LOOK_S, return_when=FIRST_COMPLETED)
            if done:
                return done
            if not self.is_cluster or _workers_of(_client_of(self.executor)):
                since_s = time.monotonic()
            elif time.monotonic() - since_s > _PATIENCE_S:
                raise ReplayError("the cluster has no worker, or cannot be reached any more; start one, and ask again")
        return set()

    def send(self, packed: bytes) -> Future[Any]:
        """Send tasks and their cases to a worker."""
        assert self.executor is not None
        if self._there is None:
            self._there = self._announce()
        # With a name that no other has, else a cluster might think that it has failed in this before.
        return self.executor.submit(_do_there, packed, self._there, uuid4().hex)

    def may_send_again(self, error: Exception) -> bool:
        """Whether a task that failed so is made up for: on a cluster, where a worker has died."""
        if not self.is_cluster or not _is_of_a_death(error):
            return False
        self._there = None  # perhaps nobody has the trace any more
        _scattered.get(_client_of(self.executor), {}).pop(self.trace.content_key, None)
        return True

    def _announce(self) -> Any:
        """Let the workers know the trace; returns how they will."""
        client = _client_of(self.executor)
        if client is not None:
            there, key = _scattered.setdefault(client, {}), self.trace.content_key
            if key not in there:
                since_s = time.monotonic()
                while not _workers_of(client):  # to none of them nothing can be sent
                    if time.monotonic() - since_s > _PATIENCE_S:
                        raise ReplayError("the cluster has no worker; start one, and ask again")
                    time.sleep(_LOOK_S / 10)
                # Under a name of its own: one that is still being forgotten cannot be sent again at once.
                there[key] = client.scatter(self.trace, broadcast=True, hash=False)
            return there[key]
        key = self.trace.cache_key or self.trace.content_key
        _traces[key] = self.trace  # for threads, and for processes that are forked from now on
        if self.trace.cache_key is None and not isinstance(self.executor, LocalProcesses):
            keep(key, self.trace)
        return key


def run_cases(
    cases: Sequence[Case], pool: Pool, progress: Callable[[str, float], None] = lambda _what, _share: None
) -> Iterator[tuple[int, Figures]]:
    """Replay cases in a pool, and give the figures of each as they come.

    Args:
        cases: what is replayed.
        pool: where, and on which trace.
        progress: called with what is being done and the share of it that is done, from 0 to 1.

    Yields:
        the place of a case in `cases`, and its figures.

    Raises:
        StudyError: a plan cannot be replayed on this trace.
        ReplayError: workers of another machine do not find the trace.
    """
    sent: list[Ticket] = []
    done = 0
    is_here = pool.executor is None
    for number, case in enumerate(cases):
        if is_here:
            progress(case.plan.name, 0.0)
        ticket = pool.hand_in(case, Whole())
        if ticket.is_done:
            done += 1
            progress(case.plan.name if is_here else "plans", 1.0 if is_here else done / len(cases))
            yield number, ticket.result
        else:
            sent.append(ticket)
    for ticket in in_turn(pool, sent):
        done += 1
        progress("plans", done / len(cases))
        yield ticket.number, ticket.result


def in_turn(pool: Pool, tickets: Sequence[Ticket]) -> Iterator[Ticket]:
    """Tickets as they are done."""
    waiting: dict[Future[Any], list[Ticket]] = {}
    for ticket in tickets:
        if ticket.future is None:
            yield ticket
        else:
            waiting.setdefault(ticket.future, []).append(ticket)
    while waiting:
        for future in pool.wait_for(waiting):
            yield from waiting.pop(future)
