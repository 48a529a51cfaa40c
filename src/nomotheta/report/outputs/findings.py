"""The findings of a run, a line for each rule of each table: CSV for a spreadsheet."""

from __future__ import annotations

import io
from typing import Any

from nomotheta.report.outputs import Shown
from nomotheta.report.rows import safe


def table_of(shown: Shown) -> Any:
    """The findings as a `pa.Table`, with the table and its load before them."""
    import pyarrow as pa

    made = []
    for each in shown.run.tables:
        found = each.load.to_arrow()
        number = pa.array([each.load.load_no] * len(found), pa.int64())
        named = found.add_column(0, "load_no", number)
        made.append(named.add_column(0, "table", pa.array([each.table] * len(found), pa.string())))
    return pa.concat_tables(made)


def written(shown: Shown) -> bytes:
    """As CSV (RFC 4180); what a spreadsheet would take for a formula is a text."""
    import pyarrow.csv

    file = io.BytesIO()
    pyarrow.csv.write_csv(safe(table_of(shown)), file)
    return file.getvalue()
