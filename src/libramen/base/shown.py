"""The one seam through which a room reaches one above it, so that none imports it.

A result knows nothing of sections and figures: what shows it is found by its class, or that of a parent, when it is
asked for. A study likewise finds the work in its log, and what answers a question about it. All such arrows are in the
tables here, and nowhere else; to show a new result, write its function and name it here.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any, Final

from libramen.base import heavy

if TYPE_CHECKING:
    from libramen.outcome.outcome import Outcome as Outcome  # noqa: PLC0414
    from libramen.questions.compare import Comparison as Comparison  # noqa: PLC0414  (is imported from here)

_SECTIONS: Final = {
    "Backtest": "report.backtest:backtest_sections",
    "BreakEven": "report.break_even:break_even_sections",
    "Comparison": "report.comparison:shown",
    "Events": "report.events:ways_sections",
    "Headroom": "report.headroom:headroom_sections",
    "Outcome": "report.replay:shown",
    "PriceList": "report.price_list:price_sections",
    "Repeats": "report.repeats:repeats_sections",
    "Summary": "report.load:summary_sections",
}
"""What a notebook shows of a result: its class, and the function that makes its sections."""
_FIGURES: Final = {
    "Backtest": "draw.backtest:draw_backtest",
    "BreakEven": "draw.break_even:draw_break_even",
    "Comparison": "draw.compare:draw_comparison",
    "Events": "draw.events:draw_ways",
    "Headroom": "draw.headroom:draw_headroom",
    "Outcome": "draw.outcome:draw_outcome",
    "Search": "draw.search:draw_search",
    "Summary": "draw.load:draw_load",
}
_WHERE: Final = {"Outcome": "draw.where:draw_where"}
_COSTS: Final = {"Outcome": "draw.costs:draw_costs"}
_LIVE: Final = {
    "BreakEven": "draw.live.break_even:live_break_even",
    "Comparison": "draw.live.compare:live_comparison",
    "Headroom": "draw.live.headroom:live_headroom",
    "Outcome": "draw.live.over_time:live_over_time",
}
_LIVE_COSTS: Final = {"Outcome": "draw.live.costs:live_costs"}
_HTML: Final = "report.html:to_html"
_BAR: Final = "report.bar:bar_of_notebook"
_PAGE: Final = "report.page:page_of"
_SVG: Final = "draw.style:svg_of"
_SENTENCES: Final = {
    "End": "report.comparison:verdict_there",
    "Finding": "report.findings:sentence",
    "Grade": "report.trust:reason",
    "OnlyAtStart": "report.search:only_at_start",
    "Problem": "report.problems:sentence",
}
_ADVICE: Final = {"Finding": "report.advice:advice"}
_VERDICT: Final = "report.comparison:verdict"
_RESULTS: Final = {"Comparison": "questions.compare:Comparison", "Outcome": "outcome.outcome:Outcome"}
QUESTIONS: Final = {
    "compare": "questions.compare:compare",
    "load": "load.load:Load",
    "replay": "outcome.replay:replay_system",
}
"""What can be asked of a study: of its requests, and of its plans."""


def reach(place: str) -> Any:
    """What stands at a place, such as `"report.html:to_html"`; it is loaded when it is first needed."""
    module, _, name = place.partition(":")
    return getattr(import_module(f"libramen.{module}"), name)


def _of(table: dict[str, str], result: object) -> Any:
    """What a table has for the class of a result, or for the nearest of its parents."""
    return reach(next(table[kind.__name__] for kind in type(result).__mro__ if kind.__name__ in table))


def figure_of(result: object, *how: Any) -> heavy.Figure:
    """The figure of a result; `how`: as its `plot` says."""
    figure: heavy.Figure = _of(_FIGURES, result)(result, *how)
    return figure


def figure_of_where(result: object) -> heavy.Figure:
    """The figure of where the time of the requests of a result went."""
    figure: heavy.Figure = _of(_WHERE, result)(result)
    return figure


def figure_of_costs(result: object) -> heavy.Figure:
    """The figure of where the money of a result goes."""
    figure: heavy.Figure = _of(_COSTS, result)(result)
    return figure


def live_of(result: object, *others: object) -> Any:
    """Figures of a result that zoom, for a page; `others`: results that are drawn with it."""
    return _of(_LIVE, result)(result, *others)


def live_of_costs(result: object) -> Any:
    """Figures that zoom, of where the money of a result goes."""
    return _of(_LIVE_COSTS, result)(result)


def svg_of(figure: heavy.Figure) -> bytes:
    """A figure as SVG."""
    written: bytes = reach(_SVG)(figure)
    return written


def bar_of_notebook() -> Any:
    """A bar of progress beneath the cell of a notebook; None: this is none."""
    return reach(_BAR)()


def page_of(result: object) -> str:
    """The page that is made of a result, as HTML."""
    return str(reach(_PAGE)(result))


def sentence_of(fact: object) -> str:
    """The sentence of a finding, or of another fact."""
    return str(_of(_SENTENCES, fact)(fact))


def advice_of(finding: object) -> str:
    """What to do about a finding."""
    return str(_of(_ADVICE, finding)(finding))


def verdict_of(comparison: object) -> str:
    """The verdict of a comparison."""
    return str(reach(_VERDICT)(comparison))


def __getattr__(name: str) -> Any:
    """The results of rooms above, for annotations."""
    if name not in _RESULTS:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return reach(_RESULTS[name])


class Shown:
    """A result that notebooks show as its sections."""

    def _repr_html_(self) -> str:
        return str(reach(_HTML)(_of(_SECTIONS, self)(self)))
