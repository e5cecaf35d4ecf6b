"""What each command shows, as sections: they are printed, or written as tables."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from libramen.bill.price_list import PriceList
    from libramen.outcome.outcome import Outcome
    from libramen.outcome.stretch import StretchFigures
    from libramen.questions.against import Against
    from libramen.questions.break_even import BreakEven
    from libramen.questions.check import Check
    from libramen.questions.compare import Comparison
    from libramen.questions.events import Events
    from libramen.questions.headroom import Headroom
    from libramen.questions.repeats import Repeats
    from libramen.questions.search import Search
    from libramen.report.section import Section
    from libramen.study.study import Study
    from libramen.trace.summary import Summary
    from libramen.trust.backtest import Backtest
    from libramen.trust.doubt import Doubt
    from libramen.trust.fit import Fitted
    from libramen.trust.grade import Grade


def comparison(
    study: Study, found: Comparison, grade: Grade | None = None, doubted: tuple[Doubt, ...] = ()
) -> list[Section]:
    """The objectives, the table of a comparison, the verdict, what each plan misses, and how far the verdict holds."""
    from libramen.report.comparison import comparison_sections, doubts_of_verdict
    from libramen.report.trust import trust_section

    more = doubts_of_verdict(doubted) if doubted else []
    return [*comparison_sections(study, found), *more, *trust_section(study, grade)]


def outcome(study: Study, found: Outcome, grade: Grade | None = None) -> list[Section]:
    """What came of one plan."""
    from libramen.report.replay import outcome_sections
    from libramen.report.trust import trust_section

    return [*outcome_sections(study, found), *trust_section(study, grade)]


def search(study: Study, found: Search, *, front: bool) -> list[Section]:
    """What a search has found, and why that is proven."""
    from libramen.report.search import search_sections

    return search_sections(study.name, found, front=front)


def headroom(study: Study, found: Headroom) -> list[Section]:
    """How much more load each plan takes."""
    from libramen.report.headroom import headroom_sections

    return headroom_sections(study.name, found)


def break_even(study: Study, found: BreakEven) -> list[Section]:
    """Where the cheaper of two plans changes."""
    from libramen.report.break_even import break_even_sections

    return break_even_sections(study.name, found)


def against(study: Study, found: Against) -> list[Section]:
    """What changed since an earlier comparison."""
    from libramen.report.against import against_section

    return [against_section(found, study.currency)]


def repeats(found: Repeats) -> list[Section]:
    """How much of the figures of plans is luck."""
    from libramen.report.repeats import repeats_section

    return [repeats_section(found)]


def events(study: Study, found: Events) -> list[Section]:
    """What releases and faults cost, and what other ways would have cost."""
    from libramen.report.events import ways_sections

    return ways_sections(study.name, found)


def stretch(study: Study, outcome: Outcome, found: StretchFigures) -> list[Section]:
    """What came of a stretch of a replay."""
    from libramen.report.stretch import stretch_sections

    return stretch_sections(study, outcome, found)


def check(found: Check, grade: Grade | None = None) -> list[Section]:
    """What was understood, the problems of each plan, and how far to believe a replay."""
    from libramen.report.check import check_sections
    from libramen.report.trust import trust_section

    return [*check_sections(found), *trust_section(found.study, grade)]


def summary(found: Summary) -> list[Section]:
    """A picture of the load."""
    from libramen.report.load import summary_sections

    return summary_sections(found)


def backtest(found: Backtest, settings: tuple[Fitted, ...] = ()) -> list[Section]:
    """The prediction of a log beside the log, and what the log tells of the recorded plan."""
    from libramen.report.backtest import backtest_sections, fit_sections

    return [*backtest_sections(found), *(fit_sections(settings) if settings else [])]


def price_list(name: str, found: PriceList) -> list[Section]:
    """What each size of a catalogue costs, and numbers that can hardly be meant."""
    from libramen.report.price_list import price_sections
    from libramen.study.unusual import unusual_tiers

    return price_sections(name, found, unusual_tiers(found.tiers))


def fitted(found: tuple[Fitted, ...]) -> list[Section]:
    """What the log tells of the recorded plan."""
    from libramen.report.backtest import fit_sections

    return fit_sections(found)
