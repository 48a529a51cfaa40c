"""The findings of a run as Parquet."""

from __future__ import annotations

import io

from nomotheta.report.outputs import Shown
from nomotheta.report.outputs.findings import table_of


def written(shown: Shown) -> bytes:
    """The same columns as the CSV's, with their types."""
    import pyarrow.parquet as pq

    file = io.BytesIO()
    pq.write_table(table_of(shown), file)
    return file.getvalue()
