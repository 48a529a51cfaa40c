"""Source files: arrivals, record-aligned blocks, and their columns as text."""

from nomotheta.source.base import Batch, Lines, Odd, SourceFile
from nomotheta.source.content import format_of
from nomotheta.source.delivery import ArrivedFile, arrived, expected, literal
from nomotheta.source.formats import open_file
from nomotheta.source.joined import SMALL, Joining, Parts
from nomotheta.source.shape import Shape, match_columns
from nomotheta.source.stated import Counted, Statement, check_stated, check_sums, sidecars, statement
from nomotheta.unpack import packing_of, raw_chunks

__all__ = [
    "SMALL",
    "ArrivedFile",
    "Batch",
    "Counted",
    "Joining",
    "Lines",
    "Odd",
    "Parts",
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
