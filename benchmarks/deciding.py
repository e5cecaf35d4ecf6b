"""How long a search of the demo takes, on one core, on two, on a cluster, and the second time; in one run.

    python benchmarks/deciding.py

Plan `brisk` with 2 sizes x 19 numbers of replicas x 3 rules x 3 targets, 342 combinations, of which a third is
impossible (`fixed` has no target). Brute force would replay all others to the end. There are two questions. In the
first the numbers are the fewest replicas that are kept. In the second they are the replicas at the start, which hardly
change what a scaled plan costs: many are within 2 % of the cheapest, and must be replayed to be known. Times on shared
machines are noisy, so read the ratios. The cluster is one of four processes here; it is in the extra `cluster`.
"""

from __future__ import annotations

import tempfile
import time
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from unittest.mock import patch

import numpy as np

from libramen import Store, compare, load_study, search
from libramen.demo.write import write_demo
from libramen.questions.bounded_search import Try
from libramen.questions.bounds import Watch
from libramen.runs.cases import LocalProcesses

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from libramen import Study, Trace

RULES: dict[str, Any] = {"scaling.rule": ["fixed", "target", "ahead"], "scaling.target": [1.0, 1.5, 2.0]}
FEWEST: dict[str, Any] = {"size": ["small", "medium"], "vary": {"scaling.floor": range(2, 21), **RULES}}
FIRST: dict[str, Any] = {"size": ["small", "medium"], "replicas": range(2, 21), "vary": RULES}


@contextmanager
def counted() -> Iterator[list[int]]:
    """Counts the requests that searches replay in this process, one number a combination."""
    begin, do = Watch.begin, Try.__call__
    requests: list[int] = []
    now_s = 0.0

    def counted_begin(watch: Watch, *, with_events: bool) -> Any:
        records, look = begin(watch, with_events=with_events)

        def counted_look(at_s: float, fleets: Any) -> None:
            nonlocal now_s
            now_s = at_s
            look(at_s, fleets)

        return records, counted_look

    def counted_do(task: Try, case: Any, trace: Trace) -> Any:
        found = do(task, case, trace)
        requests.append(len(trace) if hasattr(found, "bill") else int(np.searchsorted(trace.at_s, now_s)))
        return found

    with patch.object(Watch, "begin", counted_begin), patch.object(Try, "__call__", counted_do):
        yield requests


def seconds(call: Callable[[], Any]) -> float:
    """How long a call takes."""
    began = time.perf_counter()
    call()
    return time.perf_counter() - began


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        study = load_study(write_demo(Path(folder) / "saltmarsh"))
        trace = study.trace()
        compare(study, trace=trace, plans=["steady"])  # compiled, or loaded from the cache

        for what, ranges in (("fewest replicas", FEWEST), ("replicas at the beginning", FIRST)):
            print(f"\n{what}")
            measure(study, trace, ranges, Path(folder) / f"{what}.sqlite")


def measure(study: Study, trace: Trace, ranges: dict[str, Any], file: Path) -> None:
    """One question, asked in all ways."""

    def find(executor: Any = None, store: Store | None = None) -> Any:
        # Without an executor in this process, where what is replayed is counted.
        how = {"workers": 1} if executor is None else {"executor": executor}
        return search(study, "brisk", trace=trace, store=store, **how, **ranges)

    with counted() as requests:
        found = find()
    counts = found.counts
    possible = counts.combinations - counts.impossible
    print(f"{counts.combinations} combinations, {possible} possible: {counts.replayed} replayed to the end, "
          f"{counts.stopped} stopped, {counts.same} the same, {counts.ruled_out} ruled out")  # fmt: skip
    by_force = possible * len(trace)
    print(f"{sum(requests):,} requests replayed of {by_force:,}: {by_force / sum(requests):.1f} times fewer")
    assert found.cheapest is not None
    print(f"within 2 % of the cheapest, which must be replayed to be known: {len(found.near)}")
    print(f"the cheapest: {found.cheapest.plan}, {found.cheapest.bill.month} a month")
    one_s = seconds(find)
    with LocalProcesses(2) as processes:
        two_s = seconds(lambda: find(processes))
    print(f"one process    {one_s:6.1f} s")
    print(f"two processes  {two_s:6.1f} s, {one_s / two_s:.2f} times as fast")
    try:
        import distributed
    except ImportError:
        print("distributed is not installed (pip install '.[cluster]'): left out")
    else:
        made: Any = distributed
        with (
            made.LocalCluster(n_workers=4, threads_per_worker=1, dashboard_address=None) as cluster,
            made.Client(cluster) as client,
        ):
            first_s, four_s = (seconds(lambda: find(client.get_executor())) for _ in range(2))
        print(
            f"four workers   {four_s:6.1f} s, {four_s / two_s:.2f} of two processes ({first_s:.1f} s when they are new)"
        )
    with Store(file) as store:
        find(store=store)
        compare(study, trace=trace, store=store)
        print(f"again          {seconds(lambda: find(store=store)):6.2f} s, from the store")
        print(f"compare again  {seconds(lambda: compare(study, trace=trace, store=store)):6.2f} s, from the store")


if __name__ == "__main__":
    main()
