"""Rows of a landing table, taken out as they are, to be loaded as values into another table by the way of any file."""

from __future__ import annotations

from collections.abc import Container, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.ipc

from nomotheta.charter import Compiled
from nomotheta.conditions import Kind, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.kinds.landed import landed_cells
from nomotheta.kinds.read import arrow_type
from nomotheta.layout import CellForm
from nomotheta.place.base import Place
from nomotheta.rules.anew import as_kind
from nomotheta.rules.shape import existing, held_as
from nomotheta.source.base import Batch, RowBatch, SourceFile
from nomotheta.source.delivery import ArrivedFile
from nomotheta.source.formats import open_file
from nomotheta.unpack import survey


@frozen
class Taken:
    """Rows of a landing table in a file, and how many they are."""

    file: ArrivedFile
    rows: int


def check_texts(place: Place, typed: Compiled) -> None:
    """See that a landing table has the columns that are taken out of it, and texts where it should.

    Raises:
        PlaceError: the table is not there, or has no text in a column where it should.
    """
    source = typed.source
    assert source is not None  # noqa: S101 - only then is there a landing table
    table, kinds = source.charter.table, columns_taken(typed)
    there = {column.name: column for column in existing(place, table)}
    for name in kinds:
        if name not in there:
            raise PlaceError(f"the landing table has no column '{name}'", where=f"{table} in {place.shown}")
        kind = there[name].kind
        if kinds[name] is None and (kind is None or kind.name != "text"):
            raise PlaceError(
                f"'{name}' is {there[name].type_name}, and the charter says that the table holds texts",
                where=f"{table} in {place.shown}", mend='change the column to text, or take stored = "text" out',
            )  # fmt: skip


def take_out(place: Place, typed: Compiled, where: str | None, path: Path) -> Taken:
    """Write the rows of the landing table that meet a rendered condition, or all, as an Arrow file.

    Raises:
        PlaceError: the table is not there, or has no text in a column where it should.
    """
    check_texts(place, typed)
    source = typed.source
    assert source is not None  # noqa: S101 - only then is there a landing table
    table, kinds = source.charter.table, rows_taken(place, typed)
    select = f"SELECT {', '.join(map(quoted, kinds))} {place.rowset(table, where)}"
    rows = written_out(place, select + in_order(typed, kinds), kinds, path)
    return Taken(ArrivedFile(path, table, survey(path, table, packed=False)), rows)


def written_out(place: Place, select: str, kinds: Mapping[str, Kind | None], path: Path) -> int:
    """Write what a SELECT of the columns that are taken gives as an Arrow file; how many rows."""
    schema = pa.schema([(name, arrow_type(kind or Kind("text"))) for name, kind in kinds.items()])
    rows = 0
    with pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, schema) as writer:
        for batch in place.stream(select):
            arrays = [as_kind(values, kind or Kind("text")) for values, kind in zip(batch, kinds.values(), strict=True)]
            found = pa.record_batch(arrays, schema=schema)
            rows += found.num_rows
            writer.write_batch(found)
    return rows


def content_of(place: Place, typed: Compiled) -> str:
    """What tells the rows of a landing table from others, whatever their order: their fingerprint and count."""
    source = typed.source
    assert source is not None  # noqa: S101 - only then is there a landing table
    table, kinds = source.charter.table, {name: kind or Kind("text") for name, kind in columns_taken(typed).items()}
    existing(place, table)
    place.expect(table, kinds)
    select = f"count(*) AS {quoted(own('rows'))}, {place.fingerprint.hash_sum(kinds)} AS {quoted(own('hash'))}"
    rows, total = place.answer(f"SELECT {select} {place.rowset(table)}").rows[0]
    return f"{int(total):016x}:{rows}"


def columns_taken(typed: Compiled) -> dict[str, Kind | None]:
    """The columns of the landing table that are taken over; of what kind those are that hold no texts of files."""
    source = typed.source
    assert source is not None  # noqa: S101 - only then is there a landing table
    texts, kinds = source.charter.file_columns(), source.charter.kinds()
    found: dict[str, Kind | None] = {}
    for name in typed.charter.file_columns():
        there = next((each for each in typed.charter.names_of(name) if each in source.charter.columns), name)
        found[there] = None if there in texts else kinds.get(there)
    return found | {name: kinds[name] for name in typed.carried.values()}


def rows_taken(place: Place, typed: Compiled) -> dict[str, Kind | None]:
    """All that is taken out of a row: what is taken over, and behind it what else tells of the file it came from."""
    source = typed.source
    assert source is not None  # noqa: S101 - only then is there a landing table
    found, kinds = columns_taken(typed), source.charter.kinds()
    there = {column.name: column for column in existing(place, source.charter.table)}
    more = {name: kinds[name] for name in source.charter.origin().values() if name not in found and name in there}
    return found | {name: kind for name, kind in more.items() if held_as(there[name], kind)}


def in_order(typed: Compiled, taken: Container[str]) -> str:
    """The ORDER BY of landed rows as they came in their files, where one of them may keep another out; else nothing."""
    origin = typed.source.charter.origin() if typed.source is not None else {}
    by = [quoted(origin[each]) for each in ("@file.name", "@file.line") if origin.get(each, "") in taken]
    decided = any(check.sort == "key" and check.otherwise == "reject" for check in typed.checks)
    return f" ORDER BY {', '.join(by)}" if decided and origin.get("@file.line", "") in taken else ""


@dataclass(slots=True)
class _Cells:
    """A file of landed rows, whose texts become the cells that they stand for."""

    inner: SourceFile
    typed: Compiled
    kinds: Mapping[int, Kind] = field(default_factory=dict)
    forms: Mapping[int, CellForm] = field(default_factory=dict)  # told to this one only: it reads the texts

    def __getattr__(self, name: str) -> Any:
        return getattr(self.inner, name)

    def read_header(self) -> list[str] | None:
        """The names of the columns that came from files."""
        header = self.inner.read_header()
        return header and header[: len(self.typed.charter.file_columns())]

    def read(self, block: Any, width: int, *, fill: bool = False, cut: bool = False) -> Batch:
        """The columns of a block, their cells trimmed and made null as the layout says."""
        batch = self.inner.read(block, width, fill=fill, cut=cut)
        layout, columns = self.typed.layout, list(batch.columns)
        texts = self.typed.source.charter.file_columns() if self.typed.source else {}
        for at, name in enumerate(self.inner.header or ()):
            if name not in texts or at not in self.kinds:
                continue
            found = landed_cells(columns[at], self.kinds[at], layout.of(self.forms.get(at)))
            columns[at] = found.texts
            for what, mask in (("trimmed", found.trimmed), ("nulled", found.nulled)):
                batch.alter(what, np.flatnonzero(mask.to_numpy(zero_copy_only=False)))
        batch.columns = columns
        self._number(batch)
        return batch

    def _number(self, batch: Batch) -> None:
        """The lines of the records are those of the files they came from, where the landing table knows them."""
        source, header = self.typed.source, list(self.inner.header or ())
        name = source.charter.origin().get("@file.line") if source is not None else None
        if name in header and isinstance(batch, RowBatch):
            told = batch.columns[header.index(name)].cast(pa.int64())
            if not told.null_count:
                batch.rows, batch.elsewhere = told.to_numpy(), True


def open_landed(file: ArrivedFile, typed: Compiled) -> SourceFile:
    """A file of landed rows, for reading."""
    source: Any = _Cells(open_file(file.path, file.name, replace(typed.layout, format="arrow")), typed)
    return source  # type: ignore[no-any-return]
