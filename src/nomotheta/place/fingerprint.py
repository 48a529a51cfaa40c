"""The fingerprint of a table's rows: a checksum that does not depend on their order (scheme `md5-1`).

A row's text is the concatenation of its cells in the order of the charter: for a text, its length in bytes of UTF-8,
a colon, and itself; for null, the colon alone; for every other kind its canonical text and a bar; for null, the bar
alone. The row's hash is the first 64 bits of the MD5 (RFC 1321) of that text, big-endian; the fingerprint is the sum
of the rows' hashes modulo 2^64, together with the count of rows. Reals have no canonical text and stay outside.

This module says it in the SQL of DuckDB; the definition is the same for every place.
"""

from __future__ import annotations

from collections.abc import Mapping

from nomotheta.conditions import Kind
from nomotheta.place.render import quoted

SCHEME = "md5-1"
BUCKETS = 1024


def fingerprinted(kinds: Mapping[str, Kind]) -> dict[str, Kind]:
    """The columns that a fingerprint covers."""
    return {name: kind for name, kind in kinds.items() if kind.name != "real"}


def cell_text(name: str, kind: Kind) -> str:
    """One cell's part of a row's text, as SQL."""
    column = quoted(name)
    if kind.name == "text":
        return f"concat(strlen(CAST({column} AS VARCHAR)), ':', {column})"
    return f"concat({_canonical(column, kind)}, '|')"


def _canonical(column: str, kind: Kind) -> str:
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


def row_hash(kinds: Mapping[str, Kind]) -> str:
    """The hash of a row over these columns, as SQL of an unsigned 64-bit number."""
    text = ", ".join(cell_text(name, kind) for name, kind in kinds.items())
    return f"CAST('0x' || left(md5(concat({text})), 16) AS UBIGINT)"


def hash_sum(kinds: Mapping[str, Kind]) -> str:
    """The sum of the rows' hashes modulo 2^64, as SQL."""
    return f"CAST(coalesce(sum({row_hash(kinds)}), 0) % CAST('18446744073709551616' AS HUGEINT) AS UBIGINT)"


def bucket(kinds: Mapping[str, Kind]) -> str:
    """Which of the BUCKETS a row belongs to, by these columns, as SQL."""
    return f"CAST({row_hash(kinds)} % {BUCKETS} AS INTEGER)"
