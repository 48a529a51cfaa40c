"""The first rows that broke each rule in a run, as its findings show them, a row for each value."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from nomotheta.report.outputs import Shown


def table_of(shown: Shown) -> Any:
    """The values as a `pa.Table`: tables and rules differ in their columns, so that each value names its own.

    `row` numbers the rows of a rule, and `breaks` counts all that broke it.
    """
    import pyarrow as pa

    schema = pa.schema([
        ("table", pa.string()), ("load_no", pa.int64()), ("rule", pa.string()), ("breaks", pa.int64()),
        ("row", pa.int64()), ("column", pa.string()), ("value", pa.string()),
    ])  # fmt: skip
    return pa.Table.from_pylist(list(_values(shown)), schema)


def _values(shown: Shown) -> Iterator[dict[str, Any]]:
    for each in shown.run.tables:
        for finding in each.load.findings:
            for number, row in enumerate(finding.samples.rows if finding.breaks else (), 1):
                for column, value in zip(finding.samples.columns, row, strict=True):
                    yield {
                        "table": each.table, "load_no": each.load.load_no, "rule": finding.rule,
                        "breaks": finding.breaks, "row": number, "column": column, "value": value,
                    }  # fmt: skip
