"""Charters proposed from a look at a file, which say what all but a few of its values say, or from a table as it is."""

from __future__ import annotations

import datetime
import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from nomotheta.charter.proposal import Proposal, ProposedColumn, column_name
from nomotheta.conditions import own, quoted
from nomotheta.conditions.kind import MOST_DIGITS
from nomotheta.errors import counted
from nomotheta.frozen import frozen
from nomotheta.layout import Layout
from nomotheta.peek.footer import totals_pattern, word_pattern
from nomotheta.peek.look import Look, SeenColumn
from nomotheta.peek.readings import few_of
from nomotheta.place.base import Place, PlaceColumn
from nomotheta.rules.shape import existing

_DAYS = (
    (r"\d{4}-\d{2}-\d{2}", "%Y-%m-%d", "{day}"),
    (r"\d{8}", "%Y%m%d", "{day:%Y%m%d}"),
    (r"\d{8}", "%d%m%Y", "{day:%d%m%Y}"),
    (r"\d{2}-\d{2}-\d{4}", "%d-%m-%Y", "{day:%d-%m-%Y}"),
    (r"\d{4}_\d{2}_\d{2}", "%Y_%m_%d", "{day:%Y_%m_%d}"),
)
_RIVALS = (
    ("%d/%m/%Y", "%m/%d/%Y"), ("%-d/%-m/%Y", "%-m/%-d/%Y"), ("%d/%m/%y", "%m/%d/%y"),
    ("%d/%m/%Y %H:%M:%S", "%m/%d/%Y %H:%M:%S"), ("%d/%m/%Y %H:%M", "%m/%d/%Y %H:%M"),
)  # fmt: skip
_FORM_KEYS = ("date_forms", "time_forms", "timestamp_forms", "true_words", "false_words")
_WIDE = f"decimal({MOST_DIGITS},10)"
_NUMBERS = ("decimal_sign", "thousands_sign")


@frozen
class Draft:
    """What is known beside a look: columns to be read as texts after all, whether there is a key, a footer, a table."""

    as_text: frozenset[str] = frozenset()
    keyed: bool = True
    footed: bool = True
    stated: int = 0
    into: Sequence[PlaceColumn] | None = None


def propose_from_look(
    seen: Look, table: str, files: tuple[str, str], day: datetime.date, draft: Draft | None = None
) -> Proposal:
    """A proposal: what all but a few values say.

    Args:
        seen: the look at the file.
        table: the table's name.
        files: the pattern of the files as the charter is to name it, from the workspace on, and a comment.
        day: the day of the proposal, for the note.
        draft: what is known beyond the look.
    """
    draft = draft or Draft()
    numbers = _number_marks(seen)
    layout = _layout(seen, numbers, draft)
    if draft.into is not None:
        return _into_table(seen, table, files, day, draft, layout)
    names: list[str] = []
    columns = []
    headers = [column.name for column in seen.columns]
    key = key_of(seen) if draft.keyed else ()
    for column in seen.columns:
        names.append(column_name(column.name, names))
        named = column.name and not column.name.startswith("@") and headers.count(column.name) == 1
        at = 0 if named or not seen.header else len(names)
        kept = replace(column, kind="text") if column.name in draft.as_text else column
        columns.append(_column(kept, names[-1], layout, at=at, of_key=column.name in key))
    columns.append(ProposedColumn("load_no", [("from", "@load.no", "tells the rows of one load from the others")]))
    by_header = dict(zip((column.name for column in seen.columns), names, strict=False))
    keys = [([by_header[name] for name in key], _key_told(seen, key))] if key else []
    return Proposal(
        table, list(_notes(seen, files[0], day)), columns, files, _written(layout), list(_load()), keys,
        stated=_stated(seen, draft, columns),
    )  # fmt: skip


def _into_table(
    seen: Look, table: str, files: tuple[str, str], day: datetime.date, draft: Draft, layout: dict[str, Any]
) -> Proposal:  # fmt: skip
    """A proposal for a table that is there: its columns and kinds, as far as the file has them."""
    headers = {_plain(column.name): column for column in reversed(seen.columns)}
    columns, used = [], set[str]()
    for column in draft.into or ():
        source, alike = _source(headers, column.name, [each.name for each in draft.into or ()])
        keys: list[tuple[str, Any, str]] = []
        if source is not None and column.kind is not None:
            used.add(source.name)
            keys = [("kind", str(column.kind), f"{column.type_name} in the table")]
            keys += [] if source.name == column.name else [("from", source.name, alike)]
            keys += _cells(source, is_text=column.kind.name == "text")
            keys += [] if column.nullable else [("blank", "never", "it may not be null in the table")]
        elif column.name == "load_no":
            keys = [("from", "@load.no", "tells the rows of one load from the others")]
        else:
            keys = [("from", "@place", "not in the file: left to the database")]
        columns.append(ProposedColumn(column.name, keys))
    rest = [column.name for column in seen.columns if column.name not in used]
    load = [*_load(), *([("extra_columns", "ignore", f"not in the table: {', '.join(rest)}")] if rest else [])]
    key = [column.name for column in draft.into or () for name in key_of(seen) if _plain(name) == _plain(column.name)]
    keys_told = [(key, _key_told(seen, key_of(seen)))] if key and draft.keyed and len(key) == len(key_of(seen)) else []
    return Proposal(
        table, list(_notes(seen, files[0], day)), columns, files, _written(layout), load, keys_told,
        stated=_stated(seen, draft, columns),
    )  # fmt: skip


def _source(headers: Mapping[str, SeenColumn], name: str, all_names: Sequence[str]) -> tuple[SeenColumn | None, str]:
    """The file's column of that name, or the one whose name goes on from it, and a word on that."""
    plain, taken = _plain(name), {_plain(each) for each in all_names}
    if plain in headers:
        return headers[plain], ""
    alike = [each for each in headers if each not in taken and (each.startswith(plain) or plain.startswith(each))]
    return (headers[alike[0]], "a guess: the names are alike") if len(alike) == 1 else (None, "")


def _plain(name: str) -> str:
    """A name as far as it tells a column from others, however it is written."""
    return re.sub(r"[\W_]+", "", name).casefold()


_KEY_NAMES = re.compile(r"(?:^|[\W_])(?:id|no|nr|num|number|code|key|ref|uuid|guid)(?:$|[\W_])", re.IGNORECASE)
_UNLIKELY = ("decimal", "real", "time", "boolean", "timestamp", "timestamptz")  # kinds of which a key is seldom made


def key_of(seen: Look) -> tuple[str, ...]:
    """The columns that seem to be a key: no value twice, or all but a few values once and a name that says so."""
    single = [column for column in seen.columns if (column.name,) in seen.keys]
    likely = [column for column in single if not column.kind.startswith(_UNLIKELY)]
    named = [column for column in likely if _KEY_NAMES.search(_spaced(column.name))]
    if named or likely:
        return ((named or likely)[0].name,)
    nearly = [column for column in seen.columns if _KEY_NAMES.search(_spaced(column.name)) and _nearly_unique(column)]
    if nearly:
        return (nearly[0].name,)
    pairs = [key for key in seen.keys if len(key) > 1]
    return (pairs or [(column.name,) for column in single] or [()])[0]


def _spaced(name: str) -> str:
    """A name with its words apart: ticketNo is a number, too."""
    return re.sub(r"(?<=[a-z])(?=[A-Z])", "_", name)


def _nearly_unique(column: SeenColumn) -> bool:
    values = column.rows - column.blanks
    few = few_of(column.rows)
    return column.distinct_exact and column.blanks <= few and 0 <= values - column.distinct <= few < values


def _key_told(seen: Look, key: tuple[str, ...]) -> str:
    return "a guess: no value is there twice" if key in seen.keys else "a guess: all but a few values are there once"


def _stated(seen: Look, draft: Draft, columns: Sequence[ProposedColumn]) -> list[tuple[str, Any, str]]:
    patterns = stated_patterns(seen, columns) if draft.footed else []
    if draft.stated >= len(patterns):
        return []
    return [("in", "footer", ""), ("pattern", patterns[draft.stated], _compared(patterns[draft.stated]))]


def _compared(pattern: str) -> str:
    if pattern.startswith("(?P<rows>)"):
        return "the line is known by its word; what it states is not compared"
    return "what it states is compared with what came"


def stated_patterns(seen: Look, columns: Sequence[ProposedColumn]) -> list[str]:
    """What a footer may state: totals of columns, the count of rows, or nothing; that is tried in this order."""
    if not seen.footer:
        return []
    layout = Layout(delimiter=seen.delimiter, quote=seen.quote)
    kinds = [(each.name, str({key: value for key, value, _ in each.keys}.get("kind", ""))) for each in columns]
    named = [(name, kind.startswith(("decimal", "integer"))) for name, kind in kinds][: len(seen.columns)]
    word = word_pattern(seen.footer, layout)
    return [each for each in (totals_pattern(seen.footer, layout, named), seen.footer_pattern, word) if each]


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
    read = "" if seen.whole else "the first "
    yield f"A charter to start from, proposed from {file} on {day}: {read}{counted(seen.rows, 'row')} read."
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
        line = f" (line {oddity.line:,})" if oddity.line else ""
        yield f"Odd: {where}{count}{oddity.what}{line}{example}"


def _number_marks(seen: Look) -> dict[str, str]:
    """The decimal and thousands signs that most columns of numbers have; a layout has only one of each."""
    numbers = [column.layout for column in seen.columns if "decimal_sign" in column.layout]
    marks = Counter(tuple(layout.get(key, "") for key in _NUMBERS) for layout in numbers)
    if not marks:
        return {}
    decimal = Counter(mark for (mark, _), times in marks.items() for _ in range(times)).most_common(1)[0][0]
    grouping = next((group for (mark, group) in marks if mark == decimal and group), "")
    return {"decimal_sign": decimal, "thousands_sign": grouping}


def _layout(seen: Look, numbers: dict[str, str], draft: Draft) -> dict[str, Any]:
    """The layout under which most columns can be what they seem."""
    layout: dict[str, Any] = {"format": seen.file_format, **numbers}
    if seen.file_format == "delimited":
        layout |= {"delimiter": seen.delimiter, "quote": seen.quote, "header": int(seen.header)}
        layout |= {"footer": 1 if draft.footed and seen.footer else 0}
    if any(oddity.reason == "repeated_header" for oddity in seen.oddities):
        layout["repeated_header"] = "skip"
    if seen.encoding:
        layout["encoding"] = seen.encoding
    for key in _FORM_KEYS:
        forms = list(dict.fromkeys(form for column in seen.columns for form in column.layout.get(key, [])))
        for one, other in _RIVALS:  # one of them would be read as the other
            if {one, other} <= set(forms):
                forms.remove(other)
        if forms:
            layout[key] = forms
    century = [
        column.layout["two_digit_years_from"] for column in seen.columns if "two_digit_years_from" in column.layout
    ]
    return layout | ({"two_digit_years_from": century[0]} if century else {})


def _written(layout: dict[str, Any]) -> dict[str, Any]:
    """What differs from the defaults."""
    usual = Layout()
    return {key: value for key, value in layout.items() if value != getattr(usual, key)}


def pattern_of(names: Sequence[str]) -> tuple[str, str]:
    """The pattern of some files' paths, and a comment: the day where it is in the names, and what differs."""
    found = [_with_day(name) for name in names]
    patterns = {pattern for pattern, _ in found}
    if len(patterns) == 1:
        return found[0]
    head = _begin(sorted(patterns))
    tail = _begin(sorted(each[len(head) :][::-1] for each in patterns))[::-1]
    comment = next((comment for _, comment in found if comment), "")
    return f"{head}*{tail}", "; ".join(
        filter(None, [comment, f"a guess: what differs in the names of {len(names)} files"])
    )


def _begin(words: Sequence[str]) -> str:
    """What some sorted words all begin with."""
    first, last = words[0], words[-1]
    same = next((at for at, (one, other) in enumerate(zip(first, last, strict=False)) if one != other), None)
    return first[: min(len(first), len(last))] if same is None else first[:same]


def _with_day(file: str) -> tuple[str, str]:
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


TOLERATE = 'rows that may be rejected: "none", a number, "0.5%", "all"'


def _load() -> Iterator[tuple[str, Any, str]]:
    yield "how", "append", "a guess; overwrite replaces the rows that are there"
    yield "tolerate", "none", TOLERATE


def _column(column: SeenColumn, name: str, layout: dict[str, Any], *, at: int, of_key: bool) -> ProposedColumn:
    """A column by the header's name, or, where that tells it from no other, by its place."""
    kind, comment = _kind(column, layout)
    keys: list[tuple[str, Any, str]] = [("kind", kind, comment)]
    if at:
        keys.append(("at", at, "its place: the header does not name it"))
    elif name != column.name:
        keys.append(("from", column.name, ""))
    is_text = kind.startswith("text")
    keys += _cells(column, is_text=is_text)
    becomes_null = bool(column.null_like) and not is_text
    if (not column.blanks or of_key) and column.rows and not becomes_null:
        keys.append(("blank", "never", "a guess: none was seen" if not column.blanks else "a guess: it is the key"))
    return ProposedColumn(name, keys)


def _cells(column: SeenColumn, *, is_text: bool) -> Iterator[tuple[str, Any, str]]:
    """How the cells of a column are to be read: words for null, and whether to trim."""
    if column.null_like and not is_text:
        yield "null_words", ["", *column.null_like], "they were seen, and may mean null"
    if not is_text and column.edges > few_of(column.rows - column.blanks):
        yield "trim", True, f"{counted(column.edges, 'value')} with white space at an end"


def _kind(column: SeenColumn, layout: dict[str, Any]) -> tuple[str, str]:
    """The kind under which all but a few of the values seen go in, and a word on it."""
    size = _roomy(column.longest, column.shortest)
    text = f"text({size})" if column.longest else "text"
    length = f"the longest value seen has {counted(column.longest, 'character')}"
    if column.longest == column.shortest:
        length = f"all values have {counted(column.longest, 'character')}"
    guess = f"a guess: {length}" if column.longest else ""
    if column.kind.startswith("text"):
        distinct = "" if column.distinct_exact else "about "
        return text, "; ".join(filter(None, [guess, f"{distinct}{counted(column.distinct, 'distinct value')}"]))
    for key in (*_NUMBERS, *_FORM_KEYS):
        wanted = column.layout.get(key)
        have = layout.get(key, getattr(Layout(), key))
        fits = set(wanted or []) <= set(have) if isinstance(have, list) else wanted in {None, have, ""}
        if not fits:
            return text, f"{column.kind} in the form {column.form}, which the other columns do not have"
    told = f"from {column.lowest} to {column.highest}" if column.lowest is not None else ""
    if column.misfits:
        told += f"; {counted(column.misfits, 'value')} of another kind: see above"
    decimal = re.fullmatch(r"decimal\((\d+),(\d+)\)", column.kind)
    kind = f"decimal({min(38, int(decimal[1]) + 2)},{decimal[2]})" if decimal else column.kind
    return kind, told


def _roomy(longest: int, shortest: int) -> int:
    """A length with room to grow, where values are not all of one length."""
    if longest == shortest:
        return longest
    step = 10 if longest <= 100 else 50 if longest <= 500 else 500
    return -(-longest // step) * step
