"""Rows as MariaDB is sent them: as lines of text through a pipe, or as the literals of an INSERT."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.place.mariadb.texts import cell_texts, joined_rows, text_bytes


class Pipe:
    """Batches as lines of text, which a thread writes into a pipe as they are read from it."""

    def __init__(self, batches: Iterator[Any], columns: Sequence[str]) -> None:
        self.rows = 0
        self._batches, self._columns = batches, list(columns)
        self._failure: BaseException | None = None
        self._reads, self._writes = os.pipe()
        self.path = f"/dev/fd/{self._reads}"
        self._thread = threading.Thread(target=self._write, daemon=True)

    def __enter__(self) -> Pipe:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        os.close(self._reads)  # whoever still writes is told so
        self._thread.join()
        if self._failure and not isinstance(self._failure, BrokenPipeError):
            raise self._failure

    def ended(self) -> None:
        """Wait for the last row, and raise what kept it from coming.

        Raises:
            BaseException: what the batches raised.
        """
        self._thread.join()
        if self._failure:
            raise self._failure

    def _write(self) -> None:
        try:
            for batch in self._batches:
                lines = _lines(batch.select(self._columns))
                while lines:
                    lines = lines[os.write(self._writes, lines) :]
                self.rows += batch.num_rows
        except BaseException as error:
            self._failure = error
        finally:
            os.close(self._writes)


def _lines(batch: Any) -> memoryview:
    """The rows of a batch as the server reads them."""
    return text_bytes(joined_rows(batch, _escaped, null="\\N", between="\t", last="\n"))


def _escaped(column: Any) -> Any:
    """Texts with what would end a cell or a line behind a backslash."""
    texts = cell_texts(column)
    if not pa.types.is_string(column.type):
        return texts
    for plain in ("\\", "\t", "\n"):
        if pc.any(pc.match_substring(texts, plain)).as_py():
            texts = pc.replace_substring(texts, plain, f"\\{plain}")
    return texts


def as_literals(column: Any) -> Any:
    """Values as SQL."""
    of = column.type
    texts = cell_texts(column)
    if pa.types.is_binary(of):
        return pc.binary_join_element_wise("X'", texts, "'", "")
    if pa.types.is_string(of) or pa.types.is_temporal(of):
        return pc.binary_join_element_wise("'", pc.replace_substring(texts, "'", "''"), "'", "")
    return texts
