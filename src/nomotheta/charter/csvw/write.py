"""Metadata that describes the files of a charter, for those who send them or read them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from nomotheta.charter.column import Column, Pattern
from nomotheta.charter.csvw.datatypes import CONTEXT, pattern_of
from nomotheta.charter.model import Charter
from nomotheta.conditions import Kind, in_any_case, parse_pattern, render_pattern
from nomotheta.layout import Layout

_BASES = {
    "text": "string", "integer": "long", "decimal": "decimal", "real": "double", "boolean": "boolean", "date": "date",
    "time": "time", "timestamp": "datetime", "timestamptz": "dateTimeStamp", "uuid": "string", "binary": "hexBinary",
}  # fmt: skip
_UUID = "[0-9a-fA-F]{8}-([0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}"


def metadata_of(charter: Charter, layout: Layout, url: str) -> dict[str, Any]:
    """The metadata of a charter's file, as an object to be written as JSON.

    Columns that no file holds are left out; so are rules, which the vocabulary has no words for.
    """
    held = charter.file_columns()
    names = list(held)
    columns = [dict(_column(name, header, charter.columns[name], layout)) for name, header in held.items()]
    schema: dict[str, Any] = {"columns": columns}
    keys = [key.columns for key in charter.real_keys() if set(key.columns) <= set(names)]
    if keys:
        schema["primaryKey"] = list(keys[0])
    foreign = [
        {
            "columnReference": list(reference.columns),
            "reference": {"resource": f"{reference.table.rpartition('.')[2]}.csv", "columnReference": reference.listed},
        }
        for reference in charter.references
        if set(reference.columns) <= set(names)
    ]
    if foreign:
        schema["foreignKeys"] = foreign
    found: dict[str, Any] = {"@context": CONTEXT, "url": url}
    if charter.about:
        found["dc:description"] = charter.about
    nulls = layout.null_words
    return found | {
        "dialect": dict(_dialect(layout)),
        "null": nulls[0] if len(nulls) == 1 else nulls,
        "tableSchema": schema,
    }


def _dialect(layout: Layout) -> Iterator[tuple[str, Any]]:
    yield "delimiter", layout.delimiter
    yield "quoteChar", layout.quote or None
    yield "doubleQuote", not layout.escape
    yield "encoding", layout.encoding
    yield "header", layout.header > 0
    if layout.header:
        yield "headerRowCount", 1
    if layout.header > 1:
        yield "skipRows", layout.header - 1
    yield "commentPrefix", layout.comment or None
    yield "trim", layout.trim


def _column(name: str, header: str, column: Column, layout: Layout) -> Iterator[tuple[str, Any]]:
    kind = column.real_kind
    yield "name", name
    yield "titles", header
    if column.about:
        yield "dc:description", column.about
    yield "datatype", _datatype(kind or Kind("text"), column, layout)
    if column.blank.value == "never":
        yield "required", True


def _datatype(kind: Kind, column: Column, layout: Layout) -> str | dict[str, Any]:
    facets: dict[str, Any] = {}
    if kind.name == "text" and kind.size:
        facets["maxLength"] = kind.size
    if kind.name == "text" and column.length:
        least, most = column.length.values
        facets |= {"minLength": least} if least != "" else {}
        facets |= {"maxLength": min(most, kind.size or most)} if most != "" else {}
    form = _form(kind, column, layout)
    if form:
        facets["format"] = form
    if column.between:
        low, high = column.between.values
        facets |= {key: str(side) for key, side in (("minimum", low), ("maximum", high)) if side != ""}
    base = _BASES[kind.name]
    return {"base": base, **facets} if facets else base


def _pattern(pattern: Pattern) -> str:
    """A pattern; where the case of letters is ignored it names both."""
    return render_pattern(in_any_case(parse_pattern(pattern.value))) if pattern.case == "ignore" else pattern.value


def _form(kind: Kind, column: Column, layout: Layout) -> Any:
    """How the values of a kind are written, as far as one format can say it."""
    if kind.name == "text":
        if column.among:
            return "|".join(re.sub(r"([^\w -])", r"\\\1", str(value)) for value in column.among.values)
        return _pattern(column.pattern) if column.pattern else None
    if kind.name == "uuid":
        return _UUID
    if kind.name == "boolean":
        return f"{layout.true_words[0]}|{layout.false_words[0]}"
    if kind.is_number:
        marks: dict[str, str] = {}
        if layout.decimal_sign != "." and kind.name != "integer":
            marks["decimalChar"] = layout.decimal_sign
        if layout.thousands_sign:
            marks["groupChar"] = layout.thousands_sign
        if kind.name == "decimal":
            whole = "#,##0" if layout.thousands_sign else "#0"
            marks["pattern"] = f"{whole}.{'0' * kind.scale}" if kind.scale else whole
        return marks or None
    forms = {"date": layout.date_forms, "time": layout.time_forms}.get(kind.name, layout.timestamp_forms)
    if kind.name not in {"date", "time", "timestamp", "timestamptz"}:
        return None
    found = pattern_of(forms[0])
    return f"{found}XXX" if found and kind.name == "timestamptz" else found
