"""Rules over a table: one scan for all conditions, one query each for keys, references and offenders."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import pyarrow as pa

from nomotheta.charter import Check, Compiled
from nomotheta.conditions import Kind, Node, own, own_names
from nomotheta.errors import NomothetaError, PlaceError, counted, did_you_mean
from nomotheta.kinds import CANONICAL, UNTYPED, read_column, show
from nomotheta.layout import Layout
from nomotheta.place import Now, Place, PlaceColumn, quoted
from nomotheta.rules.anew import Anew, Column, blank_as_null, comparable, compared_as, held_as, plain_texts
from nomotheta.rules.finding import HIDDEN, Finding, Samples, message_of, samples_of, verdict_of

SAMPLES = 5
_ROWS, _BREAKS = own("rows"), own("breaks")
_TIMES, _LISTED, _OFFENDERS, _REPEATED = (quoted(own(word)) for word in ("times", "listed", "offenders", "repeated"))
_WIDEST = 8


@dataclass(frozen=True, slots=True)
class Scope:
    """The rows that are judged: all of a table, or those that meet `where`; `label` names them."""

    label: str = "table"
    where: Node | None = None


def judge(
    place: Place,
    compiled: Compiled,
    now: Now,
    scope: Scope | None = None,
    load_scope: Scope | None = None,
    set_aside: Mapping[str, int] | None = None,
    *,
    one_by_one: bool = False,
) -> list[Finding]:
    """Check a table against its charter.

    Args:
        place: where the table is.
        compiled: its charter.
        now: the moment, the day and the load that conditions may speak of.
        scope: the rows that rules look at which do not say otherwise; all where it is None.
        load_scope: the rows of one load, for the rules that are declared over a load.
        set_aside: for a table that was just loaded, how many rows each check that sets rows aside took out; such
            checks are not judged again.
        one_by_one: judge each rule by a statement of its own, and none after one that ended in an error: inside a
            transaction, that is how the culprit is found.

    Returns:
        A finding for every check, in the order of the charter.

    Raises:
        PlaceError: the table is not there, or the place cannot be reached.
    """
    scopes = (scope or Scope(), load_scope or scope or Scope())
    return _Judge(place, compiled, now, scopes, set_aside, one_by_one=one_by_one).findings()


class _Judge:
    def __init__(
        self, place: Place, compiled: Compiled, now: Now, scopes: tuple[Scope, Scope],
        set_aside: Mapping[str, int] | None, *, one_by_one: bool,
    ) -> None:  # fmt: skip
        self.one_by_one, self.ended = one_by_one, False
        self.place, self.compiled, self.now = place, compiled, now
        self.scope, self.load_scope = scopes
        self.charter, self.set_aside = compiled.charter, set_aside
        self.table = self.charter.table
        self.shape = {column.name: column for column in existing(place, self.table)}
        place.expect(self.table, self.charter.kinds())
        self.private = self.charter.private()
        self.counts: dict[str, int] = {}
        self.asked: Place | Anew = place
        odd = [name for name, kind in self.charter.kinds().items() if name in self.shape and self.is_odd(name, kind)]
        if odd:
            self.asked = Anew(place, {self.table: self.read_anew()})

    def is_odd(self, name: str, kind: Kind) -> bool:
        """Whether the place would compare the values of a column otherwise than as the declared kind."""
        column = self.shape[name]
        landed = not column.sure and column.kind is not None and column.kind.name == "text" != kind.name
        return landed or not compared_as(column, kind)

    def read_anew(self) -> list[Column]:
        """The table's columns, those of other kinds than declared as texts."""
        kinds, found = self.charter.kinds(), []
        for name, column in self.shape.items():
            kind = kinds.get(name)
            if kind is not None and self.is_odd(name, kind):
                found.append(Column(name, kind, self.layout_of(name)))
            elif column.kind is None:
                found.append(Column(name, Kind("text"), UNTYPED))
            else:
                found.append(Column(name, kind if kind and kind.name in column.also else column.kind))
        return found

    def findings(self) -> list[Finding]:
        found: dict[int, Finding] = {}
        rows: list[tuple[int, Check]] = []
        kinds: list[tuple[int, Check]] = []
        strange = self.strange()
        for at, check in enumerate(self.compiled.checks):
            absent = [name for name in check.columns if name not in self.shape]
            if self.is_enforced(check):
                found[at] = self.enforced(check)
            elif absent:
                found[at] = self.absent(check, absent)
            elif check.node is not None:
                rows.append((at, check))
            elif check.sort == "kind" and (
                check.columns[0] in strange or not holds(self.shape[check.columns[0]], self.declared(check))
            ):
                kinds.append((at, check))
            else:
                found[at] = self.alone(check)
        judged = self.kinds_together([check for _, check in kinds])
        found |= {at: finding for (at, _), finding in zip(kinds, judged, strict=True)}
        groups: dict[tuple[str, bool], list[tuple[int, Check]]] = {}
        for at, check in rows:
            groups.setdefault((self.scope_of(check).label, self.differs(check)), []).append((at, check))
        for (_, differs), group in groups.items():
            with self.read_by_us() if differs else contextlib.nullcontext():
                judged = self.together([check for _, check in group], self.scope_of(group[0][1]))
            found |= {at: finding for (at, _), finding in zip(group, judged, strict=True)}
        return [found[at] for at in sorted(found)]

    def strange(self) -> frozenset[str]:
        """The columns in which something stands that is no value of their kind, though their type holds it."""
        if not any(check.sort == "kind" and not self.is_enforced(check) for check in self.compiled.checks):
            return frozenset()
        found = [(name, self.place.strange(column)) for name, column in self.shape.items()]
        asked = [(name, condition) for name, condition in found if condition]
        if not asked:
            return frozenset()
        counts = [f"count(CASE WHEN {sql} THEN 1 END) AS {quoted(own(str(at)))}" for at, (_, sql) in enumerate(asked)]
        row = self.place.ask(f"SELECT {', '.join(counts)} {self.place.rowset(self.table)}").to_pylist()[0]
        return frozenset(name for at, (name, _) in enumerate(asked) if row[own(str(at))])

    def differs(self, check: Check) -> bool:
        """Whether a condition may come to something else in the place than while rows are loaded."""
        if self.asked is not self.place or check.node is None:
            return False
        columns = self.place.differs(check.node)
        if not columns:
            return columns is not None
        prints = self.place.fingerprint
        other = " OR ".join(f"{prints.octets(name)} <> {prints.characters(name)}" for name in map(quoted, columns))
        found = f"SELECT 1 AS {quoted(_ROWS)} {self.place.rowset(self.table, other)} LIMIT 1"
        return bool(self.place.ask(found).num_rows)

    @contextlib.contextmanager
    def read_by_us(self) -> Iterator[None]:
        """Conditions that would come to something else in the place: its rows are streamed into the embedded engine."""
        self.asked = Anew(self.place, {self.table: self.read_anew()})
        try:
            yield
        finally:
            self.asked = self.place

    def is_enforced(self, check: Check) -> bool:
        """Whether rows that break it were set aside while they were loaded."""
        return self.set_aside is not None and check.otherwise == "reject"

    # ---- scope

    def scope_of(self, check: Check) -> Scope:
        if check.over == "table" or check.sort == "offenders":
            return Scope()
        return self.load_scope if check.over == "load" else self.scope

    def where(self, scope: Scope, *more: str, by: Place | Anew | None = None) -> str | None:
        parts = [(by or self.asked).render(scope.where, self.now)] if scope.where else []
        return " AND ".join([*parts, *more]) or None

    def count(self, scope: Scope) -> int:
        if scope.label not in self.counts:
            where = self.where(scope, by=self.place)
            self.counts[scope.label] = self.place.count(self.table, where)
        return self.counts[scope.label]

    # ---- findings that need no query

    def made(self, check: Check, **more: Any) -> Finding:
        base: dict[str, Any] = {
            "rule": check.name, "sort": check.sort, "columns": check.columns, "because": check.because,
            "otherwise": check.otherwise, "tolerate": str(check.tolerate), "over": self.scope_of(check).label,
        }  # fmt: skip
        return Finding(**(base | more))

    def enforced(self, check: Check) -> Finding:
        count = (self.set_aside or {}).get(check.name, 0)
        message = f"{counted(count, 'row')} set aside at loading"
        return self.made(check, verdict="pass", breaks=0, set_aside=count, message=message if count else "")

    def absent(self, check: Check, names: Sequence[str]) -> Finding:
        hint = did_you_mean(names[0], self.shape)
        message = f"the table has no column '{names[0]}'" + (f"; {hint}" if hint else "")
        return self.made(check, verdict="error", message=message)

    # ---- conditions: one scan

    def scanned(self, checks: Sequence[Check], scope: Scope) -> list[Finding]:
        parts = [f"count(*) AS {quoted(_ROWS)}"]
        for at, check in enumerate(checks):
            parts += self.counted(check, own(str(at)))
        sql = f"SELECT {', '.join(parts)} {self.asked.rowset(self.table, self.where(scope))}"
        row = self.asked.fetch(sql).to_pylist()[0]
        self.counts[scope.label] = row[_ROWS]
        return [self.read(check, row, own(str(at)), scope) for at, check in enumerate(checks)]

    def together(self, checks: Sequence[Check], scope: Scope) -> list[Finding]:
        """Checks in one scan; where that fails, or where it is asked for, one by one: the culprit is an error."""
        if not self.one_by_one:
            with contextlib.suppress(Exception):  # then they are judged one by one, and each says what is wrong
                return self.scanned(checks, scope)
        return [self.guarded(check, lambda check=check: self.scanned([check], scope)[0]) for check in checks]  # type: ignore[misc]

    def guarded(self, check: Check, work: Callable[[], Finding]) -> Finding:
        """What comes of a check, an error included."""
        if self.ended:
            return self.made(check, verdict="error", message="not judged: an error before it had ended the transaction")
        try:
            return work()
        except NomothetaError as error:
            told = error.what
        except Exception as error:
            told = f"it could not be judged: {error or type(error).__name__}".split("\n")[0]
        self.ended = self.one_by_one
        return self.made(check, verdict="error", message=told)

    def counted(self, check: Check, name: str) -> list[str]:
        assert check.node is not None  # noqa: S101 - only checks with a condition come here
        condition = self.asked.render(check.node, self.now)
        if check.sort != "whole":
            return [f"count(CASE WHEN NOT {condition} THEN 1 END) AS {quoted(name)}"]
        values = [
            f"{self.asked.render(node, self.now)} AS {quoted(f'{name} {at}')}"
            for at, node in enumerate(aggregates(check.node))
        ]
        return [f"{condition} AS {quoted(name)}", *values]

    def read(self, check: Check, row: Mapping[str, Any], name: str, scope: Scope) -> Finding:
        assert check.node is not None  # noqa: S101
        sql = f"SELECT {self.counted(check, name)[0]} {self.asked.rowset(self.table, self.where(scope))}"
        rows = int(row[_ROWS])
        if check.sort == "whole":
            return self.read_whole(check, row, name, sql)
        breaks = int(row[name])
        finding = self.made(
            check, verdict=verdict_of(check, breaks, rows), breaks=breaks, rows=rows, sql=sql,
            message=message_of(check, breaks, rows),
        )  # fmt: skip
        if not breaks:
            return finding
        condition = f"NOT {self.asked.render(check.node, self.now)}"
        return replace(finding, samples=self.sampled(check.columns, self.where(scope, condition)))

    def read_whole(self, check: Check, row: Mapping[str, Any], name: str, sql: str) -> Finding:
        assert check.node is not None  # noqa: S101
        nodes = aggregates(check.node)
        values = [f"{_told(node)} is {self.told_value(node, row[f'{name} {at}'])}" for at, node in enumerate(nodes)]
        met = row[name]
        message = ", ".join(dict.fromkeys(values))
        if any(isinstance(value, float) and not math.isfinite(value) for value in row.values()):
            met = None  # a comparison with it comes to something else in every database
        if met is None:  # nothing says that it is met
            message = f"it could not be decided: {message}" if message else "it could not be decided"
        breaks = int(not met)
        verdict = verdict_of(check, breaks, 1)
        return self.made(check, verdict=verdict, breaks=breaks, rows=row[_ROWS], message=message, sql=sql)

    def told_value(self, node: Node, value: Any) -> str:
        """The value of an aggregate; of a private column only the counts are told."""
        if value is not None and node.value[0] != "count" and self.private & set(node.columns()):
            return HIDDEN
        return show(value) or "null"

    def sampled(self, columns: Sequence[str], where: str | None, by: Place | Anew | None = None) -> Samples:
        """Rows that broke a rule, by their key and the columns that the rule speaks of."""
        asked = by or self.asked
        key = next((key.columns for key in self.charter.real_keys()), list(self.shape)[:_WIDEST])
        chosen = [name for name in dict.fromkeys([*key, *columns]) if name in self.shape]
        rows = f"{asked.rowset(self.table, where)} LIMIT {SAMPLES}"
        try:
            found = asked.fetch(f"SELECT {', '.join(map(quoted, chosen))} {rows}")
        except PlaceError:  # its driver has no value for what stands there
            if asked is not self.place:
                raise
            texts = ", ".join(f"{self.place.as_text(name)} AS {quoted(name)}" for name in chosen)
            found = asked.fetch(f"SELECT {texts} {rows}")
        return samples_of(found, self.private)

    # ---- checks with a query of their own

    def alone(self, check: Check) -> Finding:
        by_sort: dict[str, Callable[[Check], Finding]] = {
            "kind": self.kind, "key": self.key, "reference": self.reference, "offenders": self.offenders,
        }  # fmt: skip
        return self.guarded(check, lambda: by_sort[check.sort](check))

    def counted_finding(
        self, check: Check, breaks: int, rows: int, sql: str, samples: Callable[[], Samples]
    ) -> Finding:
        return self.made(
            check, verdict=verdict_of(check, breaks, rows), breaks=breaks, rows=rows, sql=sql,
            message=message_of(check, breaks, rows), samples=samples() if breaks else Samples((), ()),
        )  # fmt: skip

    def key(self, check: Check) -> Finding:
        scope = self.scope_of(check)
        listed = ", ".join(quoted(name) for name in check.columns)
        present = [f"{quoted(name)} IS NOT NULL" for name in check.columns]
        rowset = self.asked.rowset(self.table, None if check.whole_row else " AND ".join(present))
        exact = [self.asked.exactly(quoted(name), self.shape[name]) for name in check.columns]
        named = ", ".join(f"{sql} AS {quoted(name)}" for sql, name in zip(exact, check.columns, strict=True))
        groups = f"SELECT {named}, count(*) AS {_TIMES} {rowset} GROUP BY {', '.join(exact)} HAVING count(*) > 1"
        sql = f"SELECT coalesce(sum({_TIMES} - 1), 0) AS {quoted(_BREAKS)} FROM ({groups}) AS {_REPEATED}"
        breaks = int(self.asked.fetch(sql).to_pylist()[0][_BREAKS])
        rows = self.count(Scope())

        def samples() -> Samples:
            found = self.asked.fetch(f"{groups} ORDER BY {_TIMES} DESC, {listed} LIMIT {SAMPLES}")
            return samples_of(found.rename_columns([*found.column_names[:-1], "times"]), self.private)

        finding = self.counted_finding(check, breaks, rows, sql, samples)
        return finding if scope.where is None else replace(finding, over="table")

    def reference(self, check: Check) -> Finding:
        assert check.listed_in is not None  # noqa: S101
        table, listed = check.listed_in
        there = {column.name: column for column in existing(self.place, table)}
        missing = [name for name in listed if name not in there]
        if missing:
            return self.made(check, verdict="error", message=f"{table} has no column '{missing[0]}'")
        for name, other in zip(check.columns, listed, strict=True):
            have, kind = there[other].kind, self.declared(check, name)
            if not comparable(there[other], kind):
                told = f"{name} is {kind}, and {table}.{other} is {have}: such values cannot be compared"
                return self.made(check, verdict="error", message=told)
        asked = self.asked_with(check, table, listed, there)
        pairs = zip(check.columns, listed, strict=True)
        mine = asked.named(self.table)
        same = " AND ".join(
            f"{asked.exactly(f'{_LISTED}.{quoted(other)}', there[other])} = "
            f"{asked.exactly(f'{mine}.{quoted(name)}', self.shape[name])}"
            for name, other in pairs
        )
        present = " AND ".join(f"{quoted(name)} IS NOT NULL" for name in check.columns)
        absent = f"NOT EXISTS (SELECT 1 FROM {asked.named(table)} AS {_LISTED} WHERE {same})"
        scope = self.scope_of(check)
        where = self.where(scope, present, absent, by=asked)
        sql = f"SELECT count(*) AS {quoted(_BREAKS)} {asked.rowset(self.table, where)}"
        breaks = int(asked.fetch(sql).to_pylist()[0][_BREAKS])
        return self.counted_finding(
            check, breaks, self.count(scope), sql, lambda: self.sampled(check.columns, where, asked)
        )  # fmt: skip

    def asked_with(
        self, check: Check, table: str, listed: Sequence[str], there: Mapping[str, PlaceColumn]
    ) -> Place | Anew:
        """Who compares the columns with those of another table: the place, where both are of the kinds it needs."""
        kinds = [self.declared(check, name) for name in check.columns]
        alike = all(held_as(there[name], kind) for name, kind in zip(listed, kinds, strict=True))
        if self.asked is self.place and alike:
            return self.place
        columns = []
        for name, kind in zip(listed, kinds, strict=True):
            column = there[name]
            same = held_as(column, kind) and column.kind is not None
            columns.append(Column(name, column.kind if same and column.kind else kind, None if same else UNTYPED))
        if table == self.table:
            return Anew(self.place, {table: self.read_anew()})
        return Anew(self.place, {self.table: self.read_anew(), table: columns})

    def offenders(self, check: Check) -> Finding:
        sql = f"SELECT count(*) AS {quoted(_BREAKS)} FROM ({check.query}\n) AS {_OFFENDERS}"
        breaks = int(self.place.ask(sql).to_pylist()[0][_BREAKS])

        def samples() -> Samples:
            found = self.place.ask(f"SELECT * FROM ({check.query}\n) AS {_OFFENDERS} LIMIT {SAMPLES}")
            told = {name.casefold() for name in self.charter.columns}
            computed = [name for name in found.column_names if name.casefold() not in told]
            return samples_of(found, self.private.union(computed if self.charter.reads_private(check.query) else ()))

        return self.counted_finding(check, breaks, self.count(Scope()), sql, samples)

    def declared(self, check: Check, name: str = "") -> Kind:
        return self.charter.kinds()[name or check.columns[0]]

    def kind(self, check: Check) -> Finding:
        """A column of the declared kind needs no look."""
        return self.made(check, verdict="pass", breaks=0, rows=self.count(self.scope_of(check)))

    def kinds_together(self, checks: Sequence[Check]) -> list[Finding]:
        """Columns of other kinds than they should be, in one scan; where that fails, one by one."""
        if checks and not self.one_by_one:
            with contextlib.suppress(Exception):
                return self.read_kinds(checks)
        return [self.kind_alone(check) for check in checks]

    def kind_alone(self, check: Check) -> Finding:
        return self.guarded(check, lambda: self.read_kinds([check])[0])

    def read_kinds(self, checks: Sequence[Check]) -> list[Finding]:
        """Columns read as text, each by its kind's own definition."""
        names = [check.columns[0] for check in checks]
        texts = [f"{self.place.as_text(name)} AS {quoted(own(str(at)))}" for at, name in enumerate(names)]
        where = self.where(self.scope_of(checks[0]), by=self.place)
        tallies = [_KindTally(self.declared(check), self.layout_of(check.columns[0])) for check in checks]
        for batch in self.place.stream(f"SELECT {', '.join(texts)} {self.place.rowset(self.table, where)}"):
            for tally, column in zip(tallies, batch.columns, strict=True):
                tally.take(column)
        return [self.kind_finding(check, tally, where) for check, tally in zip(checks, tallies, strict=True)]

    def layout_of(self, name: str) -> Layout:
        """How texts of a column are written: as in the files, where the column is of text."""
        column = self.shape[name]
        if column.kind and column.kind.name == "text":
            return self.compiled.layout if column.sure else _with_own_forms(self.compiled.layout)
        return Layout() if column.sure else UNTYPED

    def kind_finding(self, check: Check, tally: _KindTally, where: str | None) -> Finding:
        name = check.columns[0]
        sql = f"SELECT {self.place.as_text(name)} AS {quoted(name)} {self.place.rowset(self.table, where)}"
        examples = pa.table({name: pa.array(tally.examples, pa.string())})
        finding = self.counted_finding(check, tally.breaks, tally.rows, sql, lambda: samples_of(examples, self.private))
        column = self.shape[name]
        if column.kind and column.kind.name == tally.kind.name:
            return finding
        stored = f"the column is stored as {column.type_name}"
        return replace(finding, message=f"{finding.message}; {stored}" if finding.message else stored)


@dataclass(slots=True)
class _KindTally:
    """How many texts of a column are none of its kind, and a few of them."""

    kind: Kind
    layout: Layout
    breaks: int = 0
    rows: int = 0
    examples: list[str] = field(default_factory=list)

    def take(self, column: Any) -> None:
        texts = plain_texts(blank_as_null(column, self.kind), self.kind)
        for misfit in read_column(texts, self.kind, self.layout).misfits:
            self.breaks += len(misfit.rows)
            self.examples += [texts[int(at)].as_py() for at in misfit.rows[: SAMPLES - len(self.examples)]]
        self.rows += len(column)


def _with_own_forms(layout: Layout) -> Layout:
    """A layout with the forms, too, in which we ourselves write moments into columns of text."""
    names = ("date_forms", "time_forms", "timestamp_forms")
    both: dict[str, Any] = {name: [*getattr(layout, name), *getattr(CANONICAL, name)] for name in names}
    return replace(layout, **both)


def existing(place: Place, table: str) -> list[PlaceColumn]:
    """The columns of a table.

    Raises:
        PlaceError: there is no such table; with the nearest name.
    """
    found = place.columns(table)
    if found is None:
        tables = place.tables()
        mend = did_you_mean(table, tables, "tables there: " + ", ".join(tables[:8]) if tables else "it holds no tables")
        raise PlaceError(f"there is no table '{table}' in {place.shown}", where=f"place {place.name}", mend=mend)
    check_spelled(place, table)
    for name in own_names([table, *(column.name for column in found)]):
        told = f"'{name}' is a name that only the program's own statements use: no table or column may begin so"
        raise PlaceError(told, where=f"{table} in {place.shown}", mend="rename it")
    return found


def check_spelled(place: Place, table: str) -> None:
    """Whether a table is called by the name by which its loads are known: as in the catalog, without the usual schema.

    Raises:
        PlaceError: it is called otherwise there.
    """
    schema, dot, name = table.rpartition(".")
    bare = name if dot and schema.casefold() == place.home().casefold() else table
    listed = place.tables()
    alike = table if table in listed else next((each for each in listed if each.casefold() == bare.casefold()), bare)
    spelled = bare if bare in listed else alike
    if spelled != table and (spelled in listed or bare != table):
        told = f"the table {table} is called {spelled} there"
        raise PlaceError(told, where=f"place {place.name}", mend=f'write table = "{spelled}" in the charter')


def holds(column: PlaceColumn, declared: Kind) -> bool:
    """Whether a place's column can only hold values of the declared kind."""
    have = column.kind
    if have is None or have.name != declared.name or not column.sure:
        return False
    if declared.name != "decimal":
        return True
    return have.scale <= declared.scale and have.digits - have.scale <= declared.digits - declared.scale


def aggregates(node: Node) -> list[Node]:
    """The aggregates of a condition on the whole."""
    return [each for each in node.walk() if each.op == "aggregate"]


def _told(node: Node) -> str:
    name, distinct, filtered = node.value
    args = node.args[:-1] if filtered else node.args
    inner = args[0].value if args and args[0].op == "column" else "…" if args else "*"
    return f"{name}({'distinct ' if distinct else ''}{inner}){' filter (…)' if filtered else ''}"
