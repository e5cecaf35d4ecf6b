"""A comparison against an earlier one: what got worse since, by how much, and whether that is more than luck."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final

from libramen.base.errors import ReplayError
from libramen.base.results import Result
from libramen.questions.compare import Comparison
from libramen.questions.repeats import Repeats, Spread, student

MEASURES: Final = ("availability", "p95_s", "month")
"""What is compared, beside whether objectives are met."""
_GREATER_IS_BETTER: Final = frozenset({"availability"})
_TOLERANCE: Final = 0.01
"""Of a figure: a change of less is no news. Of availability it is of what fails, or may fail, whichever is more."""
_MOST_BYTES: Final = 200_000_000


@dataclass(frozen=True)
class Change(Result):
    """A figure of a plan, before and now.

    Attributes:
        plan: its name.
        measure: availability, p95_s (of ok requests) or month, of a month; or an objective by its name.
        before, now: the figure, with repeats the mean of them; of an objective whether it is met, 1 or 0.
        low, high: the 95 % interval of the difference of the means, by Welch; None: there are no repeats in both.
        is_worse: whether it got worse: of an objective met before and missed now; of a figure by more than 1 % (of
            availability, of the share that failed or of the error budget, the greater), and with repeats only where
            the interval says so, too.
    """

    plan: str
    measure: str
    before: float | None
    now: float | None
    low: float | None
    high: float | None
    is_worse: bool


@dataclass(frozen=True)
class Against(Result):
    """What changed since an earlier comparison.

    Attributes:
        file: the earlier one.
        changes: of each plan that both have, in the order of now.
        only_now, only_before: plans that only one of the two has.
        has_repeats: whether both have repeats, so that luck is known.
    """

    file: str
    changes: tuple[Change, ...]
    only_now: tuple[str, ...]
    only_before: tuple[str, ...]
    has_repeats: bool

    @property
    def worse(self) -> tuple[Change, ...]:
        """What got worse."""
        return tuple(change for change in self.changes if change.is_worse)

    def to_dict(self) -> dict[str, Any]:
        """As in the JSON of the command line."""
        return super().to_dict() | {"is_worse": bool(self.worse)}


def read_baseline(path: Path) -> dict[str, Any]:
    """An earlier comparison, as `compare --json` has printed it.

    Raises:
        ReplayError: it cannot be read, or is something else.
    """
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise ReplayError(
                f"{path}: found more than {_MOST_BYTES // 10**6} MB; allowed: what `compare --json` prints"
            )
        document = json.loads(path.read_bytes().decode("utf-8"))
    except FileNotFoundError:
        raise ReplayError(f"{path}: there is no such file; `compare --json > {path.name}` makes it") from None
    except OSError as error:
        raise ReplayError(f"{path}: cannot be read: {error.strerror}") from None
    except (UnicodeDecodeError, ValueError, RecursionError):
        raise ReplayError(f"{path}: this is not JSON; allowed: what `compare --json` prints") from None
    try:
        for plan in document["plans"]:
            _figures(plan)
            for objective in plan["objectives"]:
                objective["name"], bool(objective["met"])
        for plan in (document.get("repeats") or {"plans": []})["plans"]:
            for measure in MEASURES:
                Spread.from_dict(plan[measure])
    except (KeyError, TypeError, ValueError, AttributeError):
        raise ReplayError(f"{path}: this is no comparison; allowed: what `compare --json` prints") from None
    return dict(document)


def against(now: Comparison, repeats: Repeats | None, baseline: Mapping[str, Any], file: str) -> Against:
    """What changed since an earlier comparison.

    Args:
        now: the comparison.
        repeats: of the same plans; None: there are none.
        baseline: the earlier one, from `read_baseline`.
        file: where that stands.

    Raises:
        ReplayError: the two have no plan in common, or other currencies.

    Example:
        >>> against(comparison, None, read_baseline(Path("baseline.json")), "baseline.json").worse  # doctest: +SKIP
        ()
    """
    before = {plan["plan"]: plan for plan in baseline["plans"]}
    names = [figures.plan for figures in now.figures]
    both = [name for name in names if name in before]
    if not both:
        raise ReplayError(
            f"{file}: found the plans {', '.join(before) or 'none'}, of which none is compared now "
            f"({', '.join(names)}); allowed: one in common, at least"
        )
    currencies = {now.figures[0].bill.currency, *(before[name]["bill"]["currency"] for name in both)}
    if len(currencies) > 1:
        raise ReplayError(f"{file}: found amounts in {' and '.join(sorted(currencies))}; allowed: one currency")
    spreads_now = {} if repeats is None else {plan.plan: plan for plan in repeats.plans}
    spreads_before = {plan["plan"]: plan for plan in (baseline.get("repeats") or {"plans": []})["plans"]}
    changes: list[Change] = []
    for figures in now.figures:
        name = figures.plan
        if name not in before:
            continue
        budget = next((1 - float(one.wanted) for one in figures.objectives if one.name == "availability"), 0.0)
        changes += _of_objectives(name, before[name], {one.name: one.met for one in figures.objectives})
        if name in spreads_now and name in spreads_before:
            for measure in MEASURES:
                was = Spread.from_dict(spreads_before[name][measure])
                changes.append(_of_means(name, measure, was, spreads_now[name].spread(measure), budget))
        else:
            was_, is_ = _figures(before[name]), _figures(figures.to_dict(routes=False))
            changes += [_plainly(name, measure, was_[measure], is_[measure], budget) for measure in MEASURES]
    return Against(
        file,
        tuple(changes),
        only_now=tuple(name for name in names if name not in before),
        only_before=tuple(name for name in before if name not in names),
        has_repeats=all(name in spreads_now and name in spreads_before for name in both),
    )


def _figures(plan: Mapping[str, Any]) -> dict[str, float | None]:
    month = plan["month"]
    p95, availability = month["latency_s"]["p95"], month["availability"]["requests"]
    return {
        "availability": None if availability is None else float(availability),
        "p95_s": None if p95 is None else float(p95),
        "month": float(plan["bill"]["month"]),
    }


def _of_objectives(name: str, before: Mapping[str, Any], now: Mapping[str, bool]) -> Iterator[Change]:
    """Objectives that both have, where they are met otherwise."""
    for one in before["objectives"]:
        key, met = one["name"], bool(one["met"])
        if key in now and now[key] != met:
            yield Change(name, f"objective {key}", float(met), float(now[key]), None, None, is_worse=met)


def _of_means(name: str, measure: str, was: Spread, now: Spread, budget: float) -> Change:
    """B. L. Welch, The generalization of Student's problem, Biometrika 34 (1947)."""
    if was.mean is None or now.mean is None:
        return Change(name, measure, was.mean, now.mean, None, None, is_worse=was.mean is not None and now.mean is None)
    if was.deviation is None or now.deviation is None:
        return _plainly(name, measure, was.mean, now.mean, budget)
    variances = was.deviation**2 / was.n, now.deviation**2 / now.n
    whole, half = sum(variances), 0.0
    if whole > 0:
        free = whole**2 / sum(one**2 / (n - 1) for one, n in zip(variances, (was.n, now.n), strict=True))
        half = student(free) * math.sqrt(whole)
    difference = now.mean - was.mean
    low, high = difference - half, difference + half
    is_more_than_luck = high < 0 if measure in _GREATER_IS_BETTER else low > 0
    is_worse = is_more_than_luck and _is_notable(measure, was.mean, now.mean, budget)
    return Change(name, measure, was.mean, now.mean, low, high, is_worse)


def _plainly(name: str, measure: str, was: float | None, now: float | None, budget: float) -> Change:
    """Without repeats, and so on the same luck."""
    if was is None or now is None:
        return Change(name, measure, was, now, None, None, is_worse=was is not None and now is None)
    return Change(name, measure, was, now, None, None, _is_notable(measure, was, now, budget))


def _is_notable(measure: str, was: float, now: float, budget: float) -> bool:
    """Whether it is worse by more than a hundredth."""
    if measure in _GREATER_IS_BETTER:
        return was - now > _TOLERANCE * max(1 - was, budget) + 1e-12
    return now - was > _TOLERANCE * was + 1e-12
