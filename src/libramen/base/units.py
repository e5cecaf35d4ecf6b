"""Durations, sizes, shares and money, as people write them and as the program counts them.

Durations are seconds and shares are fractions, both float; sizes are whole bytes; money is decimal.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from decimal import ROUND_HALF_EVEN, Decimal, InvalidOperation
from typing import Final

from libramen.base.errors import UnitError

_SECONDS: Final = {
    "us": 1e-6,
    "µs": 1e-6,
    "ms": 1e-3,
    "s": 1.0,
    "m": 60.0,
    "min": 60.0,
    "h": 3600.0,
    "d": 86400.0,
    "w": 604800.0,
}
_BYTES: Final = {
    "B": 1,
    "kB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "TB": 10**12,
    "KiB": 2**10,
    "MiB": 2**20,
    "GiB": 2**30,
    "TiB": 2**40,
}
LONGEST_S: Final = 10 * 366 * 86400.0
"""No trace, and nothing that happens in one, is longer than ten years [s]."""
MOST_MONEY: Final = 10**12
_MOST_PLACES: Final = 18
_NUMBER_AND_UNIT: Final = re.compile(r"\s*([0-9]{1,30}(?:\.[0-9]*)?|\.[0-9]+)\s*([A-Za-zµ]+|%)\s*")

_NUMBER: Final = r"(?:[0-9]{1,30}(?:\.[0-9]*)?|\.[0-9]+)"
DURATION_PATTERN: Final = rf"^(?:\s*{_NUMBER}\s*(?:{'|'.join(sorted(_SECONDS, key=len, reverse=True))})\s*)+$"
SIZE_PATTERN: Final = rf"^\s*{_NUMBER}\s*(?:{'|'.join(sorted(_BYTES, key=len, reverse=True))})\s*$"
SHARE_PATTERN: Final = rf"^\s*{_NUMBER}\s*%\s*$"
FRACTION_PATTERN: Final = r"^\s*(?:0*100(?:\.0*)?|0*[0-9]{1,2}(?:\.[0-9]*)?|\.[0-9]+)\s*%\s*$"
MONEY_PATTERN: Final = r"^\s*\+?(?:[0-9_]+(?:\.[0-9_]*)?|\.[0-9_]+)(?:[eE][+-]?[0-9]+)?\s*$"
"""What texts are allowed, for editors."""

DURATION: Final = 'a duration such as "250ms", "40s", "2h" or "1h 30m", or a number of seconds'
NUMBER: Final = "a number such as 0.5"
SIZE: Final = 'a size such as "512 MB" or "2 GiB", or a number of bytes'
SHARE: Final = 'a share such as "60%" or 0.6'
MONEY: Final = 'an amount of money such as 12.50 or "0.031"'


def _plain_number(value: object) -> float | None:
    """The value as a float if it is a number and not a truth value, else None."""
    if isinstance(value, bool) or not isinstance(value, int | float | Decimal):
        return None
    try:
        return float(value)
    except (OverflowError, ValueError):  # 10**400, or a signalling NaN
        return math.inf


def parse_duration(value: object) -> float:
    """Seconds from `"250ms"`, `"1h 30m"` or a bare number of seconds; never negative.

    Raises:
        UnitError: not a duration, negative or not finite.

    Example:
        >>> parse_duration("1h 30m")
        5400.0
    """
    number = _plain_number(value)
    if number is None and isinstance(value, str):
        parts = list(_NUMBER_AND_UNIT.finditer(value))
        whole = bool(parts) and "".join(part.group() for part in parts) == value
        if whole and all(part[2] in _SECONDS for part in parts):
            # Divide rather than multiply by 1e-3: "250ms" is then the very float 0.25.
            number = math.fsum(
                float(part[1]) * scale if (scale := _SECONDS[part[2]]) >= 1 else float(part[1]) / round(1 / scale)
                for part in parts
            )
    if number is None or not math.isfinite(number) or number < 0:
        raise UnitError(value, DURATION)
    if number > LONGEST_S:
        raise UnitError(value, f"{DURATION}, at most ten years")
    return number


def parse_size(value: object) -> int:
    """Bytes from `"512 MB"` or a bare number of bytes; a gigabyte is 1e9 bytes.

    Raises:
        UnitError: not a size, negative or not finite.

    Example:
        >>> parse_size("2 GB")
        2000000000
    """
    number = _plain_number(value)
    if number is None and isinstance(value, str):
        match = _NUMBER_AND_UNIT.fullmatch(value)
        if match and match[2] in _BYTES:
            number = float(match[1]) * _BYTES[match[2]]
    if number is None or not math.isfinite(number) or number < 0 or number > 1e18:
        raise UnitError(value, f"{SIZE}, at most 1000000 TB")
    return round(number)


def parse_share(value: object) -> float:
    """A fraction from `"60%"` or 0.6; not negative, and above 1 only where the caller lets it.

    Raises:
        UnitError: not a share, negative or not finite.

    Example:
        >>> parse_share("99.9%")
        0.999
    """
    number = _plain_number(value)
    if number is None and isinstance(value, str):
        match = _NUMBER_AND_UNIT.fullmatch(value)
        if match and match[2] == "%":
            number = float(Decimal(match[1]) / 100)
    if number is None or not math.isfinite(number) or number < 0:
        raise UnitError(value, SHARE)
    return number


def parse_number(value: object) -> float:
    """A number from `"0.5"` or 0.5; not negative.

    Raises:
        UnitError: not a number, negative or not finite.
    """
    try:
        number = float(value) if isinstance(value, str | int | float) and not isinstance(value, bool) else math.nan
    except ValueError:
        number = math.nan
    if not math.isfinite(number) or number < 0:
        raise UnitError(value, NUMBER)
    return number


def number_or_text(text: str) -> str | float:
    """A bare number as a number, anything else as the text without blanks around it.

    Example:
        >>> number_or_text("0.5"), number_or_text(" 5% ")
        (0.5, '5%')
    """
    try:
        return float(text)
    except ValueError:
        return text.strip()


def parse_range(text: object, parse: Callable[[object], float] = parse_number) -> tuple[float, float]:
    """Two ends from `"0.1..10"`, or one value for both.

    Args:
        text: with two points between the ends.
        parse: how an end is read.

    Raises:
        UnitError: an end is not allowed, or they do not rise.

    Example:
        >>> parse_range("5%..12%", parse_share)
        (0.05, 0.12)
    """
    low, dots, high = str(text).partition("..")
    ends = parse(number_or_text(low)), parse(number_or_text(high if dots else low))
    if ends[0] > ends[1]:
        raise UnitError(text, "a range whose ends rise, such as 1..5")
    return ends


def parse_money(value: object) -> Decimal:
    """An exact amount from 0.031, `"0.031"` or a Decimal; never negative.

    A float counts as the shortest decimal that denotes it, as a person would have typed it.

    Raises:
        UnitError: not an amount, negative or not finite.
    """
    amount: Decimal | None = None
    if isinstance(value, int | float | str | Decimal) and not isinstance(value, bool):
        try:
            amount = value if isinstance(value, Decimal) else Decimal(str(value))
        except InvalidOperation:
            amount = None
    if amount is None or not amount.is_finite() or amount < 0:
        raise UnitError(value, MONEY)
    if amount > MOST_MONEY or amount.as_tuple().exponent < -_MOST_PLACES:  # type: ignore[operator]
        raise UnitError(value, f"{MONEY}, at most {MOST_MONEY:,}, with at most {_MOST_PLACES} decimal places")
    return amount


def to_cent(amount: Decimal) -> Decimal:
    """The amount to two places, half to even."""
    return amount.quantize(Decimal("0.01"), rounding=ROUND_HALF_EVEN)


def show_duration(seconds: float | None) -> str:
    """Three figures at most, in the unit that a person would choose: `43 ms`, `1.25 s`, `3 min 20 s`.

    Less than a nanosecond is what is left of rounding, and shown as `0 s`.
    """
    if seconds is None or math.isnan(seconds):
        return "-"
    if math.isinf(seconds):
        return "no limit"
    if seconds < 1e-9:
        return "0 s"
    if seconds < 0.9995e-6:
        return f"{seconds * 1e9:.3g} ns"
    if seconds < 0.9995e-3:
        return f"{seconds * 1e6:.3g} µs"
    if seconds < 0.9995:
        return f"{seconds * 1e3:.3g} ms"
    if seconds < 59.95:
        return f"{seconds:.3g} s"
    whole = round(seconds)
    if whole < 3600:
        return _two_units(whole, 60, "min", 1, "s")
    if whole < 86400:
        return _two_units(whole, 3600, "h", 60, "min")
    return _two_units(whole, 86400, "d", 3600, "h")


def show_count(number: float) -> str:
    """A number of things: `350`, `2,000,000`, `0.5`."""
    return f"{number:,.10g}"


def _two_units(whole: int, size: int, name: str, small_size: int, small_name: str) -> str:
    count, rest = divmod(whole, size)
    small = rest // small_size
    return f"{count} {name} {small} {small_name}" if small else f"{count} {name}"


def show_rate(per_s: float) -> str:
    """`41 requests a second`; below one, so many a minute.

    Example:
        >>> show_rate(41.3), show_rate(0.25)
        ('41 requests a second', '15 requests a minute')
    """
    if per_s >= 1:
        return f"{per_s:,.0f} requests a second" if per_s >= 10 else f"{per_s:.2g} requests a second"
    return f"{60 * per_s:.2g} requests a minute"


def show_share(share: float | None, places: int = 1) -> str:
    """A percentage, rounded down so that 99.96 % is never shown as 100 %."""
    if share is None or math.isnan(share):
        return "-"
    if share > 1e9:
        return f"{share * 100:.3g} %"
    scale = 10**places
    return f"{math.floor(share * 100 * scale + 1e-7) / scale:.{places}f} %"


def show_availability(share: float | None) -> str:
    """A share of requests or minutes that were as they should be, rounded down: `91.77 %`, `99.986 %`, `100 %`.

    Where most are, the third place counts; 100 % is only shown when it is all of them.
    """
    if share == 1:
        return "100 %"
    return show_share(share, 2 if share is None or share < 0.99 else 3)


def about_share(share: float | None, wanted: float) -> str:
    """A share of requests in a sentence, as exactly as some thousand failures can tell: `91.8 %`, `99.99 %`.

    Never so rough that it looks like the one that was wanted where it is another.
    """
    if share is None or share == 1:
        return show_availability(share)
    missing = 100 * (1 - share)
    places = max(1, -math.floor(math.log10(missing)) + (0 if missing < 0.1 else 1)) if missing < 1 else 1
    while places < 9 and (share >= wanted) != (
        math.floor(100 * share * 10**places + 1e-7) >= 100 * wanted * 10**places - 1e-7
    ):
        places += 1
    return show_share(share, places)


def about_money(amount: Decimal | float, currency: str, wanted: Decimal | float | None = None) -> str:
    """An amount in a sentence, as exactly as a day can tell what a month costs: `137 EUR`, `65.1 EUR`, `1,370 EUR`.

    To the cent where it would else look like the one that was wanted.
    """
    rough = float(f"{float(amount):.3g}")
    if wanted is not None and (rough <= float(wanted)) != (float(amount) <= float(wanted)):
        return show_money(amount, currency)
    places = 0 if abs(rough) >= 100 else 1 if abs(rough) >= 10 else 2
    return f"{rough:,.{places}f} {currency}"


def show_money(amount: Decimal | float, currency: str) -> str:
    """An amount to the cent with its currency: `1,204.50 EUR`."""
    return f"{to_cent(Decimal(str(amount))):,} {currency}"
