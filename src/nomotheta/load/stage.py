"""Loads too large for one transaction: rows go batch by batch into a table beside, and from there in with one insert.

A batch is committed for good. When a load is cut off, the next of the same content, charter and table goes on from the
last batch: the files are read again from their beginning, but the rows that lie there already are not sent again. The
name of the table beside says what lies in it; whatever has changed meanwhile makes it another.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import pyarrow as pa

from nomotheta.charter import Compiled
from nomotheta.errors import NomothetaError
from nomotheta.load.beside import beside
from nomotheta.place.base import Mark, Place

_GATHERED = "gathered"
_NAME = r"{}_staging_(\d+)_([0-9a-f]{{12}})"


def stage_name(table: str, load_no: int, token: str) -> str:
    """The table in which a load's rows are gathered."""
    return f"{beside(table)}_staging_{load_no}_{token}"


def stage_token(place: Place, compiled: Compiled, workspace: str, content: str) -> str:
    """What must be the same for a load to go on where another was cut off."""
    marks = place.marks(compiled.charter.table)
    newest = f"{marks[-1].load_no} {marks[-1].workspace}" if marks else ""
    parts = (workspace, content, newest, compiled.charter.model_dump_json(), repr(compiled.layout))
    return hashlib.blake2b("\0".join(parts).encode(), digest_size=6).hexdigest()


def begun(place: Place, compiled: Compiled, token: str) -> int | None:
    """The load that was cut off and can be gone on with, or None."""
    found = (re.fullmatch(_NAME.format(re.escape(beside(compiled.charter.table))), name) for name in place.tables())
    return next((int(match[1]) for match in found if match and match[2] == token), None)


def gathered_mark(mark: Mark, name: str) -> Mark:
    """What says, in the place itself, that a load made the table in which it gathers its rows."""
    return replace(mark, table=name, content=_GATHERED, once=f"{_GATHERED}:{mark.load_no}", rows=0)


def gather(
    place: Place, mark: Mark, compiled: Compiled, columns: Sequence[str], rows: Iterator[Any], schema: Any, size: int
) -> int:
    """Commit rows in batches of `size` to the table of a mark, but those that lie there already; how many lie there."""
    table, name = compiled.charter.table, mark.table
    if place.columns(name) is None:
        with place.transaction(table):
            place.mark(mark)
        place.make_like(name, table, columns)
    there = place.count(name)
    skip = there
    for batch in _batches(rows, schema, size):
        fresh = batch.slice(min(skip, batch.num_rows))
        skip -= batch.num_rows - fresh.num_rows
        if fresh.num_rows:
            with place.transaction(table):
                there += place.append(name, columns, iter(fresh.to_batches()), schema)
    return there


def _batches(rows: Iterator[Any], schema: Any, size: int) -> Iterator[Any]:
    """Record batches as tables of so many rows; the last may have fewer."""
    waiting = schema.empty_table()
    for batch in rows:
        waiting = pa.concat_tables([waiting, pa.Table.from_batches([batch])])
        while waiting.num_rows >= size:
            yield waiting.slice(0, size)
            waiting = waiting.slice(size)
    if waiting.num_rows:
        yield waiting


def clear(place: Place, table: str, workspace: str) -> None:
    """Away with all that a workspace gathered for a table, by this load or by others that were cut off.

    Its marks tell which tables these are: one of such a name may be somebody else's.
    """
    with contextlib.suppress(NomothetaError):  # the load has ended, whatever becomes of them
        for name in place.tables():
            if re.fullmatch(_NAME.format(re.escape(beside(table))), name):
                for mark in place.marks(name):
                    if mark.workspace == workspace and mark.content == _GATHERED:
                        place.drop(name)
                        with place.transaction(table):
                            place.unmark(mark)
