"""Source files: arrivals, record-aligned blocks, and their columns as text."""

from nomotheta.source.base import Batch, Lines, Odd, SourceFile
from nomotheta.source.content import packing_of, raw_chunks
from nomotheta.source.delivery import ArrivedFile, arrived, expected, match_header
from nomotheta.source.formats import open_file
from nomotheta.source.texts import null_words_in_quotes

__all__ = [
    "ArrivedFile",
    "Batch",
    "Lines",
    "Odd",
    "SourceFile",
    "arrived",
    "expected",
    "match_header",
    "null_words_in_quotes",
    "open_file",
    "packing_of",
    "raw_chunks",
]
