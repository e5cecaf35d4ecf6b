"""The page that is handed over: one file without anything else, made of sections and figures.

Figures zoom where the package that draws them in the page is installed, and are SVG where it is not.
"""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from importlib.resources import files
from importlib.util import find_spec
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from libramen._version import __version__
from libramen.base import heavy, units
from libramen.base.errors import printable
from libramen.base.shown import live_of, live_of_costs, svg_of
from libramen.outcome.outcome import Outcome
from libramen.questions.dossier import Dossier
from libramen.report.break_even import break_even_sections
from libramen.report.comparison import comparison_sections, how_sure
from libramen.report.costs import costs_section
from libramen.report.events import events_section
from libramen.report.headroom import headroom_sections
from libramen.report.load import demand_section
from libramen.report.replay import areas_section, bill_section, objectives_section, where_sections
from libramen.report.section import Section
from libramen.report.story import sentences
from libramen.report.trust import reason, title
from libramen.report.words import demand_sections
from libramen.trust.grade import kept_grade

if TYPE_CHECKING:
    from markupsafe import Markup

_MOST_STUDY: Final = 200_000
"""Characters of the study file that are shown."""
_DATA: Final = "data:image/svg+xml;base64,"


class Picture(NamedTuple):
    """A figure: where it is, and what it shows in words."""

    source: str
    words: str


class Part(NamedTuple):
    """A part of the page: a heading, sections, and pictures or figures that zoom."""

    key: str
    heading: str
    sections: list[Section]
    pictures: list[Picture] = []  # noqa: RUF012  (nobody changes it)
    figures: list[Any] = []  # noqa: RUF012


def page_of(found: Dossier) -> str:
    """The page, as HTML. Names come from anybody: they are texts, never markup, and no script runs but its own."""
    from jinja2 import Environment, StrictUndefined

    here = files("libramen.report")
    script, style = ((here / name).read_text(encoding="utf-8") for name in ("page.js", "page.css"))
    drawing = drawing_script()
    scripts = [script] if drawing is None else [drawing, script]
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters |= {"plain": _plain, "said": _said, "cell": _cell}
    template = environment.from_string((here / "page.html").read_text(encoding="utf-8"))
    digests = " ".join(f"'sha256-{_digest(one)}'" for one in scripts)
    return template.render(
        name=found.study.name,
        verdict=found.comparison.verdict(),
        rests_on=list(_rests_on(found)),
        parts=[part for part in _parts(found, zooms=drawing is not None) if part.sections or part.figures],
        scripts=scripts,
        style=style,
        policy=f"default-src 'none'; script-src {digests}; style-src 'unsafe-inline'; img-src data:; "
        "base-uri 'none'; form-action 'none'",
        version=__version__,
        seed=found.seed,
        digest=found.comparison.trace.content_key,
        study=_study_text(found),
        language="en",
    )


def _digest(script: str) -> str:
    return base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()


def drawing_script() -> str | None:
    """The script that draws figures in a page; None: its package, an extra, is not installed."""
    if find_spec("plotly") is None:
        return None
    from plotly.offline import get_plotlyjs

    return str(get_plotlyjs())


def _rests_on(found: Dossier) -> Iterator[tuple[str, str]]:
    """What the verdict rests on: in what respect, and what is said of it."""
    study, comparison = found.study, found.comparison
    trace = comparison.trace
    when = "" if trace.start is None else f" from {trace.start:%a %d %b %Y %H:%M} ({study.time_zone})"
    load = f"{len(trace):,} requests over {units.show_duration(trace.span_s)}{when}"
    yield "Load", f"{load}, demand {trace.demand_in_words}."
    yield "Month", f"{found.chosen.bill.note}."
    wanted = study.objectives.describe(study.currency)
    yield "Objectives", f"{'; '.join(wanted)}." if wanted else "None are set."
    grade = kept_grade(study, found.seed)
    if grade is not None:
        yield "How far to trust it", f"{title(grade).capitalize()}. {reason(grade)}"
    elif study.trace_table.recorded_on is not None:
        yield "How far to trust it", f"Not tested yet: `libramen backtest {study.path.name}` tests it."
    else:
        yield "How far to trust it", "It cannot be tested: [trace] has no recorded_on."
    yield (
        "How sure",
        how_sure(comparison)
        or (
            "One trace and one seed. Variation between days is not measured, nor variation by chance "
            "(`libramen compare --repeats 20` measures the latter)."
        ),
    )


def _parts(found: Dossier, *, zooms: bool | None) -> Iterator[Part]:
    """The parts in their order; `zooms`: with figures that do, with pictures, or None: with neither."""
    study, comparison, chosen, other = found.study, found.comparison, found.chosen, found.runner_up
    figures = chosen.figures(events=True)
    doubts = demand_sections(comparison.trace.demand)
    if doubts:
        yield Part("doubts", "Read this first", doubts)
    plans = comparison_sections(study, comparison)
    table = [section for section in plans if section.columns]
    misses = tuple(f"- {sentence.strip()}." for sentence in plans[-1].sentences)
    missed = [Section(sentences=misses, prose=True, notes=plans[-1].notes)]
    words = f"Money against p95 and against availability of {len(comparison.figures)} plans, as in the table above."
    drawn = _drawn(zooms, lambda: live_of(comparison), lambda: _picture(comparison.plot(), words))
    yield _part("plans", "The plans side by side", [*table, *missed], drawn)
    both = (chosen,) if other is None else (chosen, other)
    drawn = _drawn(zooms, lambda: live_of(*both), lambda: _over_time(chosen))
    yield _part("time", f"{chosen.plan.name} over time", _of_plan(chosen), drawn)
    if other is not None:
        title = f"Next best: {other.plan.name} over time"
        yield _part("next", title, _of_plan(other), _drawn(zooms, list, lambda: _over_time(other)))
    yield Part("events", "What each release and fault costs", events_section(chosen, figures.events))
    yield Part("where", "Where the time goes", where_sections(chosen, figures))
    yield Part("areas", "What each area gets, and where its requests went", areas_section(figures))
    words = f"Where the money of a month of {chosen.plan.name} goes, as in the table above."
    money = [bill_section(figures), costs_section(chosen.costs)]
    drawn = _drawn(zooms, lambda: live_of_costs(chosen), lambda: _picture(chosen.plot_costs(), words))
    yield _part("money", "What a month costs, and where the money goes", money, drawn)
    yield from _lasting(found, zooms=zooms)
    if figures.objectives:
        yield Part("objectives", f"Objectives of {chosen.plan.name}", [objectives_section(figures)])
    if figures.findings:
        said = tuple(f"- {finding.text} What to do: {finding.advice}" for finding in figures.findings)
        yield Part("findings", "Findings, and what to do", [Section(sentences=said, prose=True)])
    notes = comparison.trace.source.notes
    assumed = [Section(sentences=tuple(f"- {note}" for note in notes), prose=True)] if notes else []
    yield Part("assumed", "What was assumed in reading the log", [*assumed, *demand_section(comparison.trace)])


def _drawn(zooms: bool | None, live: Callable[[], list[Any]], picture: Callable[[], Picture]) -> Picture | list[Any]:
    """What is drawn of a part, made only where it is shown."""
    if zooms is None:
        return []
    return live() if zooms else picture()


def _part(key: str, heading: str, sections: list[Section], drawn: Picture | list[Any]) -> Part:
    """A part with what is drawn of it: a picture, or figures that zoom."""
    return Part(key, heading, sections, *([[drawn], []] if isinstance(drawn, Picture) else [[], drawn]))


def _lasting(found: Dossier, *, zooms: bool | None) -> Iterator[Part]:
    """When another plan is cheaper, and how much more load each takes."""
    name, lines, rooms = found.study.name, found.break_even, found.headroom
    if lines is not None:
        words = "What the two best plans cost a month at each load, as in the table above."
        drawn = _drawn(zooms, lambda: live_of(lines), lambda: _picture(lines.plot(), words))
        some = [_under(one) for one in break_even_sections(lines, name)]
        yield _part("break-even", "When another one is cheaper", some, drawn)
    if rooms is not None:
        words = "Up to which load each plan meets every objective, as in the table above."
        drawn = _drawn(zooms, lambda: live_of(rooms), lambda: _picture(rooms.plot(), words))
        some = [_under(one) for one in headroom_sections(rooms, name)]
        yield _part("headroom", "How much more load each plan takes", some, drawn)
    looked = {
        "when another plan is cheaper": lines is not None or found.runner_up is None,
        "how much more load each takes": rooms is not None or not list(found.study.objectives.goals()),
    }
    missing = [what for what, is_there in looked.items() if not is_there]
    if missing and not found.is_full:
        said = f"Not computed: {' and '.join(missing)}. `libramen report --full` computes it."
        yield Part("left-out", "What is not here", [Section(sentences=(said,), prose=True)])


def _under(section: Section) -> Section:
    """A section under the heading of a part, which says what it is."""
    return replace(section, title="")


def _of_plan(outcome: Outcome) -> list[Section]:
    return [Section(sentences=tuple(sentences(outcome)), prose=True)]


def _over_time(outcome: Outcome) -> Picture:
    words = (
        f"{outcome.plan.name} over time: requests, latency, replicas and use; releases and faults are marked. "
        "What happened stands above."
    )
    return _picture(outcome.plot(), words)


def _picture(figure: heavy.Figure, words: str) -> Picture:
    return Picture(_DATA + base64.b64encode(svg_of(figure)).decode(), words)


def _study_text(found: Dossier) -> str:
    try:
        text = found.study.path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return ""
    return text if len(text) <= _MOST_STUDY else f"{text[:_MOST_STUDY]}\n... and more"


_UNIT: Final = re.compile(r"(?<=\d) (?=(?:%|x|ms|µs|s|min|h|d)(?:\W|$))")
_CODE: Final = re.compile(r"`([^`<>]{1,200})`")


def _plain(text: object) -> str:
    """A text line by line, with characters that are not printable written out."""
    return "\n".join(printable(line) for line in str(text).expandtabs(4).split("\n"))


def _cell(text: object) -> str:
    """A text in which a number and its unit stay on one line."""
    return _UNIT.sub("\N{NO-BREAK SPACE}", _plain(text))


def _said(sentence: object) -> Markup:
    """A sentence in which what stands between backticks is code."""
    from markupsafe import Markup, escape

    return Markup(_CODE.sub(r"<code>\1</code>", str(escape(_plain(sentence)))))  # noqa: S704  (it is escaped)


def sections_of(found: Dossier) -> Iterable[Section]:
    """All sections of the page, in their order, each under the heading of its part."""
    rests_on = tuple(f"- {what}: {said}" for what, said in _rests_on(found))
    yield Section(found.study.name, (found.comparison.verdict(), *rests_on), prose=True)
    for part in (one for one in _parts(found, zooms=None) if one.sections):
        yield Section(part.heading)
        yield from part.sections
