"""Rows that were set aside as CSV (RFC 4180), to be mended in a spreadsheet or an editor and loaded again."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.kinds.cells import Cells
from nomotheta.kinds.formulas import bytes_of, safe_cells
from nomotheta.load.mended import LINKS

_SPACE, _SPECIAL = bytes_of(" \t\n\f\r"), bytes_of('",\r\n')


_WORKERS, _AHEAD = 2, 4


def mendable_csv(load_no: int, faults: Iterable[Any], columns: Sequence[str]) -> Iterator[tuple[bytes, int]]:
    """The rows of faults as parts of a CSV file, and how many rows each part has.

    A row occurs once, with all its faults in one cell, and the columns by their names in the charter. What a
    spreadsheet would take for a formula starts with an apostrophe, which is dropped when the file is read again.

    Args:
        load_no: the load that set them aside.
        faults: `pa.Table`s of them, in the order of the files, those of a row one behind the other.
        columns: the names of the columns that the cells of a row belong to.
    """
    yield (",".join(cells_of(pa.array([*LINKS, *columns])).to_pylist()) + "\r\n").encode(), 0
    waiting: deque[Future[tuple[bytes, int]]] = deque()
    with ThreadPoolExecutor(_WORKERS) as pool:
        for whole, starts in _whole_rows(faults):
            waiting.append(pool.submit(_part, load_no, whole, starts, columns))
            if len(waiting) >= _AHEAD:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()


def _whole_rows(faults: Iterable[Any]) -> Iterator[tuple[Any, Any]]:
    """The same tables, each with all faults of its rows, and where those of each row begin."""
    held = None
    for table in faults:
        whole = (table if held is None else pa.concat_tables([held, table])).combine_chunks()
        starts = _row_starts(whole)
        last = int(starts[-1])  # a row may go on in the next table
        if last:
            yield whole.slice(0, last), starts[:-1]
        held = whole.slice(last)
    if held is not None:
        yield held.combine_chunks(), np.zeros(1, np.int64)


def _row_starts(table: Any) -> Any:
    """Where the faults of each row begin."""
    records, files = table["record"].to_numpy(), table["file"].combine_chunks().dictionary_encode().indices.to_numpy()
    new = np.ones(len(records), np.bool_)
    new[1:] = (records[1:] != records[:-1]) | (files[1:] != files[:-1])
    return np.flatnonzero(new)


def _part(load_no: int, table: Any, starts: Any, columns: Sequence[str]) -> tuple[bytes, int]:
    at, count = pa.array(starts), len(starts)
    links = [
        pa.repeat(str(load_no), count),
        *(table[name].combine_chunks().take(at) for name in ("file", "line", "record")),
    ]
    links += [_reasons(table, starts), table["original"].combine_chunks().take(at)]
    lists = table["cells"].combine_chunks().take(at)
    edges, values = lists.offsets.to_numpy(), lists.values
    cells = []
    for place in range(len(columns)):
        there = np.diff(edges) > place
        cells.append(values.take(pa.array(np.where(there, edges[:-1] + place, 0), mask=~there)))
    texts = [pc.fill_null(cells_of(each.cast(pa.string())), "") for each in (*links, *cells)]
    lines = pc.binary_join_element_wise(pc.binary_join_element_wise(*texts, ","), "\r\n", "")
    return "".join(lines.to_pylist()).encode(), count


def _reasons(table: Any, starts: Any) -> Any:
    """What is wrong with each row, each thing once."""
    messages = table["message"].combine_chunks().dictionary_encode()
    row = np.zeros(table.num_rows, np.int64)
    row[starts[1:]] = 1
    row = np.cumsum(row)
    each = row * (len(messages.dictionary) + 1) + messages.indices.to_numpy()
    first = np.sort(np.unique(each, return_index=True)[1])
    edges = np.searchsorted(row[first], np.arange(len(starts) + 1)).astype(np.int32)
    lists = pa.ListArray.from_arrays(pa.array(edges), messages.dictionary.take(messages.indices.take(pa.array(first))))
    return pc.binary_join(lists, "; ")


def cells_of(values: Any) -> Any:
    """Texts as cells: nothing at all for null, quotes where they are needed and for a text that is empty."""
    safe = safe_cells(values)
    cells = Cells.of(safe)
    marks = cells.valid & (cells.lengths == 0)
    filled = np.flatnonzero(cells.valid & ~marks)
    marks[filled] = _SPACE[cells.data[cells.starts[filled]]] | _SPACE[cells.data[cells.ends[filled] - 1]]
    if len(filled):
        first, last = int(cells.starts[filled[0]]), int(cells.ends[filled[-1]])
        marks[cells.rows(np.flatnonzero(_SPECIAL[cells.data[first:last]]) + first)] = True
    if not marks.any():
        return safe
    quoted = pa.array(marks)
    return pc.if_else(quoted, pc.binary_join_element_wise('"', pc.replace_substring(safe, '"', '""'), '"', ""), safe)
