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


def numbers_of(cells: pa.Array) -> np.ndarray:
    """Text as float64; what is no plain number, such as `-`, is NaN."""
    fits = pc.match_substring_regex(cells, pattern=rb"^\d+(?:\.\d+)?$")
    where = to_numpy(fits)
    values = np.full(len(where), np.nan)
    values[where] = to_numpy(pc.cast(pc.filter(cells, fits).cast(pa.string()), pa.float64()))
    return values


def coded(cells: pa.Array) -> tuple[np.ndarray, list[bytes]]:
    """Text as indices into its distinct texts."""
    encoded = cells.dictionary_encode()
    return to_numpy(encoded.indices), encoded.dictionary.to_pylist()
