"""Durations, sizes, shares and money, read and shown."""

from __future__ import annotations

import math
from decimal import Decimal

import pytest
from hypothesis import given, strategies as st

from libramen import UnitError
from libramen.base import units


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("250ms", 0.25),
        ("1h 30m", 5400),
        ("2 h", 7200),
        ("0.5min", 30),
        ("7d", 604800),
        (3, 3),
        (0.1, 0.1),
        ("5us", 5e-6),
    ],
)
def test_durations(text: object, seconds: float) -> None:
    assert units.parse_duration(text) == seconds


@pytest.mark.parametrize("text", ["", "5", "5 x", "-5s", "5s!", "s", True, None, math.nan, -1, [], "1h30"])
def test_what_is_no_duration(text: object) -> None:
    with pytest.raises(UnitError, match="allowed: a duration"):
        units.parse_duration(text)


def test_sizes_shares_and_money() -> None:
    assert units.parse_size("2 GB") == 2_000_000_000
    assert units.parse_size("1 KiB") == 1024
    assert units.parse_share("99.9%") == 0.999
    assert units.parse_share(0.5) == 0.5
    assert units.parse_money(0.1) == Decimal("0.1")
    assert units.parse_money("0.031") == Decimal("0.031")
    for parse, text in (
        (units.parse_size, "2 gigs"),
        (units.parse_share, "half"),
        (units.parse_money, "a lot"),
        (units.parse_money, -1),
    ):
        with pytest.raises(UnitError, match="allowed"):
            parse(text)


@pytest.mark.parametrize(
    ("seconds", "text"),
    [
        (0, "0 s"),
        (0.0432, "43.2 ms"),
        (0.9999, "1 s"),
        (1.254, "1.25 s"),
        (59.97, "1 min"),
        (200, "3 min 20 s"),
        (3600, "1 h"),
        (90061, "1 d 1 h"),
        (None, "-"),
        (math.inf, "no limit"),
    ],
)
def test_showing_durations(seconds: float | None, text: str) -> None:
    assert units.show_duration(seconds) == text


def test_what_is_not_quite_all_is_not_shown_as_all() -> None:
    assert units.show_share(0.99996) == "99.9 %"
    assert units.show_share(1.0) == "100.0 %"
    assert units.show_share(0.29, 2) == "29.00 %"
    assert units.show_share(None) == "-"
    assert units.show_money(Decimal("1204.505"), "EUR") == "1,204.50 EUR"


@given(st.floats(0, 1e9))
def test_every_duration_can_be_shown_and_is_near(seconds: float) -> None:
    assert units.show_duration(seconds)
