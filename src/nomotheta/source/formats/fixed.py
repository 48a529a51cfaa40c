"""Text in which every column stands at declared characters of the line; blanks around a value are padding."""

from __future__ import annotations

import sys
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.errors import DeclarationError
from nomotheta.source.base import LineBatch, Odd
from nomotheta.source.line_blocks import LineBlock, LineFile, set_aside


@dataclass(slots=True)
class FixedFile(LineFile):
    """A file of fixed-width text. Its columns are those of the charter, each with `at = [first, last]` character."""

    def read_header(self) -> list[str] | None:
        """No names: columns are told by where they are.

        Raises:
            DeclarationError: a column does not say where it is.
        """
        self.spans()
        return None

    def spans(self) -> list[tuple[int, int]]:
        """The first character of each column, from 0, and the one behind its last."""
        columns = self.charter.columns if self.charter else {}
        found = []
        for name in self.charter.file_columns() if self.charter else ():
            at = columns[name].at
            if not isinstance(at, list):
                mend = f"write at = [FIRST, LAST] under [columns.{name}]: its characters in the line, from 1"
                told = f"in fixed-width text the column '{name}' must say which characters it is in"
                raise DeclarationError(told, mend=mend)
            found.append((at[0] - 1, at[1]))
        return found

    def read(self, block: LineBlock, width: int, *, fill: bool = False, cut: bool = False) -> LineBatch:
        """The columns of a block. A line that ends before the last column, or `line_width`, is short."""
        batch, texts = self.batch(block)
        spans = self.spans()
        declared = self.layout.line_width
        need = max([declared or 0, *(end for _, end in spans)])
        have = pc.utf8_length(texts).to_numpy(zero_copy_only=False)
        wrong = np.zeros(len(have), np.bool_)
        if not fill:
            wrong |= have < need
        if declared and not cut:
            wrong |= have > declared
        odd = [_odd(int(at), int(have[at]), need) for at in np.flatnonzero(wrong)]
        texts = set_aside(batch, texts, odd)
        short = (have < need) & ~wrong
        batch.alter("filled", np.flatnonzero(short))
        batch.alter("cut", np.flatnonzero((have > (declared or sys.maxsize)) & ~wrong))
        batch.columns = [self._column(batch, texts, at, *span) for at, span in enumerate(spans)]
        return batch

    def _column(self, batch: LineBatch, texts: pa.Array, at: int, first: int, last: int) -> pa.Array:
        values = pc.utf8_trim(pc.utf8_slice_codeunits(texts, first, last), " ")
        words = self.layout.of(self.forms.get(at)).null_words
        if words:
            null = pc.is_in(values, pa.array(words, pa.string()))
            filled = pc.greater(pc.fill_null(pc.binary_length(values), 0), 0)
            rows = np.flatnonzero(pc.and_(null, filled).to_numpy(zero_copy_only=False))
            batch.alter("nulled", batch.records[rows])
            values = pc.if_else(null, pa.scalar(None, pa.string()), values)
        return pa.concat_arrays([values, pa.array([], pa.string())])


def _odd(record: int, have: int, need: int) -> Odd:
    reason = "too_few_fields" if have < need else "too_many_fields"
    return Odd(record, reason, f"has {have:,} characters where {need:,} are declared")
