"""What PostgreSQL says differently: conditions, fingerprints, and the names of kinds."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from typing import Any, ClassVar

from nomotheta.conditions import Kind, Node, fixed_runs, quoted, render_pattern
from nomotheta.layout import WHITE_SPACE
from nomotheta.place.fingerprint import Fingerprint
from nomotheta.place.render import PRINTABLE, Renderer, number_bounds, number_shape, text_literal

_SURE = 18  # characters of a whole number that surely fit 64 bits
_MOST_ARGUMENTS = 50  # of one call; PostgreSQL takes a hundred


class PostgresRenderer(Renderer):
    """Conditions as PostgreSQL's SQL. Text is compared by code point, by the collation "C"."""

    wide_decimals: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self._by_op["quickly"] = lambda node: f"({self.render(node.args[0])} OR {self.render(node.args[1])})"
        self._by_op["extract"] = lambda node: self.whole(
            f"floor(extract({node.value} FROM {self.render(node.args[0])}))"
        )

    def column(self, node: Node) -> str:
        """A column of the table; a text without its padding, and compared by code point."""
        name = super().column(node)
        return f'(CAST({name} AS TEXT) COLLATE "C")' if node.kind.name == "text" else name

    def real(self, sql: str) -> str:
        """As a double."""
        return f"CAST({sql} AS DOUBLE PRECISION)"

    def type_name(self, kind: Kind) -> str:
        """The database's name for a kind; a text in a condition has no greatest length."""
        return "TEXT" if kind.name == "text" else postgres_type(kind)

    def promote(self, node: Node) -> str:
        """A narrower kind as a wider one; a numeric has digits enough as it is, and whole numbers become one."""
        if node.kind.name == "decimal" and node.args[0].kind.name in {"integer", "decimal"}:
            return self.render(node.args[0])
        return super().promote(node)

    def moment(self, value: Any) -> str:
        """A date, time, timestamp or uuid as a literal."""
        if isinstance(value, datetime.datetime):
            return f"CAST('{value.isoformat(' ')}' AS TIMESTAMP{'TZ' if value.tzinfo else ''})"
        return super().moment(value)

    def match(self, node: Node) -> str:
        """A regular expression."""
        part, full = node.value
        runs = fixed_runs(part) if full and node.args[0].op == "column" else None
        if runs is not None:
            return self.of_fixed_runs(self.render(node.args[0]), runs)
        return f"({self.render(node.args[0])} ~ {text_literal(render_pattern(part, 'postgresql', full=full))})"

    def later(self, node: Node) -> str:
        """A moment so many seconds later."""
        return f"({self.render(node.args[0])} + {self.render(node.args[1])} * INTERVAL '1 second')"

    def unhex(self, node: Node) -> str:
        """The bytes that a text of hexadecimal digits spells."""
        return f"decode({self.render(node.args[0])}, 'hex')"

    def span(self, node: Node) -> str:
        """The microseconds from the right moment to the left."""
        between = f"{self.render(node.args[0])} - {self.render(node.args[1])}"
        return self.whole(f"(extract(epoch FROM ({between})) * 1000000)")

    @staticmethod
    def quantiles(column: str, shares: Sequence[float]) -> str:
        """The values of a column below which shares of all lie, as a list."""
        listed = ", ".join(map(str, shares))
        return f"CAST(to_json(percentile_disc(ARRAY[{listed}]::float8[]) WITHIN GROUP (ORDER BY {column})) AS TEXT)"

    def of_fixed_runs(self, value: str, runs: Sequence[tuple[str, int]]) -> str:
        """A text of so many characters of some sets, one after the other: twice as fast as the pattern."""
        parts, at = [f"length({value}) = {sum(count for _, count in runs)}"], 1
        for letters, count in runs:
            piece = f"substr({value}, {at}, {count})"
            one = letters * count if len(letters) == 1 else None
            parts.append(f"{piece} = {text_literal(one)}" if one else f"btrim({piece}, {text_literal(letters)}) = ''")
            at += count
        return f"({' AND '.join(parts)})"

    def days(self, node: Node) -> str:
        """The days from the right date to the left, as a whole number of 64 bits."""
        return self.whole(f"({self.render(node.args[0])} - {self.render(node.args[1])})")

    def cast(self, node: Node) -> str:
        """A cast; text that is not a number becomes null, not an error."""
        of, kind = node.args[0], node.value
        inner = self.render(of)
        if of.kind.name == "text" and kind.name in {"integer", "decimal"}:
            number = f"CAST({inner} AS numeric)"
            name, few = self.type_name(kind), _SURE if kind.name == "integer" else kind.digits - kind.scale
            far = f"WHEN {number} BETWEEN {number_bounds(kind)} THEN CAST({number} AS {name})"
            near = f"WHEN length({inner}) <= {few} THEN CAST({inner} AS {name}) " if of.op != "string" else ""
            held = f"CASE {near}{far} END"
            return f"(CASE WHEN {inner} ~ '{number_shape(kind)}' THEN {held} END)"
        if of.kind.name == "boolean" and kind.name == "integer":
            return f"(CASE WHEN {inner} THEN 1 WHEN NOT {inner} THEN 0 END)"
        return super().cast(node)

    def call(self, node: Node) -> str:
        """A function; letters change case by Unicode, whatever the database's own locale."""
        if node.value in {"lower", "upper"}:
            value = self.render(node.args[0])
            plain = f"WHEN octet_length({value}) = length({value}) THEN {node.value}({value})"  # thrice as fast
            return f'(CASE {plain} ELSE {node.value}({value} COLLATE "und-x-icu") COLLATE "C" END)'
        return super().call(node)

    def position(self, node: Node) -> str:
        """Where a text is in another, from 1; 0 where it is not."""
        needle, text = map(self.render, node.args)
        return f"position({needle} IN {text})"

    def trim(self, node: Node) -> str:
        """Without white space at either end."""
        value = self.render(node.args[0])
        plain = f"{self.printable(value)} AND {self.printable(f'right({value}, 1)')}"
        return f"(CASE WHEN {plain} THEN {value} ELSE btrim({value}, {text_literal(WHITE_SPACE)}) END)"

    def printable(self, value: str) -> str:
        """The condition that a text begins with a plain letter, which says at once that no white space is there."""
        return f"ascii({value}) BETWEEN {PRINTABLE[0]} AND {PRINTABLE[1]}"

    def not_blank(self, node: Node) -> str:
        """Neither null, nor empty, nor only white space."""
        value = self.render(node.args[0])
        whole = f"coalesce(btrim({value}, {text_literal(WHITE_SPACE)}) <> '', FALSE)"
        return f"(CASE WHEN {self.printable(value)} THEN TRUE ELSE {whole} END)"


class PostgresFingerprint(Fingerprint):
    """The fingerprint as PostgreSQL's SQL."""

    def row_hash(self, kinds: Any) -> str:
        """The hash of a row, as a numeric: PostgreSQL has no unsigned numbers."""
        return f"mod(CAST({self._signed(kinds)} AS NUMERIC) + 18446744073709551616, 18446744073709551616)"

    def hash_sum(self, kinds: Any) -> str:
        """The sum of the rows' hashes modulo 2^64."""
        signed = f"mod(coalesce(sum({self._signed(kinds)}), 0), 18446744073709551616)"
        return f"mod({signed} + 18446744073709551616, 18446744073709551616)"

    def bucket(self, kinds: Any, buckets: int) -> str:
        """Which bucket a row belongs to: the last bits of its hash."""
        return f"CAST({self._signed(kinds)} & {buckets - 1} AS INTEGER)"

    def _signed(self, kinds: Any) -> str:
        return f"CAST(CAST('x' || left(md5({self.row_text(kinds)}), 16) AS BIT(64)) AS BIGINT)"

    def joined(self, parts: Sequence[str]) -> str:
        """Texts as one, nulls as nothing, however many."""
        if len(parts) <= _MOST_ARGUMENTS:
            return super().joined(parts)
        groups = [parts[at : at + _MOST_ARGUMENTS] for at in range(0, len(parts), _MOST_ARGUMENTS)]
        return self.joined([super(PostgresFingerprint, self).joined(group) for group in groups])

    def octets(self, column: str) -> str:
        """The length of a text in bytes of UTF-8."""
        return f"octet_length(CAST({column} AS TEXT))"

    def cell_text(self, name: str, kind: Kind) -> str:
        """One cell's part of a row's text; a padded text without its padding."""
        if kind.name != "text":
            return super().cell_text(name, kind)
        column = quoted(name)
        return f"concat({self.octets(column)}, ':', CAST({column} AS TEXT))"

    def canonical(self, column: str, kind: Kind) -> str:
        """A value as its canonical text."""
        match kind.name:
            case "binary":
                return f"encode({column}, 'hex')"
            case "uuid":
                return f"lower(CAST({column} AS TEXT))"
        return super().canonical(column, kind)

    def cast_number(self, column: str, kind: Kind) -> str:
        """A number that is one of its kind; there are decimals of more digits than any kind has."""
        return f"round({column}, {kind.scale})" if kind.name == "decimal" else super().cast_number(column, kind)

    def double(self, column: str) -> str:
        """A real of whatever width as a double."""
        return f"CAST({column} AS DOUBLE PRECISION)"

    def finite(self, double: str) -> str:
        """Whether a double is a number: NaN is greater than all others."""
        return f"({double} > '-Infinity' AND {double} < 'Infinity')"

    def odd(self, double: str) -> str:
        """The text of a double that is not a number, as others write it."""
        return f"replace(lower(CAST({double} AS TEXT)), 'infinity', 'inf')"


def postgres_type(kind: Kind) -> str:
    """PostgreSQL's name for a kind."""
    if kind.name == "decimal":
        return f"NUMERIC({kind.size},{kind.scale})"
    if kind.name == "text":
        return f"VARCHAR({kind.size})" if kind.size else "TEXT"
    return {
        "integer": "BIGINT", "real": "DOUBLE PRECISION", "timestamptz": "TIMESTAMPTZ", "binary": "BYTEA",
    }.get(kind.name, kind.name.upper())  # fmt: skip
