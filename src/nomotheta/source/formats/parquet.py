"""Apache Parquet files."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pyarrow.parquet as pq

from nomotheta.source.row_blocks import ROWS, RowFile


@dataclass(slots=True)
class ParquetFile(RowFile):
    """A Parquet file, read a few row groups at a time."""

    def opened(self) -> tuple[list[str], int, Iterator[Any]]:
        """Names, number of rows, and record batches."""
        file = pq.ParquetFile(self.path)
        return file.schema_arrow.names, file.metadata.num_rows, file.iter_batches(ROWS, use_threads=False)
