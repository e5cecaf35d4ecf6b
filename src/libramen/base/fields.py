"""How the tables of a study are declared: the base class and the field types.

A field's type reads what a person writes (`"250ms"`) and says what is allowed; `describe` turns
pydantic's report into the one sentence that a user reads.
"""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Final, Self, TypeVar, get_args, get_origin

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, WithJsonSchema
from pydantic_core.core_schema import ErrorType

from libramen.base import units
from libramen.base.errors import StudyError, UnitError

if TYPE_CHECKING:
    from pydantic_core import ErrorDetails


_Number = TypeVar("_Number", int, float)


def text_or_number(text: str, pattern: str, *more: Any, **limits: float) -> WithJsonSchema:
    """What editors know of a value that may be a text or a number.

    Args:
        text: what is allowed, in words.
        pattern: of a text.
        more: schemas of other things that it may be.
        limits: of a number, as JSON Schema calls them. Default: 0 or more.
    """
    kinds = [{"type": "number", **(limits or {"minimum": 0})}, {"type": "string", "pattern": pattern}, *more]
    return WithJsonSchema({"anyOf": kinds, "description": text})


def _positive(read: Callable[[object], _Number], allowed: str) -> Callable[[object], _Number]:
    def check(value: object) -> _Number:
        number = read(value)
        if number <= 0:
            raise UnitError(value, f"{allowed}, above 0")
        return number

    return check


def _with_unit_from(limit_s: float, example: str) -> Callable[[object], float]:
    """A duration above 0 that needs a unit where, in seconds, it would be implausibly long."""

    def check(value: object) -> float:
        seconds = units.parse_duration(value)
        if seconds <= 0:
            raise UnitError(value, f"{units.DURATION}, above 0")
        if seconds > limit_s and not isinstance(value, str):
            raise UnitError(
                value,
                f'a time with its unit, such as "{example}": without one it would be {units.show_duration(seconds)}, '
                f'written "{seconds:g} s"; a bare number is at most {limit_s:g}',
            )
        return seconds

    return check


def _fraction(value: object) -> float:
    share = units.parse_share(value)
    if share > 1:
        raise UnitError(value, f"{units.SHARE}, at most 100%")
    return share


Seconds = Annotated[
    float,
    BeforeValidator(units.parse_duration),
    text_or_number(units.DURATION, units.DURATION_PATTERN, minimum=0, maximum=units.LONGEST_S),
]
PositiveSeconds = Annotated[
    float,
    BeforeValidator(_positive(units.parse_duration, units.DURATION)),
    text_or_number(units.DURATION, units.DURATION_PATTERN, exclusiveMinimum=0, maximum=units.LONGEST_S),
]
latency_limit = _with_unit_from(30.0, "300ms")
LatencyLimit = Annotated[
    float,
    BeforeValidator(latency_limit),
    text_or_number(units.DURATION, units.DURATION_PATTERN, exclusiveMinimum=0, maximum=30),
]
"""How long something may take that people wait for."""
Bytes = Annotated[int, BeforeValidator(units.parse_size), text_or_number(units.SIZE, units.SIZE_PATTERN)]
PositiveBytes = Annotated[
    int,
    BeforeValidator(_positive(units.parse_size, units.SIZE)),
    text_or_number(units.SIZE, units.SIZE_PATTERN, exclusiveMinimum=0),
]
Share = Annotated[float, BeforeValidator(units.parse_share), text_or_number(units.SHARE, units.SHARE_PATTERN)]
Fraction = Annotated[
    float, BeforeValidator(_fraction), text_or_number(units.SHARE, units.FRACTION_PATTERN, minimum=0, maximum=1)
]
Money = Annotated[
    Decimal,
    BeforeValidator(units.parse_money),
    text_or_number(units.MONEY, units.MONEY_PATTERN, minimum=0, maximum=units.MOST_MONEY),
]
MOST_REPLICAS: Final = 100_000
"""Each takes some 25 us and 1.3 kB to set up; a fleet of more is a mistake."""


def _no_truth(allowed: str) -> BeforeValidator:
    """`true` is no 1."""

    def checked(value: Any) -> Any:
        if isinstance(value, bool):
            raise UnitError(value, allowed)
        return value

    return BeforeValidator(checked)


_WHOLE, _NUMBER = _no_truth("a whole number"), _no_truth("a number")
Count = Annotated[int, Field(ge=0, le=10**9), _WHOLE]
PositiveCount = Annotated[int, Field(ge=1, le=10**9), _WHOLE]
Replicas = Annotated[int, Field(ge=0, le=MOST_REPLICAS), _WHOLE]
PositiveReplicas = Annotated[int, Field(ge=1, le=MOST_REPLICAS), _WHOLE]
Factor = Annotated[float, Field(ge=1e-6, le=1e6, allow_inf_nan=False), _NUMBER]
"""Of work, of load, of speed: beyond a million it is a mistake, and times would lose their digits."""
AtLeastOne = Annotated[float, Field(ge=1, le=1e6, allow_inf_nan=False), _NUMBER]
NonNegativeNumber = Annotated[float, Field(ge=0, le=1e12, allow_inf_nan=False), _NUMBER]


@dataclass(frozen=True)
class Usual:
    """What a number of a study usually is: metadata of its field. Anything else is asked about, not refused.

    Attributes:
        least, most: in the base unit.
        show: as people write it.
        hint: what may have been mistaken, with a space before it.
    """

    least: float
    most: float
    show: Callable[[float], str]
    hint: str = ""


def usually(most_s: float) -> Usual:
    """Of a duration: at most so long [s]."""
    return Usual(0.0, most_s, units.show_duration, " A number without a unit is in seconds.")


USUAL_SHARE: Final = Usual(0.5, 1.0, units.show_share, ' "99.9%" lets one request in a thousand fail.')
USUAL_GROWTH: Final = Usual(0.0, 1.0, units.show_share, ' 8 % is written "8%" or 0.08.')
USUAL_SPEED: Final = Usual(0.01, 20.0, units.show_count, " It is relative to the reference core, not a clock rate.")
USUAL_CORES: Final = Usual(0.001, 1000.0, units.show_count)


class Table(BaseModel):
    """One table of a study: strict about its keys, and fixed once made.

    Raises:
        StudyError: a key is unknown or missing, or its value is not allowed.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, validate_default=False)
    shown_as: ClassVar[str] = ""
    """What messages call the table, where that is not the name of its class."""

    def __init__(self, **values: Any) -> None:
        try:
            super().__init__(**values)
        except ValidationError as error:
            raise StudyError(
                describe(error, type(self), "", place=type(self).shown_as or type(self).__name__)
            ) from None

    def replace(self, **values: Any) -> Self:
        """A copy with other values, read and checked like those of a file.

        Raises:
            StudyError: a key is unknown, or its value is not allowed.

        Example:
            >>> from libramen import Size
            >>> Size(cores=1, per_hour="0.03").replace(memory="2 GB").memory
            2000000000
        """
        kept = {name: getattr(self, name) for name in self.model_fields_set if name not in values}
        return type(self)(**kept, **values)

    def __setattr__(self, name: str, value: Any) -> None:
        """Refused: a table stays as it was made.

        Raises:
            StudyError: always, but for what is no key.
        """
        if name.startswith("_"):
            super().__setattr__(name, value)
            return
        told = "..." if isinstance(value, BaseModel) else _shown(value)
        raise StudyError(
            f"{type(self).__name__}.{name} cannot be set, since others may use the same table; allowed: a copy with "
            f"another value, .replace({name}={told})"
        )

    def __delattr__(self, name: str) -> None:
        """Refused like setting.

        Raises:
            StudyError: always.
        """
        raise StudyError(
            f"{type(self).__name__}.{name} cannot be deleted; allowed: a copy with another value, .replace()"
        )

    # Tells pydantic that this is its own way of building, so that tables inside tables report to
    # the outermost one, which knows the whole path.
    __init__.__pydantic_base_init__ = True  # type: ignore[attr-defined]


_ALLOWED = {
    "int_type": "a whole number",
    "int_parsing": "a whole number",
    "int_from_float": "a whole number",
    "float_type": "a number",
    "float_parsing": "a number",
    "finite_number": "a finite number",
    "bool_type": "true or false",
    "bool_parsing": "true or false",
    "string_type": "text in quotes",
    "list_type": "a list in square brackets",
    "tuple_type": "a list in square brackets",
    "dict_type": "a table",
    "too_short": "one entry or more",
    "too_long": "fewer entries",
    "decimal_parsing": "a number",
    "decimal_type": "a number",
    "int_parsing_size": "a whole number",
    "string_unicode": "text in quotes",
    "model_type": "a table",
    "model_attributes_type": "a table",
}


def describe(error: ValidationError, model: type[BaseModel], file: str, *, place: str = "") -> str:
    """One sentence for the first of pydantic's complaints: file, table, key, found, allowed.

    Args:
        error: what pydantic raised.
        model: the class that was being read, to find the keys that it would have known.
        file: name of the study file, or empty.
        place: table in which `model` stands, or empty for the file itself.
    """
    details = error.errors()
    # A misspelt key often makes another one "missing": the misspelling is the news.
    first = min(details, key=lambda detail: detail["type"] != "extra_forbidden")
    # Of a number or a table by name, where a table was found, what is wrong within it is the news.
    above = first["loc"][:-1]
    if above and not str(first["loc"][-1]).isidentifier():
        first = max((one for one in details if one["loc"][: len(above)] == above), key=lambda one: len(one["loc"]))
    sentence = _sentence(first, model, place)
    # Of a key that may be one of several things each of these is complained of.
    places = {tuple(_follow(detail["loc"], model)[0]) for detail in details}
    more = sum(not any(other[: len(one)] == one for other in places - {one}) for one in places) - 1
    if more:
        sentence += f" (and {more} more {'mistake' if more == 1 else 'mistakes'})"
    return f"{file}: {sentence}" if file else sentence


def _sentence(detail: ErrorDetails, model: type[BaseModel], place: str) -> str:
    path, known = _follow(detail["loc"], model)
    kind, found = detail["type"], detail["input"]
    # An error of a whole table has no key: the path then names the table only.
    key = path[-1] if path else ""
    where = _table_name(place, path[:-1])
    context = detail.get("ctx", {})
    cause = context.get("error")
    if kind == "extra_forbidden":
        return f"{where}unknown key {key!r}; {nearest(key, known)}"
    if kind == "missing":
        # At the top of a file all keys are tables.
        return f"{where}{key} is missing" if where else f"[{key}] is missing"
    if kind == "value_error" and not isinstance(cause, UnitError):
        return f"{_table_name(place, path)}{cause}"
    if isinstance(cause, UnitError):
        allowed = cause.allowed
    elif kind == "union_tag_invalid":
        tag = str(context["discriminator"]).strip("'")
        return f"{_table_name(place, path)}{tag}: found {context['tag']!r}; allowed: {context['expected_tags']}"
    elif kind == "tag":
        tag, table = context["key"], found if isinstance(found, dict) else {}
        if tag not in table:
            return f"{_table_name(place, path)}{tag} is missing; allowed: {context['names']}"
        return f"{_table_name(place, path)}{tag}: found {_shown(table[tag])}; allowed: {context['names']}"
    elif kind == "union_tag_not_found":
        return f"{_table_name(place, path)}{str(context['discriminator']).strip(chr(39))} is missing"
    elif kind in {"greater_than_equal", "greater_than", "less_than_equal"}:
        words = {"ge": "at least", "gt": "above", "le": "at most"}
        allowed = " and ".join(f"a number {words[name]} {limit}" for name, limit in context.items() if name in words)
    elif kind == "literal_error":
        allowed = context["expected"]
    else:
        ours = kind not in get_args(ErrorType)
        allowed = detail["msg"] if ours else _ALLOWED.get(kind, "another kind of value")
    return f"{where}{key}: found {_shown(found)}; allowed: {allowed}"


def _shown(found: object) -> str:
    text = str(found) if isinstance(found, Decimal) else repr(found)
    return text if len(text) <= 60 else text[:57] + "..."


def _table_name(place: str, path: Sequence[str]) -> str:
    name = ".".join([*([place] if place else []), *path])
    return f"[{name}] " if name else ""


def _follow(loc: tuple[int | str, ...], model: type[BaseModel]) -> tuple[list[str], list[str]]:
    """The path of an error as written in a file, and the keys known where its last step stands."""
    path: list[str] = []
    known: list[str] = []
    tables: list[type[BaseModel]] = [model]  # that may stand here; several: a union, the next step is its tag
    is_named = False  # the next step is a name that the user chose, such as that of a tier
    for step in loc:
        if isinstance(step, int):
            path[-1] += f"[{step + 1}]"  # the second [[rollouts]] is "rollouts[2]", counted as people do
        elif is_named:
            path.append(step)
            is_named = False
        elif len(tables) > 1:
            tables = [table for table in tables if step in _tags(table)]
        elif not step.isidentifier() and path and not tables:
            is_named = step.startswith("dict[")  # which of several things a key may be: nothing that is written
        else:
            path.append(step)
            fields = tables[0].model_fields if tables else {}
            known = list(fields)
            annotation = fields[step].annotation if step in fields else None
            tables, is_named = _tables_in(annotation), get_origin(annotation) is dict
    return path, known


def _tags(table: type[BaseModel]) -> list[Any]:
    """By what a table is known among others of a union: the default of a field, or what it says itself."""
    return [getattr(table, "tag", None), *(field.default for field in table.model_fields.values())]


def _tables_in(annotation: Any) -> list[type[BaseModel]]:
    """The table classes inside an annotation such as `tuple[Rolling | StopStart, ...]`."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [table for part in get_args(annotation) for table in _tables_in(part)]


def nearest(word: str, known: Iterable[str]) -> str:
    """`did you mean 'slots'?` where something is near, else what would be allowed."""
    names = list(known)
    close = difflib.get_close_matches(word, names, n=1, cutoff=0.6)
    if close:
        return f"did you mean {close[0]!r}?"
    return f"allowed: {', '.join(names)}" if names else "no key is allowed here"
