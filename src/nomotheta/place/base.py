"""What every place can do. A place is one database; all SQL that is not a rendered condition is built in its module."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import field
from typing import Any, Protocol

from nomotheta.conditions import Kind, Node
from nomotheta.frozen import frozen
from nomotheta.place.few import Answer
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.limits import Limits
from nomotheta.place.render import Now
from nomotheta.place.staging import LanesBy, Merge, Merged


@frozen
class PlaceColumn:
    """A column as the place has it; `kind` is None for a type that no kind stands for.

    `also` are the names of further kinds whose values it holds as they are. `sure` says whether the database sees to it
    that no other values are in it; `limits` which of them it gives back as they are. `folds` says that texts which
    differ may be equal in it, by its collation. `charset` is the encoding of its texts, where it has one of its own.
    """

    name: str
    type_name: str
    kind: Kind | None
    nullable: bool
    also: frozenset[str] = frozenset()
    sure: bool = True
    limits: Limits = field(default_factory=Limits)
    folds: bool = False
    charset: str = ""


@frozen
class Guarantees:
    """What a database itself sees to in a table, so that it need not be looked for.

    `unique` are the columns whose values together are there once (a null apart); `filled` those that hold no null;
    `sized` those in which no text is longer than their type says; `refers` the columns whose values are listed, each
    with the table and column that list it.
    """

    unique: tuple[frozenset[str], ...] = ()
    filled: frozenset[str] = frozenset()
    sized: frozenset[str] = frozenset()
    refers: tuple[tuple[str, Mapping[str, str]], ...] = ()


@frozen
class Mark:
    """The row that a load leaves in the place, in the same transaction as its rows.

    `replaced` says whose rows it took out: `all` that were there, those of its `day`, or those of none (``).
    """

    load_no: int
    workspace: str
    table: str
    content: str
    once: str
    day: datetime.date
    at: datetime.datetime
    rows: int
    replaced: str = ""


@frozen
class LoadedFile:
    """A file that a load brought: its content (BLAKE3) and size in bytes, when unpacked, and its name at that time."""

    content: str
    load_no: int
    day: datetime.date
    file: str
    size: int


@frozen
class Facts:
    """What a place says of itself: its version, and what we may do in it; what is in the way, and what to do.

    None is what cannot be known before it is tried.
    """

    version: str
    may_create: bool | None
    may_write: bool | None
    message: str = ""
    mend: str = ""


class Catalogue(Protocol):
    """What there is: the database itself, its tables, their columns."""

    def facts(self) -> Facts:
        """What it is, and what may be done in it."""

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None where there is no such table."""

    def columns_of(self, query: str) -> list[PlaceColumn]:
        """The columns of a query in the database's own words; asked of those that answer by themselves."""

    def viewed(self, query: str) -> str:
        """A view of a query that only this connection sees; asked of those whose rows are typed anew."""

    def home(self) -> str:
        """The schema that a name without one stands for."""

    def tables(self) -> list[str]:
        """The names of all tables and views, with their schema where it is not the usual one."""

    def changes_rows(self, table: str) -> bool:
        """Whether a table may hold other rows than those that are put into it: by triggers, or because it is a view."""

    def guarantees(self, table: str) -> Guarantees:
        """What the database sees to in a table by itself."""

    def finds(self, table: str, column: str) -> bool:
        """Whether the rows of one value of a column are found without all being read, or no index would help."""

    def stored(self, table: str) -> list[str]:
        """The columns of a table in which values can be put: all but those that the database works out."""

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table."""

    def make_like(self, name: str, table: str, columns: Sequence[str]) -> None:
        """Create an empty table with some columns of another."""

    def drop(self, table: str) -> None:
        """Drop a table."""


class Loading(Protocol):
    """How rows go in and out, inside a transaction. `hints` are what whoever loads should know of that."""

    hints: Sequence[str]
    apart_tables: bool  # whether each table is changed in an act of its own, by loads alone: no SQL of the team's own
    keeps_versions: bool  # whether rows that a load replaces stay in an older version, and need no table of their own

    def make_ready(self) -> bool:
        """Whether loads of different tables may be done at a time; if so, what they share is made."""

    def transaction(self, *tables: str) -> AbstractContextManager[None]:
        """All that happens inside is committed at the end, or undone where an exception leaves it.

        Nobody else loads into the tables meanwhile.
        """

    def append(self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any) -> int:
        """Add the rows of Arrow record batches; how many the database says it added."""

    def names_rows(self, table: str) -> bool:
        """Whether an error of a row may say which of those sent it was."""

    def staged(
        self, table: str, columns: Sequence[str], batches: Iterator[Any], schema: Any
    ) -> AbstractContextManager[int]:
        """The rows of Arrow record batches in a temporary table, for as long as it lasts; how many."""

    def among_staged(self, table: str, columns: Sequence[str]) -> str:
        """The condition that a row of the table is equal to a staged one in some columns."""

    def merge(self, table: str, how: Merge, batches: Iterator[Any], schema: Any) -> Merged:
        """Take rows over by key: those of new keys are added, those that differ replace the values of theirs."""

    def delete(self, table: str, where: str | None) -> int:
        """Delete the rows that meet a rendered condition, or all; how many there were."""

    def copy(self, source: str, target: str, columns: Sequence[str], where: str | None) -> int:
        """Add the rows of one table that meet a rendered condition, or all, to another; how many."""

    def put(self, table: str, columns: Sequence[str], held: str, where: str) -> int:
        """Add rows that are held under a name, and meet a condition in the place's own SQL, to a table; how many."""

    def count(self, table: str, where: str | None = None) -> int:
        """How many rows meet a rendered condition, or are there in all."""

    def count_after(self, table: str, before: int, removed: int, added: int) -> int:
        """How many rows there are after a transaction removed some of those before and added others.

        They are counted, or where the database keeps account of what a transaction changes, and that account holds
        just these changes, reckoned from it.
        """


class Asking(Protocol):
    """What can be asked of rows, in conditions that were rendered for this database."""

    def missing(self, table: str, cells: Any, *, nulls: bool = False) -> int:
        """How many rows of a `pa.Table` of some of the table's columns are equal to no row of the table in them.

        With `nulls`, null is equal to null; else to nothing.
        """

    def matching(self, table: str, cells: Any, columns: Sequence[str]) -> Iterable[Any]:
        """Some columns of the rows of a table that are equal to a row of a `pa.Table` of other columns, without null.

        They come as Arrow record batches such as `stream` gives.
        """

    def probes(self, columns: Sequence[str], kinds: Mapping[str, Kind]) -> bool:
        """Whether `present` knows equal values of such columns as the kinds do."""

    def present(self, table: str, cells: Any, where: str | None, *, nulls: bool = False) -> Iterable[Any]:
        """The rows of a `pa.Table` of some of a table's columns that a row of the table, or of its part, is equal to.

        They come as Arrow record batches such as `stream` gives. With `nulls`, null is equal to null; else to nothing.
        """

    def expect(self, table: str, kinds: Mapping[str, Kind]) -> None:
        """Say of what kinds a table's columns are meant to be, for a database that does not see to it."""

    lanes: LanesBy  # where the lanes of its rows are worked out
    ranks: bool  # whether it sorts values by itself, to say below which a share of them lies

    apart: str  # what ends a SELECT within another, so that the database works it out first, and once

    def with_nul(self, sql: str) -> str | None:
        """The condition that a text in SQL holds the character NUL, which no text of ours does; None where none can."""

    def may_hold(self) -> bool:
        """Whether rows may be held; asked so that nothing fails within a transaction."""

    def held(self, name: str, select: str) -> AbstractContextManager[None]:
        """The rows of a SELECT under a name that this session alone knows, for as long as it lasts."""

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """The values of a column in SQL below which shares of all lie, as a list."""

    def lane_sums(self, kinds: Mapping[str, Kind], rowset: str) -> list[int] | None:
        """The count of some rows, the sum of their hashes, and that of each column's; None where it cannot say."""

    def lane_buckets(self, kinds: Mapping[str, Kind], rowset: str, by: Sequence[str], buckets: int) -> Any:
        """Of buckets of rows, by some columns (all, if none), as a `pa.Table`; None where it cannot say.

        Its columns are the bucket, how many rows are in it, the sums of the upper and of the lower halves of their
        hashes, as numbers of 32 bits with a sign, and how many of the lower are below zero.
        """

    def lane_hashes(self, kinds: Mapping[str, Kind], rowset: str, by: Sequence[str], buckets: int) -> Iterator[Any]:
        """Of each row its bucket and its hash, as arrays, where it works out lanes: quicker than very many buckets."""

    def lane_bucket(self, kinds: Mapping[str, Kind], by: Sequence[str], buckets: int) -> str:
        """The bucket of a row, as SQL over its columns."""

    def text_blocks(self, kinds: Mapping[str, Kind], rowset: str) -> Iterator[list[Any]] | None:
        """Some columns of rows, block by block, as an Arrow array of texts for each; bytes as hexadecimal digits.

        None where the place hands its rows on as they are more quickly (`stream`).
        """

    def interrupt(self) -> None:
        """End what it is asked in another thread, if anything."""

    def never_repeats(self, column: str, rowset: str) -> bool:
        """Whether it is plain at little cost that no value of a column in SQL comes twice; False where it is not."""

    def carry_out(self, statement: str, *, alone: bool = False) -> None:
        """Carry out one statement in the database's own words, within the transaction; or `alone`, to stand at once."""

    def ask(self, sql: str, most: int | None = None) -> Any:
        """The rows of a SELECT in the database's own words, or so many of them, as a `pa.Table`."""

    def day(self, day: datetime.date) -> str:
        """A day in a statement of the database's own words."""

    def fetch(self, sql: str) -> Any:
        """The rows of a SELECT that was made here, as a `pa.Table`."""

    def answer(self, sql: str) -> Answer:
        """The same of a SELECT that has few rows."""

    def stream(self, sql: str) -> Iterable[Any]:
        """The rows of a SELECT as Arrow record batches, to be read to their end before anything else is asked."""

    def sparing(self) -> AbstractContextManager[None]:
        """While rows are streamed once, in their order: with little kept in memory, where it lives in this process."""

    def render(self, node: Node, now: Now) -> str:
        """A checked condition as this database's SQL."""

    def named(self, table: str) -> str:
        """A table's name in a SELECT that is made here."""

    def rowset(self, table: str, where: str | None = None) -> str:
        """The FROM and WHERE of a table's rows, or of those that meet a rendered condition."""

    def as_text(self, column: str) -> str:
        """A column as text, in SQL."""

    def strange(self, column: PlaceColumn) -> str | None:
        """The condition that a column holds what no value of its kind is, though its type does; None where it cannot.

        Infinities, years beyond 9999, and what else a database has that others have not.
        """

    def differs(self, node: Node) -> Sequence[str] | None:
        """Whether a condition may come to something else here than where rows are checked while they are loaded.

        None where it never does; else the columns that have to hold letters beyond ASCII for it to do so, none where
        it may whatever they hold.
        """

    def exactly(self, sql: str, column: PlaceColumn | None) -> str:
        """A value of a column, in SQL, as it is compared with others: a text by code point."""


class Marks(Protocol):
    """What loads leave in the database."""

    def marks(self, table: str) -> list[Mark]:
        """The loads that are in a table, oldest first."""

    def mark(self, mark: Mark) -> bool:
        """Leave a load's mark; False where a mark of the same `once` stands already."""

    def take_back(self, mark: Mark) -> tuple[int, int] | None:
        """Make a table what it was before a load, where it keeps its versions and nothing has changed it since.

        How many rows went, and how many came back; None where it is to be done row by row.
        """

    def unmark(self, mark: Mark) -> None:
        """Take a load's mark away."""

    def next_load_no(self) -> int:
        """One more than the highest number that any load into this place has had."""


class Place(Catalogue, Loading, Asking, Marks, Protocol):
    """A database, in its four roles.

    Every method raises PlaceError where the database refuses or cannot be reached.
    """

    name: str
    shown: str
    fingerprint: Fingerprint
    native: bool  # whether what is asked is answered by the database itself, and not by the engine over its rows
    session: Sequence[str]  # what a client of the database says before statements that are made here
    takes: frozenset[str]  # the first words of statements of the team's own that it undoes with its transaction
    drops_temporary: str  # a statement that takes a temporary table away, and no other, with {} for its name

    def one_view(self, others: Sequence[Any], tables: Sequence[str]) -> AbstractContextManager[bool]:
        """Have other connections to the same database see tables as they are at one moment, for as long as it lasts.

        False where it cannot be seen to that they do.
        """

    def close(self) -> None:
        """Let go of the database."""
