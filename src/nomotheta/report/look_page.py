"""A look at a file as one self-contained HTML page, a small chart a column."""

from __future__ import annotations

import datetime
from pathlib import PurePath

from nomotheta.errors import counted
from nomotheta.peek import Look, Spread
from nomotheta.report.charts import spread_chart
from nomotheta.report.page import environment

_DELIMITERS = {"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar", " ": "space"}


def look_page(found: Look, now: datetime.datetime) -> str:
    """The HTML of a look."""
    template = environment().get_template("look.html.j2")
    drawn = [column.spread if column.spread and not _even(column.spread) else None for column in found.columns]
    named = zip(drawn, found.columns, strict=True)
    charts = [spread_chart(spread, column.name, at) if spread else "" for at, (spread, column) in enumerate(named)]
    text: str = template.render(
        look=found, name=PurePath(found.file).name, columns=list(zip(found.columns, charts, strict=True)),
        facts=list(_facts(found)), now=now, delimiters=_DELIMITERS,
    )  # fmt: skip
    return text


def _even(spread: Spread) -> bool:
    """Whether all values have one length, of which there is nothing to draw."""
    return spread.sort == "lengths" and len(spread.counts) == 1


def _facts(found: Look) -> list[tuple[str, str, str]]:
    """What there is to say of the file as a whole: a label, a value, and why."""
    size = counted(found.bytes_on_disk, "byte") + (f", {found.packing}" if found.packing else "")
    facts = [("size", size, ""), ("format", found.file_format, found.file_format_why)]
    if found.encoding:
        facts.append(("encoding", found.encoding, found.encoding_why))
        facts.append(("line ends", ", ".join(found.line_ends) or "none", ""))
    if found.delimiter:
        facts.append(("delimiter", _DELIMITERS.get(found.delimiter, found.delimiter), found.delimiter_why))
    if found.header_why:
        facts.append(("header", "yes" if found.header else "no", found.header_why))
    keys = ", ".join(" + ".join(key) for key in found.keys)
    return [*facts, ("may be a key", keys or "no column, and no pair that was tried", "")]
