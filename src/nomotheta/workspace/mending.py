"""Rows that were set aside, on their way back: mended, written out to be mended, or closed."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from pathlib import Path
from typing import Any

from nomotheta.errors import DeclarationError, DeliveryError
from nomotheta.ledger import Ledger, LoadResult
from nomotheta.ledger.record import WAS
from nomotheta.load.mended import Mended
from nomotheta.load.rejects import FAULTS_SHOWN, Rows, left_out, open_faults
from nomotheta.workspace.aside import SetAside
from nomotheta.workspace.context import Context, moment

FileOf = Callable[[int], Path]


def check_mended(ledger: Ledger, file_of: FileOf, mended: Mended, table: str) -> LoadResult:
    """Whether rows that were mended may be loaded; the load that set them aside.

    Raises:
        DeliveryError: that load is not known or does not stand, or a row was not set aside by it or came already.
    """
    where = mended.file.name
    load = ledger.load(mended.of_load)
    if load is None or load.table != table:
        told = f"load {mended.of_load}, to which its rows belong, " + (
            "is not in the ledger" if load is None else f"went into {load.table}, not {table}"
        )
        raise DeliveryError(told, where=where, mend="see: nomotheta ledger")
    was = WAS.get(load.state, load.state)
    if was != "loaded":
        raise DeliveryError(
            f"load {mended.of_load} was {was}, so none of its rows is in the table", where=where,
            mend="correct the rows in the delivery's own file and load it whole",
        )  # fmt: skip
    aside = {name: set(records.tolist()) for name, records in left_out(file_of(mended.of_load)).items()}
    came, closed = ledger.mended(mended.of_load), ledger.closed(mended.of_load)
    for at, (file, record) in enumerate(mended.rows):
        if record not in aside.get(file, ()):
            told = f"load {mended.of_load} did not set record {record:,} of {file} aside"
            raise DeliveryError(
                told, where=f"{where}:{mended.lines[at]}", mend="keep the first columns as they were written"
            )
        if (file, record) in closed:
            told = f"record {record:,} of {file} was closed: {closed[file, record]}"
            raise DeliveryError(told, where=f"{where}:{mended.lines[at]}", mend="take the row out of the file")
        if (file, record) in came:
            told = f"record {record:,} of {file} came already, with load {came[file, record]}"
            mend = f"take it out; what is open: nomotheta rejects {mended.of_load} --csv FILE"
            raise DeliveryError(told, where=f"{where}:{mended.lines[at]}", mend=mend)
    return load


def still_out(mended: Mended, rejects: Path) -> list[tuple[str, int]]:
    """Of the mended rows, those that the new load has set aside again."""
    records = left_out(rejects).get(mended.file.name, [])
    return [mended.rows[int(record) - 1] for record in records]


def close_rows(context: Context, load_no: int, lines: Collection[int], reason: str, by: str) -> int:
    """Close open rows of a load that will not come, those of some lines or all; how many.

    Raises:
        DeclarationError: no such row is open.
    """
    file = context.rejects_kept(load_no)
    done = context.ledger.mended(load_no).keys() | context.ledger.closed(load_no).keys()
    rows: dict[tuple[str, int], None] = {}
    found: set[int] = set()
    for table in open_faults(file, done, ("line",)):
        for name, record, line in zip(*(table[each].to_pylist() for each in ("file", "record", "line")), strict=True):
            if not lines or line in lines:
                rows[name, record] = None
                found.add(line)
    gone = sorted(set(lines) - found)
    if gone or not rows:
        told = f"no open row of load {load_no} is in line {gone[0]:,}" if gone else f"load {load_no} has no open rows"
        raise DeclarationError(told, mend=f"what is open: nomotheta rejects {load_no}")
    context.ledger.close_rejects(load_no, list(rows), reason, by, moment())
    return len(rows)


def write_mendable(found: SetAside, rejects: Path, done: Rows, columns: Sequence[str], file: Path) -> int:
    """Write the open rows as CSV, whole or not at all; how many they are.

    Raises:
        DeclarationError: the file cannot be written.
    """
    if found.load.mends is not None:
        told = f"the rows of load {found.load.load_no} are rows of load {found.load.mends}, and stay open there"
        raise DeclarationError(told, mend=f"nomotheta rejects {found.load.mends} --csv {file}")
    return _written(found.load.load_no or 0, open_faults(rejects, done, FAULTS_SHOWN), columns, file)


def write_rows(load_no: int, rejects: Path, rows: Rows, columns: Sequence[str], file: Path) -> int:
    """Write some rows that a load set aside as CSV, whole or not at all; how many they are.

    Raises:
        DeclarationError: the file cannot be written.
    """
    return _written(load_no, open_faults(rejects, None, FAULTS_SHOWN, rows), columns, file)


def _written(load_no: int, faults: Iterator[Any], columns: Sequence[str], file: Path) -> int:
    from nomotheta.report.table import mendable_csv
    from nomotheta.report.write import write_parts

    rows = 0

    def parts() -> Iterator[bytes]:
        nonlocal rows
        for part, count in mendable_csv(load_no, faults, columns):
            rows += count
            yield part

    try:
        write_parts(file, parts())
    except OSError as error:
        raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(file)) from None
    return rows
