"""The fingerprint of a table's rows: a checksum that does not depend on their order (scheme `md5-1`).

A row's text is the concatenation of its cells in the order of the charter: for a text, its length in bytes of UTF-8,
a colon, and itself; for null, the colon alone; for every other kind its canonical text and a bar; for null, the bar
alone. The row's hash is the first 64 bits of the MD5 (RFC 1321) of that text, big-endian; the fingerprint is the sum
of the rows' hashes modulo 2^64, together with the count of rows. Reals have no canonical text and stay outside.

`Fingerprint` says it in the SQL of DuckDB; another database overrides what it says differently. The numbers are the
same in every place.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nomotheta.conditions import Kind
from nomotheta.place.render import quoted

SCHEME = "md5-1"
BUCKETS = 1024


def fingerprinted(kinds: Mapping[str, Kind]) -> dict[str, Kind]:
    """The columns that a fingerprint covers."""
    return {name: kind for name, kind in kinds.items() if kind.name != "real"}


class Fingerprint:
    """The fingerprint in DuckDB's SQL."""

    def row_hash(self, kinds: Mapping[str, Kind]) -> str:
        """The hash of a row over these columns, as SQL of a whole number from 0 to 2^64 - 1."""
        return f"CAST('0x' || left(md5({self.row_text(kinds)}), 16) AS UBIGINT)"

    def hash_sum(self, kinds: Mapping[str, Kind]) -> str:
        """The sum of the rows' hashes modulo 2^64, as SQL."""
        return f"CAST(coalesce(sum({self.row_hash(kinds)}), 0) % CAST('18446744073709551616' AS HUGEINT) AS UBIGINT)"

    def bucket(self, kinds: Mapping[str, Kind]) -> str:
        """Which of the BUCKETS a row belongs to, by these columns, as SQL."""
        return f"CAST({self.row_hash(kinds)} % {BUCKETS} AS INTEGER)"

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

    def text(self, column: str) -> str:
        """A value as a text."""
        return f"CAST({column} AS VARCHAR)"

    def canonical(self, column: str, kind: Kind) -> str:
        """A value of another kind as its canonical text, or as what the database writes so."""
        match kind.name:
            case "integer":
                return f"CAST({column} AS BIGINT)"
            case "decimal":
                return f"CAST({column} AS DECIMAL(38,{kind.scale}))"
            case "boolean":
                return f"CAST({column} AS INTEGER)"
            case "timestamptz":
                return f"({column} AT TIME ZONE 'UTC')"
            case "binary":
                return f"lower(hex({column}))"
            case "uuid":
                return f"lower(CAST({column} AS VARCHAR))"
        return column
