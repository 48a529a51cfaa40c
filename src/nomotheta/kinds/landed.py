"""Texts that were landed as they came, as the cells that a file's reader would have made of them."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from nomotheta.conditions import Kind
from nomotheta.frozen import frozen
from nomotheta.kinds.cells import trimmed as without_edges
from nomotheta.layout import Layout


@frozen
class Landed:
    """N cells, and which of them were trimmed and which became null for a word that is not empty (Arrow booleans)."""

    texts: Any
    trimmed: Any
    nulled: Any


def landed_cells(texts: Any, kind: Kind, layout: Layout) -> Landed:
    """A column of landed texts as cells: white space taken off and null words made null, as the layout says.

    An empty text that is not null stood in quotes: as a text it is one, and no other value.
    """
    trimmed = without_edges(texts) if layout.trim else texts
    shorter = pc.not_equal(pc.binary_length(trimmed), pc.binary_length(texts))
    shorter = pc.fill_null(shorter, fill_value=False)
    words = [word for word in layout.null_words if word]
    null = pc.is_in(trimmed, pa.array(words, pa.string()))
    empty = pc.fill_null(pc.equal(pc.binary_length(trimmed), 0), fill_value=False)
    if "" in layout.null_words:
        null = pc.or_(null, pc.and_(empty, shorter) if kind.name == "text" else empty)
    filled = pc.fill_null(pc.greater(pc.binary_length(trimmed), 0), fill_value=False)
    return Landed(pc.if_else(null, pa.scalar(None, pa.string()), trimmed), shorter, pc.and_(null, filled))
