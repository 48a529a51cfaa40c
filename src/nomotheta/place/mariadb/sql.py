"""What MariaDB says differently: conditions, fingerprints, and the names of kinds.

The session takes names in double quotes, backslashes as they are and || as SQL does; see `place.mariadb.place`.
"""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from typing import Any, ClassVar

from nomotheta.conditions import Kind, Node, quoted, render_pattern
from nomotheta.errors import PlaceError
from nomotheta.layout import WHITE_SPACE
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.render import PRINTABLE, Renderer, number_bounds, number_shape, text_literal

COLLATION = "utf8mb4_nopad_bin"
_LONGEST_VARCHAR = 16_000  # characters that a row of such a column can always hold
_CASTS = {"integer": "SIGNED", "real": "DOUBLE", "text": "CHAR", "boolean": "SIGNED", "timestamp": "DATETIME(6)",
          "timestamptz": "DATETIME(6)", "time": "TIME(6)"}  # fmt: skip


def by_code_point(sql: str) -> str:
    """A text that is compared by code point, capitals, accents and spaces at its end included."""
    return f"(CONVERT({sql} USING utf8mb4) COLLATE {COLLATION})"


def printable(text: str) -> str:
    """The condition that a text begins with a plain letter, which says at once that no white space is there."""
    return f"ascii({text}) BETWEEN {PRINTABLE[0]} AND {PRINTABLE[1]}"


class MariaRenderer(Renderer):
    """Conditions as MariaDB's SQL."""

    wide_decimals: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self._by_op["is distinct"] = lambda node: f"(NOT {self.render(node.args[0])} <=> {self.render(node.args[1])})"
        self._by_op["extract"] = self.extract

    def column(self, node: Node) -> str:
        """A column of the table; a text is compared by code point."""
        name = super().column(node)
        return by_code_point(name) if node.kind.name == "text" else name

    def whole(self, sql: str) -> str:
        """As a whole number of 64 bits."""
        return f"CAST({sql} AS SIGNED)"

    def type_name(self, kind: Kind) -> str:
        """The name of a kind in a cast."""
        return _CASTS.get(kind.name) or mariadb_type(kind)

    def moment(self, value: Any) -> str:
        """A date, time, timestamp or uuid as a literal; an instant in UTC, as the session is."""
        if isinstance(value, datetime.datetime):
            utc = value.astimezone(datetime.UTC).replace(tzinfo=None) if value.tzinfo else value
            return f"CAST('{utc.isoformat(' ')}' AS DATETIME(6))"
        name = {datetime.date: "DATE", datetime.time: "TIME(6)"}.get(type(value), "UUID")
        return f"CAST('{value}' AS {name})"

    def match(self, node: Node) -> str:
        """A regular expression."""
        part, full = node.value
        return f"({self.render(node.args[0])} REGEXP {text_literal(render_pattern(part, 'pcre', full=full))})"

    def shift(self, node: Node) -> str:
        """A date or timestamp moved by days or by an interval."""
        moment, by = node.args
        amount, unit = (self.render(by), "DAY") if by.kind.name == "integer" else by.value
        return f"({self.render(moment)} {node.value} INTERVAL {amount} {unit.upper()})"

    def later(self, node: Node) -> str:
        """A moment so many seconds later."""
        return f"({self.render(node.args[0])} + INTERVAL {self.render(node.args[1])} SECOND)"

    def chop(self, node: Node) -> str:
        """A text without its last letters, of which it has so many."""
        text = self.render(node.args[0])
        return f"left({text}, char_length({text}) - {node.value})"

    def span(self, node: Node) -> str:
        """The microseconds from the right moment to the left."""
        return f"timestampdiff(MICROSECOND, {self.render(node.args[1])}, {self.render(node.args[0])})"

    def at_zone(self, _node: Node) -> str:
        """It may know no zones: the embedded engine judges such conditions; none can say which rows are replaced.

        Raises:
            PlaceError: always.
        """
        raise PlaceError("MariaDB does not know by itself which local time an instant is", mend="compare instants")

    def percentile(self, name: str, share: str, value: str) -> str:
        """It has percentiles only beside each row.

        Raises:
            PlaceError: always; such conditions are judged by the embedded engine.
        """
        raise PlaceError(f"MariaDB has no {name} of all rows: {share} of {value}")

    def days(self, node: Node) -> str:
        """The days from the right date to the left."""
        return f"datediff({self.render(node.args[0])}, {self.render(node.args[1])})"

    def cast(self, node: Node) -> str:
        """A cast; text that is not a number becomes null, not an error."""
        of, kind = node.args[0], node.value
        inner = self.render(of)
        if of.kind.name == "text" and kind.name in {"integer", "decimal"}:
            shape = number_shape(kind).removesuffix("$") + "\\z"
            wide = f"CAST({inner} AS DECIMAL(65,{kind.scale}))"  # which clamps only what is beyond all kinds
            held = f"{inner} REGEXP '{shape}' AND {wide} BETWEEN {number_bounds(kind)}"
            return f"(CASE WHEN {held} THEN CAST({wide} AS {self.type_name(kind)}) END)"
        if of.kind.name == "boolean" and kind.name == "integer":
            return f"(CASE WHEN {inner} THEN 1 WHEN NOT {inner} THEN 0 END)"
        if of.kind.name == kind.name == "text":
            return inner
        if kind.name == "text" and of.kind.name == "decimal":
            inner = f"CAST({inner} AS DECIMAL({of.kind.size},{of.kind.scale}))"
        cast = super().cast(node) if kind.name != "text" else f"CAST({inner} AS CHAR)"
        return by_code_point(cast) if kind.name == "text" else cast

    def extract(self, node: Node) -> str:
        """A part of a date or timestamp."""
        inner = self.render(node.args[0])
        own = {
            "isodow": f"(weekday({inner}) + 1)", "week": f"week({inner}, 3)",
            "isoyear": f"(yearweek({inner}, 3) DIV 100)",
        }  # fmt: skip
        return own.get(node.value, f"extract({node.value.upper()} FROM {inner})")

    def several(self, values: Sequence[str], which: str) -> str:
        """Values that are counted together: the rows that have all of them."""
        return ", ".join(f"CASE WHEN {which} THEN {value} END" for value in values) if which else ", ".join(values)

    def call(self, node: Node) -> str:
        """A function; replace gives null where any part is null."""
        if node.value == "replace":
            text, old, new = map(self.render, node.args)
            return f"(CASE WHEN {old} IS NOT NULL AND {new} IS NOT NULL THEN replace({text}, {old}, {new}) END)"
        return super().call(node)

    def length(self, node: Node) -> str:
        """Characters of a text."""
        return f"char_length({self.render(node.args[0])})"

    def position(self, node: Node) -> str:
        """Where a text is in another, from 1; 0 where it is not."""
        needle, text = map(self.render, node.args)
        return f"locate({needle}, {text})"

    def trim(self, node: Node) -> str:
        """Without white space at either end; only texts that may have some are looked through."""
        edges, value = text_literal(f"^[{WHITE_SPACE}]+|[{WHITE_SPACE}]+\\z"), self.render(node.args[0])
        plain = f"{printable(value)} AND {printable(f'right({value}, 1)')}"
        return f"(CASE WHEN {plain} THEN {value} ELSE regexp_replace({value}, {edges}, '') END)"

    def not_blank(self, node: Node) -> str:
        """Neither null, nor empty, nor only white space."""
        value = self.render(node.args[0])
        whole = f"coalesce({value} REGEXP {text_literal(f'[^{WHITE_SPACE}]')}, FALSE)"
        return f"(CASE WHEN {printable(value)} THEN TRUE ELSE {whole} END)"


_CHARSET = "utf8mb4"


class MariaFingerprint(Fingerprint):
    """The fingerprint as MariaDB's SQL."""

    def row_hash(self, kinds: Any) -> str:
        """The hash of a row."""
        return f"CAST(conv(left(md5({self.row_text(kinds)}), 16), 16, 10) AS UNSIGNED)"

    def hash_sum(self, kinds: Any) -> str:
        """The sum of the rows' hashes modulo 2^64."""
        return f"mod(coalesce(sum({self.row_hash(kinds)}), 0), 18446744073709551616)"

    def bucket(self, kinds: Any, buckets: int) -> str:
        """Which bucket a row belongs to."""
        return f"({self.row_hash(kinds)} % {buckets})"

    def octets(self, column: str) -> str:
        """The length of a text in bytes of UTF-8."""
        return f"octet_length({column})"

    def characters(self, column: str) -> str:
        """The length of a text in characters."""
        return f"char_length({column})"

    def text(self, column: str) -> str:
        """A value as a text."""
        return f"CAST({column} AS CHAR)"

    def joined(self, parts: Sequence[str]) -> str:
        """Texts as one, none of which is null; the numbers among them are texts of UTF-8 too."""
        return f"convert(concat({', '.join(parts)}) USING utf8mb4)"

    def cell_text(self, name: str, kind: Kind) -> str:
        """One cell's part of a row's text."""
        column = quoted(name)
        if kind.name == "text":
            if getattr(self._columns.get(column), "charset", "") != _CHARSET:
                column = f"convert({column} USING utf8mb4)"
            return f"ifnull({self.octets(column)}, ''), ':', ifnull({column}, '')"
        return f"ifnull({self.canonical(column, kind)}, ''), '|'"

    def canonical(self, column: str, kind: Kind) -> str:
        """A value as its canonical text."""
        match kind.name:
            case "date":
                return column
            case "boolean":  # which may hold more than two values
                return f"({column} + 0)"
            case "time" | "timestamp" | "timestamptz":
                if self._type(column) in {"time", "datetime", "timestamp"}:  # whole seconds
                    return column
                whole = 8 if kind.name == "time" else 19
                return (
                    f"if(microsecond({column}) = 0, left({column}, {whole}), trim(TRAILING '0' FROM {column}))"
                )  # fmt: skip
            case "uuid":
                return f"lower(CAST({column} AS CHAR))"
        return super().canonical(column, kind)

    def cast_number(self, column: str, kind: Kind) -> str:
        """A number that is one of its kind."""
        held = getattr(self._columns.get(column), "kind", None)
        if held is not None and held.name == kind.name and held.scale == kind.scale:
            return column
        return f"CAST({column} AS SIGNED)" if kind.name == "integer" else super().cast_number(column, kind)

    def _type(self, column: str) -> str:
        return getattr(self._columns.get(column), "type_name", "")

    def finite(self, double: str) -> str:
        """All its doubles are numbers."""
        return f"{double} IS NOT NULL"

    def odd(self, _double: str) -> str:
        """It has none."""
        return "NULL"

    def in_halves(self, number: str) -> tuple[str, str]:
        """What comes before the `e` of a number's text, and the whole number behind it."""
        behind = f"if(locate('e', {number}) = 0, 0, CAST(substring_index({number}, 'e', -1) AS INTEGER))"
        return f"substring_index({number}, 'e', 1)", behind

    def point(self, text: str) -> str:
        """Where the point is in a text, from 1; 0 where there is none."""
        return f"locate('.', {text})"

    def without_zeros(self, text: str, side: str) -> str:
        """A text without the zeros at its left or right end."""
        return f"trim({'TRAILING' if side == 'right' else 'LEADING'} '0' FROM {text})"


def mariadb_type(kind: Kind) -> str:
    """MariaDB's name for a kind."""
    if kind.name == "decimal":
        return f"DECIMAL({kind.size},{kind.scale})"
    if kind.name == "text":
        return f"VARCHAR({kind.size})" if kind.size and kind.size <= _LONGEST_VARCHAR else "LONGTEXT"
    return {
        "integer": "BIGINT", "real": "DOUBLE", "timestamp": "DATETIME(6)", "timestamptz": "TIMESTAMP(6)",
        "time": "TIME(6)", "binary": "LONGBLOB",
    }.get(kind.name, kind.name.upper())  # fmt: skip
