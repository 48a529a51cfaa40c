"""Any two sides held against each other: tables of whatever places, queries, files."""

from __future__ import annotations

import contextlib
import datetime
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path

from nomotheta.charter import SYSTEM_COLUMNS, Compiled, Problem
from nomotheta.charter.comparison import ComparisonKeys, SideKeys, read_comparison, side_of
from nomotheta.charter.differ import ReconcileKeys
from nomotheta.conditions import ConditionError, Kind, Node, check, own, quoted
from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.events import Listener
from nomotheta.layout import Layout
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.place.render import Now
from nomotheta.reconcile import Reconciliation, RowCounts
from nomotheta.reconcile.files import OtherFiles
from nomotheta.reconcile.given import About, Given, GivenFiles, GivenInPlace
from nomotheta.reconcile.landed import LandedRows
from nomotheta.reconcile.sides import count_sides, reconcile_sides
from nomotheta.rules.shape import existing
from nomotheta.source.delivery import arrived, literal
from nomotheta.source.patterns import filled
from nomotheta.workspace.beside import SHOWN, BesidePages
from nomotheta.workspace.charters import declared_wrong
from nomotheta.workspace.context import COMPARISONS, Context, moment

_QUERY = quoted(own("query"))


def declared_comparison(context: Context, name: str) -> ComparisonKeys:
    """A comparison that is kept in the workspace.

    Raises:
        DeclarationError: there is none of that name, or something in it is wrong.
    """
    path = context.root / COMPARISONS / f"{name}.toml"
    if not path.is_file():
        names = comparison_names(context)
        mend = did_you_mean(
            name, names, "comparisons: " + ", ".join(names) if names else f"write {COMPARISONS}/{name}.toml"
        )
        raise DeclarationError(f"no comparison is called '{name}'", where=COMPARISONS, mend=mend)
    said, problems = read_comparison(path, f"{COMPARISONS}/{name}.toml")
    if said is None or problems:
        raise declared_wrong(problems)
    return said


def lint_comparisons(context: Context) -> tuple[list[str], list[Problem]]:
    """The files of comparisons, and what is wrong with them; nothing of the data is touched."""
    names, problems = [], list[Problem]()
    known = context.settings.places
    for name in comparison_names(context):
        file = f"{COMPARISONS}/{name}.toml"
        names.append(file)
        try:
            said, found = read_comparison(context.root / file, file)
        except DeclarationError as error:
            problems.append(
                Problem(
                    file, int(error.where.rpartition(":")[2] or 1) if ":" in error.where else 1, error.what, error.mend
                )
            )
            continue
        problems += found
        for side in (said.source, said.target) if said is not None else ():
            if side.place is not None and side.place not in known:
                mend = did_you_mean(side.place, known, "declared places: " + ", ".join(known))
                problems.append(Problem(file, 1, f"no place '{side.place}' in nomotheta.toml", mend))
        if name in context.charters.known():
            told = f"a table is called {name} too: nomotheta reconcile {name} could mean either"
            problems.append(Problem(file, 1, told, "call the comparison otherwise"))
    return names, problems


def comparison_names(context: Context) -> list[str]:
    """The comparisons that are kept in the workspace."""
    return sorted(path.stem for path in (context.root / COMPARISONS).glob("*.toml"))


def asked_comparison(
    context: Context, source: str, target: str, where: str | None, key: Sequence[str], without: Sequence[str],
    distinct: Sequence[str] = (), *, fingerprints: bool = False,
) -> ComparisonKeys:  # fmt: skip
    """Two sides as a call names them: tables, PLACE:TABLE, files."""
    sides = [_side_in_call(context, text, where) for text in (source, target)]
    compiled = context.charters.of(sides[0].table or "")
    said = compiled.charter.reconcile if compiled is not None else ReconcileKeys()
    return ComparisonKeys(
        source=sides[0], target=sides[1], key=list(key) or said.key, leave_out=[*said.leave_out, *without],
        columns=said.columns, distinct=[*said.distinct, *distinct], fingerprints=said.fingerprints or fingerprints,
    )  # fmt: skip


def _side_in_call(context: Context, text: str, where: str | None) -> SideKeys:
    place, name = side_of(text, frozenset(context.settings.places))
    if place is not None:
        return SideKeys(table=name, place=place, where=where)
    path = Path(text)
    before, colon, _ = text.partition(":")
    if colon and before.isidentifier() and not path.exists():
        known = context.settings.places
        mend = did_you_mean(before, known, "places: " + ", ".join(known))
        raise DeclarationError(f"no place '{before}' is declared", where=text, mend=mend)
    if name not in context.charters.known() and (path.exists() or "/" in text or path.suffix.lower() in _FILES):
        return SideKeys(file=str(path.absolute()), where=where)
    return SideKeys(table=name, where=where)


_FILES = frozenset(
    (".csv", ".tsv", ".txt", ".dat", ".json", ".jsonl", ".ndjson", ".parquet", ".arrow", ".feather", ".xlsx", ".xls",
     ".xlsb", ".ods", ".gz", ".bz2", ".xz", ".zst", ".zip")
)  # fmt: skip


def compare_sides(
    context: Context, said: ComparisonKeys, name: str, day: datetime.date, run_id: int | None, listener: Listener,
    limit: int | None = SHOWN, *, beside: BesidePages | None = None,
) -> Reconciliation:  # fmt: skip
    """Compare two sides, as `Workspace.compare` says."""
    started = moment()
    with contextlib.ExitStack() as stack:
        result = _Step(context, said, name, context.now(started, day), listener, stack).run(
            beside.most if beside else limit
        )
    result = beside.differences(result) if beside else result
    context.ledger.add_reconciliation(result, started, run_id)
    return result


def count_by(
    context: Context, said: ComparisonKeys, name: str, day: datetime.date, by: str, listener: Listener
) -> RowCounts:  # fmt: skip
    """Count the rows of two sides by a column."""
    with contextlib.ExitStack() as stack:
        step = _Step(context, said, name, context.now(moment(), day), listener, stack)
        return count_sides(*step.sides(), said, name, by)


class _Step:
    def __init__(
        self, context: Context, said: ComparisonKeys, name: str, now: Now, listener: Listener,
        stack: contextlib.ExitStack,
    ) -> None:  # fmt: skip
        self.context, self.said, self.name, self.now, self.listener = context, said, name, now, listener
        self.stack = stack
        self.names = [self._place_of(side) for side in (said.source, said.target)]

    def run(self, limit: int | None) -> Reconciliation:
        """Open both sides, and compare them."""
        source, target = self.sides()
        both = [each for each in (source, target) if each.place is not None]
        native = bool(both) and all(each.place.native for each in both)  # type: ignore[union-attr]
        with self._one_moment(source, target) as shared:
            return reconcile_sides(
                source, target, self.said, self.name, keys=lambda: self._key(source, target),
                beside="nothing" if not native else "what is heavy" if shared else "all", limit=limit,
            )  # fmt: skip

    def sides(self) -> tuple[Given, Given]:
        """Both, opened, the files last: how they are read may depend on the other side."""
        sides = [self.said.source, self.said.target]
        given: list[Given | None] = [None, None]
        for at in sorted((0, 1), key=lambda at: sides[at].file is not None):
            given[at] = self._opened(sides[at], at, given[1 - at])
        source, target = given
        assert source is not None and target is not None  # noqa: S101
        return source, target

    # ---- opening

    def _place_of(self, side: SideKeys) -> str | None:
        """The name of the place that a side is in."""
        if side.file is not None:
            return None
        if side.place is not None:
            return side.place
        compiled = self.context.charters.of(side.table or "")
        return compiled.place if compiled is not None else next(iter(self.context.settings.places))

    def _place(self, at: int) -> Place:
        name = self.names[at] or ""
        if at == 1 and self.names[0] == name:  # each side by a connection of its own
            return self.stack.enter_context(self.context.places.another(name))
        return self.stack.enter_context(self.context.places.open(name))

    def _opened(self, side: SideKeys, at: int, other: Given | None) -> Given:
        if side.file is not None:
            return self._files(side, at, other)
        place = self._place(at)
        if side.query is not None:
            return self._query(place, side)
        table = side.table or ""
        shape = existing(place, table)
        compiled = self.context.charters.of(table)
        told = table if self.names[0] == self.names[1] or None in self.names else f"{place.name}:{table}"
        if compiled is not None and compiled.landing is not None:
            return self._landed(place, side, compiled, shape, told)
        meant = {}
        if compiled is not None:
            declared = compiled.as_loaded.charter.kinds()
            meant = {
                column.name: declared[column.name] for column in shape if column.name in declared and not column.sure
            }
        kinds = {column.name: meant.get(column.name) or column.kind for column in shape}
        place.expect(table, {name: kind for name, kind in kinds.items() if kind is not None})
        where = self._where(side, {name: kind for name, kind in kinds.items() if kind is not None})
        rows = place.rowset(table, place.render(where, self.now) if where is not None else None)
        return GivenInPlace(place, told + _narrowed(side), rows, shape, self.now, meant, _about(compiled, shape), table)

    def _landed(
        self, place: Place, side: SideKeys, compiled: Compiled, shape: list[PlaceColumn], told: str
    ) -> Given:  # fmt: skip
        """A table of landed texts, as the values that they stand for."""
        rows = LandedRows(place, compiled, shape, place.rowset(compiled.charter.table), self.context.settings.time_zone)
        where = self._where(side, rows.columns())
        about = _about(compiled, shape)
        return GivenFiles(rows, told + _narrowed(side), self.now, where, about, place, compiled.charter.table)

    def _query(self, place: Place, side: SideKeys) -> Given:
        query = (side.query or "").strip().rstrip(";")
        told = f"a query in {place.name}{_narrowed(side)}"
        if not place.native:
            view = place.viewed(query)
            shape = place.columns(view) or []
            kinds = {column.name: column.kind for column in shape if column.kind is not None}
            place.expect(view, kinds)
            where = self._where(side, kinds)
            rows = place.rowset(view, place.render(where, self.now) if where is not None else None)
            return GivenInPlace(place, told, rows, shape, self.now, table=view)
        shape = place.columns_of(query)
        where = self._where(side, {column.name: column.kind for column in shape if column.kind is not None})
        condition = f" WHERE {place.render(where, self.now)}" if where is not None else ""
        rows = f"FROM ({query}\n) AS {_QUERY}{condition}"  # a comment may end it
        return GivenInPlace(place, told, rows, shape, self.now)

    def _where(self, side: SideKeys, kinds: dict[str, Kind]) -> Node | None:
        if side.where is None:
            return None
        try:
            return check(side.where, kinds)
        except ConditionError as error:
            mend = error.hint or f"columns: {', '.join(kinds)}"
            raise DeclarationError(f"{error.what}\n{error.pointed(side.where)}", where=self.name, mend=mend) from None

    # ---- files

    def _files(self, side: SideKeys, at: int, other: Given | None) -> Given:
        """Files, read by the charter of the table on the other side, or by one that is proposed from them."""
        pattern = filled(side.file or "", self.now.day)
        root = self.context.root
        sides = (self.said.source, self.said.target)
        declared = self.context.charters.of(sides[1 - at].table or "") if sides[1 - at].table else None
        compiled = declared if declared is not None and declared.charter.delivery is not None else None
        literally = literal(pattern) if Path(pattern).is_file() else pattern
        if compiled is None:
            paths = [file.path for file in arrived(root, [literally], Layout())]
            compiled = self._proposed(paths, other)
        files = OtherFiles(
            compiled,
            arrived(root, [literally], compiled.layout),
            self.context.settings.time_zone,
            self.now,
            self.listener,
        )
        kinds = files.columns()
        told = Path(pattern).name if len(files.files) == 1 else f"{len(files.files):,} files"
        about = About(_key_of(compiled), frozenset(), compiled.charter.private() & {*kinds})
        return GivenFiles(files, told + _narrowed(side), self.now, self._where(side, kinds), about)

    def _proposed(self, paths: Sequence[Path], other: Given | None) -> Compiled:
        from nomotheta.workspace.proposing import propose_of_files
        from nomotheta.workspace.trial import compiled_text

        into = None
        if other is not None:
            columns = other.columns
            into = [PlaceColumn(name, str(kind), kind, nullable=True) for name, kind in columns.known().items()]
        text, _ = propose_of_files(paths, self.context.root, "rows", self.now.day, self.listener, into)
        with tempfile.TemporaryDirectory(prefix="nomotheta-") as folder:
            return compiled_text(text, Path(folder))

    # ---- both

    def _key(self, source: Given, target: Given) -> Sequence[str]:
        """A key of either side: as declared, or such as the database sees to."""
        for given in (target, source):
            if given.about.key:
                return given.about.key
        for given in (target, source):
            if isinstance(given, GivenInPlace) and given.table:
                unique = sorted(given.place.guarantees(given.table).unique, key=lambda each: (len(each), sorted(each)))
                for each in unique:
                    return [name for name in given.columns.kinds if name in each]
        return ()

    @contextlib.contextmanager
    def _one_moment(self, source: Given, target: Given) -> Iterator[bool]:
        """Both tables of one place as of one moment; whether both sides are in one place."""
        if source.place is None or target.place is None or source.place.name != target.place.name:
            yield False
            return
        tables = [given.table for given in (source, target) if given.table]
        with source.place.one_view([target.place], tables):
            yield True


def _narrowed(side: SideKeys) -> str:
    return f" where {side.where}" if side.where else ""


def _about(compiled: Compiled | None, shape: Sequence[PlaceColumn]) -> About:
    if compiled is None:
        return About()
    charter = compiled.as_loaded.charter
    own_columns = {name for name, column in charter.columns.items() if column.from_ in (*SYSTEM_COLUMNS, "@place")}
    there = {column.name for column in shape}
    return About(_key_of(compiled), frozenset(own_columns & there), charter.private() & there)


def _key_of(compiled: Compiled) -> tuple[str, ...]:
    return next((tuple(each.columns) for each in compiled.as_loaded.charter.real_keys()), ())
