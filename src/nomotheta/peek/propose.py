"""Charters proposed from a look at a file, under which that file loads without rejects, or from a table as it is."""

from __future__ import annotations

import datetime
import re
from collections import Counter
from collections.abc import Iterator
from typing import Any

from nomotheta.charter.proposal import Proposal, ProposedColumn, column_name
from nomotheta.conditions import own, quoted
from nomotheta.conditions.kind import MOST_DIGITS
from nomotheta.errors import counted
from nomotheta.layout import Layout
from nomotheta.peek.look import Look, SeenColumn
from nomotheta.place.base import Place
from nomotheta.rules.shape import existing

_DAYS = (
    (r"\d{4}-\d{2}-\d{2}", "%Y-%m-%d", "{day}"),
    (r"\d{8}", "%Y%m%d", "{day:%Y%m%d}"),
    (r"\d{8}", "%d%m%Y", "{day:%d%m%Y}"),
    (r"\d{2}-\d{2}-\d{4}", "%d-%m-%Y", "{day:%d-%m-%Y}"),
    (r"\d{4}_\d{2}_\d{2}", "%Y_%m_%d", "{day:%Y_%m_%d}"),
)
_FORM_KEYS = ("date_forms", "time_forms", "timestamp_forms", "true_words", "false_words")
_WIDE = f"decimal({MOST_DIGITS},10)"
_NUMBERS = ("decimal_sign", "thousands_sign")


def propose_from_look(seen: Look, table: str, file: str, day: datetime.date) -> Proposal:
    """A proposal.

    Args:
        seen: the look at the file.
        table: the table's name.
        file: the file's path as the charter is to name it, from the workspace on.
        day: the day of the proposal, for the note.
    """
    numbers = _number_marks(seen)
    layout = _layout(seen, numbers)
    names: list[str] = []
    columns = []
    headers = [column.name for column in seen.columns]
    for column in seen.columns:
        names.append(column_name(column.name, names))
        named = column.name and not column.name.startswith("@") and headers.count(column.name) == 1
        columns.append(_column(column, names[-1], layout, at=0 if named or not seen.header else len(names)))
    columns.append(ProposedColumn("load_no", [("from", "@load.no", "tells the rows of one load from the others")]))
    by_header = dict(zip((column.name for column in seen.columns), names, strict=False))
    keys = [([by_header[name] for name in key], "a guess: no value is there twice") for key in seen.keys[:1]]
    return Proposal(
        table, list(_notes(seen, file, day)), columns, _files(file), _written(layout), list(_load(seen)), keys
    )


def propose_from_table(place: Place, table: str, day: datetime.date) -> Proposal:
    """A proposal of a table as it is.

    Raises:
        PlaceError: the table is not there, or the place cannot be reached.
    """
    columns = existing(place, table)
    parts = [f"count({quoted(column.name)}) AS {quoted(own(str(at)))}" for at, column in enumerate(columns)]
    counts = place.fetch(
        f"SELECT count(*) AS {quoted(own('rows'))}, {', '.join(parts)} {place.rowset(table)}"
    ).to_pylist()[0]
    rows, *filled = counts.values()
    proposed = []
    for column, count in zip(columns, filled, strict=True):
        keys: list[tuple[str, Any, str]] = [("kind", str(column.kind), f"{column.type_name} in the table")]
        if column.kind is None:
            keys = [("from", "@place", f"{column.type_name} in the table, for which there is no kind")]
        elif column.kind.digits > MOST_DIGITS:
            keys = [("kind", _WIDE, f"a guess: {column.type_name} in the table, which holds more digits than any kind")]
        if column.kind is not None and rows and count == rows:
            keys.append(("blank", "never", "a guess: none is null"))
        proposed.append(ProposedColumn(column.name, keys))
    notes = [
        f"A charter to start from, proposed from the table {table} in {place.name} on {day}: {counted(rows, 'row')}.",
        "It can be judged at once; add [delivery] to load it.",
    ]
    return Proposal(table, notes, proposed)


def _notes(seen: Look, file: str, day: datetime.date) -> Iterator[str]:
    read = "all" if seen.whole else "the first"
    yield f"A charter to start from, proposed from {file} on {day}: {read} {counted(seen.rows, 'row')} read."
    yield "What is called a guess is what this one file shows; check it before you rely on it."
    for label, why in (
        ("Format", seen.file_format_why), ("Delimiter", seen.delimiter_why), ("Header", seen.header_why),
    ):  # fmt: skip
        if why:
            yield f"{label}: {why}."
    for oddity in seen.oddities:
        count = f"{oddity.count:,} " if oddity.count else ""
        where = f"{oddity.column}: " if oddity.column else ""
        example = f", such as {oddity.example}" if oddity.example else ""
        yield f"Odd: {where}{count}{oddity.what}{example}"


def _number_marks(seen: Look) -> dict[str, str]:
    """The decimal and thousands signs that most columns of numbers have; a layout has only one of each."""
    numbers = [column.layout for column in seen.columns if "decimal_sign" in column.layout]
    marks = Counter(tuple(layout.get(key, "") for key in _NUMBERS) for layout in numbers)
    if not marks:
        return {}
    decimal = Counter(mark for (mark, _), times in marks.items() for _ in range(times)).most_common(1)[0][0]
    grouping = next((group for (mark, group) in marks if mark == decimal and group), "")
    return {"decimal_sign": decimal, "thousands_sign": grouping}


def _layout(seen: Look, numbers: dict[str, str]) -> dict[str, Any]:
    """The layout under which most columns can be what they seem."""
    layout: dict[str, Any] = {"format": seen.file_format, **numbers}
    if seen.file_format == "delimited":
        layout |= {"delimiter": seen.delimiter, "quote": seen.quote, "header": int(seen.header)}
    if seen.encoding:
        layout["encoding"] = seen.encoding
    for key in _FORM_KEYS:
        forms = list(dict.fromkeys(form for column in seen.columns for form in column.layout.get(key, [])))
        if {"%d/%m/%Y", "%m/%d/%Y"} <= set(forms):  # one of them would be read as the other
            forms.remove("%m/%d/%Y")
        if forms:
            layout[key] = forms
    null_like = [value for column in seen.columns if not column.kind.startswith("text") for value in column.null_like]
    layout["null_words"] = list(dict.fromkeys(["", *null_like]))
    layout["trim"] = any(column.edges for column in seen.columns)
    return layout


def _written(layout: dict[str, Any]) -> dict[str, Any]:
    """What differs from the defaults."""
    usual = Layout()
    return {key: value for key, value in layout.items() if value != getattr(usual, key)}


def _files(file: str) -> tuple[str, str]:
    head, _, name = file.rpartition("/")
    for shape, form, pattern in _DAYS:
        for match in re.finditer(rf"(?<!\d){shape}(?!\d)", name):
            try:
                datetime.datetime.strptime(match[0], form)
            except ValueError:
                continue
            found = name[: match.start()] + pattern + name[match.end() :]
            return (f"{head}/{found}" if head else found), f"a guess: {match[0]} is the day"
    return file, "no day was found in the name; without {day} it is a standing list"


def _load(seen: Look) -> Iterator[tuple[str, Any, str]]:
    yield "how", "append", "a guess; overwrite replaces the rows that are there"
    yield "tolerate", "none", 'rejected rows that are allowed: "none", a number, "0.5%", "all"'
    reasons = {oddity.reason for oddity in seen.oddities}
    if "too_few_fields" in reasons:
        yield "short_rows", "fill", 'they were seen; "reject" sets them aside'
    if "unknown_member" in reasons:
        yield "extra_columns", "ignore", 'they were seen; "refuse" sets such objects aside'
    if "too_many_fields" in reasons:
        yield "long_rows", "cut", 'they were seen; "reject" sets them aside'


def _column(column: SeenColumn, name: str, layout: dict[str, Any], *, at: int) -> ProposedColumn:
    """A column by the header's name, or, where that tells it from no other, by its place."""
    kind, comment = _kind(column, layout)
    keys: list[tuple[str, Any, str]] = [("kind", kind, comment)]
    if at:
        keys.append(("at", at, "its place: the header does not name it"))
    elif name != column.name:
        keys.append(("from", column.name, ""))
    becomes_null = bool(column.null_like) and not kind.startswith("text")
    if not column.blanks and column.rows and not becomes_null:
        keys.append(("blank", "never", "a guess: none was seen"))
    return ProposedColumn(name, keys)


def _kind(column: SeenColumn, layout: dict[str, Any]) -> tuple[str, str]:
    """The kind under which every value seen goes in, and a word on it."""
    text = f"text({_roomy(column.longest)})" if column.longest else "text"
    if column.kind.startswith("text"):
        distinct = "" if column.distinct_exact else "about "
        return text, f"{distinct}{column.distinct:,} distinct values, the longest {column.longest} characters"
    if column.misfits:
        return text, f"{column.kind} but for {counted(column.misfits, 'value')}; declare it so to have them set aside"
    for key in (*_NUMBERS, *_FORM_KEYS):
        wanted = column.layout.get(key)
        have = layout.get(key, getattr(Layout(), key))
        fits = set(wanted or []) <= set(have) if isinstance(have, list) else wanted in {None, have, ""}
        if not fits:
            return text, f"{column.kind} in the form {column.form}, which the other columns do not have"
    told = f"from {column.lowest} to {column.highest}" if column.lowest is not None else ""
    decimal = re.fullmatch(r"decimal\((\d+),(\d+)\)", column.kind)
    kind = f"decimal({min(38, int(decimal[1]) + 2)},{decimal[2]})" if decimal else column.kind
    return kind, told


def _roomy(longest: int) -> int:
    """A length with a little room."""
    return longest if longest <= 10 else -(-longest // 10) * 10
