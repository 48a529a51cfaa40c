"""Source files: arrivals, record-aligned blocks, and their columns as text."""

from nomotheta.source.blocks import Block, DelimitedFile, Lines
from nomotheta.source.content import packing_of, raw_chunks
from nomotheta.source.delivery import ArrivedFile, arrived, expected, match_header
from nomotheta.source.texts import Odd, TextBatch, null_words_in_quotes, read_texts

__all__ = [
    "ArrivedFile",
    "Block",
    "DelimitedFile",
    "Lines",
    "Odd",
    "TextBatch",
    "arrived",
    "expected",
    "match_header",
    "null_words_in_quotes",
    "packing_of",
    "raw_chunks",
    "read_texts",
]
