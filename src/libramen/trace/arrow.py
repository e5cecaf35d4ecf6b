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


def cells_to_numbers(cells: pa.Array, kind: pa.DataType) -> np.ndarray:
    """Text that is known to be numbers."""
    return to_numpy(pc.cast(cells.cast(pa.string()), kind))
