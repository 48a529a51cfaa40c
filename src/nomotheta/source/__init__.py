"""Source files: arrivals, record-aligned blocks, and their columns as text."""

from nomotheta.source.base import Batch, Lines, Odd, SourceFile
from nomotheta.source.content import format_of
from nomotheta.source.delivery import ArrivedFile, arrived, expected, literal
from nomotheta.source.formats import open_file
from nomotheta.source.shape import Shape, match_columns
from nomotheta.source.stated import Counted, Statement, check_stated, check_sums, sidecars, statement
from nomotheta.unpack import packing_of, raw_chunks

__all__ = [
    "ArrivedFile",
    "Batch",
    "Counted",
    "Lines",
    "Odd",
    "Shape",
    "SourceFile",
    "Statement",
    "arrived",
    "check_stated",
    "check_sums",
    "expected",
    "format_of",
    "literal",
    "match_columns",
    "open_file",
    "packing_of",
    "raw_chunks",
    "sidecars",
    "statement",
]
