"""The table of the requests of a replay."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from libramen.engine.border.records import ENDINGS, Results
from libramen.trace.trace import Trace

if TYPE_CHECKING:
    import pandas as pd


def requests_table(trace: Trace, results: Results) -> pa.Table:
    """One row per request, in order of arrival; see `Outcome.requests`."""
    routes = pa.DictionaryArray.from_arrays(trace.route_codes, list(trace.routes))
    endings = pa.DictionaryArray.from_arrays(results.ending.astype(np.int8), list(ENDINGS))
    return pa.table(
        {
            "at_s": trace.at_s,
            "route": routes,
            "latency_s": results.latency_s,
            "queued_s": results.queued_s,
            "ending": endings,
            "replica": pa.array(results.replica, mask=results.replica == 0),
            "attempts": results.attempts,
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
