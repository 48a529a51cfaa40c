"""Rows of DuckDB as a stream of record batches, in as little memory as they can be had."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import duckdb
import pyarrow as pa

_ROWS = 20_000  # of a batch


def streamed(
    connection: Any, sql: str, limits: Sequence[str], limited: Callable[[str], None], failed: Callable[[str], Exception]
) -> Any:
    """The rows of a SELECT as a `pa.RecordBatchReader`.

    Several hundred columns, or texts of a hundred thousand characters, do not fit into the memory that all else does
    with. That shows at the first batch, so that the SELECT can be begun anew.

    Args:
        connection: of DuckDB.
        sql: the SELECT.
        limits: of the memory, as DuckDB writes them, from the one that is in force.
        limited: puts another limit in force.
        failed: an error of the database in our words.
    """
    for number, limit in enumerate(limits, 1):
        if number > 1:
            limited(limit)
        try:
            reader = connection.sql(sql).to_arrow_reader(_ROWS)
            first = list(itertools.islice(reader, 1))
        except (duckdb.OutOfMemoryException, OSError) as error:  # the latter, while its rows are read
            if "Out of Memory" not in str(error) or number == len(limits):
                raise failed(str(error)) from None
        else:
            return pa.RecordBatchReader.from_batches(reader.schema, itertools.chain(first, _rest(reader, failed)))
    raise AssertionError(limits)


def _rest(reader: Any, failed: Callable[[str], Exception]) -> Iterator[Any]:
    try:
        yield from reader
    except OSError as error:
        raise failed(str(error)) from None
