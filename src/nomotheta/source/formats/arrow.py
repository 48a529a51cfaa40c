"""Apache Arrow's IPC format, as a file or as a stream."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.ipc

from nomotheta.errors import DeliveryError
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
            return stream.schema.names, 0, plain_batches(_cut(self._whole(stream, source)))
        reader = pa.ipc.open_file(source)
        count = sum(reader.get_batch(at).num_rows for at in range(reader.num_record_batches))
        return reader.schema.names, count, plain_batches(_cut(map(reader.get_batch, range(reader.num_record_batches))))

    def _whole(self, stream: Iterator[Any], source: Any) -> Iterator[Any]:
        """The batches of a stream, which must close itself where the file ends.

        Raises:
            DeliveryError: it was cut off between two batches, or something stands behind it.
        """
        last = source.tell()
        for batch in stream:
            yield batch
            last = source.tell()
        done, size = source.tell(), source.size()
        mend = "have the file sent again"
        if done - last not in _END_MARKS:
            raise DeliveryError("the stream ends without its end mark: it was cut off", where=self.name, mend=mend)
        if done < size:
            told = f"{size - done:,} bytes follow after the end of the stream, {done:,} bytes into the file"
            raise DeliveryError(told, where=self.name, mend="a file holds one stream; " + mend)


_END_MARKS = (8, 4)  # bytes of what a stream closes with, today's and that of the first versions


def _cut(batches: Iterator[Any]) -> Iterator[Any]:
    for batch in batches:
        for start in range(0, batch.num_rows, ROWS):
            yield batch.slice(start, ROWS)
