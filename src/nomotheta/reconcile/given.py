"""A side before it is known what of it is compared: its columns, and how a value of theirs is said."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import pyarrow as pa

from nomotheta.conditions import Kind, Node, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.render import Now, Renderer
from nomotheta.reconcile.files import Files, OtherFiles
from nomotheta.reconcile.landed import LandedRows
from nomotheta.reconcile.match import Columns, Pair
from nomotheta.reconcile.side import FILE, LINE, Compared, InPlace, Side, Streamed, asked
from nomotheta.rules.anew import held_raw

_READ = own("read rows")


@frozen
class About:
    """What a charter says of a side: its key, the columns that are filled by loads, those that are not shown."""

    key: tuple[str, ...] = ()
    filled: frozenset[str] = frozenset()
    private: frozenset[str] = frozenset()


class Given(Protocol):
    """One side, and what it is called."""

    told: str
    about: About

    @property
    def place(self) -> Place | None:
        """Where it is, if in a place."""

    @property
    def files(self) -> Files | OtherFiles | LandedRows | None:
        """What it is read from, if from files."""

    @property
    def table(self) -> str:
        """What it is called in its place, if it is a table."""

    @property
    def columns(self) -> Columns:
        """All columns, with their kinds."""

    def side(self, what: Compared, pairs: Sequence[Pair], at: int) -> Side:
        """It as a side of a comparison, whose first or second it is."""

    def counts(self, nodes: Sequence[Node]) -> list[int]:
        """How many rows meet each of some conditions."""


@dataclass(slots=True)
class GivenInPlace:
    """The rows of a table, or of a query, that meet a condition; `rows` is their FROM and WHERE."""

    place: Place
    told: str
    rows: str
    shape: Sequence[PlaceColumn]
    now: Now
    meant: Mapping[str, Kind] = field(default_factory=dict)
    about: About = field(default_factory=About)
    table: str = ""
    files: Files | OtherFiles | LandedRows | None = None

    @property
    def columns(self) -> Columns:
        """As the place has them, or as they are meant."""
        kinds = {column.name: self.meant.get(column.name) or column.kind for column in self.shape}
        also = {column.name: column.also for column in self.shape if column.name not in self.meant}
        return Columns(self.told, kinds, {column.name: column.type_name for column in self.shape}, also)

    def side(self, what: Compared, pairs: Sequence[Pair], at: int) -> Side:
        """By the place itself."""
        there = {column.name: column.kind for column in self.shape}
        chosen = [pair for pair in pairs if pair.name in what.kinds]
        said, alike = {}, True
        for pair in chosen:
            name = pair.columns[at]
            if name is None:
                said[pair.name] = self.place.render(pair.values[at], self.now)
                continue
            kind = there[name]
            alike = alike and kind is not None and kind.name == pair.kind.name
            if name != pair.name:
                said[pair.name] = quoted(name)
        if not self.place.native and self.table:
            read = {pair.columns[at]: pair.kind for pair in chosen if pair.columns[at] is not None}
            self.place.expect(self.table, {name: kind for name, kind in self.columns.kinds.items() if kind} | read)  # type: ignore[arg-type]
        raw = {pair.name: held_raw(self.place, pair.values[at].columns()) for pair in chosen} if said else {}
        plain = {pair.columns[at] for pair in chosen if pair.name not in said}
        shape = [column for column in self.shape if column.name in plain]
        return InPlace(
            self.place, what, self.rows, said, alike=alike, raw={} if self.place.native else raw, shape=shape
        )  # fmt: skip

    def counts(self, nodes: Sequence[Node]) -> list[int]:
        """By the place itself."""
        (row,) = self.place.fetch(
            f"SELECT {_counts(nodes, lambda node: self.place.render(node, self.now))} {self.rows}"
        ).to_pylist()
        return [int(each) for each in row.values()]


@dataclass(slots=True)
class GivenFiles:
    """The rows of files that meet a condition."""

    files: Files | OtherFiles | LandedRows
    told: str
    now: Now
    where: Node | None = None
    about: About = field(default_factory=About)
    place: Place | None = None
    table: str = ""

    @property
    def lined(self) -> bool:
        """Whether its rows come from lines of files."""
        return not isinstance(self.files, LandedRows)

    @property
    def columns(self) -> Columns:
        """As the files are read, with those that the charter does not know: their type is not known either."""
        return Columns(self.told, {**self.files.columns(), **dict.fromkeys(self.files.extra)})

    @property
    def _schema(self) -> Any:
        return Compared(self.files.columns()).schema

    def side(self, what: Compared, pairs: Sequence[Pair], at: int) -> Side:
        """As they are read, or by the embedded engine where values are worked out."""
        chosen = {pair.name: pair for pair in pairs if pair.name in what.kinds}
        plain = all(
            pair.columns[at] == name and self.files.columns()[name] == pair.kind for name, pair in chosen.items()
        )
        if plain and self.where is None:
            return Streamed(what, lambda origin: self.files.batches(what.schema, origin=origin), origin=self.lined)
        render = Renderer(self.now).render
        said = [f"{render(pair.values[at])} AS {quoted(name)}" for name, pair in chosen.items()]
        where = f" WHERE {render(self.where)}" if self.where is not None else ""

        def read(origin: bool) -> Iterator[Any]:
            listed = [*said, quoted(FILE), quoted(LINE)] if origin else said
            schema = pa.schema([*what.schema, *_ORIGIN]) if origin else what.schema
            sql = f"SELECT {', '.join(listed)} FROM {quoted(_READ)}{where}"
            yield from _streamed(
                sql, self._schema, lambda: self.files.batches(self._schema, origin=origin), schema, origin
            )

        return Streamed(what, read, origin=self.lined)

    def counts(self, nodes: Sequence[Node]) -> list[int]:
        """By the embedded engine."""
        render = Renderer(self.now).render
        said, where = _counts(nodes, render), render(self.where) if self.where is not None else "TRUE"
        (row,) = asked(lambda _: said, self.files.batches(self._schema), self._schema, lambda _: where).to_pylist()
        return [int(each) for each in row.values()]


_ORIGIN = (pa.field(FILE, pa.string()), pa.field(LINE, pa.int64()))


def _counts(nodes: Sequence[Node], render: Callable[[Node], str]) -> str:
    return ", ".join(
        f"count(CASE WHEN {render(node)} THEN 1 END) AS {quoted(own(str(at)))}" for at, node in enumerate(nodes)
    )


def _streamed(sql: str, read: Any, batches: Callable[[], Iterator[Any]], schema: Any, origin: bool) -> Iterator[Any]:
    """The rows of a SELECT over batches, by the embedded engine, as batches of a schema."""
    from nomotheta.place.embedded.duckdb import DuckPlace

    failed: list[BaseException] = []

    def watched() -> Iterator[Any]:
        try:
            yield from batches()
        except GeneratorExit:
            raise
        except BaseException as error:
            failed.append(error)
            raise

    given = pa.schema([*read, *_ORIGIN]) if origin else read
    engine = DuckPlace("files", None)
    known = {_READ: pa.RecordBatchReader.from_batches(given, watched())}
    engine.know(known)
    try:
        for batch in engine.stream(sql):
            yield pa.record_batch(
                [column.cast(schema.field(at).type) for at, column in enumerate(batch.columns)], schema=schema
            )
    except (PlaceError, pa.ArrowInvalid, OSError):
        if failed:
            raise failed[0] from None
        raise
    finally:
        engine.close()
