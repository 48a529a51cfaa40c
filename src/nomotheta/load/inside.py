"""Rows of a landing table that stay in the database while they are moved: those of which it is sure what they are.

One SELECT reads the texts (`kinds/written.py`), and says of each row whether all of it fits: no text is none of its
kind, no check sets it aside, and its key is nowhere else. Such rows go from table to table by one INSERT. The others
are taken out, and go the way of any file; so it is always the program that sets a row aside, and says why.
"""

from __future__ import annotations

import datetime
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field, replace
from decimal import Decimal
from pathlib import Path
from typing import Any

from nomotheta.charter import Check, Compiled
from nomotheta.conditions import Kind, Node, build, own, quoted
from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.kinds.written import written
from nomotheta.load.balance import Altered, FileCount
from nomotheta.load.landed import columns_taken, in_order, rows_taken, written_out
from nomotheta.load.work import FILE_LINE, FILE_NAME, constants
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.limits import Limits
from nomotheta.place.render import NOWHERE, Now, quoted_table
from nomotheta.place.steps import Steps
from nomotheta.rules.shape import compared_as, held_as, holds
from nomotheta.source.delivery import ArrivedFile
from nomotheta.unpack import survey

_HELD, _PLAIN, _FITS = own("moved"), quoted(own("plain")), quoted(own("fits"))
_TRIMMED, _NULLED = quoted(own("trimmed")), quoted(own("nulled"))
_SOME: dict[str, Any] = {
    "text": "", "integer": 0, "decimal": Decimal(0), "real": 0.0, "boolean": False, "date": datetime.date(1970, 1, 1),
    "time": datetime.time(), "timestamp": datetime.datetime(1970, 1, 1), "timestamptz": NOWHERE.moment,
    "uuid": uuid.UUID(int=0),
}  # fmt: skip
_MANY_LISTED = 1_000  # values that a statement lists
_MANY = 1_000  # keys that several rows share: with more of them, all rows are taken out


@frozen
class Inside:
    """Rows that are moved within a place: the SELECT that reads them, and the columns that are taken out of the others.

    `raw` are the columns of the landing table by what they are called in the SELECT.
    """

    place: Place
    compiled: Compiled
    select: str
    raw: Mapping[str, str]
    keys: Sequence[_Key]
    expected: Callable[[int], None]

    @contextmanager
    def begun(self, path: Path) -> Iterator[Moving]:
        """Within the transaction: the rows are read, and those that do not surely fit are in a file."""
        with ExitStack() as stack:
            stack.enter_context(self.place.held(_HELD, self.select))
            told = self._told(f"{_PLAIN} = 1")
            self.expected(told[0])
            plain = self._plain(stack)
            if plain != f"{_PLAIN} = 1":
                told = self._told(plain)
            total, fit, trimmed, nulled = told
            landing = _landing(self.compiled)
            listed = ", ".join(f"{quoted(each)} AS {quoted(name)}" for name, each in self.raw.items())
            others = f"NOT ({plain})" if fit < total else "1 = 0"
            rest = f"SELECT {listed} FROM {quoted(_HELD)} WHERE {others}{in_order(self.compiled, self.raw)}"
            rows = written_out(self.place, rest, rows_taken(self.place, self.compiled), path)
            file = ArrivedFile(path, landing, survey(path, landing, packed=False))
            yield Moving(self, plain, total, rows, file, {"trimmed": trimmed, "nulled": nulled})

    def _told(self, plain: str) -> list[int]:
        """How many rows there are, how many meet a condition, and the cells of those that are trimmed or made null."""
        sums = [f"coalesce(sum(CASE WHEN {plain} THEN {each} END), 0)" for each in ("1", _TRIMMED, _NULLED)]
        names = [f"{each} AS {quoted(own(str(at)))}" for at, each in enumerate(["count(*)", *sums])]
        return [int(each) for each in self.place.answer(f"SELECT {', '.join(names)} FROM {quoted(_HELD)}").rows[0]]

    def _plain(self, stack: ExitStack) -> str:
        """The condition of rows that fit, and whose keys are nowhere else."""
        plain = f"{_PLAIN} = 1"
        for at, key in enumerate(self.keys):
            shared, name = key.shared(self.compiled.charter.table), own(f"shared {at}")
            clashes = int(self.place.answer(f"SELECT count(*) AS clashes FROM ({shared}) AS shared").rows[0][0])
            if clashes > _MANY:
                return "1 = 0"
            if clashes:
                stack.enter_context(self.place.held(name, shared))
                plain += f" AND NOT EXISTS (SELECT 1 FROM {quoted(name)} AS shared WHERE {key.is_in('shared')})"
        return plain


@frozen
class _Key:
    """A key in SQL: its `values` in the rows that are moved, and in those of the table; `bare` where an index may help.

    `present` is the condition that a row has one at all.
    """

    values: Sequence[str]
    bare: Sequence[str]
    present: str

    def shared(self, table: str) -> str:
        """The keys that several of the rows have, or that are in the table."""
        names = ", ".join(map(self._name, range(len(self.values))))
        listed = ", ".join(f"{value} AS {self._name(at)}" for at, value in enumerate(self.values))
        mine = f"SELECT {listed} FROM {quoted(_HELD)} WHERE {self.present}"
        among = f"SELECT {', '.join(self.values)} FROM {quoted(_HELD)} WHERE {self.present}"
        theirs = f"SELECT {listed} FROM {quoted_table(table)} AS there WHERE ({', '.join(self.bare)}) IN ({among})"
        return f"SELECT {names} FROM ({mine} UNION ALL {theirs}) AS every GROUP BY {names} HAVING count(*) > 1"

    def is_in(self, shared: str) -> str:
        """Whether a row that is moved has one of such keys."""
        return " AND ".join(f"{shared}.{self._name(at)} = {value}" for at, value in enumerate(self.values))

    @staticmethod
    def _name(at: int) -> str:
        return quoted(own(f"key {at}"))

    @classmethod
    def of(
        cls, check: Check, place: Place, kinds: Mapping[str, Kind], there: Mapping[str, PlaceColumn], now: Now
    ) -> _Key | None:
        """One that rejects; None where the place may compare it otherwise than the program."""
        if check.parts:
            nodes = [node for _, node in check.parts]
            if any(_is_folded(place, there[name], now) for name in check.columns) or any(
                place.differs(node) is not None for node in nodes
            ):
                return None
            values = bare = [place.render(node, now) for node in nodes]
            of = [node.kind for node in nodes]
        else:
            of = [kinds[name] for name in check.columns]
            values = [_alike(place, there[name], quoted(name)) for name in check.columns]
            in_table = [f"there.{quoted(name)}" for name in check.columns]
            bare = [
                _alike(place, there[name], sql) if there[name].folds else sql
                for name, sql in zip(check.columns, in_table, strict=True)
            ]
        if check.nulls or check.whole_row:  # two nulls are the same: compared with whether there is one
            values = [each for value, kind in zip(values, of, strict=True) for each in _with_null(place, value, kind)]
            return cls(values, values, "1 = 1")
        return cls(values, bare, " AND ".join(f"{value} IS NOT NULL" for value in values))


def _is_folded(place: Place, column: PlaceColumn, now: Now) -> bool:
    """Whether a place takes some texts of a column for the same that are not, in conditions too."""
    texts = column.kind is not None and column.kind.name == "text"
    return texts and column.folds and place.render(build.column(column.name, Kind("text")), now) == quoted(column.name)


def _alike(place: Place, column: PlaceColumn, sql: str) -> str:
    """A value of a key as it is compared."""
    texts = column.kind is not None and column.kind.name == "text"
    return place.exactly(sql, column if texts else None)


def _with_null(place: Place, sql: str, kind: Kind) -> list[str]:
    """Whether a value is null, and a value of its kind in any case."""
    node = Node("unhex", [build.constant("", Kind("text"))], kind=kind)
    if kind.name != "binary":
        node = build.constant(_SOME[kind.name], kind)
    return [f"CASE WHEN {sql} IS NULL THEN 1 ELSE 0 END", f"coalesce({sql}, {place.render(node, NOWHERE)})"]


@frozen
class Moving:
    """Rows on their way: of so many, the condition of those that stay in the place, and the file of the others.

    `altered` counts the cells of those that stay which are not taken as they are, by what is done to them.
    """

    inside: Inside
    plain: str
    total: int
    rest: int
    file: ArrivedFile
    altered: Mapping[str, int]

    def put(self, columns: list[str]) -> int:
        """Have the place put its rows into the table; how many.

        Raises:
            PlaceError: they are not those that were not taken out.
        """
        rows = self.inside.place.put(self.inside.compiled.charter.table, columns, _HELD, self.plain)
        if rows + self.rest != self.total:
            told = f"{self.total:,} rows were to be moved, and {rows:,} were, besides {self.rest:,} that were taken out"
            raise PlaceError(told, where=_landing(self.inside.compiled), mend="load again when nobody changes it")
        return rows

    def counted(self, count: FileCount) -> FileCount:
        """The account of the file of the others, with the rows that stayed in the place."""
        more, altered = self.total - self.rest, {each.what: each.count for each in count.altered}
        for what, times in self.altered.items():
            if times:
                altered[what] = altered.get(what, 0) + times
        return replace(
            count, lines=count.lines + more, record_lines=count.record_lines + more, records=count.records + more,
            altered=tuple(Altered(what, times, 0) for what, times in altered.items()),
        )  # fmt: skip


def _landing(compiled: Compiled) -> str:
    assert compiled.source is not None  # noqa: S101 - only then is something moved
    return compiled.source.charter.table


def _keys(compiled: Compiled) -> list[Check]:
    return [check for check in compiled.checks if check.sort == "key" and check.otherwise == "reject"]


def inside_of(
    place: Place, compiled: Compiled, there: Mapping[str, PlaceColumn], where: str | None, now: Now, zone: str,
    at: datetime.datetime, expected: Callable[[int], None],
) -> Inside | None:  # fmt: skip
    """How the rows of a landing table that meet a rendered condition are moved within a place; None where it cannot."""
    source, kinds = compiled.source, compiled.charter.kinds()
    assert source is not None  # noqa: S101
    if not place.native or place.changes_rows(compiled.charter.table) or not _comparable(compiled, there):
        return None
    keys = [_Key.of(check, place, kinds, there, now) for check in _keys(compiled)]
    conditions, selected = _conditions(place, compiled, now), _Select(place, compiled, now, zone, Steps(place))
    fixed = constants(compiled.charter, now.load_no or 0, at, now.day, zone)
    if None in keys or conditions is None or not _taken(selected) or not _filled_in(selected, fixed):
        return None
    filled = _filled(place, list(compiled.charter.file_columns()), kinds, now)
    select = selected.whole([*filled, *conditions], where)
    try:  # before the transaction, which a failure may end: rows may be too wide, or temporary tables forbidden
        with place.held(own("trial"), f"{select} LIMIT 0"):
            return Inside(place, compiled, select, selected.raw, [key for key in keys if key is not None], expected)
    except PlaceError:
        return None


def _taken(selected: _Select) -> bool:
    """Have all columns of a landing table taken; False where the place cannot read some of them."""
    compiled, place = selected.compiled, selected.place
    kinds = compiled.charter.kinds()
    taken, files = list(columns_taken(compiled).items()), [*compiled.charter.file_columns(), *compiled.carried]
    landing = {column.name: column for column in place.columns(_landing(compiled)) or ()}
    if len(taken) != len(files):
        return False
    for (landed, kind), name in zip(taken, files, strict=True):
        if landing[landed].limits.padded or (kind and (not holds(landing[landed], kind) or kind != kinds[name])):
            return False
        if not selected.take(landed, name, as_it_is=kind is not None):
            return False
    for name in rows_taken(place, compiled):
        if name not in selected.raw:
            selected.keep(name)
    return True


def _filled_in(selected: _Select, fixed: Mapping[str, Any]) -> bool:
    """Fill the columns that a file does not hold; False where the rows would have to be numbered."""
    for name, value in fixed.items():
        if name in selected.compiled.carried:
            continue
        if value is FILE_LINE:
            return False
        selected.fill(name, _landing(selected.compiled) if value is FILE_NAME else value)
    return True


@dataclass(slots=True)
class _Select:
    """The SELECT that reads the rows of a landing table, in steps, so that nothing is worked out twice."""

    place: Place
    compiled: Compiled
    now: Now
    zone: str
    steps: Steps
    raw: dict[str, str] = field(default_factory=dict)
    _told: list[str] = field(default_factory=list)
    _fits: list[str] = field(default_factory=list)
    _trimmed: list[str] = field(default_factory=list)
    _nulled: list[str] = field(default_factory=list)

    def keep(self, landed: str) -> str:
        """A column of the landing table as it is, for those rows that are taken out; its name in the SELECT."""
        self.raw[landed] = name = own(f"raw {len(self.raw)}")
        self._told.append(self.steps.take(landed, name))
        return self._told[-1]

    def take(self, landed: str, name: str, *, as_it_is: bool) -> bool:
        """A column of the landing table as one of the other; False where the place cannot read its texts."""
        number, raw = len(self.raw), self.keep(landed)
        if as_it_is:
            self._told.append(f"{raw} AS {quoted(name)}")
            return True
        layout, kind = self.compiled.layout, self.compiled.charter.kinds()[name]
        layout = layout.of(self.compiled.charter.cell_forms(layout).get(name))
        reading = written(landed, kind, layout, self.zone, number)
        if reading is None:
            return False
        value, fits = self.steps.read(reading)
        text = quoted(reading.text)
        self._told.append(f"{value} AS {quoted(name)}")
        self._fits.append(fits)
        if reading.known is not None:
            self._fits.append(self.steps.said(reading.known))
        nul = self.place.with_nul(raw) if kind.name == "text" else None
        if nul is not None:
            self._fits.append(f"NOT coalesce({nul}, 1 = 0)")
        letters = self.place.fingerprint.characters
        if layout.trim:
            shorter = f"{text} IS NULL OR {letters(text)} <> {letters(raw)}"
            self._trimmed.append(f"CASE WHEN {raw} IS NOT NULL AND ({shorter}) THEN 1 ELSE 0 END")
        if any(layout.null_words):
            null = f"{self.steps.said(reading.empty)} AND {letters(text)} > 0"
            self._nulled.append(f"CASE WHEN {null} THEN 1 ELSE 0 END")
        return True

    def fill(self, name: str, value: Any) -> None:
        """A column that all rows have one value in."""
        kind = self.compiled.charter.kinds()[name]
        node = Node("null", kind=kind) if value is None else build.constant(value, kind)
        typed = node if kind.name == "text" and value is not None else Node("cast", [node], value=kind, kind=kind)
        self._told.append(f"{self._said(typed)} AS {quoted(name)}")

    def whole(self, conditions: Sequence[str], where: str | None) -> str:
        """All of it, with whether a row surely meets some conditions."""
        sums = [
            f"{' + '.join(each) or '0'} AS {name}"
            for each, name in ((self._trimmed, _TRIMMED), (self._nulled, _NULLED))
        ]
        fits = f"CASE WHEN {' AND '.join(self._fits) or '1 = 1'} THEN 1 ELSE 0 END AS {_FITS}"
        apart, given = self.place.apart, quoted(own("read"))
        rows = self.steps.select([*self._told, fits, *sums], self.place.rowset(_landing(self.compiled), where))
        met = " AND ".join([f"{_FITS} = 1", *conditions])
        return f"SELECT {given}.*, CASE WHEN {met} THEN 1 ELSE 0 END AS {_PLAIN} FROM ({rows}{apart}) AS {given}"

    def _said(self, node: Node) -> str:
        return self.place.render(node, self.now)


def _filled(place: Place, names: list[str], kinds: Mapping[str, Kind], now: Now) -> list[str]:
    """The condition that a row holds a value at all; of one column, a row without one is a null."""
    if len(names) < 2:
        return []
    return ["(" + " OR ".join(place.render(build.not_blank(name, kinds[name]), now) for name in names) + ")"]


def _comparable(compiled: Compiled, there: Mapping[str, PlaceColumn]) -> bool:
    """Whether the place takes all values as they are, and knows keys from each other as the program does."""
    charter = compiled.charter
    loaded = [name for name, column in charter.columns.items() if column.filled != "@place"]
    kinds = charter.kinds()
    if any(_limited(there[name].limits) or not compared_as(there[name], kinds[name]) for name in loaded):
        return False
    return all(name in loaded for key in _keys(compiled) for name in key.columns)


def _limited(limits: Limits) -> bool:
    """Whether a column gives some values of its kind back otherwise than they were put in."""
    return replace(limits, bounds=None).any or limits.bounds not in {None, (-(2**63), 2**63 - 1)}


def _conditions(place: Place, compiled: Compiled, now: Now) -> list[str] | None:
    """The conditions of a row that no check sets aside; None where the place may see one otherwise than the program."""
    checks = [check for check in compiled.checks if check.on_rows and check.otherwise == "reject"]
    checks += [compiled.within] if compiled.within is not None else []
    found = []
    for check in checks:
        if check.node is None:
            return None
        letters = place.differs(check.node)
        if letters is not None and not letters:
            return None
        for name in letters or ():
            prints = place.fingerprint
            found.append(f"coalesce({prints.octets(quoted(name))} = {prints.characters(quoted(name))}, 1 = 1)")
        found.append(f"({place.render(check.node, now)} IS NOT FALSE)")
    references = [check for check in compiled.checks if check.sort == "reference" and check.otherwise == "reject"]
    listed = [_is_listed(place, check, compiled, now) for check in references]
    return None if None in listed else [*found, *filter(None, listed)]


def _is_listed(place: Place, check: Check, compiled: Compiled, now: Now) -> str | None:
    """The condition that the values of a row are listed, or that one is null; None where only the program can tell."""
    kinds = [compiled.charter.kinds()[name] for name in check.columns]
    absent = " OR ".join(f"{quoted(name)} IS NULL" for name in check.columns)
    if check.listed is not None:
        rows = list(zip(*check.listed, strict=True))  # a column's values are together there
        if not 0 < len(rows) <= _MANY_LISTED:
            return None
        node = build.is_one_of_rows(list(zip(check.columns, kinds, strict=True)), rows)
        return f"({absent} OR {place.render(node, now)})"
    if check.listed_in is None or check.place not in {None, place.name} or check.listed_in[0] == compiled.charter.table:
        return None
    table, names = check.listed_in
    listing = {column.name: column for column in place.columns(table) or ()}
    if not all(name in listing and held_as(listing[name], kind) for name, kind in zip(names, kinds, strict=True)):
        return None
    theirs = ", ".join(_alike(place, listing[name], quoted(name)) for name in names)
    mine = ", ".join(place.exactly(quoted(name), None) for name in check.columns)
    return f"({absent} OR ({mine}) IN (SELECT {theirs} FROM {quoted_table(table)} AS listed))"
