"""Many replays on one trace: looked up, made here or wherever an executor makes them, and kept.

The trace goes to a worker once, not with every case: a process that was forked has it already, a thread shares it, the
workers of a cluster get it scattered among them, and any other process maps the file of the cache into its memory.
"""

from __future__ import annotations

import pickle
from concurrent.futures import Future, as_completed
from functools import cached_property
from typing import TYPE_CHECKING, Any, Final, Protocol, Self
from uuid import uuid4
from weakref import WeakKeyDictionary

from libramen.errors import LibramenError, ReplayError
from libramen.runs import entries
from libramen.runs.cases import Case, LocalProcesses
from libramen.runs.store import MISSING
from libramen.trace.cache import find, keep, key_of_arrays

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from concurrent.futures import Executor
    from types import TracebackType

    from libramen.outcome.figures import Figures
    from libramen.runs.store import Store
    from libramen.trace.trace import Trace

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
        """The figures, with the prices and objectives of the case."""
        document = store.get(key)
        if document is MISSING:
            return MISSING
        try:
            return entries.figures_of(document, case)
        except (KeyError, ValueError, TypeError, AttributeError):  # it is not ours
            return MISSING

    def keep(self, store: Store, key: str, case: Case, result: Figures) -> None:  # noqa: ARG002
        """The figures, and what was used of which the bill is made."""
        store.put(key, entries.document_of(result))


class Ticket:
    """A task that has been handed in.

    Attributes:
        number: its place among all that were handed in, from 0.
        case: the case.
    """

    def __init__(self, pool: Pool, number: int, case: Case, task: Task) -> None:
        self._pool, self.number, self.case, self._task = pool, number, case, task
        self._done: Any = MISSING
        self.future: Future[Any] | None = None
        self._tries = 0
        self._packed = b""  # what is sent; empty: it is done here

    def begin(self) -> None:
        """Look it up, do it here, or send it."""
        pool, key = self._pool, self._pool.key_of(self.case)
        if pool.store is not None and key is not None:
            self._done = self._task.look_up(pool.store, key, self.case)
            if self._done is not MISSING:
                return
        if pool.executor is not None:
            self._packed = _packed(self._task, self.case, pool.is_cluster)
        if self._packed:
            self._send()
        else:
            self._keep(self._task(self.case, pool.trace))

    def _send(self) -> None:
        self._tries += 1
        self.future = self._pool.send(self._packed)

    @property
    def result(self) -> Any:
        """What the task gave, when it is done."""
        while self._done is MISSING:
            assert self.future is not None
            try:
                found = self.future.result()
            except LibramenError:
                raise
            except Exception as error:
                # A worker that dies takes with it what it was doing, and the trace if it alone had it.
                if self._tries >= _TRIES or not self._pool.may_send_again(error):
                    raise
                self._send()
                continue
            self._keep(found)
        return self._done

    def _keep(self, result: Any) -> None:
        self._done = result
        key = self._pool.key_of(self.case)
        if self._pool.store is not None and key is not None:
            self._task.keep(self._pool.store, key, self.case, result)

    @property
    def is_done(self) -> bool:
        """Whether `result` need not wait."""
        return self._done is not MISSING or (self.future is not None and self.future.done())


class Pool:
    """Where tasks are handed in.

    Args:
        trace: what all of them are about.
        executor: where they are done, from `concurrent.futures` or alike. Default: here, when they are handed in.
        store: where figures are looked up and kept. Default: nowhere.
    """

    def __init__(self, trace: Trace, executor: Executor | None = None, store: Store | None = None) -> None:
        self.trace, self.executor, self.store = trace, executor, store
        self._tickets: list[Ticket] = []
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

    @cached_property
    def trace_key(self) -> str:
        """The key of the trace."""
        return self.trace.source.cache_key or key_of_arrays(self.trace)

    def key_of(self, case: Case) -> str | None:
        """The key of the replay of a case in the store; None: it is not kept."""
        if self.store is None:
            return None
        if id(case) not in self._keys:  # the tickets keep all cases alive
            self._keys[id(case)] = entries.key_of(case, self.trace_key)
        return self._keys[id(case)]

    def hand_in(self, case: Case, task: Task) -> Ticket:
        """A task, which is done from now on."""
        ticket = Ticket(self, len(self._tickets), case, task)
        self._tickets.append(ticket)
        ticket.begin()
        return ticket

    def send(self, packed: bytes) -> Future[Any]:
        """Send a task and its case to a worker."""
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
        _scattered.get(_client_of(self.executor), {}).pop(self.trace_key, None)
        return True

    def _announce(self) -> Any:
        """Let the workers know the trace; returns how they will."""
        client = _client_of(self.executor)
        if client is not None:
            there = _scattered.setdefault(client, {})
            if self.trace_key not in there:
                # Under a name of its own: one that is still being forgotten cannot be sent again at once.
                there[self.trace_key] = client.scatter(self.trace, broadcast=True, hash=False)
            return there[self.trace_key]
        key = self.trace_key
        _traces[key] = self.trace  # for threads, and for processes that are forked from now on
        if self.trace.source.cache_key is None and not isinstance(self.executor, LocalProcesses):
            keep(key, self.trace)
        return key


_scattered: WeakKeyDictionary[Any, dict[str, Any]] = WeakKeyDictionary()
"""Of each client of a cluster the traces that its workers have, by their key in the cache."""


def _client_of(executor: Any) -> Any:
    """The client of a cluster to which an executor belongs, None: it belongs to none."""
    if type(executor).__module__.partition(".")[0] != "distributed":
        return None
    return getattr(executor, "_client", None)


def _is_of_a_death(error: Exception) -> bool:
    names = {kind.__name__ for kind in type(error).__mro__}
    return bool(names & {"KilledWorker", "CancelledError", "FutureCancelledError", "CommClosedError", "LostTaskError"})


_traces: dict[str, Trace] = {}
"""The traces that this process has, by their key in the cache."""


def _packed(task: Task, case: Case, is_cluster: bool) -> bytes:
    """A task and its case as they are sent; empty: the case has a rule that cannot be.

    A cluster looks at all that it is given, which for objects takes longer than many a replay, for bytes no time.
    Its workers know nothing of the caller's script, so a rule that is in there goes with the case.
    """
    dumps: Callable[[Any], bytes] = pickle.dumps
    if is_cluster:
        import cloudpickle  # type: ignore[import-untyped]

        dumps = cloudpickle.dumps
    try:
        return dumps((task, case))
    except (pickle.PicklingError, AttributeError, TypeError):
        return b""


def _do_there(packed: bytes, there: Any, _name: str) -> Any:
    """Do a task with a case: runs in a worker. `there`: the trace, or its key."""
    task, case = pickle.loads(packed)  # noqa: S301  (packed by whoever sends it)
    if not isinstance(there, str):
        return task(case, there)
    trace = _traces.get(there)
    if trace is None:
        trace = find(there)
        if trace is None:
            raise ReplayError("a worker cannot find the trace in the cache; allowed: workers that share its directory")
        _traces.clear()  # a worker works on one trace at a time
        _traces[there] = trace
    return task(case, trace)


def run_cases(
    cases: Sequence[Case],
    trace: Trace,
    executor: Executor | None = None,
    *,
    store: Store | None = None,
    progress: Callable[[str, float], None] = lambda _what, _share: None,
) -> Iterator[tuple[int, Figures]]:
    """Replay cases on one trace, and give the figures of each as they come.

    Args:
        cases: what is replayed.
        trace: what all of them are replayed on.
        executor: where they run, from `concurrent.futures` or alike. Default: here, one after the other.
        store: where figures are looked up and kept. Default: nowhere.
        progress: called with what is being done and the share of it that is done, from 0 to 1.

    Yields:
        the place of a case in `cases`, and its figures.

    Raises:
        StudyError: a plan cannot be replayed on this trace.
        ReplayError: workers of another machine do not find the trace.
    """
    with Pool(trace, executor, store) as pool:
        sent: list[Ticket] = []
        done = 0
        for number, case in enumerate(cases):
            if executor is None:
                progress(case.plan.name, 0.0)
            ticket = pool.hand_in(case, Whole())
            if ticket.is_done:
                done += 1
                progress(
                    case.plan.name if executor is None else "plans", 1.0 if executor is None else done / len(cases)
                )
                yield number, ticket.result
            else:
                sent.append(ticket)
        for ticket in in_turn(sent):
            done += 1
            progress("plans", done / len(cases))
            yield ticket.number, ticket.result


def in_turn(tickets: Sequence[Ticket]) -> Iterator[Ticket]:
    """Tickets as they are done."""
    waiting = {ticket.future: ticket for ticket in tickets if ticket.future is not None}
    yield from (ticket for ticket in tickets if ticket.future is None)
    for future in as_completed(waiting):
        yield waiting[future]
