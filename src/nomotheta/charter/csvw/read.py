"""A charter to start from, proposed from metadata that describes the file: what it says is kept, the rest is told."""

from __future__ import annotations

import datetime
import json
import os
import re
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from pydantic import ValidationError

from nomotheta.charter.csvw.datatypes import BASES, BOUNDS, CONTEXT, forms_of
from nomotheta.charter.model import Charter
from nomotheta.charter.proposal import Proposal, ProposedColumn, column_name, proposal_text
from nomotheta.conditions import parse_pattern
from nomotheta.errors import DeclarationError, NomothetaError, did_you_mean
from nomotheta.layout import Layout

_LARGEST = 16 << 20
_INHERITED = ("null", "datatype", "required", "default", "separator")
_NOT_TAKEN = {"aboutUrl": "URLs", "propertyUrl": "URLs", "valueUrl": "URLs", "transformations": "transformations"}


def is_metadata(path: Path) -> bool:
    """Whether a file is metadata of CSV on the Web."""
    try:
        if path.stat().st_size > _LARGEST:
            return False
        with path.open("rb") as file:
            if not file.read(256).lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
                return False
        found = json.loads(path.read_text("utf-8-sig"))
    except (OSError, ValueError):
        return False
    return isinstance(found, dict) and CONTEXT in json.dumps(found.get("@context"))


def propose_from_metadata(path: Path, name: str, root: Path, table: str | None, day: datetime.date) -> Proposal:
    """A proposal.

    Args:
        path: the metadata.
        name: its path as messages show it.
        root: the workspace, from which on a charter names files; the metadata name them from where they are.
        table: which of its tables, by the name of its file without the ending; the only one where it is None.
        day: the day of the proposal, for the note.

    Raises:
        DeclarationError: it cannot be read, describes no such table, or one that no charter can stand for.
    """
    whole = _document(path, name)
    group: Any = whole.get("tables")
    tables = (
        {_stem(each): each for each in group} if group and isinstance(group, list) else {table or _stem(whole): whole}
    )
    if table is None and len(tables) > 1:
        raise DeclarationError(f"it describes {len(tables)} tables", where=name, mend=f"--table {next(iter(tables))}")
    if table is not None and table not in tables:
        hint = did_you_mean(table, tables) or f"it describes {', '.join(tables)}"
        raise DeclarationError(f"it describes no table '{table}'", where=name, mend=hint)
    chosen = table or next(iter(tables))
    try:
        proposal = _Table(path, name, root, whole, tables[chosen]).propose(chosen, day)
        Charter.model_validate(tomllib.loads(proposal_text(proposal)))
    except ValidationError as error:
        first = error.errors()[-1]
        what = f"no charter can express it: {'.'.join(map(str, first['loc']))}: {first['msg']}"
        raise DeclarationError(what, where=name, mend="change the metadata, or propose from the file") from None
    except (ValueError, TypeError, AttributeError, KeyError) as error:
        raise DeclarationError(f"it is not written as the vocabulary has it: {error}", where=name) from None
    return proposal


def _document(path: Path, name: str) -> dict[str, Any]:
    try:
        found = json.loads(path.read_text("utf-8-sig"))
    except OSError as error:
        raise DeclarationError(f"it cannot be read: {error.strerror}", where=name) from None
    except ValueError as error:
        raise DeclarationError(f"it is not JSON: {error}", where=name) from None
    if not isinstance(found, dict):
        raise DeclarationError("it is JSON, but no object", where=name)
    return found


def _stem(table: Mapping[str, Any]) -> str:
    """The name of a table: that of its file without the ending, as a plain word."""
    url = table.get("url") if isinstance(table, dict) else None
    file = unquote(urlsplit(url).path).rpartition("/")[2] if isinstance(url, str) else ""
    return re.sub(r"\W+", "_", file.partition(".")[0].lower()).strip("_") or "table"


class _Table:
    def __init__(self, path: Path, name: str, root: Path, group: dict[str, Any], table: dict[str, Any]) -> None:
        self.path, self.name, self.root, self.group, self.table = path, name, root, group, table
        self.left: list[str] = []
        self.layout: dict[str, Any] = {}
        schema = table.get("tableSchema", group.get("tableSchema"))
        if isinstance(schema, str):
            schema = self.beside(schema)
        if not isinstance(schema, dict) or not isinstance(schema.get("columns"), list):
            mend = "a tableSchema with columns is needed; or propose from the file"
            raise DeclarationError("it describes no columns", where=name, mend=mend)
        self.schema: dict[str, Any] = schema

    def beside(self, url: str) -> Any:
        """A schema that is in a file of its own."""
        if urlsplit(url).scheme:
            what = f"its schema is elsewhere, at {url}"
            raise DeclarationError(what, where=self.name, mend="save it beside the metadata, and name that file")
        return _document(self.path.parent / unquote(url), url)

    def propose(self, table: str, day: datetime.date) -> Proposal:
        self.dialect()
        names: dict[str, str] = {}
        columns = []
        for at, column in enumerate(self.schema["columns"]):
            if not isinstance(column, dict):
                raise DeclarationError(f"column {at + 1} is not an object", where=self.name)
            if column.get("virtual"):
                self.left.append("a virtual column")
                continue
            header = _title(column) or f"column_{at + 1}"
            plain = column_name(str(column.get("name") or header), list(names.values()))
            names[str(column.get("name") or header)] = plain
            columns.append(self.column(column, plain, header))
        columns.append(ProposedColumn("load_no", [("from", "@load.no", "tells the rows of one load from the others")]))
        self.left += sorted({told for key, told in _NOT_TAKEN.items() if key in json.dumps([self.table, self.schema])})
        notes = [f"A charter to start from, proposed from the metadata {self.name} on {day}; no data was read."]
        notes += [f"Not taken over: {', '.join(dict.fromkeys(self.left))}."] if self.left else []
        url = self.table.get("url")
        files = (
            (self.file(url), "as the metadata names it") if isinstance(url, str) else (f"inbox/{table}.csv", "a guess")
        )
        usual = Layout()
        layout = {key: value for key, value in self.layout.items() if value != getattr(usual, key)}
        load = [
            ("how", "append", "a guess; overwrite replaces the rows that are there"),
            ("tolerate", "none", 'rejected rows that are allowed: "none", a number, "0.5%", "all"'),
        ]
        keys = [
            ([names.get(each, each) for each in key], "the primary key")
            for key in [_listed(self.schema.get("primaryKey"))] if key
        ]  # fmt: skip
        about = self.table.get("dc:description")
        return Proposal(
            table, notes, columns, files, layout, load, keys, list(self.references(names)),
            about if isinstance(about, str) else "",
        )  # fmt: skip

    def file(self, url: str) -> str:
        """A file that is named from the metadata on, as the workspace names it."""
        parts = urlsplit(url)
        if parts.scheme or parts.netloc:
            self.left.append(f"the place of the file, {url}")
            return unquote(parts.path).rpartition("/")[2]
        there = Path(os.path.normpath(self.path.resolve().parent / unquote(parts.path)))
        return there.relative_to(self.root).as_posix() if there.is_relative_to(self.root) else str(there)

    def dialect(self) -> None:
        given = self.table.get("dialect", self.group.get("dialect", {}))
        if not isinstance(given, dict):
            self.left.append("a dialect kept in another file")
            return
        layout = self.layout
        for key, ours in (("delimiter", "delimiter"), ("encoding", "encoding"), ("commentPrefix", "comment")):
            if given.get(key):
                layout[ours] = given[key]
        if "quoteChar" in given:
            layout["quote"] = given["quoteChar"] or ""
        if given.get("doubleQuote") is False and layout.get("quote", '"'):
            layout["escape"] = "\\"
        rows = given.get("headerRowCount", 1 if given.get("header", True) else 0)
        layout["header"] = int(rows) + int(given.get("skipRows", 0)) if rows else 0
        if not rows and given.get("skipRows"):
            self.left.append("rows that are skipped where there is no header")
        self.untaken(given)
        self.nulls()

    def untaken(self, given: Mapping[str, Any]) -> None:
        """What a dialect says of white space, columns and line ends, as far as a layout has it."""
        if given.get("trim") in {True, "true"}:
            self.layout["trim"] = True
        elif given.get("trim") in {"start", "end"} or given.get("skipInitialSpace"):
            self.left.append("trimming at one end alone")
        if given.get("skipColumns"):
            self.left.append("columns that are skipped")
        if set(_listed(given.get("lineTerminators"))) - {"\r\n", "\n", "\r"}:
            self.left.append("line ends other than CR and LF")

    def nulls(self) -> None:
        """The words that are null in all columns; in the others, such a word would be a value that vanishes."""
        columns = [each for each in self.schema["columns"] if isinstance(each, dict) and not each.get("virtual")]
        words = {str(each.get("name") or _title(each)): _listed(self.inherited(each, "null", "")) for each in columns}
        common = [word for word in next(iter(words.values()), [""]) if all(word in other for other in words.values())]
        self.layout["null_words"] = common
        for name, own in words.items():
            more = [repr(word) for word in own if word not in common]
            if more:
                self.left.append(f"{', '.join(more)} for null ({name}): a layout has null words for all columns alone")

    def inherited(self, column: Any, key: str, default: Any = None) -> Any:
        """A property of a column, or of what it is in."""
        for each in (column, self.schema, self.table, self.group):
            if isinstance(each, dict) and key in each:
                return each[key]
        return default

    def column(self, column: dict[str, Any], plain: str, header: str) -> ProposedColumn:
        datatype = self.inherited(column, "datatype", "string")
        facets: dict[str, Any] = datatype if isinstance(datatype, dict) else {"base": datatype}
        base = str(facets.get("base", "string"))
        kind, comment = self.kind(base, facets)
        keys: list[tuple[str, Any, str]] = [("kind", kind, comment)]
        if self.layout["header"] and header != plain:
            keys.append(("from", header, ""))
        if self.inherited(column, "required") is True:
            keys.append(("blank", "never", "it is required"))
        bounds = self.bounds(kind, base, facets)
        if bounds:
            keys.append(("between", bounds, ""))
        keys += self.words(kind, facets)
        if isinstance(column.get("dc:description"), str):
            keys.append(("about", column["dc:description"], ""))
        for key, told in (("separator", "lists of values in one field"), ("default", "values for blanks")):
            if self.inherited(column, key):
                self.left.append(f"{told} ({plain})")
        return ProposedColumn(plain, keys)

    def kind(self, base: str, facets: Mapping[str, Any]) -> tuple[str, str]:
        """The kind of a datatype, the layout's forms for it, and a word on what is a guess."""
        name = BASES.get(base)
        if name is None:
            return "text", f"the metadata says {base}, for which there is no kind"
        if name == "text":
            longest = facets.get("maxLength", facets.get("length"))
            return (f"text({int(longest)})", "") if longest else ("text", "")
        form = facets.get("format")
        if base == "unsignedLong":
            return "decimal(20,0)", "unsigned, which 64 bits may not hold"
        if name in {"integer", "decimal", "real"}:
            return self.number(name, form if isinstance(form, dict) else {"pattern": form})
        if name == "boolean":
            yes, _, no = str(form or "true|false").partition("|")
            if not self.agreed(true_words=[yes], false_words=[no]):
                return "text", f"boolean in the form {form}, which the other columns do not have"
            return name, ""
        return self.moment(name, form)

    def agreed(self, **wanted: Any) -> bool:
        """Declare these of the layout, unless another column has declared otherwise: a layout is for all of them."""
        if any(self.layout.get(key, value) != value for key, value in wanted.items()):
            return False
        self.layout |= wanted
        return True

    def number(self, name: str, form: Mapping[str, Any]) -> tuple[str, str]:
        pattern = form.get("pattern")
        signs = {"decimal_sign": form.get("decimalChar") or "."}
        if form.get("groupChar") or (isinstance(pattern, str) and "," in pattern):
            signs["thousands_sign"] = form.get("groupChar") or ","
        usual = {key: getattr(Layout(), key) for key in signs}
        if (signs != usual or name != "integer") and not self.agreed(**signs):
            return "text", f"{name} with the signs {' and '.join(signs.values())}, which the other columns do not have"
        if name != "decimal":
            return name, ""
        places = re.search(r"\.([0#,]+)", pattern) if isinstance(pattern, str) else None
        if places:
            scale = len(places[1].replace(",", ""))
            return f"decimal({min(38, 16 + scale)},{scale})", "a guess: the metadata says no number of digits"
        return "decimal(38,10)", "a guess: the metadata says no number of digits and places"

    def moment(self, name: str, form: Any) -> tuple[str, str]:
        key = {"date": "date_forms", "time": "time_forms"}.get(name, "timestamp_forms")
        if not isinstance(form, str):
            return name, ""
        found = forms_of(form)
        if found is None:
            return "text", f"{name} in the form {form}, which no layout can be told"
        forms, zoned = found
        if any(_alike(each, other) for each in forms for other in self.layout.get(key, [])):
            return "text", f"{name} in the form {form}, which could be read as another column's"
        if any("%y" in each for each in forms):
            self.layout.setdefault("two_digit_years_from", 1950)
        for each in forms:
            self.add(key, each)
        return ("timestamptz" if zoned and name == "timestamp" else name), ""

    def add(self, key: str, value: str) -> None:
        known = self.layout.setdefault(key, [])
        if value and value not in known:
            known.append(value)

    def bounds(self, kind: str, base: str, facets: Mapping[str, Any]) -> list[Any]:
        low, high = BOUNDS.get(base, ("", ""))
        low = facets.get("minimum", facets.get("minInclusive", low))
        high = facets.get("maximum", facets.get("maxInclusive", high))
        if {"minExclusive", "maxExclusive"} & set(facets):
            self.left.append("exclusive bounds")
        sides = [low, high]
        if kind.startswith(("integer", "decimal", "real")):
            sides = [_number(side) for side in sides]
        return [] if sides == ["", ""] else sides

    def words(self, kind: str, facets: Mapping[str, Any]) -> Iterator[tuple[str, Any, str]]:
        """The least length of a text, and a pattern, or its only values."""
        form = facets.get("format")
        if not kind.startswith("text"):
            return
        exactly, least = facets.get("length"), facets.get("minLength")
        if exactly:
            yield "length", int(exactly), ""
        elif least:
            yield "length", [int(least), ""], ""
        if not isinstance(form, str) or facets.get("base", "string") not in BASES:
            return
        listed = form.removeprefix("^").removesuffix("$").removeprefix("(").removesuffix(")").split("|")
        if all(re.fullmatch(r"[\w -]+", word) for word in listed):
            yield "among", listed, ""
            return
        try:
            parse_pattern(form)
        except (NomothetaError, ValueError):
            self.left.append(f"the pattern {form}")
            return
        yield "pattern", form, ""

    def references(self, names: Mapping[str, str]) -> Iterator[tuple[list[str], str]]:
        for key in self.schema.get("foreignKeys", []):
            target = key.get("reference", {}) if isinstance(key, dict) else {}
            resource = target.get("resource") or target.get("schemaReference")
            if not isinstance(resource, str):
                self.left.append("a foreign key that names no resource")
                continue
            there = ", ".join(column_name(each, []) for each in _listed(target.get("columnReference")))
            here = [names.get(each, each) for each in _listed(key.get("columnReference"))]
            yield here, f"{_stem({'url': resource})}({there})"


def _alike(form: str, other: str) -> bool:
    """Whether a text could have both of two forms that are not the same."""
    shapes = [re.sub(r"%-?[mdyHIMS]", "00", each).replace("%b", "%B") for each in (form, other)]
    return form != other and shapes[0] == shapes[1]


def _title(column: Mapping[str, Any]) -> str:
    """What the header says of a column: its first title, or its name."""
    titles = column.get("titles", column.get("name"))
    if isinstance(titles, dict):
        titles = next(iter(titles.values()), None)
    if isinstance(titles, list):
        titles = titles[0] if titles else None
    return titles if isinstance(titles, str) else str(column.get("name") or "")


def _listed(value: Any) -> Sequence[str]:
    return [str(each) for each in value] if isinstance(value, list) else [] if value is None else [str(value)]


def _number(value: Any) -> Any:
    if not isinstance(value, str) or not value:
        return value
    return int(value) if re.fullmatch(r"[+-]?\d+", value) else float(value)
