"""Rows that were set aside, mended, and sent again: which they are, and how their file is read.

The file is CSV (RFC 4180): a row for each row that was set aside, what links it to its load, and the columns by their
names in the charter, written in the forms of the charter's layout.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Charter, Column, Compiled, Tolerance
from nomotheta.conditions import Kind
from nomotheta.errors import DeliveryError
from nomotheta.frozen import frozen
from nomotheta.kinds.cells import Cells
from nomotheta.layout import CellForm, Layout
from nomotheta.load.rejects import REPEATS, cells_set_aside
from nomotheta.source.base import Batch, Odd, SourceFile
from nomotheta.source.delivery import ArrivedFile, arrived, literal
from nomotheta.source.formats import open_file

OF_LOAD, OF_FILE, OF_LINE, OF_RECORD, WHY, ORIGINAL = (
    "reject load", "reject file", "reject line", "reject record", "reject why", "reject original",
)  # fmt: skip
LINKS = (OF_LOAD, OF_FILE, OF_LINE, OF_RECORD, WHY, ORIGINAL)
SHAPE_REASONS = frozenset(
    {"too_few_fields", "too_many_fields", "stray_quote", "no_object", "unknown_member", "member_twice"}
)
_ESCAPED, _NUMBER, _APOSTROPHE = r"^'([=+\-@\t\r'])", "^[0-9]{1,18}$", ord("'")


@frozen
class Mended:
    """A file of mended rows: the charter that reads it, and for each row in order, whence it came.

    `lines` are the lines on which the rows begin.
    """

    file: ArrivedFile
    compiled: Compiled
    of_load: int
    rows: Sequence[tuple[str, int]]
    lines: Sequence[int]

    def untouched(self, rejects: Path) -> Mapping[int, str]:
        """The lines of rows that are still what they were set aside for, and what that is.

        Those whose shape was wrong; and where rows are merged, those that repeat a key: nothing else would keep them
        from taking the place of the row that stayed.
        """
        charter = self.compiled.charter
        columns = columns_of(charter)
        merged = charter.load.how == "merge"
        aside = cells_set_aside(rejects, SHAPE_REASONS | (REPEATS if merged else frozenset()))
        key = [columns.index(name) for name in charter.keys[0].columns if name in columns] if merged else []
        found: dict[int, str] = {}
        if not aside:
            return found
        for row, line, cells in zip(self.rows, self.lines, self._cells(columns), strict=True):
            reason, before = aside.get(row, ("", ()))
            if reason in REPEATS and _same(cells, before, key):
                found[line] = "is unchanged, and repeats the key of another row"
            elif reason and reason not in REPEATS and _same(cells, before, range(len(columns))):
                found[line] = "is unchanged, and its number of fields was wrong"
        return found

    def _cells(self, columns: Sequence[str]) -> Iterator[tuple[str | None, ...]]:
        """The values of the rows by the charter's columns; the file is read once more for them."""
        source = open_mended(self.file, self.compiled)
        header = source.read_header() or []
        places = [header.index(name) for name in columns if name in header]
        for block in source.blocks():
            batch = source.read(block, len(header), fill=True, cut=True)
            yield from zip(*(batch.columns[at].to_pylist() for at in places), strict=True)


def _same(cells: Sequence[str | None], others: Sequence[str | None], places: Iterable[int]) -> bool:
    """Whether two rows have the same texts in some columns; an empty text is as good as none."""
    return all((cells[at] or "") == (others[at] or "") for at in places if at < min(len(cells), len(others)))


def read_mended(root: Path, path: Path, compiled: Compiled) -> Mended:
    """Open a file of mended rows.

    Raises:
        DeliveryError: it cannot be read, or is not what `nomotheta rejects LOAD --csv FILE` wrote.
    """
    name = str(path)
    derived = mended_charter(compiled, delimiter_of(path))
    (file,) = arrived(root, [literal(name)], derived.layout)
    source = open_mended(file, derived)
    header = source.read_header() or []
    missing = [link for link in (OF_LOAD, OF_FILE, OF_RECORD) if link not in header]
    if missing:
        raise DeliveryError(
            f"this is not a file of rejected rows: it has no column '{missing[0]}'", where=name,
            mend="write one, correct it and keep its first columns: nomotheta rejects LOAD --csv FILE",
        )  # fmt: skip
    rows: list[tuple[str, int]] = []
    lines: list[int] = []
    loads: set[int] = set()
    for block in source.blocks():
        batch = source.read(block, len(header), fill=True, cut=True)
        load, origin, number = (batch.columns[header.index(link)] for link in (OF_LOAD, OF_FILE, OF_RECORD))
        own = batch.line_numbers(np.arange(batch.count)).tolist()
        said = pc.and_(pc.match_substring_regex(load, _NUMBER), pc.match_substring_regex(number, _NUMBER))
        said = pc.and_(pc.fill_null(said, fill_value=False), pc.is_valid(origin)).to_numpy(zero_copy_only=False)
        if len(batch.records) < batch.count or not said.all():
            silent = np.ones(batch.count, np.bool_)
            silent[batch.records[said]] = False
            told = "this row does not say which rejected row it mends"
            where = f"{name}:{own[int(np.flatnonzero(silent)[0])]}"
            raise DeliveryError(told, where=where, mend=f"keep the columns {', '.join(LINKS[:4])}")
        loads.update(map(int, pc.unique(load).to_pylist()))
        rows += zip(origin.to_pylist(), map(int, number.to_pylist()), strict=True)
        lines += own
    if not rows:
        raise DeliveryError("the file holds no rows", where=name, mend="nomotheta rejects LOAD --csv FILE writes one")
    if len(loads) > 1:
        told = f"the rows belong to several loads: {', '.join(map(str, sorted(loads)))}"
        raise DeliveryError(told, where=name, mend="put those of each load into a file of its own")
    if len(set(rows)) < len(rows):
        origin, number = Counter(rows).most_common(1)[0][0]
        raise DeliveryError(f"record {number:,} of {origin} is in it twice", where=name, mend="keep one")
    return Mended(file, derived, loads.pop(), rows, lines)


def delimiter_of(path: Path) -> str:
    """The delimiter of a file of mended rows; spreadsheets like to write another than they read.

    Raises:
        DeliveryError: it cannot be read.
    """
    try:
        with path.open(encoding="utf-8-sig", errors="replace") as file:
            first = file.readline(1 << 16)
            return next((sign for sign in ",;\t|" if re.search(f'{OF_LOAD}"?{re.escape(sign)}', first)), ",")
    except OSError as error:
        raise DeliveryError(f"it cannot be read: {error.strerror}", where=str(path)) from None


def mended_charter(compiled: Compiled, delimiter: str) -> Compiled:
    """The charter as it reads a file of mended rows: appended, columns by their own names, the layout's forms kept."""
    charter = compiled.charter
    columns: dict[str, Column] = {}
    for name, column in charter.columns.items():
        origin = {"@file.name": OF_FILE, "@file.line": OF_LINE}.get(column.from_ or "")
        if origin:
            columns[name] = column.model_copy(update={"origin": origin, "kind": charter.kinds()[name]})
        elif name in charter.file_columns():
            columns[name] = column.model_copy(update={"origin": None, "at": None})
        else:
            columns[name] = column
    load = charter.load.model_copy(
        update={
            "how": "merge" if charter.load.how == "merge" else "append",
            "slice": None,
            "extra_columns": "ignore",
            "missing_columns": "refuse",
            "tolerate": Tolerance(),
        }
    )
    changed = charter.model_copy(update={"columns": columns, "load": load})
    layout = _layout(compiled.layout, delimiter)
    return replace(compiled, charter=changed, layout=layout, slice=None, source=None, carried={})


def _layout(layout: Layout, delimiter: str) -> Layout:
    """The forms of the charter's layout in CSV; a format with types of its own wrote canonical text."""
    return replace(
        layout.of_texts, format="delimited", delimiter=delimiter, quote='"', escape="", comment="", header=1, footer=0,
        encoding="utf-8", header_match="exact",
    )  # fmt: skip


@dataclass(slots=True)
class _Escaped:
    """A file in which an apostrophe keeps spreadsheets from taking a value for a formula."""

    inner: SourceFile
    untouched: Mapping[int, str]
    kinds: Mapping[int, Kind] = field(default_factory=dict)  # told to this one only: the values are changed here
    forms: Mapping[int, CellForm] = field(default_factory=dict)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.inner, name)

    def read(self, block: Any, width: int, *, fill: bool = False, cut: bool = False) -> Batch:
        """The columns of a block, without such apostrophes."""
        self.inner.forms = self.forms
        batch = self.inner.read(block, width, fill=fill, cut=cut)
        others = getattr(batch, "others", {})
        columns = [others[at].columns[at] if at in others else column for at, column in enumerate(batch.columns)]
        batch.columns = [_unescaped(column) for column in columns]
        others.clear()
        lines = batch.line_numbers(batch.records)
        same = np.isin(lines, list(self.untouched))
        if same.any():
            pairs = zip(batch.records[same].tolist(), lines[same].tolist(), strict=True)
            batch.odd += [Odd(record, "not_mended", self.untouched[line]) for record, line in pairs]
            batch.columns = [column.filter(pa.array(~same)) for column in batch.columns]
            batch.records = batch.records[~same]
        return batch


def _unescaped(column: Any) -> Any:
    cells = Cells.of(column)
    starts = cells.starts[cells.valid & (cells.lengths > 0)]
    if not (cells.data[starts] == _APOSTROPHE).any():
        return column
    return pc.replace_substring_regex(column, _ESCAPED, r"\1")


def open_mended(file: ArrivedFile, derived: Compiled, untouched: Mapping[int, str] | None = None) -> SourceFile:
    """A file of mended rows, for reading; rows on `untouched` lines are set aside again."""
    source: Any = _Escaped(open_file(file.path, file.name, derived.layout, derived.charter), untouched or {})
    return source  # type: ignore[no-any-return]


def columns_of(charter: Charter) -> list[str]:
    """The columns that a file of mended rows has, after the links."""
    return list(charter.file_columns())
