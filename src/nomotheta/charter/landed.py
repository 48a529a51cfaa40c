"""A table that was landed as text: how files go into it as they are, and what becomes of the one it is moved into.

In the landing table each cell stands as it came: not trimmed, and null only where it was empty and that means null.
What its layout says of null words, white space and forms holds when the texts are read as values.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from nomotheta.charter.checks import charter_checks, slice_check, slice_node
from nomotheta.charter.column import Blank, Column
from nomotheta.charter.compiled import Compiled
from nomotheta.charter.model import Charter, Load
from nomotheta.charter.read import Problem, Read
from nomotheta.conditions import Kind
from nomotheta.errors import did_you_mean
from nomotheta.layout import Layout

_CHECKS = ("between", "among", "pattern", "case", "trimmed", "length", "distinct", "drift")


def landing(compiled: Compiled) -> Compiled:
    """The charter as files are landed under it: all their cells as texts, and nothing is asked of them."""
    charter, layout = compiled.charter, compiled.layout
    forms = charter.cell_forms(layout)
    texts = {
        name: _as_text(charter.columns[name], "" in layout.of(forms.get(name)).null_words)
        for name in charter.file_columns()
    }
    plain = charter.model_copy(
        update={"columns": {**charter.columns, **texts}, "keys": [], "references": [], "rules": [], "excused": []}
    )
    meant = {name: kind for name, kind in charter.kinds().items() if name in texts}
    return replace(compiled, charter=plain, checks=(), landing=None, meant=meant, forms=forms)


def _as_text(column: Column, empty_is_null: bool) -> Column:
    plain = dict.fromkeys(_CHECKS) | {"kind": Kind("text"), "trim": False, "blank": Blank(value="allowed")}
    return column.model_copy(update={**plain, "null_words": [""] * empty_is_null})


def landed_problems(read: Read, layout: Layout) -> Iterator[Problem]:
    """What a charter cannot say of a table that holds texts."""
    charter, load = read.charter, read.charter.load
    if charter.stored == "typed":
        if load.into:
            mend = 'write stored = "text" above, or take into out'
            yield read.source.problem(("load", "into"), "only a table that was landed as text is moved on", mend)
        return
    if load.how == "merge":
        told, mend = "texts cannot be merged by their values", 'write how = "append", and into = { …, how = "merge" }'
        yield read.source.problem(("load", "how"), told, mend)
    own = [name for name in charter.file_columns() if name in (load.slice or "")]
    if own:
        told = f"the table holds the text of '{own[0]}', not its value, so no slice can be told by it"
        yield read.source.problem(("load", "slice"), told, 'slice by a column from "@delivery.day"')
    if layout.traits.typed and (layout.decimal_sign, layout.thousands_sign) != (".", ""):
        told = f"numbers of a {layout.format} file are written with a point, and the layout says otherwise"
        yield read.source.problem(("stored",), told, "take decimal_sign and thousands_sign out of the layout")
    if load.into is None:
        return
    if load.into.typed == charter.table:
        yield read.source.problem(("load", "into"), "a table cannot be moved into itself", "name another table")
    if charter.delivery is not None and not charter.load_column() and (load.how != "overwrite" or load.slice):
        told = "the rows of one load cannot be told apart in this table, so they cannot be moved on"
        yield read.source.problem(("load", "into"), told, 'add a column with from = "@load.no"')


def moved(source: Compiled, read: Read, own: Compiled | None, zone: str) -> Compiled:
    """The charter of the table into which another one is moved: its own, if it has one, or what that one says of it."""
    layout = source.layout.of_texts
    if own is not None:
        charter = _read_alike(own.charter, source.charter)
        return replace(own, charter=charter, source=source, layout=layout, carried=_carried(charter, source.charter))
    charter = typed_charter(source.charter)
    derived = Read(charter, read.source)
    checks, _ = charter_checks(derived, zone)
    condition, _ = slice_node(derived)
    return Compiled(
        charter, source.file, tuple(checks), layout, source.place, condition, slice_check(derived, condition),
        source.text, source=source, carried=_carried(charter, source.charter),
    )  # fmt: skip


def _carried(charter: Charter, source: Charter) -> Mapping[str, str]:
    """By column that names the file of a row, or its line: the column of the landing table that does."""
    there = source.origin()
    return {name: there[each.filled] for name, each in charter.columns.items() if each.filled in there}


def _read_alike(own: Charter, source: Charter) -> Charter:
    """A charter whose cells are written as those of the landing table."""
    columns = dict(own.columns)
    for name in own.file_columns():
        landed = next((source.columns[each] for each in own.names_of(name) if each in source.columns), None)
        if landed is None:
            continue
        forms = {"null_words": landed.null_words, "trim": landed.trim}
        own_forms = {key: value for key, value in forms.items() if getattr(columns[name], key) is None}
        columns[name] = columns[name].model_copy(update=own_forms)
    return own.model_copy(update={"columns": columns})


def typed_charter(charter: Charter) -> Charter:
    """What a landing table's charter says of the table into which it is moved."""
    into = charter.load.into
    assert into is not None  # noqa: S101 - only then is there such a table
    kinds = charter.kinds()
    columns = {
        name: column.model_copy(update={"origin": None, "at": None, "kind": kinds[name]})
        if name in charter.file_columns()
        else column
        for name, column in charter.columns.items()
    }
    how = into.how or charter.load.how
    keys: dict[str, Any] = {"how": how, "into": None, "staging": None, "rejects": into.rejects, "slice": None}
    keys |= {"slice": charter.load.slice} if how == charter.load.how == "overwrite" else {}
    keys |= {"same_day": None} if how != "append" else {}
    keys |= {"keep_previous": charter.load.keep_previous and how == "overwrite"}
    load: Load = charter.load.model_copy(update=keys)
    changed = {"table": into.typed, "stored": "typed", "columns": columns, "load": load, "delivery": None}
    return charter.model_copy(update=changed)


def moved_problems(source: Read, own: Read | None, others: Sequence[Read]) -> Iterator[Problem]:
    """Whether a landing table can be moved into the table that it names."""
    into, path = source.charter.load.into, ("load", "into")
    assert into is not None  # noqa: S101
    twice = next(
        (each for each in others if each.charter.load.into and each.charter.load.into.typed == into.typed), None
    )
    if twice is not None:
        yield source.source.problem(path, f"{twice.charter.table} is moved into '{into.typed}', too", "keep one")
    target = own.charter if own else typed_charter(source.charter)
    if source.charter.delivery is None and target.load.how == "append" and not any(k.sets_aside for k in target.keys):
        told = f"all rows of {source.charter.table} would be added again to '{into.typed}' each time some are new"
        yield source.source.problem(path, told, 'write how = "overwrite", or add [[keys]]')
    if own is None:
        return
    if own.charter.delivery is not None:
        told = f"'{into.typed}' has files of its own, declared in {own.source.file}"
        yield source.source.problem(path, told, "take [delivery] out of one of them")
    if own.charter.place != source.charter.place:
        yield source.source.problem(path, f"'{into.typed}' is in another place", "give both the same place")
    if into.how:
        yield source.source.problem(path, f"how it is loaded is said in {own.source.file}", "take how out of into")
    yield from _not_landed(own, source.charter.columns)


def _not_landed(own: Read, landed: Mapping[str, Column]) -> Iterator[Problem]:
    """Columns that the landing table does not have."""
    for name in own.charter.file_columns():
        if not any(each in landed for each in own.charter.names_of(name)):
            mend = did_you_mean(name, landed, 'write from = "…" with the name of a column of the landing table')
            yield own.source.problem(("columns", name), f"the landing table has no column '{name}'", mend)
