"""The rows that differ in the reconciliations and comparisons of a run, as far as it kept them, a row for each cell."""

from __future__ import annotations

from typing import Any

from nomotheta.reconcile import Reconciliation
from nomotheta.report.outputs import Shown


def table_of(shown: Shown) -> Any:
    """The cells as a `pa.Table`, with the table and what was compared before them."""
    import pyarrow as pa

    types = {"text": pa.string(), "integer": pa.int64()}
    columns = {"table": "text", "over": "text", **Reconciliation.COLUMNS}
    rows = [
        {"table": each.table, "over": each.reconciliation.over, **row}
        for each in shown.run.tables
        if each.reconciliation is not None
        for row in each.reconciliation.as_rows()
    ]
    return pa.Table.from_pylist(
        [{name: row.get(name) for name in columns} for row in rows],
        pa.schema([(name, types[kind]) for name, kind in columns.items()]),
    )
