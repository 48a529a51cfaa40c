"""A charter's declarations turned into checks: each a condition tree, a key, a reference or a query.

Everything is held against the kinds here, so what reads data later meets no declaration that cannot be meant.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from nomotheta.charter.check import Check
from nomotheta.charter.column import FROM_PLACE
from nomotheta.charter.column_checks import column_checks, column_values
from nomotheta.charter.excuse import with_excuses
from nomotheta.charter.model import Charter, Key, ListFile
from nomotheta.charter.positions import Path
from nomotheta.charter.read import Problem, Read
from nomotheta.charter.reader import Reader, known
from nomotheta.charter.rule_checks import rule_checks
from nomotheta.conditions import Node, check, quoted


def charter_checks(read: Read, zone: str) -> tuple[list[Check], list[Problem]]:
    """All checks of a charter, in the order in which they are reported, and what is wrong with its declarations.

    Args:
        read: the charter.
        zone: of instants that name none.
    """
    reader = Reader(read, zone)
    charter = read.charter
    found: list[Check] = []
    for name, kind in charter.kinds().items():
        found += column_checks(reader, charter, name, kind)
    found += _keys(reader, charter)
    found += _references(reader, charter)
    found += rule_checks(reader, charter)
    _told_apart(reader, found)
    return with_excuses(reader, charter, found), reader.problems


def _told_apart(reader: Reader, checks: Sequence[Check]) -> None:
    """Checks are known by their names, in findings, in the ledger, and by the rows they set aside."""
    known: dict[str, Check] = {}
    for each in checks:
        first = known.setdefault(each.name, each)
        if first is not each and first.path[0] != "rules":
            told = f"a check is called '{each.name}' already"
            mend = "give the rule another name" if each.path[0] == "rules" else "take one of them out"
            reader.complain(each.path, told, mend)


def slice_node(read: Read) -> tuple[Node | None, list[Problem]]:
    """The condition of `load.slice`, where one is declared."""
    reader = Reader(read)
    text = read.charter.load.slice
    if text is None:
        return None, []
    return reader.condition(("load", "slice"), text, read.charter.kinds(), "each"), reader.problems


def slice_check(read: Read, node: Node | None) -> Check | None:
    """The check that a row is in the slice which its load replaces: one outside would double with the next load."""
    text = read.charter.load.slice
    if node is None or text is None:
        return None
    within = check(f"({text}\n) is true", read.charter.kinds())
    name = f"in the slice that is replaced: {' '.join(text.split())}"
    return Check(name, "slice", tuple(node.columns()), "reject", ("load", "slice"), node=within)


def _keys(reader: Reader, charter: Charter) -> Iterator[Check]:
    for at, key in enumerate(charter.keys):
        path: Path = ("keys", at, "columns")
        columns = list(charter.file_columns()) if key.whole_row else key.columns
        if key.is_worked_out(charter.columns):
            yield from _worked_out(reader, at, key, charter)
        elif known(reader, path, columns, charter) and _orderly(reader, at, key, charter):
            name = "no row comes twice" if key.whole_row else f"key ({', '.join(columns)}) never repeats"
            yield Check(
                name, "key", tuple(columns), key.otherwise, path, key.tolerate, whole_row=key.whole_row,
                keep=key.keep or "first", keep_said=key.keep is not None, by=key.by, copies=key.copies,
            )  # fmt: skip


def _worked_out(reader: Reader, at: int, key: Key, charter: Charter) -> Iterator[Check]:
    """A key that holds more than the values of columns."""
    path: Path = ("keys", at, "columns")
    kinds = charter.kinds()
    parts = [quoted(name) if name in kinds else name for name in key.columns]
    nodes = [reader.condition(path, part, kinds, "row value") for part in parts]
    found = [node for node in nodes if node is not None]
    if len(found) == len(nodes) and _orderly(reader, at, key, charter):
        columns = tuple(dict.fromkeys(name for node in found for name in node.columns()))
        same = [part for part, node in zip(key.columns, found, strict=True) if not node.columns()]
        if same:
            told = f"'{same[0]}' uses no column, so that it is the same for every row"
            reader.complain(path, told, "take it out of the key, or name a column")
            return
        late = [name for name in columns if charter.columns[name].from_ == FROM_PLACE]
        if late and key.sets_aside:
            told = f"'{late[0]}' has no value before the row is in the table, so that no row can be set aside by it"
            reader.complain(path, told, 'write otherwise = "fail"')
            return
        told = ", nulls being the same" * (key.nulls != "distinct")
        name = f"key ({', '.join(key.columns)}) never repeats{told}"
        yield Check(
            name, "key", columns, key.otherwise, path, key.tolerate, parts=tuple(zip(key.columns, found, strict=True)),
            nulls=key.nulls != "distinct", keep=key.keep or "first", keep_said=key.keep is not None, by=key.by,
            copies=key.copies,
        )  # fmt: skip


def _orderly(reader: Reader, at: int, key: Key, charter: Charter) -> bool:
    """Whether the row that stays can be told."""
    if key.by:
        kind = charter.kinds().get(key.by)
        if not known(reader, ("keys", at, "by"), [key.by], charter):
            return False
        if kind is None or kind.name in {"text", "boolean", "uuid", "binary"}:
            told = f"'{key.by}' is {kind}, which does not say what comes last"
            reader.complain(("keys", at, "by"), told, "name a number or a moment")
            return False
    rejecting = [each for each in charter.keys if each.sets_aside]
    if key.keep not in {None, "first"} and len(rejecting) > 1:
        told = f'keep = "{key.keep}" needs a charter in which no other key sets rows aside'
        reader.complain(("keys", at, "keep"), told, 'write otherwise = "fail" at the other')
        return False
    return True


def _references(reader: Reader, charter: Charter) -> Iterator[Check]:
    for at, reference in enumerate(charter.references):
        path: Path = ("references", at, "columns")
        if not known(reader, path, reference.columns, charter):
            continue
        if reference.otherwise == "reject" and reference.table == charter.table:
            told = "rows that other rows of the same delivery list cannot be set aside before all are in"
            reader.complain(("references", at, "otherwise"), told, 'write otherwise = "fail"')
        columns = tuple(reference.columns)
        base = Check(
            f"{', '.join(columns)} is listed in {reference.told}", "reference", columns, reference.otherwise, path,
            reference.tolerate, listed_in=(reference.table, tuple(reference.listed)), place=reference.place,
        )  # fmt: skip
        if not isinstance(reference.listed_in, ListFile):
            yield base
            continue
        file, kinds = reference.listed_in, charter.kinds()
        rows = zip(*file.values, strict=True)
        found = [
            column_values(reader, ("references", at, "listed_in"), kinds[name], cells, file.file)
            for name, cells in zip(columns, rows, strict=True)
        ]
        if all(cells is not None for cells in found):
            yield replace(base, listed=tuple(tuple(cells or ()) for cells in found))
