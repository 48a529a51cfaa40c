"""Charters held against the tables that are there: what a night would stumble over, without a row being read."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from nomotheta.charter import Compiled, Problem, Read
from nomotheta.errors import DeclarationError, NomothetaError, PlaceError
from nomotheta.load.compare import misfits
from nomotheta.place.base import Place
from nomotheta.place.connect import file_of
from nomotheta.rules.shape import check_comparable, existing
from nomotheta.workspace.context import Context

_CREATES = "the first load with --create makes it"


def held_against_places(context: Context) -> tuple[list[Problem], list[str], list[NomothetaError]]:
    """What is wrong with charters as the real tables are, what is worth knowing, and the places that do not answer."""
    problems: list[Problem] = []
    notes: list[str] = []
    silent: dict[str, NomothetaError] = {}
    reads, known = context.charters.reads(), context.charters.known()
    with context.places.keeping():
        for table, compiled in known.items():
            if compiled.place in silent:
                continue
            file = file_of(context.settings.places[compiled.place].url, context.root)
            if file is not None and not file.exists():
                notes.append(f"{compiled.file}: {table} is not in {compiled.place} yet: {_CREATES}")
                continue
            try:
                with context.places.open(compiled.place) as place:
                    read = reads[compiled.source.charter.table if table not in reads and compiled.source else table]
                    found = list(_table(place, compiled, read, known))
                    problems += [each for each in found if isinstance(each, Problem)]
                    notes += [each for each in found if isinstance(each, str)]
            except (PlaceError, DeclarationError) as error:
                silent[compiled.place] = error
    return problems, notes, list(silent.values())


def _table(
    place: Place, compiled: Compiled, read: Read, known: Mapping[str, Compiled]
) -> Iterator[Problem | str]:  # fmt: skip
    table = compiled.charter.table
    if place.columns(table) is None:
        if compiled.charter.delivery is not None or compiled.source is not None:
            yield f"{compiled.file}: {table} is not in {place.name} yet: {_CREATES}"
            return
        try:
            existing(place, table)
        except PlaceError as error:
            yield read.source.problem(("table",), error.what, error.mend)
        return
    try:
        there = {column.name: column for column in existing(place, table)}
    except PlaceError as error:  # it is called otherwise there, or a column has a name of ours
        yield read.source.problem(("table",), error.what, error.mend)
        return
    for name, told in misfits(compiled.as_loaded.charter, there):
        path = ("columns", name) if name in compiled.charter.columns else ("table",)
        if compiled.charter.delivery is not None or name not in there:
            yield read.source.problem(path, f"in {place.name}, {told}", "change the charter, or the table")
    yield from _references(place, compiled, read, known)


def _references(
    place: Place, compiled: Compiled, read: Read, known: Mapping[str, Compiled]
) -> Iterator[Problem | str]:  # fmt: skip
    kinds = compiled.charter.kinds()
    for check in compiled.checks:
        if check.sort != "reference" or check.listed is not None or not check.listed_in or check.place is not None:
            continue
        table, _ = check.listed_in
        path = (*check.path[:-1], "listed_in")
        if table in known and place.columns(table) is None:
            continue  # which its own charter makes, or tells of
        try:
            columns = {column.name: column for column in existing(place, table)}
            check_comparable(check, [kinds[name] for name in check.columns], columns)
        except PlaceError as error:
            yield read.source.problem(path, error.what, error.mend)
