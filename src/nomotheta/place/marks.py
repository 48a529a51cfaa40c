"""What every load leaves in its place, the same in all but for the types: a mark, and the files that it brought."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from nomotheta.conditions import Kind
from nomotheta.errors import PlaceError
from nomotheta.place.base import LoadedFile, Mark
from nomotheta.place.render import Now

if TYPE_CHECKING:
    from nomotheta.place.base import Place

MARKS, FILES = "nomotheta_marks", "nomotheta_files"
_SHORT = Kind("text", 190)  # as long as some databases let a unique text be
MARK_COLUMNS = {
    "load_no": Kind("integer"), "workspace": _SHORT, "table_name": _SHORT, "content": _SHORT, "once": _SHORT,
    "day": Kind("date"), "loaded_at": Kind("timestamptz"), "row_count": Kind("integer"), "replaced": Kind("text", 8),
}  # fmt: skip
FILE_COLUMNS = {
    "table_name": _SHORT, "content": _SHORT, "load_no": Kind("integer"), "workspace": _SHORT,
    "day": Kind("date"), "file": Kind("text"), "size": Kind("integer"),
}  # fmt: skip
FILE_KEY = ("table_name", "content", "load_no")
OF_TABLE = f"SELECT {', '.join(MARK_COLUMNS)} FROM {MARKS} WHERE table_name = "
TAKEN_AWAY = f"DELETE FROM {MARKS} WHERE table_name = {{}} AND load_no = {{}} AND workspace = {{}}"
HIGHEST = f"SELECT coalesce(max(load_no), 0) + 1 AS n FROM {MARKS}"
_LISTED = 1_000  # files: of more, all that a table ever had are gone through once


def marks_ddl(type_name: Callable[[Kind], str], more: str = "") -> dict[str, str]:
    """The statements that make both tables, by their names; `more` follows the columns."""

    def made(table: str, columns: Mapping[str, Kind], unique: str) -> str:
        listed = ", ".join(f"{name} {type_name(kind)} NOT NULL" for name, kind in columns.items())
        return f"CREATE TABLE IF NOT EXISTS {table} ({listed}, {unique}){more}"

    return {
        MARKS: made(MARKS, MARK_COLUMNS, "UNIQUE (table_name, once)"),
        FILES: made(FILES, FILE_COLUMNS, f"PRIMARY KEY ({', '.join(FILE_KEY)})"),
    }


def values_of(mark: Mark) -> list[Any]:
    """A mark as the values of its row."""
    return [
        mark.load_no, mark.workspace, mark.table, mark.content, mark.once, mark.day, mark.at, mark.rows, mark.replaced
    ]  # fmt: skip


def marks_of(rows: Iterable[Sequence[Any]]) -> list[Mark]:
    """Rows as marks, oldest first."""
    return sorted((Mark(*row) for row in rows), key=lambda mark: mark.load_no)


def no_marks(error: PlaceError, ddl: Mapping[str, str]) -> PlaceError:
    """What is said where a table is not there and may not be made."""
    return PlaceError(
        f"the tables of loads cannot be made: {error.what}", where=error.where,
        mend=f"have them made by one who may: {'; '.join(ddl.values())}",
    )  # fmt: skip


def outlived(marks: Sequence[Mark]) -> dict[int, int]:
    """The loads of a table whose rows a later one has replaced, each with that one; the marks are oldest first."""
    found: dict[int, int] = {}
    for at, mark in enumerate(marks):
        later = (each for each in marks[at + 1 :] if each.replaced == "all" or _same_day(each, mark))
        replacing = next(later, None)
        if replacing is not None:
            found[mark.load_no] = replacing.load_no
    return found


def _same_day(later: Mark, mark: Mark) -> bool:
    return later.replaced == "day" and later.day == mark.day


# ---- the files that loads brought


def leave_files(place: Place, mark: Mark, files: Sequence[tuple[str, str, int]]) -> None:
    """Keep which files a load brought: name, content and size; in the load's own transaction."""
    import pyarrow as pa

    names, contents, sizes = zip(*files, strict=True)
    count = len(files)
    schema = pa.schema([(name, _arrow(pa, kind)) for name, kind in FILE_COLUMNS.items()])
    columns = [
        pa.repeat(mark.table, count), pa.array(contents, pa.string()), pa.repeat(pa.scalar(mark.load_no), count),
        pa.repeat(mark.workspace, count), pa.repeat(pa.scalar(mark.day), count), pa.array(names, pa.string()),
        pa.array(sizes, pa.int64()),
    ]  # fmt: skip
    place.append(FILES, list(FILE_COLUMNS), iter(pa.table(columns, schema).to_batches()), schema)


def _arrow(pa: Any, kind: Kind) -> Any:
    return {"integer": pa.int64(), "date": pa.date32()}.get(kind.name, pa.string())


def files_known(
    place: Place, table: str, contents: Collection[str], names: Collection[str], now: Now
) -> list[LoadedFile]:  # fmt: skip
    """Of all files that loads into a table ever brought, those with some contents or names; oldest load first.

    It is asked where the table has a mark, and so the place the table of files.
    """
    few = len(contents) + len(names) <= _LISTED
    asked = [("content", contents), ("file", names)]
    wanted = " or ".join(f"{column} in ({_texts(each)})" for column, each in asked if each)
    found: list[LoadedFile] = []
    for batch in _of_table(place, table, f"({wanted})" if few else "", now):
        rows = batch if few else batch.filter(_among(batch, contents, names))
        for content, load_no, day, file, size in zip(*(column.to_pylist() for column in rows.columns), strict=True):
            when = day if isinstance(day, datetime.date) else datetime.date.fromisoformat(day)
            found.append(LoadedFile(content, int(load_no), when, file, int(size)))
    return sorted(found, key=lambda file: file.load_no)


def files_of_day(place: Place, table: str, day: datetime.date) -> list[str]:
    """The files of a day that are in a table: those of loads whose rows nothing has replaced."""
    marks = place.marks(table)
    if not marks:
        return []
    gone = outlived(marks)
    now = Now(datetime.datetime.now(datetime.UTC), day)
    batches = list(_of_table(place, table, f"day = date '{day.isoformat()}'", now))
    return [
        file
        for batch in batches
        for load_no, file in zip(batch.column(1).to_pylist(), batch.column(3).to_pylist(), strict=True)
        if int(load_no) not in gone
    ]


def _among(batch: Any, contents: Collection[str], names: Collection[str]) -> Any:
    import pyarrow as pa
    import pyarrow.compute as pc

    own = [
        pc.is_in(batch.column(at), pa.array(sorted(each), batch.schema.field(at).type))
        for at, each in ((0, contents), (3, names))
    ]
    return pc.or_(*own)


def _of_table(place: Place, table: str, wanted: str, now: Now) -> Iterator[Any]:
    from nomotheta.conditions import check

    condition = f"table_name = {_texts([table])}" + (f" and {wanted}" if wanted else "")
    place.expect(FILES, FILE_COLUMNS)
    where = place.render(check(condition, FILE_COLUMNS), now)
    listed = ", ".join(f'"{name}"' for name in ("content", "load_no", "day", "file", "size"))
    yield from place.stream(f"SELECT {listed} {place.rowset(FILES, where)}")


def forget_files(place: Place, mark: Mark, now: Now) -> None:
    """A load that is taken out has brought no files."""
    from nomotheta.conditions import check

    place.expect(FILES, FILE_COLUMNS)
    own = f"table_name = {_texts([mark.table])} and load_no = {int(mark.load_no)}"
    condition = f"{own} and workspace = {_texts([mark.workspace])}"
    place.delete(FILES, place.render(check(condition, FILE_COLUMNS), now))


def _texts(values: Iterable[str]) -> str:
    """Texts as a condition writes them."""
    return ", ".join("'" + value.replace("'", "''") + "'" for value in sorted(values))
