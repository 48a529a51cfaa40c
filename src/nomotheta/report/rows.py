"""Rows that differ as a file: CSV for a spreadsheet, or Parquet."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from nomotheta.errors import DeclarationError
from nomotheta.kinds.formulas import safe_cells
from nomotheta.reconcile import Reconciliation
from nomotheta.report.write import write_parts


def write_differences(results: Sequence[Reconciliation], path: Path) -> int:
    """Write the rows that differ, a line for each cell, to a file; how many lines.

    Raises:
        DeclarationError: it cannot be written.
    """
    import pyarrow as pa

    tables = [
        each.to_arrow().add_column(0, "comparison", pa.repeat(pa.scalar(each.caption()), len(each.as_rows())))
        for each in results
    ]
    return write_table(pa.concat_tables(tables), path)


def write_table(table: Any, path: Path) -> int:
    """Write a table to a file, as CSV or, by its name, as Parquet; how many lines.

    Raises:
        DeclarationError: it cannot be written.
    """
    made = io.BytesIO()
    if path.suffix.lower() == ".parquet":
        import pyarrow.parquet as pq

        pq.write_table(table, made)
    else:
        import pyarrow.csv

        pyarrow.csv.write_csv(safe(table), made)
    try:
        write_parts(path, [made.getvalue()])
    except OSError as error:
        raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(path)) from None
    return int(table.num_rows)


def safe(table: Any) -> Any:
    """Cells that a spreadsheet would take for formulas become texts."""
    import pyarrow as pa

    names = [name for name in table.column_names if pa.types.is_string(table.schema.field(name).type)]
    for name in names:
        cells = safe_cells(table.column(name).combine_chunks())
        table = table.set_column(table.column_names.index(name), name, cells)
    return table
