"""`fit`: which settings of the recorded plan explain a log best, with the replay itself as the model.

What stands beside the likely ranges is a profile: one setting is moved, the others stay at their best (Coles, An
Introduction to Statistical Modeling of Extreme Values, 2.6.5, 2001). How near a replay is to a log: `demand.explain`.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Final, Unpack

from libramen.base import units
from libramen.base.errors import StudyError
from libramen.base.fields import nearest
from libramen.load.explain import NearestSettings, likely
from libramen.questions.context import Context, Reading
from libramen.study.plan import only_of
from libramen.study.study import Study

FITTED: Final = ("slots", "threads", "cpu_share", "overhead")
_ROUNDS: Final = 2


@dataclass(frozen=True)
class Fitted:
    """What a log tells of one setting.

    Attributes:
        key: its name.
        now: its value in the study.
        best: the value with which the replay is nearest to the log.
        low, high: the likely range: nearer than chance would make the best one differ.
        tells: whether the log can tell at all; else all that was tried is about as near.
        tried: each value, and how far the replay is from the log there (mean relative difference of percentiles;
            10: no work explains the log).
    """

    key: str
    now: float
    best: float
    low: float
    high: float
    tells: bool
    tried: tuple[tuple[float, float], ...]

    def show(self, value: float) -> str:
        """A value as it is written in a study."""
        if self.key == "overhead":
            return units.show_duration(value)
        return f"{100 * value:.0f} %" if self.key == "cpu_share" else f"{value:g}"

    @property
    def line(self) -> str:
        """The line to paste, and where."""
        if self.key == "overhead":
            return f'overhead = "{1000 * self.best:g}ms"    # in the [tiers.NAME] of the recorded plan'
        if self.key == "cpu_share":
            return f'cpu_share = "{100 * self.best:.0f}%"    # in [trace]'
        return f"{self.key} = {self.best:g}    # in [service], or in the [plans.NAME.service] of the recorded plan"

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        return {
            "key": self.key,
            "now": self.now,
            "best": self.best if self.tells else None,
            "low": self.low,
            "high": self.high,
            "tells": self.tells,
            "tried": [{"value": value, "off": off} for value, off in self.tried],
        }


def fit(
    study: Study,
    keys: Iterable[str],
    **asked: Unpack[Reading],
) -> tuple[Fitted, ...]:
    """Find the settings of the recorded plan that explain the log best.

    Args:
        study: from `load_study`; `[trace] recorded_on` names the plan.
        keys: any of `"slots"`, `"threads"`, `"cpu_share"`, `"overhead"`.
        **asked: seed, cache, progress; see `Context`.

    Raises:
        StudyError: a key is unknown, or no recorded plan is named.
        TraceError: the log cannot be read.

    Example:
        >>> [found.best for found in fit(study, ["slots"])]  # doctest: +SKIP
        [4.0]
    """
    context = Context.of(study, asked, Reading)
    seed, tell = context.seed, context.report
    wanted = tuple(dict.fromkeys(keys))
    for key in wanted:
        if key not in FITTED:
            raise StudyError(f"--fit: unknown key {key!r}; {nearest(key, FITTED)}")
    name = study.trace_table.recorded_on
    if not wanted or name is None:
        raise StudyError(
            f"{study.path}: fit needs keys, and [trace] recorded_on, the plan on which the log was recorded"
        )
    log = study.replace(trace={"shape": ()}).log(seed=seed, cache=context.cache)
    if log.latency_s is None:
        raise StudyError(f"{study.path}: the log has no latencies, so it tells nothing of its servers")
    hosting = only_of(
        study.plan(name).services, f"{study.path}: fit of plan {name!r}", "a recorded plan of one service"
    )
    search = NearestSettings(log, study.service, hosting, study.trace_table.cpu_share, seed)
    values = {key: search.now(key) for key in wanted}
    profiles: dict[str, dict[float, float]] = {key: {} for key in wanted}
    steps = _ROUNDS if len(wanted) > 1 else 1
    for number in range(steps * len(wanted)):
        key = wanted[number % len(wanted)]
        tell(f"fitting {key}", number / (steps * len(wanted)))
        profiles[key] = search.profile(key, values)
        values[key] = min(profiles[key], key=lambda value: (profiles[key][value], abs(value - search.now(key))))
    noise = search.noise(values)
    tell("fitting", 1.0)
    coarse = log.source.whole_seconds
    return tuple(_fitted(key, search.now(key), profiles[key], noise, whole_seconds=coarse) for key in wanted)


def _fitted(key: str, now: float, profile: dict[float, float], noise: float, *, whole_seconds: bool) -> Fitted:
    found = likely(profile, now, noise, whole_seconds=whole_seconds)
    return Fitted(key, now, found.best, found.low, found.high, found.tells, tuple(sorted(profile.items())))
