"""Charters held against each other and against the workspace, before any data is read."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace

from nomotheta.charter.checks import charter_checks, slice_check, slice_node
from nomotheta.charter.column import FROM_PLACE, SYSTEM_COLUMNS
from nomotheta.charter.compiled import Compiled
from nomotheta.charter.landed import landed_problems, landing, moved, moved_problems
from nomotheta.charter.model import BREAK_COLUMNS, Charter
from nomotheta.charter.positions import Path
from nomotheta.charter.read import Problem, Read
from nomotheta.charter.settings import Settings
from nomotheta.charter.values import EXAMPLES, instant, value_of
from nomotheta.conditions import ConditionError, check, common_kind, own_names, quoted
from nomotheta.errors import did_you_mean
from nomotheta.layout import Layout


def lint(reads: Sequence[Read], settings: Settings) -> tuple[dict[str, Compiled], list[Problem]]:
    """Every charter by its table, ready to be carried out, and all that is wrong with them."""
    compiled: dict[str, Compiled] = {}
    problems: list[Problem] = []
    by_table: dict[str, Read] = {}
    for read in reads:
        table = read.charter.table
        if table in by_table:
            first = by_table[table].source.file
            problems.append(
                read.source.problem(("table",), f"the table '{table}' has a charter already: {first}", "keep one")
            )
            continue
        by_table[table] = read
        checks, found = charter_checks(read, settings.time_zone)
        condition, slice_problems = slice_node(read)
        found += slice_problems + _context(read, settings) + _columns(read)
        problems += found
        place = read.charter.place or next(iter(settings.places))
        layout = _layout(read.charter, settings)
        within = slice_check(read, condition)
        compiled[table] = Compiled(
            read.charter, read.source.file, tuple(checks), layout, place, condition, within, read.source.whole
        )
        problems += landed_problems(read, layout)
        if read.charter.stored == "text":
            compiled[table] = replace(compiled[table], landing=landing(compiled[table]))
    problems += _moved(compiled, by_table, settings.time_zone)
    for read in by_table.values():
        problems += _listed(read, {name: each.charter for name, each in by_table.items()})
        problems += _elsewhere(read, compiled, settings) + _equals(read, compiled, settings)
        for name in sorted({*read.charter.after} - {*compiled}):
            mend = did_you_mean(name, compiled, "tables: " + ", ".join(compiled))
            problems.append(read.source.problem(("after",), f"no charter declares the table '{name}'", mend))
    problems += _circles(compiled, by_table)
    return compiled, sorted(problems, key=lambda problem: (problem.file, problem.line))


def _moved(compiled: dict[str, Compiled], reads: Mapping[str, Read], zone: str) -> list[Problem]:
    """Give each table into which another one is moved its charter; what is wrong with that."""
    found: list[Problem] = []
    before: list[Read] = []
    for table, read in reads.items():
        into = read.charter.load.into
        if into is None or read.charter.stored != "text" or into.typed == table:
            continue
        own = reads.get(into.typed)
        found += moved_problems(read, own, before)
        before.append(read)
        compiled[into.typed] = moved(compiled[table], read, compiled[into.typed] if own else None, zone)
        if own is None:
            found += _merging(Read(compiled[into.typed].charter, read.source))
    return found


def _layout(charter: Charter, settings: Settings) -> Layout:
    declared = charter.delivery.layout if charter.delivery else Layout()
    return declared if isinstance(declared, Layout) else settings.layouts.get(declared, Layout())


def _context(read: Read, settings: Settings) -> list[Problem]:
    charter, found = read.charter, []
    if charter.place is not None and charter.place not in settings.places:
        mend = did_you_mean(charter.place, settings.places, "declared places: " + ", ".join(settings.places))
        found.append(read.source.problem(("place",), f"no place '{charter.place}' in nomotheta.toml", mend))
    if charter.table in charter.after:
        found.append(read.source.problem(("after",), f"{charter.table} cannot come after itself", "take it out"))
    layout = charter.delivery.layout if charter.delivery else None
    if isinstance(layout, str) and layout not in settings.layouts:
        known = "declared layouts: " + ", ".join(settings.layouts) if settings.layouts else "none is declared"
        mend = did_you_mean(layout, settings.layouts, known)
        found.append(read.source.problem(("delivery", "layout"), f"no layout '{layout}' in nomotheta.toml", mend))
    found += _merging(read) + _stated(read) + _deliveries(read) + _reconciled(read)
    return found + _positions(read, _layout(charter, settings))


def _deliveries(read: Read) -> list[Problem]:
    """What is said of the deliveries of a day must be sayable: there is a day, and its rows are told apart."""
    charter, found = read.charter, []
    delivery, load = charter.delivery, charter.load
    daily = delivery is not None and delivery.daily
    if load.same_day and not daily:
        mend = "write {day} into the file pattern, or take same_day out: without it, what is new is added"
        found.append(read.source.problem(("load", "same_day"), "the files are not those of a day", mend))
    elif load.same_day == "replace" and not (charter.load_column() or charter.day_column()):
        told = "nothing tells the rows of one day from those of others, so they cannot be replaced"
        mend = 'add a column with from = "@load.no", or one with from = "@delivery.day"'
        found.append(read.source.problem(("load", "same_day"), told, mend))
    if delivery is not None and delivery.parts and not (daily and delivery.several):
        mend = 'write files = "inbox/…-{day}-*.csv", or take parts out'
        told = "the pattern matches only one file a day" if daily else "the files are not those of a day"
        found.append(read.source.problem(("delivery", "parts"), told, mend))
    for path, what, into in (("load", "rejects"), "rejected", load.rejects), (("breaks",), "breaking", charter.breaks):
        if into is not None and into.table == charter.table:
            told, name = f"{what} rows cannot go into the table that is loaded", f"{charter.table}_{path[-1]}"
            found.append(read.source.problem(path, told, f'write table = "{name}"'))
    for name in {each.casefold() for each in charter.columns} & {*BREAK_COLUMNS} if charter.breaks else ():
        told = f"a table of breaks has a column '{name}' of its own, which says what was judged"
        found.append(read.source.problem(("breaks",), told, "call the column otherwise, or use judge --keep-breaks"))
    place_filled = [name for name, column in charter.columns.items() if column.from_ == FROM_PLACE]
    for name in place_filled if load.slice else ():
        if re.search(rf"\b{re.escape(name)}\b", load.slice or "", re.I):
            told = f"the slice uses '{name}', which the database fills only when a row is in the table"
            found.append(read.source.problem(("load", "slice"), told, "slice by a column that the load fills"))
    return found


def _reconciled(read: Read) -> list[Problem]:
    """What may differ between files and table must be said of columns that there are."""
    charter, said, found = read.charter, read.charter.reconcile, []
    files = charter.file_columns()
    named: list[tuple[Path, str]] = [(("reconcile", "key", at), name) for at, name in enumerate(said.key)]
    named += [(("reconcile", "leave_out", at), name) for at, name in enumerate(said.leave_out)]
    named += [(("reconcile", "distinct", at), name) for at, name in enumerate(said.distinct)]
    named += [(("reconcile", "columns", name), name) for name in said.columns]
    for path, name in named:
        if name not in charter.columns:
            mend = did_you_mean(name, charter.columns, "columns: " + ", ".join(charter.columns))
            found.append(read.source.problem(path, f"the charter has no column '{name}'", mend))
    for name, may in said.columns.items():
        if may.tolerant and not (said.key or charter.real_keys()):
            told = f"{name} may be apart, which can only be decided where rows are told apart by a key"
            found.append(read.source.problem(("reconcile", "columns", name), told, "declare a key"))
        if name in files and may.of_source(name) != quoted(name):
            try:
                check(may.of_source(name), charter.kinds(), "row value")
            except ConditionError as error:
                found.append(
                    read.source.problem(
                        ("reconcile", "columns", name), error.what, error.hint, error.pointed(may.of_source(name))
                    )
                )
    return found


def repeats_untold(charter: Charter) -> str:
    """Why a file that comes again would be loaded again; empty where something tells."""
    delivery = charter.delivery
    keyed = any(key.sets_aside for key in charter.keys)
    if delivery is None or charter.load.how != "append" or keyed or (delivery.daily and not delivery.several):
        return ""
    what = "the files come by a wildcard" if delivery.several else "the file pattern has no {day}"
    mend = "add [[keys]], or {day} to the pattern"
    return f"{what}, and there is no key, so rows that are sent again are loaded twice: {mend}"


def _merging(read: Read) -> list[Problem]:
    """A merge goes by the first key, whose columns must always have a value; no other key can set rows aside."""
    charter, path = read.charter, ("load", "how")
    if charter.load.how != "merge":
        return []
    if not charter.keys:
        return [
            read.source.problem(
                path, "rows are merged by a key, and no key is declared", 'add [[keys]] columns = ["…"]'
            )
        ]
    found = []
    if charter.keys[0].is_worked_out(charter.columns):
        told = "rows are merged by the values of columns, and the first key is worked out from them"
        found.append(read.source.problem(path, told, "put a key of columns before it"))
    if not charter.keys[0].sets_aside:
        mend = 'write otherwise = "reject" at the first key, or leave it out'
        found.append(read.source.problem(path, "rows are merged by this key, so a delivery cannot have it twice", mend))
    for name in charter.keys[0].columns:
        column = charter.columns.get(name)
        filled = column is None or column.filled or column.value is not None
        if column and not filled and (column.blank.value, column.blank.otherwise) != ("never", "reject"):
            what = f"rows are merged by '{name}', which may be blank; a blank cannot be a key"
            found.append(read.source.problem(("columns", name), what, 'write blank = "never"'))
    for at, key in enumerate(charter.keys[1:], 1):
        if key.sets_aside:
            what = f"a merge cannot set rows aside by a second key ({', '.join(key.columns)})"
            found.append(read.source.problem(("keys", at), what, 'write otherwise = "fail" at it'))
    return found


def _stated(read: Read) -> list[Problem]:
    """Totals can be stated only of numbers that the files hold."""
    charter, found = read.charter, []
    path = ("delivery", "stated", "pattern")
    for name in charter.stated_totals():
        kind = charter.kinds().get(name) if name in charter.file_columns() else None
        if kind is None:
            mend = did_you_mean(
                name, charter.file_columns(), "call the count of rows 'rows', and a total as its column"
            )
            found.append(
                read.source.problem(path, f"the pattern names '{name}', which is not a column of the files", mend)
            )
        elif kind.name not in {"integer", "decimal"}:
            mend = "totals are stated of integer and decimal columns"
            found.append(read.source.problem(path, f"'{name}' is {kind}, which has no exact total", mend))
    return found


def _positions(read: Read, layout: Layout) -> list[Problem]:
    """Columns of fixed-width text must say where they are, and only they are at characters of a line."""
    found = []
    if read.charter.delivery is None:
        return []
    taken: dict[str, str] = {}
    for name in read.charter.file_columns():
        at = read.charter.columns[name].at
        if at is not None and str(at) in taken:
            what = f"'{name}' and '{taken[str(at)]}' are both taken from the same place, at = {at}"
            found.append(read.source.problem(("columns", name, "at"), what, "change 'at' at one of them"))
        taken.setdefault(str(at), name)
        if layout.traits.placed and not isinstance(at, list):
            mend = "write at = [FIRST, LAST]: its characters in the line, from 1"
            what = f"in fixed-width text '{name}' must say which characters it is in"
            found.append(read.source.problem(("columns", name), what, mend))
        elif not layout.traits.placed and isinstance(at, list):
            mend = 'write at = 3 for the third field, or format = "fixed" in the layout'
            found.append(read.source.problem(("columns", name, "at"), "only fixed-width text has such positions", mend))
    return found


def _alike(read: Read) -> list[Problem]:
    """Names that most databases take for one."""
    folded: dict[str, str] = {}
    found = []
    for name in read.charter.columns:
        first = folded.setdefault(name.casefold(), name)
        if first != name:
            what = f"the columns '{first}' and '{name}' differ in upper and lower case only: in SQL they are one"
            mend = 'give one of them another name, and the name that it has in the file as from = "…"'
            found.append(read.source.problem(("columns", name), what, mend))
    return found


def _columns(read: Read) -> list[Problem]:
    charter, found = read.charter, _alike(read)
    if not charter.columns:
        found.append(read.source.problem((), "the charter declares no columns", "add [columns.NAME] kind = ..."))
    for name in own_names([charter.table, *charter.columns]):
        told = f"'{name}' is a name that only the program's own statements use: no table or column may begin so"
        path = ("table",) if name == charter.table else ("columns", name)
        found.append(read.source.problem(path, told, "rename it"))
    seen: dict[str, str] = {}
    for name, header in [(column, each) for column in charter.file_columns() for each in charter.names_of(column)]:
        if header in seen:
            what = f"'{name}' and '{seen[header]}' are both taken from '{header}'"
            found.append(read.source.problem(("columns", name), what, 'write from = "…" at one of them'))
        seen[header] = name
    for name, column in charter.columns.items():
        wrong_kind = column.filled in SYSTEM_COLUMNS and column.real_kind != SYSTEM_COLUMNS[column.filled or ""]
        if column.value is not None and column.real_kind:
            try:
                instant(column.real_kind, value_of(column.real_kind, column.value), "UTC")
            except ValueError as error:
                mend = f"write a value such as {EXAMPLES[column.real_kind.name]}"
                found.append(read.source.problem(("columns", name, "value"), str(error), mend))
        if wrong_kind:
            what = f"{column.filled} cannot fill {column.kind}"
            mend = f"leave the kind out: it is {SYSTEM_COLUMNS[column.filled or '']}"
            found.append(read.source.problem(("columns", name, "kind"), what, mend))
    return found


def _listed(read: Read, charters: Mapping[str, Charter]) -> list[Problem]:
    """References to tables that have a charter must name columns of it, of the same kind."""
    found = []
    for at, reference in enumerate(read.charter.references):
        other = charters.get(reference.table)
        if other is None or (reference.place is not None and reference.place != other.place):
            continue
        path = ("references", at, "listed_in")
        kinds, own = other.kinds(), read.charter.kinds()
        for name, listed in zip(reference.columns, reference.listed, strict=True):
            if listed not in other.columns:
                mend = did_you_mean(listed, other.columns, "columns: " + ", ".join(other.columns))
                found.append(read.source.problem(path, f"{reference.table} has no column '{listed}'", mend))
            elif name in own and listed in kinds and own[name].name != kinds[listed].name:
                what = f"{name} is {own[name]}, but {reference.table}.{listed} is {kinds[listed]}"
                found.append(read.source.problem(path, what, "give both the same kind"))
    return found


def _elsewhere(read: Read, compiled: Mapping[str, Compiled], settings: Settings) -> list[Problem]:
    """A table is compared with those of its own place, unless another one is named."""
    own, found = compiled[read.charter.table].place, []
    for at, reference in enumerate(read.charter.references):
        path = ("references", at, "listed_in")
        other = compiled.get(reference.table)
        if reference.place is not None and reference.place not in settings.places:
            mend = did_you_mean(reference.place, settings.places, "declared places: " + ", ".join(settings.places))
            told = f"no place '{reference.place}' in nomotheta.toml"
            found.append(read.source.problem(("references", at, "place"), told, mend))
        elif other is not None and reference.place is None and other.place != own:
            told = f"{reference.table} is in the place {other.place}, and {read.charter.table} in {own}"
            mend = f'write place = "{other.place}" beside it'
            found.append(read.source.problem(path, told, mend))
    return found


def _equals(read: Read, compiled: Mapping[str, Compiled], settings: Settings) -> list[Problem]:
    """Values of other tables that have a charter must be values of theirs; their places must be there."""
    own, found = compiled[read.charter.table], []
    for each in own.checks:
        if each.equals is None:
            continue
        path = (*each.path[:-1], "equals")
        place = each.equals.place or own.place
        if place not in settings.places:
            mend = did_you_mean(place, settings.places, "declared places: " + ", ".join(settings.places))
            found.append(read.source.problem(path, f"no place '{place}' in nomotheta.toml", mend))
        other = compiled.get(each.equals.table or "")
        if other is None or other.place != place:
            continue
        try:
            node = check(each.equals.whole or each.text, other.charter.kinds(), "whole value")
        except ConditionError as error:
            found.append(read.source.problem(path, f"{error.what} in {each.equals.table}", error.hint))
            continue
        if each.node is not None and common_kind(node.kind, each.node.kind) is None:
            told = f"a value that is {each.node.kind} is never equal to one that is {node.kind}"
            found.append(read.source.problem(path, told, "compare values of one kind"))
    return found


def _circles(compiled: Mapping[str, Compiled], reads: Mapping[str, Read]) -> list[Problem]:
    try:
        in_order(compiled)
    except ValueError as error:
        circle = str(error)
        table = next(each for each in circle.split(" → ") if each in reads)
        at = ("after",) if compiled[table].charter.after else ("references", 0)
        return [reads[table].source.problem(at, f"tables wait for each other in a circle: {circle}", "take one out")]
    return []


def in_order(compiled: Mapping[str, Compiled]) -> list[str]:
    """The tables, each after those it refers to.

    Raises:
        ValueError: the references run in a circle, which the message spells out.
    """
    order: dict[str, None] = {}

    def visit(table: str, trail: tuple[str, ...]) -> None:
        if table in trail:
            raise ValueError(" → ".join([*trail[trail.index(table) :], table]))
        if table in order:
            return
        for before in sorted(compiled[table].after() & set(compiled)):
            visit(before, (*trail, table))
        order[table] = None

    for table in sorted(compiled):
        visit(table, ())
    return list(order)
