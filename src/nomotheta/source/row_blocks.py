"""Files whose records are rows of typed values: what Parquet, Arrow and sheets have in common."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from nomotheta.errors import DeliveryError
from nomotheta.frozen import frozen
from nomotheta.kinds.native import plain_column
from nomotheta.source.base import Lines, ReadFile, RowBatch

ROWS = 32_768


def plain_batches(batches: Iterable[Any]) -> Iterator[Any]:
    """Record batches whose columns are of the types that values are read from; nothing of a file is a struct then."""
    for batch in batches:
        yield pa.record_batch([plain_column(column) for column in batch.columns], batch.schema.names)


@frozen
class RowBlock:
    """Rows as Arrow arrays, one a column, with the number of the first, from 1, and their share of the file's bytes."""

    columns: list[Any]
    line: int
    size: int


@dataclass(slots=True)
class RowFile(ReadFile):
    """A file of typed rows. A format gives `opened`: the names of the columns, the number of rows, and the rows."""

    def opened(self) -> tuple[list[str], int, Iterator[Any]]:
        """Names, number of rows, and record batches.

        Raises:
            Exception: whatever the format's library raises of a file that is none.
        """
        raise NotImplementedError

    def read_header(self) -> list[str] | None:
        """The names of the columns.

        Raises:
            DeliveryError: the file cannot be read, or is not in this format.
        """
        try:
            self.header = self.opened()[0]
        except (OSError, pa.ArrowException) as error:
            raise self._not_readable(error) from None
        return self.header

    def blocks(self) -> Iterator[RowBlock]:
        """The rows, some tens of thousands at a time.

        Raises:
            DeliveryError: the file cannot be read.
        """
        self.lines = Lines()
        try:
            names, count, batches = self.opened()
            self.header = names
            size = self.path.stat().st_size
            done = 0
            for batch in batches:
                self.lines.read += batch.num_rows
                share = size * batch.num_rows // max(count, 1)
                yield RowBlock(batch.columns, done + 1, share)
                done += batch.num_rows
        except (OSError, pa.ArrowException) as error:
            raise self._not_readable(error) from None

    def read(self, block: RowBlock, _width: int, *, fill: bool = False, cut: bool = False) -> RowBatch:
        """The columns of a block: they are there already, and every row has all of them."""
        rows = len(block.columns[0]) if block.columns else 0
        numbers = np.arange(rows) + block.line
        return RowBatch(
            list(block.columns), np.arange(rows), [], rows, rows, names=self.header or [], rows=numbers,
            whole=list(block.columns),
        )  # fmt: skip

    def _not_readable(self, error: Exception) -> DeliveryError:
        told = str(error).split("\n")[0].split(". Detail:")[0]
        mend = "check the format that the layout declares; or have the file sent again"
        return DeliveryError(f"this cannot be read as {self.layout.format}: {told}", where=self.name, mend=mend)
