"""Rows set aside: one entry a fault, with everything needed to find the row and to mend it. Kept as Parquet."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.ahead import import_ahead

_FLUSH = 5000
_READ = 4096


@dataclass(frozen=True, slots=True)
class Reject:
    """One fault of one row.

    `line` and `record` count from 1, the record below the header; `offset` is the byte of the file's UTF-8 text at
    which the record begins. `column` is the charter's name and `header` the file's; both are empty for a fault of the
    whole row. `reason` is one of the documented codes, `rule` the check that set it aside. `cells` are the row's values
    by the charter's columns, as far as they could be told.
    """

    file: str
    line: int
    record: int
    offset: int
    column: str
    header: str
    value: str | None
    reason: str
    rule: str
    message: str
    original: str
    cells: tuple[str | None, ...] = ()


_TYPES = dict.fromkeys(("line", "record", "offset"), pa.int64()) | {"cells": pa.list_(pa.string())}
SCHEMA = pa.schema([(each.name, _TYPES.get(each.name, pa.string())) for each in fields(Reject)])


def in_order(tables: Sequence[Any]) -> Any:
    """Tables of rejects as one, those of a row that comes earlier first."""
    whole = pa.concat_tables(tables)
    records = whole["record"].to_numpy()
    return whole.take(pa.array(np.argsort(records, kind="stable")))


class RejectFile:
    """Writes rejects beside `path` and puts them in place when the load has ended; an empty file is not kept."""

    def __init__(self, path: Path) -> None:
        self.path, self._part = path, part_of(path)
        self._pending: list[Any] = []
        self._writer: Any = None

    def add(self, rejects: Any) -> None:
        """Keep some more: a `pa.Table` with a column for each field of a `Reject`."""
        if rejects.num_rows:
            if not self._pending:
                import_ahead("pyarrow.parquet")  # only now: most nights nothing is set aside
            self._pending.append(rejects)
        if sum(table.num_rows for table in self._pending) >= _FLUSH:
            self._flush()

    def _flush(self) -> None:
        if not self._pending:
            return
        if self._writer is None:
            import pyarrow.parquet as pq

            self.path.parent.mkdir(parents=True, exist_ok=True)
            descriptor = os.open(self._part, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600)
            os.close(descriptor)
            self._writer = pq.ParquetWriter(self._part, SCHEMA)
        self._writer.write_table(pa.concat_tables(self._pending))
        self._pending = []

    def keep(self) -> None:
        """Put the file in place."""
        self.finish()
        if self._writer is None:
            self.path.unlink(missing_ok=True)  # of an older ledger that gave the same number
        else:
            self._writer = None
            self._part.replace(self.path)

    def finish(self) -> None:
        """Write all that is still to be written; after that, nothing but the name is missing."""
        self._flush()
        if self._writer is not None:
            self._writer.close()

    def discard(self) -> None:
        """Forget what was written."""
        self._pending = []
        if self._writer is not None:
            self._writer.close()
            self._writer = None
        self._part.unlink(missing_ok=True)


def part_of(path: Path) -> Path:
    """Where the rejects of a load stand until it has ended."""
    return path.with_suffix(".part")


def recover(path: Path, *, stands: bool) -> None:
    """The rejects of a load that was cut off: put in place where it stands, forgotten where it does not."""
    part = part_of(path)
    if part.exists():
        part.replace(path) if stands else part.unlink()


def read_rejects(path: Path, limit: int | None = None) -> Sequence[Reject]:
    """The rejects of a load, in the order of the file; all, or the first `limit`."""
    if not path.exists():
        return []
    import pyarrow.parquet as pq

    found: list[Reject] = []
    for batch in pq.ParquetFile(path).iter_batches(min(limit or _READ, _READ)):
        found += [Reject(**row | {"cells": tuple(row["cells"])}) for row in batch.to_pylist()]
        if limit is not None and len(found) >= limit:
            return found[:limit]
    return found


def left_out(path: Path) -> dict[str, Any]:
    """By file, the numbers of the records that were set aside, each once and in order, as NumPy arrays."""
    if not path.exists():
        return {}
    import pyarrow.parquet as pq

    table = pq.read_table(path, columns=["file", "record"])
    grouped = table.group_by("file").aggregate([("record", "distinct")])
    names, records = grouped.column("file").to_pylist(), grouped.column("record_distinct")
    return {name: records[at].values.sort().to_numpy() for at, name in enumerate(names)}
