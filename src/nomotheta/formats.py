"""The formats in which files come: one list with their traits, which all rooms share. Each is read by one module.

Adding a format is a module in `nomotheta.source.formats` and an entry here.
"""

from __future__ import annotations

from collections.abc import Mapping

from nomotheta.frozen import frozen


@frozen
class Format:
    """A format by its name in a layout.

    `reader` is its module and class in `nomotheta.source.formats`. A `text` has an encoding, lines, and may come
    packed; a `typed` one has values with types of their own; where `columns_known`, its columns have them too. `magic`
    are the first bytes of a file that is not text. `placed` columns are told by the characters of a line, and `header`
    is how many lines of header there are where the layout does not say.
    """

    name: str
    reader: tuple[str, str]
    text: bool = False
    typed: bool = False
    columns_known: bool = False
    magic: tuple[bytes, ...] = ()
    placed: bool = False
    header: int = 1


_LISTED = (
    Format("delimited", ("delimited", "DelimitedFile"), text=True),
    Format("fixed", ("fixed", "FixedFile"), text=True, placed=True, header=0),
    Format("json-lines", ("json_lines", "JsonLinesFile"), text=True, typed=True),
    Format("parquet", ("parquet", "ParquetFile"), typed=True, columns_known=True, magic=(b"PAR1",)),
    Format(
        "arrow", ("arrow", "ArrowFile"), typed=True, columns_known=True, magic=(b"ARROW1", b"\xff\xff\xff\xff")
    ),
    Format("sheet", ("sheet", "SheetFile"), typed=True, magic=(b"\xd0\xcf\x11\xe0\xa1\xb1",)),
)  # fmt: skip
FORMATS: Mapping[str, Format] = {each.name: each for each in _LISTED}
