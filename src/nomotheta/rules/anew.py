"""A table whose columns are not of the declared kinds, as when everything was landed as text: judged as declared.

The database would compare its texts letter by letter, or read them in a way of its own. So the rows are streamed out,
typed anew by the charter's layout, and what is asked is answered by the embedded engine. A text that is none of its
column's kind is null there, and is told of by the kind's own rule.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind, Node, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.kinds.landed import landed_cells
from nomotheta.kinds.read import arrow_type, explain, read_column
from nomotheta.kinds.typed import Typed
from nomotheta.layout import UNTYPED, Layout
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.few import Answer
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.render import Now, Renderer, identifiers
from nomotheta.rules.question import Question
from nomotheta.rules.shape import held_as
from nomotheta.start import keep_memory

if TYPE_CHECKING:
    from nomotheta.kinds.written import Written


def as_kind(column: Any, kind: Kind) -> Any:
    """A place's column as the Arrow type in which values of `kind` are held; texts are such as PostgreSQL writes.

    Raises:
        PlaceError: it holds what no value of the kind is.
    """
    if isinstance(column, pa.ChunkedArray):
        column = column.combine_chunks()
    if pa.types.is_string(column.type) and kind.name not in {"text", "uuid"}:
        texts = plain_texts(column, kind)
        typed = read_column(texts, kind, UNTYPED)
        for misfit in typed.misfits:
            value = texts[int(misfit.rows[0])].as_py()
            raise PlaceError(f"the table holds {value}, which {explain(kind, misfit.reason, value, UNTYPED)}")
        return typed.values
    return column.cast(arrow_type(kind))


def plain_texts(column: Any, kind: Kind) -> Any:
    """Texts such as PostgreSQL writes them, as our own."""
    told = {"binary": (r"^\\x", ""), "timestamptz": (r"([+-]\d\d)$", r"\1:00")}.get(kind.name)
    return pc.replace_substring_regex(column, *told) if told else column


def held_raw(place: Place, columns: Sequence[str]) -> str:
    """The texts of some columns of a row that are none of their kinds, in SQL; null where there are none."""
    texts = [f"CASE WHEN {quoted(name)} IS NULL THEN {place.as_text(name)} END" for name in columns]
    return f"coalesce({', '.join(texts)})" if len(texts) > 1 else next(iter(texts), "NULL")


@frozen
class Reading:
    """How the texts of a column are read: by a layout, in a time zone, and whether they were landed as they came."""

    layout: Layout
    zone: str = "UTC"
    landed: bool = False

    def cells(self, texts: Any, kind: Kind) -> Any:
        """Texts as cells of a file; where none were meant to be there, an empty one is no value but of a text."""
        if self.landed:
            return landed_cells(texts, kind, self.layout).texts
        return texts if kind.name == "text" else pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts)

    def typed(self, cells: Any, kind: Kind) -> Typed:
        """Cells as values of a kind."""
        return read_column(cells, kind, self.layout, self.zone)


@frozen
class Column:
    """A column as it is to be read: as it is, or as texts; or, of another column `of`, the texts that are no values."""

    name: str
    kind: Kind
    reading: Reading | None = None
    of: str | None = None

    def said(self, place: Place) -> str:
        """It in a SELECT."""
        sql = quoted(self.name) if self.reading is None else place.as_text(self.of or self.name)
        return f"{sql} AS {quoted(self.name)}"

    def read(self, values: Any) -> Any:
        """Its values as its kind; null for what is none."""
        if self.reading is None:
            return as_kind(values, self.kind)
        cells = self.reading.cells(values, self.kind)
        if self.of is not None:
            misfits = self.reading.typed(plain_texts(cells, self.kind), self.kind).misfits
            shown = np.zeros(len(cells), np.bool_)
            shown[np.concatenate([np.zeros(0, np.int64), *(each.rows for each in misfits)])] = True
            return pc.if_else(pa.array(shown), cells, pa.scalar(None, pa.string()))
        if self.kind.name == "text":  # one that is too long is there all the same, and told of by a rule of its own
            return cells
        return self.reading.typed(cells, self.kind).values


def columns_of(question: Question) -> list[Column]:
    """The columns of a table, those of other kinds than declared as texts."""
    found = []
    for name, column in question.shape.items():
        kind = question.kinds.get(name)
        if kind is not None and question.is_odd(name, kind):
            reading = reading_of(question, name)
            found += [Column(name, kind, reading), Column(own(f"misfit {name}"), kind, reading, name)]
        elif column.kind is None:
            found.append(Column(name, Kind("text"), Reading(UNTYPED)))
        else:
            found.append(Column(name, kind if kind and kind.name in column.also else column.kind))
    return found


def listed_columns(columns: Sequence[PlaceColumn], kinds: Sequence[Kind]) -> list[Column]:
    """Columns of another table that are compared with values of some kinds: those that hold others, as texts."""
    found = []
    for column, kind in zip(columns, kinds, strict=True):
        same = held_as(column, kind) and column.kind is not None
        found.append(
            Column(column.name, column.kind if same and column.kind else kind, None if same else Reading(UNTYPED))
        )
    return found


def reading_of(question: Question, name: str) -> Reading:
    """How texts of a column are written: as in the files, where the column is of text."""
    column, landed = question.shape[name], question.landed.get(name)
    zone = getattr(question.now.moment.tzinfo, "key", "UTC")
    if landed is not None:
        return Reading(landed, zone, landed=True)
    if column.kind and column.kind.name == "text":
        layout = question.compiled.layout
        return Reading(layout, zone) if column.sure else Reading(layout.with_canonical_forms())
    return Reading(Layout() if column.sure else UNTYPED)


def written_of(question: Question, odd: Sequence[str]) -> dict[str, Written] | None:
    """How a place reads the texts of some columns as values; None where it cannot."""
    from nomotheta.kinds.written import written

    if not question.place.native:
        return None
    found: dict[str, Written] = {}
    for at, name in enumerate(odd):
        held = question.shape[name].kind
        reading = reading_of(question, name)
        layout = reading.layout if reading.landed else replace(reading.layout, trim=False, null_words=[""])
        told = written(name, question.kinds[name], layout, reading.zone, at) if held and held.name == "text" else None
        if told is None:
            return None
        found[name] = told
    return found


class Anew:
    """The asking half of a place for such a table, and for those that it refers to."""

    def __init__(self, place: Place, columns: Mapping[str, Sequence[Column]]) -> None:
        self.place, self._columns = place, columns
        self.shown, self.name, self.fingerprint = place.shown, place.name, Fingerprint()

    def fetch(self, sql: str) -> Any:
        """Rows as an Arrow table."""
        from nomotheta.place.embedded.duckdb import DuckPlace  # only now: most tables are what they were declared to be

        keep_memory()
        names = identifiers(sql)
        tables = [table for table in self._columns if table in names]
        several = sum(names.count(table) for table in tables) > 1  # one stream of a place at a time
        engine = DuckPlace(self.name, None)
        try:
            relations = {table: _Rows(self.place, table, self._chosen(table, names)) for table in tables}
            known = {table: rows.table() if several else rows for table, rows in relations.items()}
            try:
                return engine.fetch(sql, **known)
            except PlaceError:
                failed = next((rows.failed for rows in relations.values() if rows.failed is not None), None)
                if failed is not None:
                    raise failed from None
                raise
        finally:
            engine.close()

    def answer(self, sql: str) -> Answer:
        """A few rows."""
        return Answer.of(self.fetch(sql))

    def _chosen(self, table: str, names: Sequence[str]) -> Sequence[Column]:
        columns = self._columns[table]
        return [each for each in columns if each.name in names] or columns[:1]

    def count(self, table: str, where: str | None = None) -> int:
        """How many rows meet a condition."""
        return int(self.fetch(f"SELECT count(*) {self.rowset(table, where)}").column(0)[0].as_py())

    def named(self, table: str) -> str:
        """A table is known to the engine by its whole name."""
        return quoted(table)

    def rowset(self, table: str, where: str | None = None) -> str:
        """FROM and WHERE."""
        return f"FROM {self.named(table)}" + (f" WHERE {where}" if where else "")

    def render(self, node: Node, now: Now) -> str:
        """A condition as the engine's SQL."""
        return Renderer(now).render(node)

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """As the engine has them."""
        return Renderer.quantiles(column, shares)

    def exactly(self, sql: str, _column: PlaceColumn | None) -> str:
        """Values are compared as they are."""
        return sql


class _Rows:
    """A table's rows, typed, as a stream of Arrow batches (the Arrow PyCapsule interface)."""

    def __init__(self, place: Place, table: str, columns: Sequence[Column]) -> None:
        self.place, self.name, self.columns = place, table, columns
        self.schema = pa.schema([(each.name, arrow_type(Kind("text") if each.of else each.kind)) for each in columns])
        self.failed: BaseException | None = None

    def table(self) -> Any:
        """All of them."""
        return pa.Table.from_batches(list(self._batches()), self.schema)

    def __arrow_c_schema__(self) -> Any:
        return self.schema.__arrow_c_schema__()

    def __arrow_c_stream__(self, requested_schema: Any = None) -> Any:
        return pa.RecordBatchReader.from_batches(self.schema, self._batches()).__arrow_c_stream__(requested_schema)

    def _batches(self) -> Iterator[Any]:
        listed = ", ".join(each.said(self.place) for each in self.columns)
        try:
            batches: Iterable[Any] = self.place.stream(f"SELECT {listed} {self.place.rowset(self.name)}")
            for batch in batches:
                arrays = [each.read(values) for each, values in zip(self.columns, batch.columns, strict=True)]
                yield pa.record_batch(arrays, schema=self.schema)
        except GeneratorExit:  # the engine wants no more, for a reason of its own
            raise
        except BaseException as error:
            self.failed = error
            raise
