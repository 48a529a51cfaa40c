"""The findings of a run, a row for each rule of each table."""

from __future__ import annotations

from typing import Any

from nomotheta.ledger import LoadResult
from nomotheta.report.outputs import Shown


def table_of(shown: Shown) -> Any:
    """The findings as a `pa.Table`, with the table and its load before them."""
    import pyarrow as pa

    return pa.concat_tables(of_load(each.load.to_arrow(), each.load) for each in shown.run.tables)


def of_load(rows: Any, load: LoadResult) -> Any:
    """A `pa.Table` with the table and the number of a load before its columns."""
    import pyarrow as pa

    named = rows.add_column(0, "load_no", pa.repeat(pa.scalar(load.load_no, pa.int64()), len(rows)))
    return named.add_column(0, "table", pa.repeat(pa.scalar(load.table), len(rows)))
