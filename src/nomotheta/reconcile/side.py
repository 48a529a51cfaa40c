"""The two sides of a comparison: rows of a place, and rows of files, asked in the same way.

Each side answers a SELECT in its own dialect, or hands its rows on as typed batches; where its lanes are worked out
inside the database, no row leaves it.
"""

from __future__ import annotations

import contextlib
import copy
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

from nomotheta.conditions import Kind, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.kinds.read import arrow_type, read_column
from nomotheta.layout import UNTYPED
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.render import text_literal
from nomotheta.place.staging import LanesBy
from nomotheta.rules.anew import as_kind, held_raw

FILE, LINE = own("file"), own("line")  # where a row of a file stands
_MISFIT = own("misfit")
_FOLDING = PlaceColumn("", "", Kind("text"), nullable=True, folds=True)
_ROWS, _SIDE = own("streamed rows"), quoted(own("side"))
Said = Callable[[Fingerprint], str]  # a part of a SELECT, as a side says it


@frozen
class Compared:
    """What is compared: columns with the kinds that both sides have in common, a key, those that are not shown.

    Of the columns in `distinct`, different values are counted; `each` says that every column's fingerprint is told.
    """

    kinds: Mapping[str, Kind]
    key: tuple[str, ...] = ()
    private: frozenset[str] = frozenset()
    distinct: frozenset[str] = frozenset()
    each: bool = False

    @property
    def schema(self) -> Any:
        """The Arrow schema in which rows of both sides are held."""
        return pa.schema([(name, arrow_type(kind)) for name, kind in self.kinds.items()])


class Side(Protocol):
    """One side; `lanes` says where its lanes are worked out, `origin` whether its rows come from lines of files."""

    lanes: LanesBy
    origin: bool
    what: Compared

    def ask(self, said: Said, condition: Said | None = None, group: str = "", *, origin: bool = False) -> Any:
        """The rows of a SELECT over the columns, as a `pa.Table`; with file and line, where they are asked for."""

    def batches(self, *, origin: bool = False) -> Iterator[Any]:
        """Its rows as record batches of the common kinds.

        Raises:
            Unalike: a value is none of its column's kind.
        """

    def sums(self, by: Sequence[str], buckets: int) -> Any:
        """Of each bucket its number, its rows, and the sum of their hashes in halves; None where it cannot say."""

    def hashes(self, by: Sequence[str], buckets: int) -> Iterator[Any]:
        """Of each row its bucket and its hash, as arrays, in blocks."""

    def texts(self, said: Said, condition: Said) -> Any:
        """The rows of a SELECT of texts named like the columns, as a `pa.Table`."""

    def columns(self) -> list[int] | None:
        """The rows, the sum of their hashes, and of each column's; None where it cannot say."""

    def bucket(self, by: Sequence[str], buckets: int) -> str:
        """The bucket of a row, in SQL."""

    def among(self, keys: Any) -> Side | None:
        """The rows whose key may be one of some (a `pa.Table` of canonical texts), where they are found by it."""

    def exactly(self, text: str) -> str:
        """A text in SQL as it is told from others: by code point."""

    def interrupt(self) -> None:
        """End what it is asked in another thread."""


class Unalike(Exception):  # noqa: N818 - a way out, told to nobody
    """A value that no lane can hold, since it is none of its kind: its text tells more."""


class InPlace:
    """Rows of a table, or of a query, in its place.

    Args:
        place: where they are.
        what: what is compared.
        rows: the FROM and WHERE of the rows.
        said: columns that are not called as they are compared, or changed on the way, in SQL.
        shape: the columns that are compared as they are, as the place has them.
        alike: whether each column is of the kind in which it is compared.
        raw: of columns whose values may be none of their kind, the text that is there then, in SQL.
    """

    origin = False

    def __init__(
        self, place: Place, what: Compared, rows: str, said: Mapping[str, str] | None = None, *, alike: bool = True,
        raw: Mapping[str, str] | None = None, shape: Sequence[PlaceColumn] = (),
    ) -> None:  # fmt: skip
        self.place, self.what = place, what
        self.rows, self.prints = rows, place.fingerprint.knowing(shape)
        if said:
            listed = [f"{said.get(name, quoted(name))} AS {quoted(name)}" for name in what.kinds]
            listed += [f"{sql} AS {place.as_text(name)}" for name, sql in (raw or {}).items()]
            self.rows = f"FROM (SELECT {', '.join(listed)} {rows}) AS {_SIDE}"
        self.lanes: LanesBy = place.lanes if alike else "nowhere"

    def ask(self, said: Said, condition: Said | None = None, group: str = "", *, origin: bool = False) -> Any:  # noqa: ARG002
        """By the database itself, or whoever answers for it."""
        where = f"SELECT * {self.rows}"
        source = f"FROM ({where}) AS {_SIDE} WHERE {condition(self.prints)}" if condition else self.rows
        return self.place.fetch(f"SELECT {said(self.prints)} {source}{group}")

    def batches(self, *, origin: bool = False) -> Iterator[Any]:  # noqa: ARG002
        """Streamed out of the place."""
        kinds = self.what.kinds
        loose = [name for name, kind in kinds.items() if kind.name != "text"] if not self.place.native else []
        if loose:
            yield from self._loose(loose)
            return
        blocks = self.place.text_blocks(kinds, self.rows)
        if blocks is not None:
            with contextlib.closing(blocks):  # type: ignore[type-var]
                for block in blocks:
                    arrays = [_typed(texts, kind) for texts, kind in zip(block, kinds.values(), strict=True)]
                    yield pa.record_batch(arrays, schema=self.what.schema)
            return
        with self.place.sparing():
            for batch in self.place.stream(f"SELECT {', '.join(map(quoted, kinds))} {self.rows}"):
                try:
                    columns = [as_kind(batch.column(at), kind) for at, kind in enumerate(kinds.values())]
                except pa.ArrowInvalid:
                    raise Unalike from None
                yield pa.record_batch(columns, schema=self.what.schema)

    def _loose(self, names: Sequence[str]) -> Iterator[Any]:
        """Of a place in which a value may be none of its column's kind."""
        kinds = self.what.kinds
        misfits = f"{held_raw(self.place, names)} AS {quoted(_MISFIT)}"
        for batch in self.place.stream(f"SELECT {', '.join([*map(quoted, kinds), misfits])} {self.rows}"):
            if batch.column(len(kinds)).null_count < batch.num_rows:
                raise Unalike
            columns = [as_kind(batch.column(at), kind) for at, kind in enumerate(kinds.values())]
            yield pa.record_batch(columns, schema=self.what.schema)

    def sums(self, by: Sequence[str], buckets: int) -> Any:
        """By the database's own functions."""
        return self.place.lane_buckets(self.what.kinds, self.rows, by, buckets)

    def hashes(self, by: Sequence[str], buckets: int) -> Iterator[Any]:
        """By the database's own functions."""
        return self.place.lane_hashes(self.what.kinds, self.rows, by, buckets)

    def texts(self, said: Said, condition: Said) -> Any:
        """Streamed out of the place: many rows take less time so than few at a time."""
        names = list(self.what.kinds)
        where = f"FROM (SELECT * {self.rows}) AS {_SIDE} WHERE {condition(self.prints)}"
        schema = pa.schema([(name, pa.string()) for name in names])
        batches = [
            pa.record_batch([column.cast(pa.string()) for column in batch.columns], schema=schema)
            for batch in self.place.stream(f"SELECT {said(self.prints)} {where}")
        ]
        return pa.Table.from_batches(batches, schema)

    def columns(self) -> list[int] | None:
        """By the database's own functions."""
        return self.place.lane_sums(self.what.kinds, self.rows)

    def bucket(self, by: Sequence[str], buckets: int) -> str:
        """By the database's own functions."""
        return self.place.lane_bucket(self.what.kinds, by, buckets)

    def among(self, keys: Any) -> Side | None:
        """By the database itself, each column by itself: numbers as they are, for an index finds these."""
        if not self.place.native or any(column.null_count for column in keys.columns):
            return None
        listed = []
        for name in keys.column_names:
            texts, kind = sorted(set(keys.column(name).to_pylist())), self.what.kinds[name]
            number = kind.name == "integer"
            values = ", ".join(texts if number else map(text_literal, texts))
            listed.append(f"{quoted(name) if number else self.prints.shown(name, kind)} IN ({values})")
        narrowed = copy.copy(self)
        narrowed.rows = f"FROM (SELECT * {self.rows}) AS {_SIDE} WHERE {' AND '.join(listed)}"
        return narrowed

    def exactly(self, text: str) -> str:
        """As the place compares it so."""
        return self.place.exactly(text, _FOLDING)

    def interrupt(self) -> None:
        """As the place can."""
        self.place.interrupt()


def _typed(texts: Any, kind: Kind) -> Any:
    """Texts that a database writes, as values."""
    if kind.name == "text":
        return texts
    typed = read_column(texts, kind, UNTYPED)
    if typed.misfits:
        raise Unalike
    return typed.values.cast(arrow_type(kind))


class Streamed:
    """Rows that are read from files, each time they are asked for.

    Args:
        what: what is compared.
        read: gives their batches, with the columns of file and line where they are asked for.
        origin: whether they have these.
    """

    lanes: LanesBy = "here"

    def __init__(self, what: Compared, read: Callable[[bool], Iterator[Any]], *, origin: bool = True) -> None:
        self.what, self.read, self.origin = what, read, origin

    def batches(self, *, origin: bool = False) -> Iterator[Any]:
        """As they are read."""
        return self.read(origin)

    def ask(self, said: Said, condition: Said | None = None, group: str = "", *, origin: bool = False) -> Any:
        """By the embedded engine."""
        extra = [pa.field(FILE, pa.string()), pa.field(LINE, pa.int64())] if origin else []
        more = f", {quoted(FILE)}, {quoted(LINE)}" if origin else ""
        schema = pa.schema([*self.what.schema, *extra])
        return asked(
            lambda prints: f"{said(prints)}{more}", self.read(origin), schema, condition, group
        )  # fmt: skip

    def sums(self, by: Sequence[str], buckets: int) -> Any:
        """Not asked for: its lanes are worked out here."""
        raise NotImplementedError

    def hashes(self, by: Sequence[str], buckets: int) -> Iterator[Any]:
        """Not asked for."""
        raise NotImplementedError

    def texts(self, said: Said, condition: Said) -> Any:
        """Not asked for."""
        raise NotImplementedError

    def columns(self) -> list[int] | None:
        """Not asked for."""
        raise NotImplementedError

    def bucket(self, by: Sequence[str], buckets: int) -> str:
        """Not asked for."""
        raise NotImplementedError

    def among(self, keys: Any) -> Side | None:  # noqa: ARG002
        """All of a file is read anyway."""
        return None

    def exactly(self, text: str) -> str:
        """As it is."""
        return text

    def interrupt(self) -> None:
        """It is asked nothing in other threads."""


def asked(said: Said, batches: Iterator[Any], schema: Any, condition: Said | None = None, group: str = "") -> Any:
    """The rows of a SELECT over batches, by the embedded engine, as a `pa.Table`."""
    from nomotheta.place.embedded.duckdb import DuckPlace  # only now: a load does without it

    engine = DuckPlace("files", None)
    where = f" WHERE {condition(engine.fingerprint)}" if condition else ""
    try:
        with _given(batches, schema) as reader:
            select = f"SELECT {said(engine.fingerprint)} FROM {quoted(_ROWS)}{where}{group}"
            return engine.fetch(select, **{_ROWS: reader})
    finally:
        engine.close()


@contextlib.contextmanager
def held_rows(sides: Mapping[str, Side]) -> Iterator[Callable[[str], Any]]:
    """Gives the rows of a SELECT over all rows of some sides, which the embedded engine has in a file meanwhile.

    Raises:
        Unalike: a value is none of its column's kind.
    """
    from nomotheta.place.embedded.duckdb import DuckPlace

    with tempfile.TemporaryDirectory(prefix="nomotheta-") as folder:
        engine = DuckPlace("files", Path(folder, "sides.duckdb"))
        try:
            for name, side in sides.items():
                with _given(side.batches(), side.what.schema) as reader:
                    engine.fetch(f"CREATE TABLE {quoted(name)} AS SELECT * FROM {quoted(_ROWS)}", **{_ROWS: reader})
            yield engine.fetch
        finally:
            engine.close()


@contextlib.contextmanager
def _given(batches: Iterator[Any], schema: Any) -> Iterator[Any]:
    """Batches as the embedded engine reads them; what goes wrong in them is not told in the engine's words."""
    failed: list[BaseException] = []

    def watched() -> Iterator[Any]:
        try:
            yield from batches
        except GeneratorExit:
            raise
        except BaseException as error:
            failed.append(error)
            raise

    try:
        yield pa.RecordBatchReader.from_batches(schema, watched())
    except PlaceError:
        if failed:
            raise failed[0] from None
        raise
