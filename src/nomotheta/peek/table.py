"""A table looked at as it is: rows, columns, blanks by sort, distinct values, bounds, and what repeats a key."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

from nomotheta.conditions import ConditionError, Kind, Node, build, check, own, parse_pattern, quoted
from nomotheta.errors import DeclarationError, NomothetaError, PlaceError, counted, did_you_mean
from nomotheta.frozen import frozen
from nomotheta.kinds.show import show
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.render import Now
from nomotheta.rules.finding import HIDDEN
from nomotheta.rules.lists import exactly, repeats_of
from nomotheta.rules.shape import existing
from nomotheta.tabular import Tabular

_ORDERED = frozenset({"text", "integer", "decimal", "real", "date", "time", "timestamp", "timestamptz"})
_FIRST, _MOST = 5, 40  # rows that are shown; values of a column that are counted one by one
_ROWS = own("rows")


@frozen
class TableColumn:
    """A column as the database has it, and what is in it.

    `type_name` is the database's word and `kind` ours, None where there is none. Of its values `nulls` are null,
    `empty` texts without a character, `spaces` texts of spaces, and `white` texts of other white space. `error` says
    why the rest is not known.
    """

    name: str
    type_name: str
    kind: str | None
    nullable: bool
    nulls: int = 0
    empty: int = 0
    spaces: int = 0
    white: int = 0
    distinct: int | None = None
    lowest: str | None = None
    highest: str | None = None
    error: str = ""

    @property
    def blank(self) -> int:
        """How many values are blank, of whatever sort."""
        return self.nulls + self.empty + self.spaces + self.white


@frozen
class Counted:
    """How many rows have each value of a column: the first or the most frequent ones of `values` different ones."""

    column: str
    values: int
    counts: tuple[tuple[str | None, int], ...]


@frozen
class TableLook(Tabular):
    """What a table holds. `repeats` counts the rows whose `key` another one has, where a key is declared."""

    table: str
    place: str
    where: str
    rows: int
    columns: tuple[TableColumn, ...]
    key: tuple[str, ...]
    repeats: int | None
    by: Counted | None
    first_rows: tuple[tuple[str | None, ...], ...]
    format: str = "nomotheta/table-look/1"
    COLUMNS: ClassVar[Mapping[str, str]] = {
        "name": "text", "type_name": "text", "kind": "text", "nulls": "integer", "empty": "integer",
        "spaces": "integer", "white": "integer", "distinct": "integer", "lowest": "text", "highest": "text",
    }  # fmt: skip

    def caption(self) -> str:
        """The table and its rows."""
        return f"{self.table}: {counted(self.rows, 'row')} in {self.place}"

    def as_rows(self) -> list[dict[str, Any]]:
        """Its columns, one a row."""
        return [{name: getattr(each, name) for name in self.COLUMNS} for each in self.columns]


def look_at_table(
    place: Place, table: str, now: Now, *, where: str = "", by: str = "", key: Sequence[str] = (),
    kinds: Mapping[str, Kind] | None = None, private: frozenset[str] = frozenset(),
) -> TableLook:  # fmt: skip
    """Look at a table.

    Args:
        place: where it is.
        table: its name.
        now: what a condition may speak of.
        where: a condition that the rows meet which are looked at; all of them where it is empty.
        by: a column whose values are counted; of a moment, its day.
        key: the columns of a key that is declared.
        kinds: of what kinds columns are meant to be, where a charter says so.
        private: columns whose values are not shown.

    Raises:
        PlaceError: there is no such table, or the place cannot be reached.
        DeclarationError: the condition or the column is none of this table.
    """
    look = _TableLook(place, table, now, kinds or {}, private)
    rows = look.narrowed(where)
    if by and by not in look.shape:
        raise DeclarationError(f"the table has no column '{by}'", where=table, mend=did_you_mean(by, look.shape))
    there = [name for name in key if name in look.shape]
    return TableLook(
        table, place.name, where, look.count(rows), tuple(look.columns(rows)), tuple(key),
        look.repeats(there) if key and len(there) == len(key) and not where else None,
        look.counted(by, rows) if by else None, tuple(look.first(rows)),
    )  # fmt: skip


class _TableLook:
    def __init__(
        self, place: Place, table: str, now: Now, kinds: Mapping[str, Kind], private: frozenset[str]
    ) -> None:  # fmt: skip
        self.place, self.table, self.now, self.private = place, table, now, private
        self.shape = {column.name: column for column in existing(place, table)}
        self.kinds = {name: column.kind for name, column in self.shape.items() if column.kind is not None}
        place.expect(table, {name: kind for name, kind in (self.kinds | dict(kinds)).items() if name in self.shape})

    def narrowed(self, where: str) -> str:
        """The FROM of the rows that are looked at."""
        if not where:
            return self.place.rowset(self.table)
        try:
            node = check(where, self.kinds)
        except ConditionError as error:
            mend = error.hint or f"columns: {', '.join(self.shape)}"
            raise DeclarationError(f"{error.what}\n{error.pointed(where)}", where="--where", mend=mend) from None
        return self.place.rowset(self.table, self.place.render(node, self.now))

    def count(self, rows: str) -> int:
        return int(self.place.fetch(f"SELECT count(*) AS {quoted(_ROWS)} {rows}").to_pylist()[0][_ROWS])

    def columns(self, rows: str) -> list[TableColumn]:
        """All columns in one scan; where that fails, one by one, and what cannot be read is told."""
        names = list(self.shape)
        try:
            return self.scanned(names, rows)
        except PlaceError:
            return [self.alone(name, rows) for name in names]

    def alone(self, name: str, rows: str) -> TableColumn:
        try:
            return self.scanned([name], rows)[0]
        except NomothetaError as error:
            column = self.shape[name]
            kind = str(column.kind) if column.kind else None
            return TableColumn(name, column.type_name, kind, column.nullable, error=error.what)

    def scanned(self, names: Sequence[str], rows: str) -> list[TableColumn]:
        parts = [f"count(*) AS {quoted(_ROWS)}"]
        for at, name in enumerate(names):
            asked = self.asked(self.shape[name])
            parts += [f"{sql} AS {quoted(own(f'{at} {what}'))}" for what, sql in asked.items()]
        row = self.place.fetch(f"SELECT {', '.join(parts)} {rows}").to_pylist()[0]
        return [self.read(self.shape[name], at, row) for at, name in enumerate(names)]

    def asked(self, column: PlaceColumn) -> dict[str, str]:
        """What is asked of a column, by what it is called."""
        name, kind = quoted(column.name), column.kind
        found = {"filled": f"count({name})"}
        if kind is None:
            return found
        exact = self.place.exactly(name, column)
        found["distinct"] = f"count(DISTINCT {exact})"
        if kind.name in _ORDERED:
            found |= {"low": f"min({exact})", "high": f"max({exact})"}
        if kind.name == "text":
            found |= {what: self.count_of(node) for what, node in self.blanks(column.name, kind).items()}
        return found

    def blanks(self, name: str, kind: Kind) -> dict[str, Node]:
        """The sorts of texts that are blank, as conditions."""
        return {
            "empty": build.among(name, kind, [""]),
            "spaces": build.matches(name, parse_pattern(" +")),
            "not_blank": build.not_blank(name, kind),
        }

    def count_of(self, node: Node) -> str:
        return f"count(CASE WHEN {self.place.render(node, self.now)} THEN 1 END)"

    def read(self, column: PlaceColumn, at: int, row: Mapping[str, Any]) -> TableColumn:
        def of(what: str) -> Any:
            return row.get(own(f"{at} {what}"))

        filled, empty, spaces = int(of("filled")), int(of("empty") or 0), int(of("spaces") or 0)
        not_blank = of("not_blank")
        white = 0 if not_blank is None else filled - int(not_blank) - empty - spaces
        kind = str(column.kind) if column.kind else None
        low, high = (self.shown(column.name, of(what)) for what in ("low", "high"))
        distinct = None if of("distinct") is None else int(of("distinct"))
        nulls = int(row[_ROWS]) - filled
        return TableColumn(
            column.name, column.type_name, kind, column.nullable, nulls, empty, spaces, white, distinct, low, high
        )  # fmt: skip

    def shown(self, name: str, value: Any) -> str | None:
        return HIDDEN if name in self.private and value is not None else show(value)

    def repeats(self, key: Sequence[str]) -> int:
        sql, _ = repeats_of(self.place, self.table, exactly(self.place, key, self.shape))
        return int(next(iter(self.place.fetch(sql).to_pylist()[0].values())))

    def counted(self, name: str, rows: str) -> Counted:
        """The values of a column by how many rows have them: in their order where they have one, the last first."""
        column = self.shape[name]
        kind = column.kind.name if column.kind else ""
        value = self.place.exactly(quoted(name), column)
        if kind == "timestamp":  # its day: each of its moments is there once or twice
            day = Kind("date")
            value = self.place.render(Node("cast", [build.column(name, Kind(kind))], value=day, kind=day), self.now)
        what, times = quoted(own("value")), quoted(own("times"))
        groups = f"SELECT {value} AS {what}, count(*) AS {times} {rows} GROUP BY {value}"
        order = f"{times} DESC, {what}" if kind in {"", "text", "boolean", "uuid", "binary"} else f"{what} DESC"
        found = self.place.fetch(f"{groups} ORDER BY {order} LIMIT {_MOST + 1}").to_pylist()
        values = self.place.fetch(f"SELECT count(*) AS {quoted(_ROWS)} FROM ({groups}) AS {quoted(own('counted'))}")
        counts = [(self.shown(name, row[own("value")]), int(row[own("times")])) for row in found[:_MOST]]
        return Counted(name, int(values.to_pylist()[0][_ROWS]), tuple(counts))

    def first(self, rows: str) -> list[tuple[str | None, ...]]:
        """A few rows, as texts."""
        texts = ", ".join(f"{self.place.as_text(name)} AS {quoted(name)}" for name in self.shape)
        found = self.place.fetch(f"SELECT {texts} {rows} LIMIT {_FIRST}").to_pylist()
        return [tuple(self.shown(name, value) for name, value in row.items()) for row in found]
