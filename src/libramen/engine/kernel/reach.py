"""How the compiled functions reach into the arrays of `layout`, and with which options they are compiled.

They pass on two records, `w` and that of a fleet, `f`, and reach everything through the addresses in them, as C
would. Passing arrays instead costs: each is a structure of seven words that counts its owners, atomically. A function
that is handed twenty of them takes some 80 ns more for each call, with three 10 ns, where a request takes 250 ns and
some ten calls; all of them in one tuple took 105 s to compile instead of 10. `state` keeps the arrays alive and the
addresses true.

All functions are compiled twice, from one source: for records of which every field is looked up, and for LEAN ones, of
which some fields are known beforehand. What they switch off (CPU that is lent, calls, versions) is left out by
the compiler then, as is every write to them. `state` takes the lean variant where the fields are so.

Under NUMBA_DISABLE_JIT=1 everything here is ordinary Python, slow and checked: an address or an index that is wrong
then raises an error instead of reading what does not belong to it.
"""

from __future__ import annotations

from typing import Any, Final
from weakref import WeakValueDictionary

import numba
import numba.extending
import numpy as np
from numba.core import cgutils
from numba.core.datamodel import models
from numba.np.arrayobj import record_getattr, record_setattr

from libramen.base.times import EPSILON_S, EXACT_S
from libramen.engine.border.records import RESULT
from libramen.engine.kernel import layout, parts
from libramen.engine.kernel.fields import LEAN

CHECKED: Final[bool] = bool(numba.config.DISABLE_JIT)  # type: ignore[attr-defined]
"""Whether nothing is compiled."""

_OPTIONS: Final[dict[str, Any]] = {
    "error_model": "numpy",
    # Nothing but compiled code calls them: without wrappers for other callers they compile sooner.
    "no_cpython_wrapper": True,
    "no_cfunc_wrapper": True,
    "_nrt": False,
}
inner: Final[Any] = numba.njit(forceinline=True, **_OPTIONS, **parts.PART)
"""For what happens at every request: it becomes part of `advance`."""

seldom: Final[Any] = numba.njit(forceinline=False, **_OPTIONS, **parts.PART)
"""For what is called seldom, or from many places: a function of its own, so that compiling stays quick."""

apart: Final[Any] = numba.njit(forceinline=False, **_OPTIONS, **parts.APART)
"""For what must not stand in the way of what happens at every request: kept out of its callers."""


# -- records of which some fields are known beforehand -----------------------------------------------


class _Record(numba.types.Record):
    """A record of which some fields may be known: those are never read, nor written.

    None is ever taken for another. The compiler would take a full record for a lean one, since they have the same
    fields, and warn of that; where Python makes errors of warnings, nothing was compiled then.
    """

    def __init__(self, name: str, kept: numba.types.Record, known: dict[str, Any]) -> None:
        fields: Any = [(field, at._asdict()) for field, at in kept.fields.items()]
        super().__init__(fields, kept.size, kept.aligned)
        self.known, self.kept = known, kept
        self.name = name  # that of the compiler has all fields in it, and is read a great many times

    def __repr__(self) -> str:
        return self.name

    def typeof(self, key: str) -> Any:
        """What reading a field gives: whole numbers of any width are int64, so that nothing is compiled for each."""
        kept = self.kept.typeof(key)
        return numba.int64 if isinstance(kept, numba.types.Integer) else kept

    def can_convert_to(self, typingctx: Any, other: Any) -> None:
        """Never: what is not the same type is another one."""


if not CHECKED:
    numba.extending.register_model(_Record)(models.RecordModel)

    @numba.extending.lower_getattr_generic(_Record)
    def _read_field(context, builder, record, value, field):
        if field in record.known:
            return context.get_constant(record.typeof(field), record.known[field])
        found = record_getattr(context, builder, record.kept, value, field)
        return context.cast(builder, found, record.kept.typeof(field), record.typeof(field))

    @numba.extending.lower_setattr_generic(_Record)
    def _write_field(context, builder, signature, arguments, field):
        record, kind = signature.args
        if field not in record.known:
            record_setattr(context, builder, numba.void(record.kept, kind), arguments, field)


def _dtype(name: str) -> np.dtype[Any]:
    """That of records of a kind."""
    found: np.dtype[Any] = RESULT if name == "RESULT" else getattr(layout, name)
    return found


def _types(name: str) -> tuple[Any, Any]:
    """The compiler's type of such records, and of lean ones."""
    kept = numba.from_dtype(_dtype(name))
    full = _Record(name, kept, {})
    return full, _Record(f"LEAN_{name}", kept, LEAN[name]) if LEAN.get(name) else full


def _checked(address: int, index: int, kind: Any) -> np.ndarray:
    """What an index from an address means in the array that it points into: one of `kind`."""
    start = max(begin for begin in ARRAYS if begin <= address)
    raw = ARRAYS[start].reshape(-1).view(np.uint8)
    at, size = address - start + index * np.dtype(kind).itemsize, np.dtype(kind).itemsize
    if not 0 <= at <= len(raw) - size:
        raise IndexError(f"byte {at} in an array of {len(raw)} bytes: {ARRAYS[start].dtype}")
    return raw[at : at + size].view(kind)


ARRAYS: Final[WeakValueDictionary[int, np.ndarray]] = WeakValueDictionary()
"""Where the arrays of all data planes that are alive begin, for the checked way only."""


def address_of(array: np.ndarray) -> int:
    """Where an array begins, which stays so while somebody keeps it."""
    address = array.ctypes.data  # its interface would also list all fields of a record, which takes long
    if CHECKED:
        ARRAYS[address] = array
    return address


def is_lean(world: np.ndarray, fleets: np.ndarray) -> bool:
    """Whether the fields of these records are as LEAN has them, so that those of their replicas and visits will be."""
    some = {"WORLD": world, "FLEET": fleets}
    return all(bool((some[name][field] == value).all()) for name in some for field, value in LEAN[name].items())


if CHECKED:
    np.seterr(over="ignore")  # random numbers are made of products that wrap around


def _records(name: str) -> Any:
    """A function (address, index) -> that record of an array of them."""
    if CHECKED:
        return lambda address, index: _checked(address, index, _dtype(name)).view(np.recarray)[0]
    record, _ = _types(name)

    def reach(_typing_context, _address, _index):
        def generate(context, builder, _signature, arguments):
            first = builder.inttoptr(arguments[0], context.get_value_type(record))
            return builder.gep(first, [arguments[1]])

        return record(numba.int64, numba.int64), generate

    return numba.extending.intrinsic(reach)


def _records_of(field: str, name: str) -> Any:
    """A function (owner, index) -> that record of the array at whose address a field of the owner points.

    Of a lean owner it is lean.
    """
    if CHECKED:
        return lambda owner, index: _checked(getattr(owner, field), index, _dtype(name)).view(np.recarray)[0]
    full, lean = _types(name)

    def reach(_typing_context, owner, _index):
        record = lean if owner.known else full

        def generate(context, builder, signature, arguments):
            address = context.get_getattr(owner, field)(context, builder, owner, arguments[0], field)
            first = builder.inttoptr(address, context.get_value_type(signature.return_type))
            return builder.gep(first, [arguments[1]])

        return record(owner, numba.int64), generate

    return numba.extending.intrinsic(reach)


def _copier(field: str, name: str) -> Any:
    """A function (owner, to, from) that copies a record of the array at whose address a field of the owner points."""
    if CHECKED:

        def copy(owner: Any, to: int, index: int) -> None:
            kind = _dtype(name)
            _checked(getattr(owner, field), to, kind)[:] = _checked(getattr(owner, field), index, kind)

        return copy
    full, _ = _types(name)

    def copied(_typing_context, owner, _to, _index):
        def generate(context, builder, _signature, arguments):
            address = context.get_getattr(owner, field)(context, builder, owner, arguments[0], field)
            first = builder.inttoptr(address, context.get_value_type(full))
            there, here = (builder.gep(first, [at]) for at in arguments[1:])
            cgutils.raw_memcpy(builder, there, here, context.get_constant(numba.intp, 1), _dtype(name).itemsize)
            return context.get_dummy_value()

        return numba.void(owner, numba.int64, numba.int64), generate

    return numba.extending.intrinsic(copied)


def _world() -> Any:
    """A function (address, lean) -> the record there."""
    if CHECKED:
        return lambda address, _lean: _checked(address, 0, layout.WORLD).view(np.recarray)[0]
    types = _types("WORLD")

    def reach(_typing_context, _address, lean):
        record = types[lean.literal_value]

        def generate(context, builder, _signature, arguments):
            return builder.inttoptr(arguments[0], context.get_value_type(record))

        return record(numba.int64, lean), generate

    return numba.extending.intrinsic(prefer_literal=True)(reach)


def _reader(kind: Any, dtype: str) -> Any:
    """A function (address, index) -> that number of an array of them."""
    if CHECKED:
        return lambda address, index: _checked(address, index, dtype)[0]

    found = numba.int64 if kind == numba.int32 else kind

    def read(_typing_context, _address, _index):
        def generate(context, builder, _signature, arguments):
            first = builder.inttoptr(arguments[0], context.get_value_type(kind).as_pointer())
            return context.cast(builder, builder.load(builder.gep(first, [arguments[1]])), kind, found)

        return found(numba.int64, numba.int64), generate

    return numba.extending.intrinsic(read)


def _writer(kind: Any, dtype: str) -> Any:
    """A function (address, index, number) that writes it there."""
    if CHECKED:

        def put(address: int, index: int, number: Any) -> None:
            _checked(address, index, dtype)[0] = number

        return put

    def write(_typing_context, _address, _index, _number):
        def generate(context, builder, _signature, arguments):
            first = builder.inttoptr(arguments[0], context.get_value_type(kind).as_pointer())
            builder.store(arguments[2], builder.gep(first, [arguments[1]]))
            return context.get_dummy_value()

        return numba.void(numba.int64, numba.int64, kind), generate

    return numba.extending.intrinsic(write)


world_at = _world()
fleet_at, visit_at = _records_of("fleets", "FLEET"), _records_of("visits", "VISIT")
replica_at, copy_visit = _records_of("replicas", "REPLICA"), _copier("visits", "VISIT")
client_at, level_at, node_at, entry_at = map(_records, ("CLIENT", "LEVEL", "NODE", "HEAP"))
use_at, pool_at, sent_at, timed_at = map(_records, ("USE", "POOL", "SENT", "TIMED"))
result_at, ended_at = map(_records, ("RESULT", "ENDED_VISIT"))
float_at, int_at, int32_at = _reader(numba.float64, "f8"), _reader(numba.int64, "i8"), _reader(numba.int32, "i4")
set_float, set_int, set_int32 = _writer(numba.float64, "f8"), _writer(numba.int64, "i8"), _writer(numba.int32, "i4")


@inner
def tolerance_s(at_s):
    """How little apart two instants are that count as one [s]; see `plane.tolerance_s`."""
    if EXACT_S < at_s < np.inf:
        return 2.0 * np.spacing(at_s)
    return EPSILON_S


@inner
def lesser(a, b):
    """The lesser of two numbers: one instruction, where `min` looks after what is not a number."""
    return min(b, a)


@inner
def heap_of(replica, kind):
    """Where a heap of a replica begins."""
    return replica.heap + layout.NEXT_HEAP * kind
