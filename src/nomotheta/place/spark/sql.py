"""What Spark SQL says differently: conditions, fingerprints, literals, and the names of kinds.

The session keeps to ANSI SQL, takes names in double quotes, and is in UTC; see `place.spark.place`.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from nomotheta.conditions import Kind, Node, quoted, render_pattern
from nomotheta.layout import WHITE_SPACE
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.render import PRINTABLE, Renderer, number_shape, text_literal

# the functions by which workers write a real as fingerprints have it, and know the clocks of zones
REAL_TEXT, BEHIND = "nomotheta_real", "nomotheta_behind"
SETTINGS = {
    "spark.sql.ansi.enabled": "true", "spark.sql.ansi.doubleQuotedIdentifiers": "true",
    "spark.sql.session.timeZone": "UTC", "spark.sql.variable.substitute": "false",
    "spark.sql.parser.escapedStringLiterals": "false", "spark.sql.legacy.consecutiveStringLiterals.enabled": "false",
    "spark.sql.decimalOperations.allowPrecisionLoss": "false",  # which would round, and say nothing
    "spark.sql.files.ignoreMissingFiles": "false", "spark.sql.files.ignoreCorruptFiles": "false",
    # steps that build on each other would be worked out once for each time that they are named
    "spark.sql.optimizer.excludedRules": "org.apache.spark.sql.catalyst.optimizer.CollapseProject",
    # its parser remembers every turn of the statements it has read, until the server's memory is full
    "spark.sql.parser.manageParserCaches": "true", "spark.sql.parser.parserDfaCacheFlushThreshold": "20000",
    "spark.sql.parquet.datetimeRebaseModeInRead": "CORRECTED", "spark.sql.parquet.int96RebaseModeInRead": "CORRECTED",
}  # fmt: skip
_EVERY_WHOLE = "9007199254740992"  # from here on, every double is a whole number
_WIDEST = 19  # digits of a whole number of 64 bits
_TOKENS = re.compile(r"--[^\n]*|/\*.*?\*/|'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"", re.DOTALL)
_FIELDS = {"isodow": "DAYOFWEEK_ISO", "isoyear": "YEAROFWEEK"}


def as_spark(sql: str) -> str:
    """A statement of standard SQL, in whose literals a backslash is one, as Spark reads it."""
    return _TOKENS.sub(lambda found: found[0].replace("\\", "\\\\") if found[0][0] == "'" else found[0], sql)


def by_code_point(sql: str) -> str:
    """A text that is compared by code point, whatever its column's collation."""
    return f"({sql} COLLATE UTF8_BINARY)"


class SparkRenderer(Renderer):
    """Conditions as Spark SQL."""

    def __post_init__(self) -> None:
        super().__post_init__()
        self._by_op["extract"] = self.extract
        self._by_op["behind"] = self.behind

    def column(self, node: Node) -> str:
        """A column of the table; a text is compared by code point."""
        name = super().column(node)
        return by_code_point(name) if node.kind.name == "text" else name

    def type_name(self, kind: Kind) -> str:
        """Spark's name for a kind."""
        return spark_type(kind)

    def moment(self, value: Any) -> str:
        """A date, time, timestamp or uuid as a literal."""
        if isinstance(value, datetime.datetime):
            return f"CAST('{value.isoformat(' ')}' AS TIMESTAMP{'' if value.tzinfo else '_NTZ'})"
        return f"CAST('{value}' AS {'DATE' if isinstance(value, datetime.date) else 'STRING'})"

    def at_zone(self, node: Node) -> str:
        """The local time of an instant."""
        utc = f"CAST({self.render(node.args[0])} AS TIMESTAMP_NTZ)"
        return f"convert_timezone('UTC', {text_literal(self.zone_of(node))}, {utc})"

    def behind(self, node: Node) -> str:
        """By how many seconds UTC is ahead of a local time of a zone, by a function: the tree takes long to read."""
        return f"{BEHIND}({text_literal(node.value)}, unix_micros({self.render(node.args[0])}))"

    def span(self, node: Node) -> str:
        """The microseconds from the right moment to the left."""
        return f"timestampdiff(MICROSECOND, {self.render(node.args[1])}, {self.render(node.args[0])})"

    def extract(self, node: Node) -> str:
        """A part of a date or timestamp, as a whole number."""
        found = f"extract({_FIELDS.get(node.value, node.value)} FROM {self.render(node.args[0])})"
        return self.whole(f"floor({found})" if node.value == "second" else found)

    def match(self, node: Node) -> str:
        """A regular expression."""
        part, full = node.value
        return f"({self.render(node.args[0])} RLIKE {text_literal(render_pattern(part, 'java', full=full))})"

    def later(self, node: Node) -> str:
        """A moment so many seconds later."""
        seconds = f"CAST({self.render(node.args[1])} AS DECIMAL(18,6))"
        return f"({self.render(node.args[0])} + make_dt_interval(0, 0, 0, {seconds}))"

    def chop(self, node: Node) -> str:
        """A text without its last letters, of which it has so many."""
        text = self.render(node.args[0])
        return f"left({text}, char_length({text}) - {node.value})"

    def days(self, node: Node) -> str:
        """The days from the right date to the left."""
        return self.whole(f"datediff({self.render(node.args[0])}, {self.render(node.args[1])})")

    def cast(self, node: Node) -> str:
        """A cast; text that is not a number becomes null, not an error."""
        of, kind = node.args[0], node.value
        if of.kind.name == "text" and kind.name in {"integer", "decimal"}:
            inner = self.render(of)
            shape = number_shape(kind).removesuffix("$") + "\\z"
            shaped = f"CASE WHEN {inner} RLIKE '{shape}' THEN {inner} END"
            return f"TRY_CAST({shaped} AS {self.type_name(kind)})"
        if kind.name == "uuid":  # which Spark keeps as the text that it is
            return f"lower({self.render(of)})"
        if kind.name == "text" and of.kind.name == "decimal":
            held = self.type_name(Kind("decimal", of.kind.size, of.kind.scale))
            return f"CAST(CAST({self.render(of)} AS {held}) AS STRING)"
        return super().cast(node)

    def call(self, node: Node) -> str:
        """A function; of a real, Spark's floor and ceil are whole numbers of 64 bits, whatever it was."""
        if node.value in {"floor", "ceil"} and node.kind.name == "real":
            return _real_rounded(node.value, self.render(node.args[0]))
        return super().call(node)

    def length(self, node: Node) -> str:
        """Characters of a text."""
        return self.whole(f"char_length({self.render(node.args[0])})")

    def position(self, node: Node) -> str:
        """Where a text is in another, from 1; 0 where it is not."""
        needle, text = map(self.render, node.args)
        return self.whole(f"position({needle} IN {text})")

    def round(self, node: Node) -> str:
        """Rounded half away from zero."""
        if node.kind.name != "real":
            return super().round(node)
        value, places = self.render(node.args[0]), int(node.args[1].value) if len(node.args) == 2 else 0
        scale = self.real(f"1e{places}")
        up = f"{_real_rounded('floor', f'(abs({value}) * {scale} + 0.5D)')} / {scale}"
        return f"(CASE WHEN {value} >= 0 THEN {up} ELSE - ({up}) END)"

    def trim(self, node: Node) -> str:
        """Without white space at either end; only texts that may have some are looked through."""
        value = self.render(node.args[0])
        edges = f"{_printable(value)} AND {_printable(f'right({value}, 1)')}"
        return f"(CASE WHEN {edges} THEN {value} ELSE {_trimmed(value)} END)"

    def not_blank(self, node: Node) -> str:
        """Neither null, nor empty, nor only white space."""
        value = self.render(node.args[0])
        return f"(CASE WHEN {_printable(value)} THEN TRUE ELSE coalesce({_trimmed(value)} <> '', FALSE) END)"

    def several(self, values: Sequence[str], which: str) -> str:
        """Values that are counted together: the rows that have all of them."""
        return super().several(values, which).replace("ROW(", "struct(", 1)

    def aggregate(self, node: Node) -> str:
        """An aggregate over all rows; whole numbers are added up as decimals, which 64 bits may not hold."""
        of = node.args[0].kind.name if node.args else ""
        if node.value.name in {"sum", "avg"} and of in {"integer", "duration"}:
            wide = Node("promote", [node.args[0]], kind=Kind("decimal", _WIDEST, 0))
            return super().aggregate(replace(node, args=[wide, *node.args[1:]]))
        return super().aggregate(node)

    @staticmethod
    def quantiles(column: str, shares: Sequence[float]) -> str:
        """The values of a column below which shares of all lie, as a list."""
        each = [f"percentile_disc({share}) WITHIN GROUP (ORDER BY {column})" for share in shares]
        return f"array({', '.join(each)})"


def _real_rounded(name: str, value: str) -> str:
    """A real rounded by a function, as a real; one that is beyond all fractions is whole already."""
    return f"(CASE WHEN abs({value}) < {_EVERY_WHOLE}D THEN CAST({name}({value}) AS DOUBLE) ELSE {value} END)"


def _printable(text: str) -> str:
    return f"ascii({text}) BETWEEN {PRINTABLE[0]} AND {PRINTABLE[1]}"


def _trimmed(text: str) -> str:
    return f"trim(BOTH {text_literal(WHITE_SPACE)} FROM {text})"


class SparkFingerprint(Fingerprint):
    """The fingerprint as Spark SQL."""

    def row_hash(self, kinds: Any) -> str:
        """The hash of a row."""
        return f"CAST(conv(left(md5(CAST({self.row_text(kinds)} AS BINARY)), 16), 16, 10) AS DECIMAL(20,0))"

    def hash_sum(self, kinds: Any) -> str:
        """The sum of the rows' hashes modulo 2^64."""
        return f"(coalesce(sum({self.row_hash(kinds)}), 0) % CAST(18446744073709551616 AS DECIMAL(30,0)))"

    def bucket(self, kinds: Any, buckets: int) -> str:
        """Which bucket a row belongs to."""
        return f"CAST({self.row_hash(kinds)} % {buckets} AS INTEGER)"

    def octets(self, column: str) -> str:
        """The length of a text in bytes of UTF-8."""
        return f"octet_length(CAST({column} AS STRING))"

    def characters(self, column: str) -> str:
        """The length of a text in characters."""
        return f"char_length({column})"

    def sum(self, column: str, kind: Kind) -> str:
        """What the numbers of a column come to; those of 64 bits need not come to one."""
        return f"sum(CAST({column} AS DECIMAL({_WIDEST},0)))" if kind.name == "integer" else f"sum({column})"

    def text(self, column: str) -> str:
        """A value as a text."""
        return f"CAST({column} AS STRING)"

    def joined(self, parts: Sequence[str]) -> str:
        """Texts as one, nulls as nothing."""
        return f"concat_ws('', {', '.join(map(self.text, parts))})"

    def cell_text(self, name: str, kind: Kind) -> str:
        """One cell's part of a row's text."""
        column = quoted(name)
        if kind.name == "text":
            return self.joined([self.octets(column), "':'", column])
        return self.joined([self.canonical(column, kind), "'|'"])

    def canonical(self, column: str, kind: Kind) -> str:
        """A value as its canonical text."""
        match kind.name:
            case "timestamptz":
                return self.text(column)
            case "uuid":
                return f"lower(CAST({column} AS STRING))"
        return super().canonical(column, kind)

    def real(self, column: str) -> str:
        """By a function of our own: the digits that Java writes are not always the fewest."""
        return f"{REAL_TEXT}(CAST({column} AS DOUBLE))"


def spark_type(kind: Kind) -> str:
    """Spark's name for a kind."""
    if kind.name == "decimal":
        return f"DECIMAL({kind.size},{kind.scale})"
    return {
        "text": "STRING", "integer": "BIGINT", "real": "DOUBLE", "timestamptz": "TIMESTAMP",
        "timestamp": "TIMESTAMP_NTZ", "uuid": "STRING", "time": "STRING",
    }.get(kind.name, kind.name.upper())  # fmt: skip
