"""Apache Parquet files."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from nomotheta.kinds.native import as_texts, canonical_cells
from nomotheta.source.row_blocks import ROWS, RowFile, plain_batches


@dataclass(slots=True)
class ParquetFile(RowFile):
    """A Parquet file, read a few row groups at a time; checksums of its pages are held to what they say."""

    def opened(self) -> tuple[list[str], int, Iterator[Any]]:
        """Names, number of rows, and record batches."""
        file = self._opened("us")
        old = [at for at in range(len(file.schema)) if file.schema.column(at).physical_type == "INT96"]
        batches = plain_batches(file.iter_batches(ROWS, use_threads=False))
        return file.schema_arrow.names, file.metadata.num_rows, self._exact(batches) if old else batches

    def _opened(self, unit: str) -> Any:
        return pq.ParquetFile(self.path, coerce_int96_timestamp_unit=unit, page_checksum_verification=True)

    def _exact(self, batches: Iterator[Any]) -> Iterator[Any]:
        """Batches whose moments of 96 bits keep every digit: in microseconds, and as texts where that is too coarse."""
        finer = self._opened("ns").iter_batches(ROWS, use_threads=False)
        for coarse, fine in zip(batches, finer, strict=True):
            columns = [
                _moments(one, other) if pa.types.is_timestamp(other.type) else one
                for one, other in zip(coarse.columns, fine.columns, strict=True)
            ]
            yield pa.record_batch(columns, coarse.schema.names)


def _moments(coarse: Any, fine: Any) -> Any:
    """Microseconds, or texts with nanoseconds. `fine` has wrapped around where 64 bits do not hold the nanoseconds."""
    if coarse.type == fine.type:
        return coarse
    micros, nanos = (column.fill_null(0).cast(pa.int64()).to_numpy() for column in (coarse, fine))
    left = nanos - micros * 1000  # wraps around likewise, so that what is left over is right
    if not left.any():
        return coarse
    tail = pa.array([f"{part:03d}" if part else "" for part in left.tolist()], pa.string())
    return canonical_cells(pc.binary_join_element_wise(as_texts(coarse), tail, ""))
