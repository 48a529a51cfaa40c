"""All rows that break rules, kept in a file or a table: the name of the rule, and the row as values of its kinds."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

from nomotheta.charter import BREAK_COLUMNS, Check
from nomotheta.conditions import Kind, check, own, quoted
from nomotheta.errors import DeclarationError, NomothetaError, PlaceError
from nomotheta.frozen import frozen
from nomotheta.kinds.formulas import safe_cells
from nomotheta.kinds.read import arrow_type
from nomotheta.rules.anew import as_kind
from nomotheta.rules.finding import HIDDEN
from nomotheta.rules.question import Keeper, Question, Scope

if TYPE_CHECKING:
    from nomotheta.place.base import Place
    from nomotheta.place.render import Now
    from nomotheta.rules.anew import Anew

FORMS = (".parquet", ".csv")
_OF_RULE = dict(zip(BREAK_COLUMNS, (Kind("text"), Kind("text"), Kind("timestamptz")), strict=True))


def _broken(question: Question, asked: Place | Anew, where: str | None, most: int | None = None) -> Any:
    """The rows of a table that meet a condition, so many at most, as a `pa.Table`; what is private is masked."""
    names = [name for name in question.shape if name in question.kinds]
    private = question.private
    fields = [(name, pa.string() if name in private else arrow_type(question.kinds[name])) for name in names]
    listed = ", ".join(f"{quoted(name)} AS {quoted(own(str(at)))}" for at, name in enumerate(names))
    rows = f"SELECT {listed} {asked.rowset(question.table, where)}"
    found = asked.fetch(rows if most is None else f"{rows} LIMIT {most}")
    columns = [
        pa.array([None if value is None else HIDDEN for value in found.column(at).to_pylist()], pa.string())
        if name in private
        else as_kind(found.column(at), question.kinds[name])
        for at, name in enumerate(names)
    ]
    return pa.table(columns, pa.schema(fields))


class Keeping(Keeper, Protocol):
    """Keeps rows until all rules are judged."""

    def done(self, place: Place, scope: Scope) -> None:
        """Put them where they belong, now that the rows of a scope are judged."""


@frozen
class Together:
    """Several that keep the same rows."""

    keepers: Sequence[Keeping]

    def take(self, question: Question, of: Check, asked: Place | Anew, where: str | None) -> None:
        """Have each keep them."""
        for keeper in self.keepers:
            keeper.take(question, of, asked, where)

    def done(self, place: Place, scope: Scope) -> None:
        """Have each put them where they belong."""
        for keeper in self.keepers:
            keeper.done(place, scope)


@dataclass(slots=True)
class KeptInTable:
    """A table beside the one that is judged, which holds the rows that broke rules when it was judged last.

    When all of a table is judged, they take the place of all that was there; those of a load come beside the others.
    """

    table: str
    now: Now
    kinds: dict[str, Kind] = field(default_factory=dict)
    _file: Any = None
    _writer: Any = None

    def take(self, question: Question, of: Check, asked: Place | Anew, where: str | None) -> None:
        """Keep the rows of a table that meet a condition, in a file until the place has time."""
        rows = _broken(question, asked, where)
        told = [of.name, question.scope.label, self.now.moment]
        first = [pa.repeat(pa.scalar(value, arrow_type(kind)), rows.num_rows)
                 for value, kind in zip(told, _OF_RULE.values(), strict=True)]  # fmt: skip
        whole = pa.table([*first, *rows.columns], [*_OF_RULE, *rows.column_names])
        if self._writer is None:
            self.kinds = {
                name: Kind("text") if name in question.private else question.kinds[name] for name in rows.column_names
            }
            self._file = tempfile.TemporaryFile(prefix="nomotheta-")  # noqa: SIM115 - closed when it was read
            self._writer = pa.ipc.new_stream(self._file, whole.schema)
        self._writer.write_table(whole)

    def done(self, place: Place, scope: Scope) -> None:
        """Put them into the table, in one transaction.

        Raises:
            PlaceError: there is such a table with other columns, or it may not be written to.
        """
        there = place.columns(self.table)
        if there is None and self._writer is None:
            return
        kinds = _OF_RULE | self.kinds
        if there is None:
            place.create(self.table, kinds)
        gone = [name for name in kinds if name not in {column.name for column in there or ()}] if there else []
        if gone:
            raise PlaceError(f"the table of breaks has no column '{gone[0]}'", where=f"{self.table} in {place.shown}",
                             mend="drop it, or name another: it is made where it is not there")  # fmt: skip
        with place.transaction(self.table):
            place.expect(self.table, kinds)
            of_load = check("looked_at = '" + scope.label + "'", _OF_RULE) if scope.where else None
            before = place.render(of_load, self.now) if of_load else None
            if before is None or place.count(self.table, before):  # most often there are none: some places find no row
                place.delete(self.table, before)
            if self._writer is not None:
                schema = pa.schema([(name, arrow_type(kind)) for name, kind in kinds.items()])
                place.append(self.table, list(kinds), self._batches(), schema)

    def _batches(self) -> Iterator[Any]:
        self._writer.close()
        self._file.seek(0)
        with pa.ipc.open_stream(self._file) as reader:
            yield from reader
        self._file.close()


class Kept:
    """A file of breaking rows, so many of each rule at most: Parquet or CSV by its ending, whole or not at all."""

    def __init__(self, path: Path, most: int | None = None) -> None:
        if path.suffix not in FORMS:
            raise DeclarationError(f"'{path.name}' is neither .parquet nor .csv", mend="name such a file, or a folder")
        self.path, self.rows, self.most = path, 0, most
        self._part = path.with_name(f".{path.name}.{os.getpid()}.part")
        self._writer: Any = None
        self._file: Any = None

    def take(self, question: Question, of: Check, asked: Place | Anew, where: str | None) -> None:
        """Add the rows of a table that meet a condition in the SQL of who answers."""
        found = _broken(question, asked, where, self.most)
        rule = pa.array([of.name] * found.num_rows, pa.string())
        whole = pa.table([rule, *found.columns], ["rule", *found.column_names])
        self._write(whole.to_batches(), whole.schema)
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

    def drop(self) -> None:
        """Take away what is there of it."""
        if self._file is not None:
            self._file.close()
            self._part.unlink(missing_ok=True)

    def done(self, _place: Place, _scope: Scope) -> None:
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
