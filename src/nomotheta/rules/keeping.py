"""All rows that break rules, kept in a file: each rule's name, and the row with its columns in their kinds."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

from nomotheta.charter import Check
from nomotheta.conditions import own, quoted
from nomotheta.errors import DeclarationError, NomothetaError
from nomotheta.kinds.formulas import safe_cells
from nomotheta.kinds.read import arrow_type
from nomotheta.rules.anew import as_kind
from nomotheta.rules.finding import HIDDEN
from nomotheta.rules.question import Question

if TYPE_CHECKING:
    from nomotheta.place.base import Place
    from nomotheta.rules.anew import Anew

FORMS = (".parquet", ".csv")


class Kept:
    """A file of breaking rows: Parquet or CSV by its ending, written whole or not at all."""

    def __init__(self, path: Path) -> None:
        if path.suffix not in FORMS:
            raise DeclarationError(f"'{path.name}' is neither .parquet nor .csv", mend="name such a file, or a folder")
        self.path, self.rows = path, 0
        self._part = path.with_name(f".{path.name}.part")
        self._writer: Any = None
        self._file: Any = None

    def take(self, question: Question, check: Check, asked: Place | Anew, where: str | None) -> None:
        """Add the rows of a table that meet a condition in the SQL of who answers."""
        names = [name for name in question.shape if name in question.kinds]
        private = question.private
        fields = [(name, pa.string() if name in private else arrow_type(question.kinds[name])) for name in names]
        schema = pa.schema([("rule", pa.string()), *fields])
        listed = ", ".join(f"{quoted(name)} AS {quoted(own(str(at)))}" for at, name in enumerate(names))
        found = asked.fetch(f"SELECT {listed} {asked.rowset(question.table, where)}")
        columns = [
            pa.array([None if value is None else HIDDEN for value in found.column(at).to_pylist()], pa.string())
            if name in private
            else as_kind(found.column(at), question.kinds[name])
            for at, name in enumerate(names)
        ]
        rule = pa.array([check.name] * found.num_rows, pa.string())
        self._write(pa.table([rule, *columns], schema).to_batches(), schema)
        self.rows += found.num_rows

    def _write(self, batches: Iterable[Any], schema: Any) -> None:
        try:
            if self._writer is None:
                self._file = self._part.open("wb")
                kind = pyarrow.parquet.ParquetWriter if self.path.suffix == ".parquet" else pyarrow.csv.CSVWriter
                self._writer = kind(self._file, schema)
            for batch in batches:
                self._writer.write_batch(batch if self.path.suffix == ".parquet" else _safe(batch))
        except OSError as error:
            raise NomothetaError(f"the rows cannot be kept: {error.strerror}", where=str(self.path)) from None

    def close(self) -> None:
        """Put the file where it belongs; none where nothing broke a rule."""
        if self._writer is None:
            return
        self._writer.close()
        self._file.close()
        os.replace(self._part, self.path)  # noqa: PTH105 - in one step


def _safe(batch: Any) -> Any:
    """A batch whose texts no spreadsheet takes for formulas."""
    columns = [safe_cells(column) if pa.types.is_string(column.type) else column for column in batch.columns]
    return pa.record_batch(columns, schema=batch.schema)
