"""What is in a PostgreSQL database: tables, columns, what they see to, and what the user may do."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from nomotheta.conditions import Kind, Node, decimal, own, quoted
from nomotheta.place.base import Facts, Guarantees, PlaceColumn
from nomotheta.place.limits import Limits
from nomotheta.place.marks import FILES, MARKS, marks_ddl
from nomotheta.place.postgresql.session import PostgresSession
from nomotheta.place.postgresql.sql import PostgresRenderer, postgres_type
from nomotheta.place.render import case_of, quoted_table
from nomotheta.place.staging import NO_ROWS, Staging

_KINDS = {
    "boolean": "boolean", "date": "date", "uuid": "uuid", "bytea": "binary", "time without time zone": "time",
    "timestamp without time zone": "timestamp", "timestamp with time zone": "timestamptz",
    **dict.fromkeys(("smallint", "integer", "bigint"), "integer"),
    **dict.fromkeys(("real", "double precision"), "real"), "text": "text",
}  # fmt: skip
_SAMPLE = 2048  # rows that show whether there is an order
_MOST_NUMERIC = Kind("decimal", 1000, 500)  # of a numeric that is declared without digits


class PostgresCatalogue(PostgresSession, Staging):
    """What is there."""

    def facts(self) -> Facts:
        """What the server is, and what this user may do."""
        row = self._rows(
            "SELECT current_setting('server_version') AS version, current_schema() AS schema, current_user AS who, "
            "coalesce(has_schema_privilege(current_schema(), 'CREATE'), FALSE) AS may_create, "
            "NOT pg_is_in_recovery() AND current_setting('transaction_read_only') = 'off' AS may_write"
        )[0]
        message = mend = ""
        if not row["may_write"]:
            message, mend = "it can only be read", "name the primary server in the url"
        elif not row["may_create"] and self._marks_to_make():
            message = f"{row['who']} may make no tables in {row['schema'] or 'any schema of the search path'}"
            ddl = "; ".join(self._marks_to_make().values())
            mend = f"without the tables of its loads none can be done: have them made by {ddl}"
        return Facts(f"PostgreSQL {row['version'].split()[0]}", row["may_create"], row["may_write"], message, mend)

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None. What the database fills itself may be left out of a load."""
        rows = self._rows(
            "SELECT attname AS name, format_type(atttypid, atttypmod) AS type, attnotnull AS filled, "
            "NOT attnotnull OR atthasdef OR attidentity <> '' OR attgenerated <> '' AS nullable, "
            "NOT coalesce(collisdeterministic, TRUE) AS folds, "
            "(SELECT array_agg(enumlabel::text ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = atttypid) words "
            "FROM pg_attribute LEFT JOIN pg_collation c ON c.oid = attcollation "
            "WHERE attrelid = to_regclass(%s) AND attnum > 0 AND NOT attisdropped ORDER BY attnum",
            [quoted_table(table)],
        )
        return [
            PlaceColumn(
                row["name"], row["type"], Kind("text") if row["words"] else _kind(row["type"]), row["nullable"],
                limits=_limits(row["type"], row["words"], filled=row["filled"]), folds=row["folds"],
            )
            for row in rows
        ] or None  # fmt: skip

    def columns_of(self, query: str) -> list[PlaceColumn]:
        """Of a temporary table without rows."""
        with self.held(NO_ROWS, f"SELECT * FROM ({query}\n) AS {quoted(NO_ROWS)} LIMIT 0"):
            return self.columns(NO_ROWS) or []

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """As ordered-set aggregates, all in one."""
        return PostgresRenderer.quantiles(column, shares)

    def changes_rows(self, table: str) -> bool:
        """Whether it has triggers or rules, or is no plain table."""
        row = self._rows(
            "SELECT relkind NOT IN ('r', 'p') OR relhasrules OR EXISTS (SELECT 1 FROM pg_trigger WHERE tgrelid = c.oid "
            "AND NOT tgisinternal) AS met FROM pg_class c WHERE oid = to_regclass(%s)", [quoted_table(table)],
        )  # fmt: skip
        return not row or bool(row[0]["met"])

    def guarantees(self, table: str) -> Guarantees:
        """What its indexes, types and foreign keys see to; nothing in a table whose rows may lie in others."""
        name = [quoted_table(table)]
        inherited = self._rows(
            "SELECT 1 AS one FROM pg_inherits JOIN pg_class p ON p.oid = inhparent "
            "WHERE p.oid = to_regclass(%s) AND p.relkind <> 'p' LIMIT 1", name,
        )  # fmt: skip
        if inherited:
            return Guarantees()
        unique = self._rows(
            "SELECT (SELECT array_agg(attname::text) FROM pg_attribute WHERE attrelid = indrelid "
            "AND attnum = ANY((indkey::int2[])[0:indnkeyatts - 1])) AS names FROM pg_index WHERE "
            "indrelid = to_regclass(%s) AND indisunique AND indisvalid AND indimmediate AND indpred IS NULL "
            "AND indexprs IS NULL", name,
        )  # fmt: skip
        refers = self._rows(
            "SELECT CASE WHEN nspname = current_schema() THEN relname ELSE nspname || '.' || relname END AS listing, "
            "(SELECT array_agg(a.attname::text ORDER BY k.at) FROM unnest(conkey) WITH ORDINALITY AS k(num, at) "
            "JOIN pg_attribute a ON a.attrelid = conrelid AND a.attnum = k.num) AS own, "
            "(SELECT array_agg(a.attname::text ORDER BY k.at) FROM unnest(confkey) WITH ORDINALITY AS k(num, at) "
            "JOIN pg_attribute a ON a.attrelid = confrelid AND a.attnum = k.num) AS there "
            "FROM pg_constraint JOIN pg_class r ON r.oid = confrelid JOIN pg_namespace n ON n.oid = r.relnamespace "
            "WHERE contype = 'f' AND convalidated AND NOT condeferrable AND conrelid = to_regclass(%s)", name,
        )  # fmt: skip
        columns = self.columns(table) or []
        return Guarantees(
            tuple(frozenset(row["names"]) for row in unique),
            frozenset(column.name for column in columns if not column.limits.nulls),
            frozenset(column.name for column in columns if column.type_name.startswith("character varying(")),
            tuple((row["listing"], dict(zip(row["own"], row["there"], strict=True))) for row in refers),
        )

    def finds(self, table: str, column: str) -> bool:
        """Whether an index begins with it."""
        return bool(self._rows(
            "SELECT 1 AS one FROM pg_index JOIN pg_attribute ON attrelid = indrelid AND attnum = indkey[0] "
            "WHERE indrelid = to_regclass(%s) AND attname = %s AND indisvalid AND indpred IS NULL LIMIT 1",
            [quoted_table(table), column],
        ))  # fmt: skip

    def stored(self, table: str) -> list[str]:
        """All columns but those that the database works out."""
        rows = self._rows(
            "SELECT attname AS name FROM pg_attribute WHERE attrelid = to_regclass(%s) AND attnum > 0 "
            "AND NOT attisdropped AND attgenerated = '' ORDER BY attnum",
            [quoted_table(table)],
        )
        return [row["name"] for row in rows]

    def may_hold(self) -> bool:
        """Whether there may be temporary tables, as the catalog says: a failure would end a transaction."""
        may = "has_database_privilege(current_database(), 'TEMP') AND current_setting('transaction_read_only') = 'off'"
        return bool(self._rows(f"SELECT {may} AS may")[0]["may"])

    def never_repeats(self, column: str, rowset: str) -> bool:
        """Whether each value is greater than the one before it: rows that came in order of their key lie so."""
        value, before = quoted(own("value")), quoted(own("before"))
        ordered = f"count(*) - count({before}) <= 1 AND count(*) = count({value}) AND bool_and({value} > {before})"
        for of in (f" LIMIT {_SAMPLE}", ""):  # a few rows first: mostly they show already that there is no order
            given = f"SELECT {column} AS {value} {rowset}{of}"
            rows = f"SELECT {value}, lag({value}) OVER () AS {before} FROM ({given}) AS given"
            if not self._rows(f"SELECT {ordered} AS met FROM ({rows}) AS pairs")[0]["met"]:
                return False
        return True

    def strange(self, column: PlaceColumn) -> str | None:
        """A numeric can be NaN, and infinite if its type does not say how many digits it has, as moments can."""
        if column.type_name.startswith("numeric("):
            return f"{quoted(column.name)} = 'NaN'"
        if column.kind and column.kind.name == "decimal":
            return f"{quoted(column.name)} IN ('NaN', 'Infinity', '-Infinity')"
        return super().strange(column)

    def no_number(self, column: str) -> str | None:
        """Whether a double is none."""
        return f"{column} IN ('NaN', 'Infinity', '-Infinity')"

    def differs(self, node: Node) -> Sequence[str] | None:
        """Letters beyond ASCII change case by tables of its own, of another year of Unicode."""
        return case_of(node)

    def home(self) -> str:
        """The schema that a name without one stands for."""
        return str(self._rows("SELECT current_schema() AS home")[0]["home"])

    def tables(self) -> list[str]:
        """All tables and views but our own and the database's."""
        rows = self._rows(
            "SELECT CASE WHEN nspname = current_schema() THEN relname ELSE nspname || '.' || relname END AS name "
            "FROM pg_class JOIN pg_namespace n ON n.oid = relnamespace WHERE relkind IN ('r', 'v', 'm', 'p', 'f') "
            "AND nspname NOT IN ('pg_catalog', 'information_schema') AND nspname NOT LIKE 'pg\\_t%' "
            f"AND relname NOT IN ('{MARKS}', '{FILES}') ORDER BY 1"
        )
        return [row["name"] for row in rows]

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table, and its schema where it is not there."""
        if "." in table:
            self._run(f"CREATE SCHEMA IF NOT EXISTS {quoted(table.split('.', maxsplit=1)[0])}")
        listed = ", ".join(f"{quoted(name)} {postgres_type(kind)}" for name, kind in columns.items())
        self._run(f"CREATE TABLE {quoted_table(table)} ({listed})")

    def _marks_to_make(self) -> dict[str, str]:
        """The tables of loads that are not there, each with the statement that makes it."""
        ddl = marks_ddl(postgres_type)
        return {name: statement for name, statement in ddl.items() if self.columns(name) is None}


def _kind(type_name: str) -> Kind | None:
    found = re.fullmatch(r"numeric(?:\((\d+),(\d+)\))?", type_name)
    if found:
        return decimal(int(found[1]), int(found[2])) if found[1] else _MOST_NUMERIC
    sized = re.fullmatch(r"character(?: varying)?(?:\((\d+)\))?", type_name)
    if sized:
        return Kind("text", int(sized[1]) if sized[1] else None)
    bare = re.sub(r"\(\d\)", "", type_name)
    return Kind(_KINDS[bare]) if bare in _KINDS else None


_WHOLE = {"smallint": 2**15, "integer": 2**31}


def _limits(type_name: str, words: Sequence[str] | None, *, filled: bool) -> Limits:
    """What a column of a type gives back as it is."""
    digits = re.match(r"time(?:stamp)?\((\d)\)", type_name)
    bound = _WHOLE.get(type_name)
    return Limits(
        nulls=not filled, second_digits=int(digits[1]) if digits else 6, single=type_name == "real",
        bounds=(-bound, bound - 1) if bound else None,
        padded=re.fullmatch(r"character(\(\d+\))?", type_name) is not None, listed=tuple(words) if words else None,
    )  # fmt: skip
