"""Apache Arrow's IPC format, as a file or as a stream."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.ipc

from nomotheta.source.row_blocks import ROWS, RowFile, plain_batches


@dataclass(slots=True)
class ArrowFile(RowFile):
    """An Arrow IPC file or stream, mapped into memory."""

    def opened(self) -> tuple[list[str], int, Iterator[Any]]:
        """Names, number of rows, and record batches; those that are large are cut."""
        with self.path.open("rb") as file:
            is_file = file.read(6) == b"ARROW1"
        source = pa.memory_map(str(self.path))
        if not is_file:
            stream = pa.ipc.open_stream(source)
            return stream.schema.names, 0, plain_batches(_cut(stream))
        reader = pa.ipc.open_file(source)
        count = sum(reader.get_batch(at).num_rows for at in range(reader.num_record_batches))
        return reader.schema.names, count, plain_batches(_cut(map(reader.get_batch, range(reader.num_record_batches))))


def _cut(batches: Iterator[Any]) -> Iterator[Any]:
    for batch in batches:
        for start in range(0, batch.num_rows, ROWS):
            yield batch.slice(start, ROWS)
