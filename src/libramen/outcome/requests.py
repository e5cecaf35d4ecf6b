"""The table of the requests of a replay."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from libramen.engine.border.records import ENDINGS, Results
from libramen.study.edge import EDGE
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    import pandas as pd


def requests_table(trace: Trace, results: Results, regions: Sequence[str | None] = (None,)) -> pa.Table:
    """One row per request, in order of arrival; see `Outcome.requests`. `regions`: of each server of the replay."""
    routes = pa.DictionaryArray.from_arrays(trace.route_codes, list(trace.routes))
    endings = pa.DictionaryArray.from_arrays(results.ending.astype(np.int8), list(ENDINGS))
    places: dict[str, pa.Array] = {}
    if trace.area is not None:
        places["area"] = pa.DictionaryArray.from_arrays(trace.area, list(trace.areas))
    if regions[0] is not None:
        names = [*dict.fromkeys(regions), EDGE]
        of_each = np.array([*(names.index(name) for name in regions), len(names) - 1], np.int32)
        code = of_each[np.minimum(results.server, len(regions))]
        places["region"] = pa.DictionaryArray.from_arrays(code, names)
    return pa.table(
        {
            "at_s": trace.at_s,
            "route": routes,
            "latency_s": results.latency_s,
            "queued_s": results.queued_s,
            "ending": endings,
            "replica": pa.array(results.replica, mask=results.replica == 0),
            "attempts": results.attempts,
            **places,
        }
    )


def requests_frame(table: pa.Table) -> pd.DataFrame:
    """The same for pandas."""
    frame: pd.DataFrame = table.to_pandas(types_mapper=_nullable_integers)
    return frame


def _nullable_integers(kind: pa.DataType) -> Any:
    """A replica may be missing, so its column is pandas' nullable integer."""
    import pandas as pd

    return pd.Int32Dtype() if str(kind) == "int32" else None
