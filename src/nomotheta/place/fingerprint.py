"""The fingerprint of a table's rows: a checksum that does not depend on their order (scheme `md5-2`).

A row's text is the concatenation of its cells in the order of the charter: for a text, its length in bytes of UTF-8,
a colon, and itself; for null, the colon alone; for every other kind its canonical text and a bar; for null, the bar
alone. The row's hash is the first 64 bits of the MD5 (RFC 1321) of that text, big-endian; the fingerprint is the sum
of the rows' hashes modulo 2^64, together with the count of rows.

A real's canonical text is made of the fewest decimal digits that only this double (IEEE 754) is read from: a sign
where it is below zero, the digits without zeros at either end, `e`, and the power of ten of the last of them; `0` for
zero. Databases part over the digits of a double that is exactly between two decimals of as many digits, which only
whole numbers from 2^53 on can be: these are divided by 2^971, which is exact, and marked with `b` in front. So 12.5
is `125e-1`, and -0.1 is `-1e-1`. NaN and infinities are `nan`, `inf` and `-inf`.

`Fingerprint` says it in the SQL of DuckDB; another database overrides what it says differently. The numbers are the
same in every place.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from nomotheta.conditions import Kind, quoted

SCHEME = "md5-2"
_DIGITS = 38  # of decimals; of as many behind the point, the engine writes no zero in front of it
_EVERY_WHOLE = 2**53  # from here on, every double is a whole number
_SCALE = "5.010420900022432e-293"  # 2^-971 exactly, as any reader of doubles reads it


class Fingerprint:
    """The fingerprint in DuckDB's SQL.

    `columns` are those that are known to be of certain types, by their SQL: what these cannot hold need not be provided
    for. Of others, a value that is none of its kind keeps the text that the database gives it.
    """

    def __init__(self, columns: Mapping[str, Any] | None = None) -> None:
        self._columns = columns or {}

    def knowing(self, columns: Sequence[Any]) -> Fingerprint:
        """The same, for rows whose columns are known (`PlaceColumn`)."""
        return type(self)({quoted(column.name): column for column in columns})

    def is_sure(self, column: str, kind: Kind) -> bool:
        """Whether some SQL can hold no number but of a kind."""
        held = getattr(self._columns.get(column), "kind", None)
        if held is None or held.name != kind.name:
            return False
        return bool(held.scale <= kind.scale and held.digits - held.scale <= _DIGITS - kind.scale)

    def row_hash(self, kinds: Mapping[str, Kind]) -> str:
        """The hash of a row over these columns, as SQL of a whole number from 0 to 2^64 - 1."""
        return f"CAST('0x' || left(md5({self.row_text(kinds)}), 16) AS UBIGINT)"

    def hash_sum(self, kinds: Mapping[str, Kind]) -> str:
        """The sum of the rows' hashes modulo 2^64, as SQL."""
        return f"CAST(coalesce(sum({self.row_hash(kinds)}), 0) % CAST('18446744073709551616' AS HUGEINT) AS UBIGINT)"

    def bucket(self, kinds: Mapping[str, Kind], buckets: int) -> str:
        """Which of so many buckets, a power of two, a row belongs to, by these columns, as SQL."""
        return f"CAST({self.row_hash(kinds)} % {buckets} AS INTEGER)"

    def row_text(self, kinds: Mapping[str, Kind]) -> str:
        """The text of a row, as SQL."""
        return self.joined([self.cell_text(name, kind) for name, kind in kinds.items()])

    def joined(self, parts: Sequence[str]) -> str:
        """Texts as one, nulls as nothing."""
        return f"concat({', '.join(parts)})"

    def cell_text(self, name: str, kind: Kind) -> str:
        """One cell's part of a row's text, as SQL."""
        column = quoted(name)
        if kind.name == "text":
            return f"concat({self.octets(column)}, ':', {column})"
        return f"concat({self.canonical(column, kind)}, '|')"

    def octets(self, column: str) -> str:
        """The length of a text in bytes of UTF-8."""
        return f"strlen(CAST({column} AS VARCHAR))"

    def characters(self, column: str) -> str:
        """The length of a text in characters."""
        return f"length({column})"

    def sum(self, column: str, _kind: Kind) -> str:
        """What the numbers of a column come to."""
        return f"sum({column})"

    def text(self, column: str) -> str:
        """A value as a text."""
        return f"CAST({column} AS VARCHAR)"

    def canonical(self, column: str, kind: Kind) -> str:
        """A value of another kind as its canonical text, or as what the database writes so."""
        match kind.name:
            case "integer" | "decimal":
                return self.number(column, kind)
            case "boolean":
                return f"CAST({column} AS INTEGER)"
            case "timestamptz":
                return f"({column} AT TIME ZONE 'UTC')"
            case "binary":
                return f"lower(hex({column}))"
            case "uuid":
                return f"lower(CAST({column} AS VARCHAR))"
            case "real":
                return self.real(column)
        return column

    def number(self, column: str, kind: Kind) -> str:
        """The digits of a number; of one that has more places than its kind, all of them."""
        exact = self.cast_number(column, kind)
        if self.is_sure(column, kind):
            return exact
        return f"CASE WHEN {column} = {exact} THEN {self.text(exact)} ELSE {self.text(column)} END"

    def cast_number(self, column: str, kind: Kind) -> str:
        """A number that is one of its kind."""
        if kind.name == "integer":
            return f"CAST({column} AS BIGINT)"
        exact = f"CAST({column} AS DECIMAL(38,{kind.scale}))"
        return exact if kind.scale < _DIGITS else f"regexp_replace({self.text(exact)}, '^(-?)[.]', '\\10.')"

    def shown(self, name: str, kind: Kind) -> str:
        """A cell as the text that is in a row's, null where it is null, as SQL."""
        return self.of(quoted(name), kind)

    def of(self, value: str, kind: Kind) -> str:
        """The canonical text of some SQL; that of a text is itself."""
        return self.text(value if kind.name == "text" else self.canonical(value, kind))

    def real(self, column: str) -> str:
        """The canonical text of a real."""
        double = self.double(column)
        size = f"abs({double})"
        digits = self.digits(f"CASE WHEN {size} < {_EVERY_WHOLE} THEN {size} ELSE {size} * {_SCALE} END")
        sign = f"CASE WHEN {double} < 0 THEN '-' ELSE '' END"
        mark = f"CASE WHEN {size} < {_EVERY_WHOLE} THEN '' ELSE 'b' END"
        usual = f"concat({mark}, {sign}, {digits})"
        return f"CASE WHEN {double} = 0 THEN '0' WHEN {self.finite(double)} THEN {usual} ELSE {self.odd(double)} END"

    def double(self, column: str) -> str:
        """A real of whatever width as a double."""
        return f"CAST({column} AS DOUBLE)"

    def finite(self, double: str) -> str:
        """Whether a double is a number; null where it is null."""
        return f"isfinite({double})"

    def odd(self, double: str) -> str:
        """The text of a double that is not a number."""
        return f"CAST({double} AS VARCHAR)"

    def digits(self, double: str) -> str:
        """The digits of a double above zero, and the power of ten of the last, out of the database's shortest text."""
        mantissa, exponent = self.in_halves(self.text(double))
        figures = f"replace({mantissa}, '.', '')"
        behind = f"CASE WHEN {self.point(mantissa)} = 0 THEN 0 ELSE length({mantissa}) - {self.point(mantissa)} END"
        bare = self.without_zeros(figures, "right")
        power = f"{exponent} - ({behind}) + length({figures}) - length({bare})"
        return f"concat({self.without_zeros(bare, 'left')}, 'e', {power})"

    def in_halves(self, number: str) -> tuple[str, str]:
        """What comes before the `e` of a number's text, and the whole number behind it."""
        return (
            f"split_part({number}, 'e', 1)",
            f"coalesce(CAST(nullif(split_part({number}, 'e', 2), '') AS INTEGER), 0)",
        )

    def point(self, text: str) -> str:
        """Where the point is in a text, from 1; 0 where there is none."""
        return f"strpos({text}, '.')"

    def without_zeros(self, text: str, side: str) -> str:
        """A text without the zeros at its left or right end."""
        return f"{'rtrim' if side == 'right' else 'ltrim'}({text}, '0')"
