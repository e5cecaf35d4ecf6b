"""Arrow arrays as NumPy arrays, without the pandas that Arrow's own conversion imports (0.3 s)."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc


def to_numpy(array: pa.Array) -> np.ndarray:
    """Numbers or truth values without missing ones; numbers are not copied, and so are read-only."""
    if pa.types.is_boolean(array.type):
        return np.from_dlpack(pc.cast(array, pa.uint8())).astype(bool)
    return np.from_dlpack(array)


def from_numpy(array: np.ndarray) -> pa.Array:
    """Numbers without missing ones, one dimension; they are not copied where they are contiguous."""
    values = np.ascontiguousarray(array)
    kind = pa.from_numpy_dtype(values.dtype)
    return pa.Array.from_buffers(kind, len(values), [None, pa.py_buffer(values)])


def numbers_of(cells: pa.Array) -> np.ndarray:
    """Text as float64; what is no plain number of digits and a point, such as `-`, is NaN."""
    text = cells.cast(pa.string()) if _only_digits(cells) else None
    if text is not None:
        try:
            return to_numpy(pc.cast(text, pa.float64()))
        except pa.ArrowInvalid:  # an empty cell, or two points
            pass
    fits = pc.match_substring_regex(cells, pattern=rb"^(\d+\.?\d*|\.\d+)$")
    where = to_numpy(fits)
    values = np.full(len(where), np.nan)
    values[where] = to_numpy(pc.cast(pc.filter(cells, fits).cast(pa.string()), pa.float64()))
    return values


def _only_digits(cells: pa.Array) -> bool:
    """Whether all text of a column, taken together, is digits and points."""
    _, offsets, data = cells.buffers()
    if data is None or not len(cells):
        return False
    ends = np.frombuffer(offsets, np.int32 if cells.type == pa.binary() else np.int64)
    letters = np.frombuffer(data, np.uint8)[ends[cells.offset] : ends[cells.offset + len(cells)]]
    return bool((((letters >= ord("0")) & (letters <= ord("9"))) | (letters == ord("."))).all())


def coded(cells: pa.Array) -> tuple[np.ndarray, list[bytes]]:
    """Text as indices into its distinct texts."""
    encoded = cells.dictionary_encode()
    return to_numpy(encoded.indices), encoded.dictionary.to_pylist()


def release_unused() -> None:
    """Give memory that Arrow holds ready back to the system."""
    pa.default_memory_pool().release_unused()
