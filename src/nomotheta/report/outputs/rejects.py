"""The rows that the loads of a run set aside and that are open, as they may be shown, a row for each fault."""

from __future__ import annotations

from typing import Any

from nomotheta.ledger import ShownReject
from nomotheta.report.outputs import Shown
from nomotheta.report.outputs.findings import of_load

_TYPES = {"line": "int64", "record": "int64"}


def table_of(shown: Shown) -> Any:
    """The faults as a `pa.Table`, with the table and its load before them."""
    import pyarrow as pa

    names = ("file", "line", "record", "column", "value", "reason", "message", "original")
    schema = pa.schema([(name, pa.type_for_alias(_TYPES.get(name, "string"))) for name in names])
    tables = []
    for each in shown.run.tables:
        faults: list[ShownReject] = (
            list(shown.aside(each.load.load_no)) if each.load.rejects and each.load.load_no else []
        )
        rows = [{name: getattr(fault, name) for name in names} for fault in faults]
        tables.append(of_load(pa.Table.from_pylist(rows, schema), each.load))
    return pa.concat_tables(tables)
