"""The fingerprint of rows and columns in PostgreSQL's SQL (scheme `lanes-1`, see docs/fingerprint.md).

It is made of PostgreSQL's own hash functions, which are there for its indexes and partitions.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping

from nomotheta.conditions import Kind, own, quoted
from nomotheta.kinds.lanes import null_hash, seed_of

_VALUES = 64  # among which the rows are divided
_CELLS, _MIXED, _KEYED, _REST, _BUCKET = (quoted(own(word)) for word in ("cells", "mixed", "keyed", "rest", "bucket"))


def cell(name: str, kind: Kind, number: int) -> str:
    """The hash of a cell of the column of some number, as SQL."""
    value, seed = quoted(name), _signed(seed_of(number))
    finite = f"CASE WHEN isfinite({value}) THEN {{}} END"  # of what is not, nothing equal can be in a file
    day = "CAST({} AS DATE) - DATE '2000-01-01'"
    utc = f"({value} AT TIME ZONE 'UTC')"
    hashed = {
        "integer": _of_integer(f"CAST({value} AS BIGINT)", seed),  # a smaller one is shifted by fewer bits
        "boolean": f"hashint4extended(CAST({value} AS INTEGER), {seed})",
        "date": finite.format(f"hashint4extended({value} - DATE '2000-01-01', {seed})"),
        "time": f"hashtextextended(CAST({value} AS TEXT), {seed})",
        "timestamp": finite.format(
            f"timestamp_hash_extended({value}, hashint4extended({day.format(value)}, {seed}))"
        ),
        "timestamptz": finite.format(f"timestamp_hash_extended({utc}, hashint4extended({day.format(utc)}, {seed}))"),
        "text": f'hashtextextended(CAST({value} AS TEXT) COLLATE "C", {seed})',
        "decimal": f"hash_numeric_extended({value}, CASE WHEN {value} < 0 THEN ~{seed} ELSE {seed} END)",
        "real": f"hashfloat8extended(CAST({value} AS DOUBLE PRECISION), {seed})",
        "uuid": f"uuid_hash_extended({value}, {seed})",
        "binary": f"hashtextextended(encode({value}, 'hex'), {seed})",
    }[kind.name]  # fmt: skip
    return f"coalesce({hashed}, {_signed(null_hash(number))})"


def _of_integer(value: str, seed: str) -> str:
    return f"hashint4extended(CAST({value} >> 32 AS INTEGER), hashint8extended({value}, {seed}))"


def _signed(number: int) -> str:
    """A number of 64 bits as the bigint of the same bits."""
    return f"CAST({number - 2**64 if number >= 2**63 else number} AS BIGINT)"


def select(kinds: Mapping[str, Kind], rowset: str) -> str:
    """The SELECT that gives the count of rows, the sum of their hashes, and that of each column's, in their order."""
    names = [quoted(own(f"cell {number}")) for number in range(1, len(kinds) + 1)]
    cells = [f"{sql} AS {name}" for sql, name in zip(_cells(kinds), names, strict=True)]
    given = f"SELECT {', '.join(cells)} {rowset} OFFSET NULL"  # which keeps each hash from being worked out twice
    mixed = f"SELECT *, {' # '.join(names)} AS {_MIXED} FROM ({given}) AS {_CELLS} OFFSET NULL"
    sums = [f"sum({each})" for each in (_of_integer(_MIXED, "0"), *names)]
    listed = [f"{sql} AS {quoted(own(str(at)))}" for at, sql in enumerate(["count(*)", *sums])]
    return f"SELECT {', '.join(listed)} FROM ({mixed}) AS {_CELLS}"


def in_buckets(kinds: Mapping[str, Kind], rowset: str, by: Collection[str], buckets: int) -> str:
    """The SELECT that gives of each bucket of rows its number, their count, and the sums of their hashes' halves.

    Both halves have a sign, as whole numbers of 32 bits have: their sum is one of 64, and quicker than one without
    bounds. How many lower halves are below zero is told last.
    """
    inner = _numbered(kinds, rowset, by, buckets)
    parts = (f"{_MIXED} >> 32", f"({_MIXED} << 32) >> 32", f"({_MIXED} >> 31) & 1")
    sums = [f"sum(CAST({part} AS INTEGER))" for part in parts]
    listed = [f"{sql} AS {quoted(own(str(at)))}" for at, sql in enumerate([_BUCKET, "count(*)", *sums])]
    return f"SELECT {', '.join(listed)} FROM ({inner}) AS {_CELLS} GROUP BY {_BUCKET}"


def one_by_one(kinds: Mapping[str, Kind], rowset: str, by: Collection[str], buckets: int) -> str:
    """The SELECT that gives of each row its bucket and its hash, as 4 and 8 bytes, many rows in one value.

    The server keeps them until it has all, so that they are for some million rows.
    """
    packed = f"string_agg(int4send({_BUCKET}) || int8send({_MIXED}), CAST('' AS BYTEA))"
    groups = f"{_BUCKET} / {max(1, buckets // _VALUES)}"
    return f"SELECT {packed} FROM ({_numbered(kinds, rowset, by, buckets)}) AS {_CELLS} GROUP BY {groups}"


def _numbered(kinds: Mapping[str, Kind], rowset: str, by: Collection[str], buckets: int) -> str:
    """The SELECT that gives of each row its bucket and its hash."""
    cells = dict(zip(kinds, _cells(kinds), strict=True))
    keyed = " # ".join(cells[name] for name in cells if name in by or not by)
    rest = " # ".join(cells[name] for name in cells if by and name not in by)
    given = [f"{keyed} AS {_KEYED}", *([f"{rest} AS {_REST}"] if rest else [])]
    whole = f"({_KEYED} # {_REST})" if rest else _KEYED
    numbered = f"CAST({_KEYED} & {buckets - 1} AS INTEGER) AS {_BUCKET}, {_of_integer(whole, '0')} AS {_MIXED}"
    return f"SELECT {numbered} FROM (SELECT {', '.join(given)} {rowset} OFFSET NULL) AS {_CELLS} OFFSET NULL"


def bucket(kinds: Mapping[str, Kind], by: Collection[str], buckets: int) -> str:
    """The bucket of a row: the lower bits of what its cells of some columns (all, if none) come to."""
    keyed = [cell(name, kind, at) for at, (name, kind) in enumerate(kinds.items(), 1) if not by or name in by]
    return f"CAST(({' # '.join(keyed)}) & {buckets - 1} AS INTEGER)"


def _cells(kinds: Mapping[str, Kind]) -> list[str]:
    return [cell(name, kind, at) for at, (name, kind) in enumerate(kinds.items(), 1)]


FUNCTIONS = (
    "hashint4extended", "hashint8extended", "hashtextextended", "hash_numeric_extended", "hashfloat8extended",
    "timestamp_hash_extended", "uuid_hash_extended",
)  # fmt: skip
# a value of each kind and a row of nulls, and what their sums are (docs/fingerprint.md)
KNOWN_ROWS = (
    "FROM (SELECT CAST(-7000000000 AS BIGINT) AS integer, TRUE AS boolean, DATE '2026-11-28' AS date, "
    "TIME '23:59:59.25' AS time, TIMESTAMP '1969-12-31 23:59:59.999999' AS timestamp, "
    "TIMESTAMPTZ '2026-06-01 12:00:00+00' AS timestamptz, CAST('Skálavík, Nólsoy' AS TEXT) AS text, "
    "CAST(-1234567.8900 AS NUMERIC(20,4)) AS decimal, CAST(0.1 AS DOUBLE PRECISION) AS real, "
    "CAST('0e37df36-f698-11e6-8dd4-cb9ced3df976' AS UUID) AS uuid, CAST('\\x00ff' AS BYTEA) AS binary "
    "UNION ALL SELECT NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL) AS known"
)
KNOWN_KINDS = {
    name: Kind(name, 20, 4) if name == "decimal" else Kind(name)
    for name in ("integer", "boolean", "date", "time", "timestamp", "timestamptz", "text", "decimal", "real", "uuid",
                 "binary")
}  # fmt: skip
KNOWN_SUMS = [
    2, 17206920906264568979, 6615253102268218331, 17528210730471217566, 15401008107055456480, 8843780029022076778,
    9140706518383837182, 2546002266557414954, 15421273695581742404, 554505385725596437, 1266748862255371949,
    664511481852695325, 7905284662861505967,
]  # fmt: skip
