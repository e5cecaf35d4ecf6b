"""`backtest`: replay the log on the plan on which it was recorded, and see how far the prediction is from it."""

from __future__ import annotations

import itertools
import json
from dataclasses import asdict, dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from libramen import units
from libramen.code import digest_of, digest_of_text
from libramen.errors import OutputError, StudyError
from libramen.files import cache_directory, write_whole
from libramen.outcome.replay import replay
from libramen.ranks import PERCENTILES, nearest_rank
from libramen.streams import stream
from libramen.trace.evidence import evidence_of
from libramen.trace.statuses import is_answer

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from pathlib import Path

    import pandas as pd
    from matplotlib.figure import Figure

    from libramen.study.study import Study
    from libramen.trace.evidence import Evidence
    from libramen.trace.trace import Trace

QUANTILES: Final = ("p50", "p90", "p95", "p99")
_JUDGED: Final = ("p50", "p95", "p99")
_FEW: Final = 50
_BINS: Final = 5
_BLOCKS: Final = 8
_LONG_S: Final = 4 * 3600.0
_GRADES: Final = (("close", 0.05, 0.10), ("fair", 0.15, 0.25), ("rough", 0.40, 0.60))
"""Grades, each with how far p50, p95 and p99 may be off: replayed on the same requests, and on those held back."""
_MILLISECOND: Final = 1e-3


class Compared(NamedTuple):
    """One percentile, logged and replayed [s]. `scope`: `"all"`, `"route /a"`, `"hour 07:00"`, `"in progress 0-3"`."""

    scope: str
    quantile: str
    requests: int
    logged_s: float
    replayed_s: float

    @property
    def off(self) -> float:
        """How far the replay is off, relative to the log; below a millisecond it is not."""
        difference = max(0.0, abs(self.replayed_s - self.logged_s) - _MILLISECOND)
        return difference / max(self.logged_s, _MILLISECOND)


class FailedMinute(NamedTuple):
    """A minute in which requests failed: in the log (status of 500 or more, 429, 408, 499), and in the replay."""

    at_s: float
    logged: int
    replayed: int


@dataclass(frozen=True)
class Grade:
    """How far a replay of a study can be believed.

    Attributes:
        grade: `"close"`, `"fair"`, `"rough"` or `"poor"`.
        reason: one sentence.
        in_sample: greatest relative difference of p50, p95 and p99, replayed from the work of the same requests.
        held_back: the same for requests whose own latencies were not used; None: the log is too short for that.
        apart: the same between the two parts of the log itself: no prediction of one from the other can be better.
    """

    grade: str
    reason: str
    in_sample: float
    held_back: float | None
    apart: float | None

    @property
    def sentence(self) -> str:
        """As it stands at the foot of later replays."""
        return f"How far to trust this: {self.grade}. {self.reason}"


@dataclass(frozen=True, eq=False)
class Backtest:
    """The prediction of a log beside the log.

    Attributes:
        study: what was tested.
        plan: name of the recorded plan.
        trace: the log with its work, without what `shape` does.
        replayed_s: float64 (n,), latency of each request in the replay [s], NaN: it failed there.
        grade: how far to believe a replay.
        figures: percentiles of all, per route, per hour and per requests in progress at arrival.
        held_back: percentiles of the requests whose latencies were not used.
        failures: the minutes with most failures.
        failed: how many requests failed in the log, and in the replay.
        replicas: how many were ready, of each service: from which instant on [s], how many.
    """

    study: Study
    plan: str
    trace: Trace
    replayed_s: np.ndarray
    grade: Grade
    figures: tuple[Compared, ...]
    held_back: tuple[Compared, ...]
    failures: tuple[FailedMinute, ...]
    failed: tuple[int, int]
    replicas: dict[str, tuple[tuple[float, int], ...]]

    @property
    def table(self) -> pd.DataFrame:
        """One row per scope and percentile."""
        import pandas as pd

        rows = [(*found, found.off) for found in self.figures]
        rows += [(f"held back: {found.scope}", *found[1:], found.off) for found in self.held_back]
        return pd.DataFrame(rows, columns=[*Compared._fields, "off"])

    @cached_property
    def evidence(self) -> Evidence:
        """What the log has seen."""
        return evidence_of(self.trace)

    def to_dict(self) -> dict[str, Any]:
        """The backtest as the JSON of the command line."""
        return {
            "plan": self.plan,
            "demand": self.trace.demand.kind,
            "requests": len(self.trace),
            **{key: asdict(self.grade)[key] for key in ("grade", "reason")},
            "off": {key: asdict(self.grade)[key] for key in ("in_sample", "held_back", "apart")},
            "evidence": self.evidence.to_dict(),
            "figures": [found._asdict() for found in self.figures],
            "held_back": [found._asdict() for found in self.held_back],
            "failures": [found._asdict() for found in self.failures],
            "failed": {"logged": self.failed[0], "replayed": self.failed[1]},
            "replicas": [
                {"at_s": at_s, "ready": n} | ({"service": name} if len(self.replicas) > 1 else {})
                for name, steps in self.replicas.items()
                for at_s, n in steps
            ],
        }

    def plot(self) -> Figure:
        """Quantile against quantile, and the day with both curves."""
        from libramen.draw.backtest import draw_backtest

        return draw_backtest(self)

    def _repr_html_(self) -> str:
        from libramen.report.backtest import backtest_sections
        from libramen.report.html import to_html

        return to_html(backtest_sections(self))


def backtest(
    study: Study,
    *,
    seed: int = 0,
    cache: bool = True,
    progress: Callable[[str, float], None] | None = None,
) -> Backtest:
    """Replay the recorded plan of a study against its log.

    The work that the log gave is replayed on the plan on which it was recorded. To see how far that carries, the work
    is found once more from every other hour (of a log of less than four hours, from every other eighth), and the hours
    between are predicted from it: each of their requests has the work of another one of its route.

    Args:
        study: from `load_study`; `[trace] recorded_on` names the plan.
        seed: random seed.
        cache: whether what was read before may be taken from the user's cache directory; the grade is kept there.
        progress: called with what is being done and the share of it that is done.

    Raises:
        StudyError: no recorded plan is named, or the log has no latencies.
        TraceError: the log cannot be read, or the plan cannot have served it.

    Example:
        >>> backtest(load_study("saltmarsh/study.toml")).grade.grade  # doctest: +SKIP
        'close'
    """
    name = study.trace_table.recorded_on
    if name is None:
        raise StudyError(
            f"{study.path}: [trace] recorded_on is missing; allowed: the name of the plan on which the log was recorded"
        )
    tell = progress or (lambda _what, _share: None)
    plain = study.replace(trace={"shape": ()}) if study.trace_table.shape else study
    trace = plain.trace(seed=seed, cache=cache, progress=lambda share: tell("reading the trace", share))
    if trace.latency_s is None:
        raise StudyError(f"{study.path}: the log has no latencies, so there is nothing to compare a replay with")
    plan = study.plan(name)
    tell("replaying the recorded plan", 0.0)
    outcome = replay(trace, study.services, plan, seed=seed)
    assert outcome.run.results is not None
    replayed_s = np.where(outcome.run.results.ending == 0, outcome.run.results.latency_s, np.nan)
    logged_s = np.where(_answered(trace), trace.latency_s, np.nan)
    figures = tuple(_figures(trace, logged_s, replayed_s, seed))
    if not any(found.scope == "all" for found in figures):
        raise StudyError(
            f"{study.path}: fewer than {_FEW} requests were answered in the log, or in the replay on {name}: too few "
            "to compare"
        )
    tell("predicting what was held back", 0.5)
    held_back: tuple[Compared, ...] = ()
    parts: tuple[Compared, ...] = ()
    if trace.demand.kind != "given":
        held_back, parts = _held_back(plain, plain.log(seed=seed, cache=cache), seed)
    found = Backtest(
        study=study,
        plan=name,
        trace=trace,
        replayed_s=replayed_s,
        grade=_grade(name, figures, held_back, parts, trace),
        figures=figures,
        held_back=held_back,
        failures=tuple(_failed_minutes(trace, outcome.run.results.ending)),
        failed=(int(np.count_nonzero(~_answered(trace))), int(np.count_nonzero(outcome.run.results.ending))),
        replicas={name: tuple(_ready(one.run.replicas, trace.span_s)) for name, one in outcome.services.items()},
    )
    tell("predicting what was held back", 1.0)
    if cache:
        _keep(study, seed, found.grade)
    return found


# -- what is compared ------------------------------------------------------------------------------


def _answered(trace: Trace) -> np.ndarray:
    """Whether each request was answered in the log: bool (n,)."""
    if trace.status is None:
        return np.ones(len(trace), bool)
    return is_answer(trace.status)


def _compare(scope: str, logged_s: np.ndarray, replayed_s: np.ndarray) -> Iterator[Compared]:
    """The percentiles of what was answered, NaN: it was not."""
    one, other = (np.sort(taken_s[~np.isnan(taken_s)]) for taken_s in (logged_s, replayed_s))
    if min(len(one), len(other)) < _FEW:
        return
    for name in QUANTILES:
        share = PERCENTILES[name]
        yield Compared(scope, name, len(one), nearest_rank(one, share), nearest_rank(other, share))


def _figures(trace: Trace, logged_s: np.ndarray, replayed_s: np.ndarray, seed: int) -> Iterator[Compared]:
    yield from _compare("all", logged_s, replayed_s)
    if len(trace.routes) > 1:
        counts = np.bincount(trace.route_codes, minlength=len(trace.routes))
        for code in np.argsort(-counts, kind="stable").tolist():
            rows = trace.route_codes == code
            yield from _compare(f"route {trace.routes[code]}", logged_s[rows], replayed_s[rows])
    hour = ((trace.at_s + trace.into_hour_s) // 3600).astype(np.int64)
    if hour[-1] > hour[0]:
        for number in np.unique(hour).tolist():
            rows = hour == number
            local = trace.local_time(max(0.0, 3600.0 * number - trace.into_hour_s))
            scope = f"hour {number}" if local is None else f"hour {local:%a %H:00}"
            yield from _compare(scope, logged_s[rows], replayed_s[rows])
    logged = _in_progress(trace.at_s, logged_s)
    replayed = _in_progress(_as_stamped(trace, seed), replayed_s)
    edges = np.unique(np.quantile(logged, np.linspace(0, 1, _BINS + 1)[1:-1]).astype(np.int64))
    bounds = [-1, *edges.tolist(), int(max(logged.max(), replayed.max()))]
    for low, high in itertools.pairwise(bounds):
        scope = f"in progress {low + 1}-{high}" if high > low + 1 else f"in progress {high}"
        mine, theirs = ((low < n) & (n <= high) for n in (logged, replayed))
        yield from _compare(scope, logged_s[mine], replayed_s[theirs])


def _in_progress(at_s: np.ndarray, latency_s: np.ndarray) -> np.ndarray:
    """How many requests were in progress when each arrived, int64 (n,)."""
    ends_s = np.sort(at_s + np.nan_to_num(latency_s))
    before = np.searchsorted(np.sort(at_s), at_s, side="left")
    found: np.ndarray = np.maximum(0, before - np.searchsorted(ends_s, at_s, side="right"))
    return found


def _as_stamped(trace: Trace, seed: int) -> np.ndarray:
    """The arrivals known no better than the log knows them: (n,) [s].

    How many are in progress then is as uncertain in the replay as it is in the log, and the two can be compared.
    """
    if not trace.source.whole_seconds:
        return trace.at_s
    drawn_s: np.ndarray = np.floor(trace.at_s) + stream(seed, "backtest", 1).random(len(trace))
    return drawn_s


def _failed_minutes(trace: Trace, ending: np.ndarray) -> list[FailedMinute]:
    minute = (trace.at_s // 60).astype(np.int64)
    n = int(minute[-1]) + 1
    logged, replayed = (np.bincount(minute[failed], minlength=n) for failed in (~_answered(trace), ending != 0))
    worst = np.argsort(-(logged + replayed), kind="stable")[:_BINS]
    return [
        FailedMinute(60.0 * k, int(logged[k]), int(replayed[k]))
        for k in sorted(worst.tolist())
        if logged[k] + replayed[k]
    ]


def _ready(replicas: Iterable[Any], span_s: float) -> Iterator[tuple[float, int]]:
    """From which instant on how many replicas were ready."""
    steps: dict[float, int] = {}
    for replica in replicas:
        for from_s, to_s in replica.times("ready"):
            steps[from_s] = steps.get(from_s, 0) + 1
            steps[to_s] = steps.get(to_s, 0) - 1
    n = 0
    for at_s in sorted(at_s for at_s in steps if at_s < span_s):
        n += steps[at_s]
        yield at_s, n


# -- what is held back -----------------------------------------------------------------------------


def _held_back(study: Study, log: Trace, seed: int) -> tuple[tuple[Compared, ...], tuple[Compared, ...]]:
    """What is predicted for every other block of the log from the rest of it; and how the log itself is in both.

    Args:
        study: without shaping.
        log: as it was found, without an estimate.
        seed: random seed.
    """
    name = study.trace_table.recorded_on
    assert name is not None
    assert log.latency_s is not None
    logged_s = np.where(_answered(log), log.latency_s, np.nan)
    held = _blocks(log, logged_s) % 2 == 0
    used, rest = np.flatnonzero(~held), np.flatnonzero(held)
    if min(len(used), len(rest)) < 10 * _FEW:
        return (), ()
    # What was not held back has the work that was found without the rest of the log.
    part = study.estimated(log.take(used), seed=seed)
    cpu_s, wait_s = np.zeros(len(rest)), np.zeros(len(rest))
    drawn = stream(seed, "backtest").random(len(rest))
    for code in range(len(log.routes)):
        mine = np.flatnonzero(log.route_codes[rest] == code)
        pool = np.flatnonzero(part.route_codes == code)
        if not len(pool):
            pool = np.arange(len(part))
        taken = pool[(drawn[mine] * len(pool)).astype(np.int64)]
        cpu_s[mine], wait_s[mine] = part.cpu_s[taken], part.wait_s[taken]
    # Drawn in the order of the lines, arrivals within a second are burstier than those of many visitors are.
    at_s = np.concatenate([part.at_s, np.minimum(_as_stamped(log, seed)[rest], log.span_s)])
    order = np.argsort(at_s, kind="stable")
    whole = log.take(np.concatenate([used, rest])[order], at_s=at_s[order]).with_demand(
        np.concatenate([part.cpu_s, cpu_s])[order],
        np.concatenate([part.wait_s, wait_s])[order],
        demand="given",
        notes=(),
    )
    results = replay(whole, study.services, study.plan(name), seed=seed).run.results
    assert results is not None
    replayed_s = np.where(results.ending == 0, results.latency_s, np.nan)[order >= len(used)]
    predicted = tuple(_compare("all", logged_s[rest], replayed_s))
    return predicted, tuple(_compare("all", logged_s[rest], logged_s[used]))


def _blocks(trace: Trace, logged_s: np.ndarray) -> np.ndarray:
    """The number of the block of each request: int64 (n,).

    A block ends where few requests are in progress, so that what waited at its end is not taken for work of the next.
    """
    length_s, first_s = 3600.0, -trace.into_hour_s
    if trace.span_s < _LONG_S:
        length_s, first_s = trace.span_s / _BLOCKS, 0.0
    in_progress = _in_progress(trace.at_s, logged_s)
    edges_s = []
    for nominal_s in np.arange(first_s + length_s, trace.span_s, length_s).tolist():
        low, high = np.searchsorted(trace.at_s, [nominal_s - length_s / 8, nominal_s + length_s / 8])
        edges_s.append(float(trace.at_s[low + np.argmin(in_progress[low:high])]) if high > low else nominal_s)
    found: np.ndarray = np.searchsorted(edges_s, trace.at_s, side="right")
    return found


# -- the grade -------------------------------------------------------------------------------------


def _grade(
    plan: str, figures: Iterable[Compared], held_back: Iterable[Compared], parts: Iterable[Compared], trace: Trace
) -> Grade:
    in_sample, held, apart = (_farthest(some) for some in (figures, held_back, parts))
    assert in_sample is not None
    grade = "poor"
    for name, own, other in reversed(_GRADES):
        # A log that does not repeat itself cannot be predicted better than that.
        allowed = max(other, min(apart or 0.0, 2 * other))
        if in_sample <= own and (held is None or held <= allowed):
            grade = name
    parts_are = "hours" if trace.span_s >= _LONG_S else "parts"
    reason = f"Replayed on {plan}, p50, p95 and p99 are within {units.show_share(max(in_sample, 1e-3))} of the log's"
    if held is None:
        reason += "; the log is too short to hold a part of it back."
    else:
        reason += f", and within {units.show_share(max(held, 1e-3))} in {parts_are} that were held back"
        if apart is not None and apart > 0.1:
            reason += f" (which differ from the others by {units.show_share(apart)} in the log itself)"
        reason += "."
    if float(np.mean(_in_progress(trace.at_s, np.asarray(trace.latency_s)))) < 1:
        reason += " The log was hardly ever busy, so it says little of how the plan behaves when it is."
    return Grade(grade, reason, in_sample, held, apart)


def _farthest(figures: Iterable[Compared]) -> float | None:
    """How far p50, p95 or p99 of all is off at most; None: there are none."""
    offs = [found.off for found in figures if found.scope == "all" and found.quantile in _JUDGED]
    return max(offs) if offs else None


def _grade_path(study: Study, seed: int) -> Path | None:
    """Where the grade of this study, as it is now, is kept; None: nowhere."""
    name = study.trace_table.recorded_on
    key = None if name is None else study.key(seed=seed)
    return None if key is None else cache_directory() / f"grade-{digest_of_text(key, digest_of(__name__))}.json"


def _keep(study: Study, seed: int, grade: Grade) -> None:
    path = _grade_path(study, seed)
    if path is None:
        return
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, lambda temporary: _write(temporary, json.dumps(asdict(grade))))
    except (OSError, OutputError):  # then it is not known later, which is no mistake
        return


def _write(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8")


def kept_grade(study: Study, seed: int = 0) -> Grade | None:
    """The grade that the last backtest gave this study as it is now, None: there was none.

    Example:
        >>> kept_grade(load_study("saltmarsh/study.toml"))  # doctest: +SKIP
    """
    path = _grade_path(study, seed)
    try:
        return None if path is None else Grade(**json.loads(path.read_text(encoding="utf-8")))
    except (OSError, ValueError, TypeError):
        return None
