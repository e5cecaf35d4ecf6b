"""What a result is: a frozen dataclass of plain values, which becomes JSON and is made of it again."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated, Any, Self

from pydantic import BeforeValidator, Field, PlainSerializer, TypeAdapter

_adapters: dict[type, TypeAdapter[Any]] = {}


def _adapter(kind: type) -> TypeAdapter[Any]:
    if kind not in _adapters:
        _adapters[kind] = TypeAdapter(kind)
    return _adapters[kind]


class Result:
    """The base of such dataclasses; their fields are the keys."""

    def to_dict(self) -> dict[str, Any]:
        """As the JSON of the command line: plain numbers, None for what does not exist."""
        document: dict[str, Any] = _adapter(type(self)).dump_python(self, mode="json", warnings=False, by_alias=True)
        return document

    @classmethod
    def from_dict(cls, document: dict[str, Any]) -> Self:
        """What `to_dict` has written.

        Raises:
            ValueError: it is no such document.
        """
        found: Self = _adapter(cls).validate_python(document)
        return found


def _decimal(places: str) -> BeforeValidator:
    """A number with so many decimals; JSON has floats, whose shortest form is what was written."""

    def read(value: object) -> object:
        return Decimal(repr(value)).quantize(Decimal(places)) if isinstance(value, float) else value

    return BeforeValidator(read)


Cents = Annotated[Decimal, _decimal("0.01"), PlainSerializer(float)]
Millionths = Annotated[Decimal, _decimal("0.000001"), PlainSerializer(float)]
Price = Annotated[
    Decimal,
    BeforeValidator(lambda value: Decimal(repr(value)) if isinstance(value, float) else value),
    PlainSerializer(float),
]
Count = Annotated[int, Field(alias="requests")]
"""How many requests: `requests` in JSON, where there are no frames that are called so."""
Number = Annotated[float | Decimal, PlainSerializer(float)]
"""A figure that is money, and decimal, or anything else."""
