"""How far a replay can be believed, in words."""

from __future__ import annotations

from typing import Final

from libramen.base import units
from libramen.report.section import Section
from libramen.report.wording import say
from libramen.study.study import Study
from libramen.trust.grade import Grade

_LEAST: Final = 1e-3
"""A smaller difference is said as this."""
_DIRECTIONS: Final = {
    "hopeful": "Where it is off it is too hopeful: requests took longer in the log.",
    "cautious": "Where it is off it is too cautious: requests took less time in the log.",
}


def title(grade: Grade) -> str:
    """`close at loads like those logged (up to 41 requests a second)`."""
    up_to = "" if grade.up_to is None else f" (up to {units.show_rate(grade.up_to)})"
    return f"{grade.grade} at loads like those logged{up_to}"


def reason(grade: Grade) -> str:
    """What a grade rests on."""
    said = [_how_far(grade)]
    if grade.wrong:
        worst, others = grade.wrong[0], len(grade.wrong) - 1
        more = f", and {others} more like it" if others else ""
        how = f"{units.show_share(abs(worst.off))} too {'short' if worst.off < 0 else 'long'}"
        said.append(f"In {worst.name} {worst.quantile} is {how}, more than chance explains{more}.")
    if grade.direction:
        said.append(_DIRECTIONS[grade.direction])
    if grade.hides:
        said.append(
            "Something that is not in the study slows requests down, so that more load is not predicted at all."
        )
    if grade.is_idle:
        said.append("The log was hardly ever busy, so it says little of how the plan behaves when it is.")
    return " ".join(said)


def _how_far(grade: Grade) -> str:
    shares = {key: max(getattr(grade, key) or 0.0, _LEAST) for key in ("in_sample", "held_back", "busiest")}
    said = "Replayed on {plan}, p50, p95 and p99 are within {in_sample:share} of the log's"
    if grade.held_back is None:
        said += "; the log is too short to hold a part of it back"
    else:
        said += ", and within {held_back:share} in {by} that were held back"
        if grade.apart is not None and grade.apart > 0.1:
            said += " (which differ from the others by {apart:share} in the log itself)"
        if grade.busiest is not None:
            said += (
                "; the busiest tenth of its {by}, of {more_load:.2g} times the load, is predicted from the quieter "
                "half within {busiest:share}"
            )
    return say(said + ".", vars(grade) | shares)


def trust_section(study: Study, grade: Grade | None) -> list[Section]:
    """How far to believe what stands above, as the last backtest of the study found; empty: nobody can know."""
    if grade is not None:
        said = f"How far to trust this: {title(grade)}. {reason(grade)}"
        return [Section(sentences=(said,), prose=True)]
    if study.trace_table.recorded_on is None:
        return []
    return [Section(sentences=(f"How far to trust this: `libramen backtest {study.path}` finds out.",))]
