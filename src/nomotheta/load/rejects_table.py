"""What a load sets aside, in a table beside the one that is loaded, for a team that asks with SQL.

A row for each fault, written in the load's own transaction; what is private is masked.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.charter import Charter
from nomotheta.conditions import Kind, check
from nomotheta.errors import PlaceError
from nomotheta.load.rejects import open_faults
from nomotheta.place.base import Place
from nomotheta.place.render import Now

KINDS = {
    "load_no": Kind("integer"), "file_name": Kind("text"), "line_no": Kind("integer"), "column_name": Kind("text"),
    "reason": Kind("text"), "message": Kind("text"), "cell": Kind("text"), "original": Kind("text"),
}  # fmt: skip
_FROM = {"file_name": "file", "line_no": "line", "column_name": "column", "reason": "reason", "message": "message",
         "cell": "value", "original": "original"}  # fmt: skip
_SCHEMA = pa.schema([(name, pa.int64() if kind.name == "integer" else pa.string()) for name, kind in KINDS.items()])


def prepare(place: Place, table: str) -> None:
    """Make the table where it is not there, before the transaction, which that would end in some databases.

    Raises:
        PlaceError: there is one, with other columns.
    """
    if place.apart_tables:
        told = "rejects cannot be kept in a table of a lake: it could not be changed in one act with the other"
        mend = "take rejects out of [load]: nomotheta rejects shows them, and --csv writes them"
        raise PlaceError(told, where=f"{table} in {place.shown}", mend=mend)
    there = place.columns(table)
    if there is None:
        place.create(table, KINDS)
        return
    gone = [name for name in KINDS if name not in {column.name for column in there}]
    if gone:
        raise PlaceError(f"the table of rejects has no column '{gone[0]}'", where=f"{table} in {place.shown}",
                         mend="name another table in [load] rejects: it is made where it is not there")  # fmt: skip


def write(place: Place, charter: Charter, table: str, load_no: int, file: Path) -> None:
    """Add what a load set aside, as it is kept in a file."""
    place.append(
        table, list(KINDS), (batch for part in open_faults(file) for batch in _rows(part, charter, load_no)), _SCHEMA
    )


def _rows(faults: Any, charter: Charter, load_no: int) -> list[Any]:
    private = charter.private()
    made = {name: faults[of] for name, of in _FROM.items()}
    made["load_no"] = pa.repeat(pa.scalar(load_no, pa.int64()), faults.num_rows)
    if private:
        hidden = pc.is_in(faults["column"], pa.array(sorted(private), pa.string()))
        made["cell"] = pc.if_else(hidden, pa.scalar(None, pa.string()), made["cell"])
        made["original"] = pa.nulls(faults.num_rows, pa.string())
    batches: list[Any] = pa.table([made[name] for name in KINDS], _SCHEMA).to_batches()
    return batches


def take_out(place: Place, table: str, load_no: int, now: Now) -> None:
    """Remove what a load has written, because it is taken out."""
    if place.columns(table) is not None:
        place.expect(table, KINDS)
        place.delete(table, place.render(check(f"load_no = {int(load_no)}", KINDS), now))
