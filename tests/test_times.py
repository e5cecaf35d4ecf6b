"""Times as a study writes them, on traces whose clocks change."""

from __future__ import annotations

import pytest

from builders import make_trace
from libramen import StudyError, UnitError
from libramen.base.times import parse_moment


def _offsets(text: object, *, start: str = "2031-06-05T08:00", days: float = 1, daily: bool = False) -> list[float]:
    trace = make_trace([0], wait=1, span_s=days * 86400, start=start, time_zone="Europe/Lisbon")
    return parse_moment(text).offsets(trace, daily=daily, where="at")


@pytest.mark.parametrize(
    ("text", "hours"),
    [
        ("12:00", 4),
        ("8:00", 0),
        ("07:30:30", 23.5 + 30 / 3600),  # the next morning
        ("2031-06-05T20:00", 12),  # local
        ("2031-06-05T20:00Z", 13),  # UTC is an hour behind Lisbon in June
        ("6h", 6),
        (90, 0.025),
    ],
)
def test_kinds_of_moments(text: object, hours: float) -> None:
    assert _offsets(text) == [pytest.approx(hours * 3600)]


def test_daily() -> None:
    assert _offsets("12:00", days=3, daily=True) == [4 * 3600.0, 28 * 3600.0, 52 * 3600.0]


def test_a_skipped_time_is_the_next_that_exists() -> None:
    """In Lisbon clocks go from 01:00 to 02:00 on 2031-03-30: 01:30 is 02:00, an hour after midnight. 12:00 is 11 h after."""
    start = "2031-03-30T00:00"
    assert _offsets("01:30", start=start) == [3600]
    assert _offsets("12:00", start=start) == [11 * 3600]


def test_a_time_that_comes_twice_is_the_first() -> None:
    """On 2031-10-26 01:30 comes twice; 12:00 is 13 h after midnight."""
    start = "2031-10-26T00:00"
    assert _offsets("01:30", start=start) == [5400]
    assert _offsets("12:00", start=start) == [13 * 3600]


@pytest.mark.parametrize(
    "text", ["noon", "25:00", "12:60", "quietest", "quietest 0s", "-5m", "2031-13-01T00:00", True, None]
)
def test_what_is_no_moment(text: object) -> None:
    with pytest.raises(UnitError, match="allowed: a time of day"):
        parse_moment(text)


def test_a_moment_outside_the_trace_is_refused() -> None:
    with pytest.raises(StudyError, match=r'at = "30h" is not in the trace, which covers 1 d, from 2031-06-05 08:00'):
        _offsets("30h")
    with pytest.raises(StudyError, match="asks for 2 d"):
        _offsets("quietest 2d")


def test_a_time_of_day_needs_a_start() -> None:
    with pytest.raises(StudyError, match="needs to know when the trace starts"):
        parse_moment("12:00").offsets(make_trace([0], wait=1, span_s=60), daily=False, where="at")
