"""How far a replay of a study can be believed: one word, and what it rests on."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import numpy as np

from libramen.base.code import digest_of, digest_of_text
from libramen.base.errors import OutputError
from libramen.base.files import cache_directory, write_whole
from libramen.base.results import Result
from libramen.base.shown import sentence_of
from libramen.load.instants import in_system
from libramen.study.study import Study
from libramen.trace.trace import Trace
from libramen.trust.compared import JUDGED, Compared, farthest
from libramen.trust.held_back import LONG_S, Regimes
from libramen.trust.hours import Hour, weighted_off

_GRADES: Final = (("close", 0.05, 0.10), ("fair", 0.15, 0.25), ("rough", 0.40, 0.60))
"""Grades, each with how far p50, p95 and p99 may be off: replayed on the same requests, and on those held back."""
_ALL: Final = ("close", "fair", "rough", "poor")
_AT_MOST_WITH_BOTTLENECK: Final = "rough"
_OFF: Final = 0.05
_ONE_SIDED: Final = 0.8


@dataclass(frozen=True)
class Grade(Result):
    """How far a replay of a study can be believed, at loads like those logged.

    Attributes:
        grade: `"close"`, `"fair"`, `"rough"` or `"poor"`.
        plan: name of the recorded plan.
        in_sample: greatest relative difference of p50, p95 and p99, replayed from the work of the same requests.
        held_back: the same for requests whose own latencies were not used; None: the log is too short for that.
        apart: the same between the two parts of the log itself: no prediction of one from the other can be better.
        busiest: the same for the busiest tenth of the log, predicted from its quieter half; None: as `held_back`.
        hourly: how far hours are off on average, each by its late and failed requests, what is chance left out.
        up_to: requests a second in the busiest minute of the log; None: not known.
        by: what the log is cut into, `"hours"` or `"parts"`.
        more_load: requests a second in the busiest tenth over those in the quieter half.
        wrong: hours that are farther off than chance explains, the one with most late and failed requests first.
        direction: `"hopeful"` or `"cautious"` where errors are all on one side; empty: they are not.
        hides: whether something that is not in the study slows requests down.
        is_idle: whether the log was hardly ever busy.
    """

    grade: str
    plan: str
    in_sample: float
    held_back: float | None
    apart: float | None
    busiest: float | None
    hourly: float
    up_to: float | None
    by: str
    more_load: float
    wrong: tuple[Hour, ...]
    direction: str
    hides: bool
    is_idle: bool

    @property
    def reason(self) -> str:
        """What it rests on, in some sentences."""
        return sentence_of(self)


def grade_of(plan: str, figures: Sequence[Compared], regimes: Regimes, hours: Sequence[Hour], trace: Trace) -> Grade:
    """The grade of a backtest.

    Args:
        plan: name of the recorded plan.
        figures: of all requests, replayed with their own work.
        regimes: what was predicted of those whose latencies were not used.
        hours: of the log.
        trace: the log with its work.
    """
    in_sample = farthest(figures)
    assert in_sample is not None
    held, apart, busiest = (farthest(some) for some in (regimes.held_back, regimes.parts, regimes.busiest))
    hourly = weighted_off(tuple(hours))
    name = "poor"
    for level, own, other in reversed(_GRADES):
        # A log that does not repeat itself cannot be predicted better than that.
        allowed = max(other, min(apart or 0.0, 2 * other))
        holds = in_sample <= own and hourly <= other and (busiest or 0.0) <= other and (held or 0.0) <= allowed
        if holds and not (level == "close" and any(one.is_wrong for one in hours)):
            name = level
    if trace.demand.bottleneck is not None:
        name = _ALL[max(_ALL.index(name), _ALL.index(_AT_MOST_WITH_BOTTLENECK))]
    wrong = sorted((one for one in hours if one.is_wrong), key=lambda one: -one.weight)
    return Grade(
        grade=name,
        plan=plan,
        in_sample=in_sample,
        held_back=held,
        apart=apart,
        busiest=busiest,
        hourly=hourly,
        up_to=trace.demand.busiest,
        by="hours" if trace.span_s >= LONG_S else "parts",
        more_load=regimes.more_load,
        wrong=tuple(wrong),
        direction=_direction(figures, regimes, hours),
        hides=trace.demand.bottleneck is not None,
        is_idle=float(np.mean(in_system(trace.at_s, np.asarray(trace.latency_s)))) < 1,
    )


def _direction(figures: Iterable[Compared], regimes: Regimes, hours: Sequence[Hour]) -> str:
    """Whether errors are all on one side; empty: they are not, or there are none to speak of."""
    by_hour = [(one.off, one.weight + 1.0) for one in hours if not one.by_chance]
    in_all = [
        [(one.signed, 1.0) for one in some if one.scope == "all" and one.quantile in JUDGED]
        for some in (figures, regimes.held_back, regimes.busiest)
    ]
    big = []
    for votes in (by_hour, *in_all):  # each way of looking counts as much as any other
        weights = sum(weight for _, weight in votes)
        big += [(off, weight / weights) for off, weight in votes if abs(off) > _OFF]
    total = sum(weight for _, weight in big)
    if not total:
        return ""
    hopeful = sum(weight for off, weight in big if off < 0) / total
    if hopeful >= _ONE_SIDED:
        return "hopeful"
    return "cautious" if hopeful <= 1 - _ONE_SIDED else ""


# -- kept for later replays ------------------------------------------------------------------------


def _path(study: Study, seed: int) -> Path | None:
    """Where the grade of this study, as it is now, is kept; None: nowhere."""
    name = study.trace_table.recorded_on
    key = None if name is None else study.key(seed=seed)
    if key is None:
        return None
    # Which requests are late is a matter of the objectives.
    late = sorted(str(goal.wanted) for goal in study.objectives.goals() if goal.is_latency)
    told = digest_of_text(key, digest_of("libramen.trust.backtest"), *late)
    return cache_directory() / f"grade-{told}.json"


def keep_grade(study: Study, seed: int, grade: Grade) -> None:
    """Keep the grade of this study, as it is now, for later replays."""
    path = _path(study, seed)
    if path is None:
        return
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, lambda temporary: _write(temporary, json.dumps(grade.to_dict())))
    except (OSError, OutputError):  # then it is not known later, which is no mistake
        return


def _write(path: Path, text: str) -> None:
    path.write_text(text, encoding="utf-8")


def kept_grade(study: Study, seed: int = 0) -> Grade | None:
    """The grade that the last backtest gave this study as it is now, None: there was none.

    Example:
        >>> kept_grade(load_study("saltmarsh/study.toml"))  # doctest: +SKIP
    """
    path = _path(study, seed)
    try:
        return None if path is None else Grade.from_dict(json.loads(path.read_text(encoding="utf-8")))
    except (OSError, ValueError):
        return None
