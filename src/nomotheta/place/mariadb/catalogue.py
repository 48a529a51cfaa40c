"""What there is in a MariaDB database: tables, their columns, and what the database itself sees to."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from nomotheta.conditions import Kind, Node, decimal, quoted
from nomotheta.place.base import Facts, Guarantees, PlaceColumn
from nomotheta.place.limits import Limits
from nomotheta.place.mariadb.session import MariaSession
from nomotheta.place.mariadb.sql import COLLATION, MariaRenderer, mariadb_type
from nomotheta.place.marks import FILES, MARKS, marks_ddl
from nomotheta.place.render import case_of, quoted_table

_OPTIONS = f" ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE {COLLATION}"
_KINDS = {
    "date": "date", "time": "time", "datetime": "timestamp", "timestamp": "timestamptz", "uuid": "uuid",
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint"), "integer"),
    **dict.fromkeys(("float", "double"), "real"),
    **dict.fromkeys(("tinytext", "text", "mediumtext", "longtext", "enum"), "text"),
    **dict.fromkeys(("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob"), "binary"),
}  # fmt: skip


class MariaCatalogue(MariaSession):
    """The database itself, its tables, and their columns."""

    def facts(self) -> Facts:
        """What the server is, and what this user may do."""
        grantee = "concat('''', replace(current_user(), '@', '''@'''), '''')"
        found = self._rows(
            f"SELECT privilege_type FROM information_schema.user_privileges WHERE grantee = {grantee} UNION "
            f"SELECT privilege_type FROM information_schema.schema_privileges WHERE grantee = {grantee} "
            "AND database() LIKE table_schema"
        )
        rights = {right for (right,) in found}
        read_only, who, database = self._rows("SELECT @@read_only, current_user(), database()")[0]
        may_create, may_write = "CREATE" in rights, not int(read_only) or "SUPER" in rights
        message = mend = ""
        if not may_write:
            message, mend = "it can only be read", "name the primary server in the url"
        elif not may_create and self._marks_to_make():
            message = f"{who} may make no tables in {database}"
            ddl = "; ".join(self._marks_to_make().values())
            mend = f"without the tables of its loads none can be done: have them made by {ddl}"
        elif self.hints:
            message, mend = self.hints[0], "install another version of it: pip install 'nomotheta[mariadb]'"
        return Facts(f"MariaDB {self._version}", may_create, may_write, message, mend)

    def _marks_to_make(self) -> dict[str, str]:
        """The tables of loads that are not there, each with the statement that makes it."""
        ddl = marks_ddl(mariadb_type, _OPTIONS)
        return {name: statement for name, statement in ddl.items() if self.columns(name) is None}

    def columns(self, table: str) -> list[PlaceColumn] | None:
        """The columns of a table or view, or None. What the database fills itself may be left out of a load."""
        *schema, name = table.split(".")
        rows = self._rows(
            "SELECT column_name, column_type, is_nullable = 'YES' OR column_default IS NOT NULL "
            "OR extra LIKE '%%auto_increment%%' OR extra LIKE '%%GENERATED%%', is_nullable = 'YES', "
            "coalesce(character_set_name, '') FROM information_schema.columns "
            "WHERE table_name = %s AND table_schema = coalesce(%s, database()) ORDER BY ordinal_position",
            [name, schema[0] if schema else None],
        )
        return [
            PlaceColumn(
                column, of, _kind(of), bool(free), limits=_limits(of, nulls=bool(nulls)), folds=True, charset=charset
            )
            for column, of, free, nulls, charset in rows
        ] or None

    def described(self, table: str) -> list[PlaceColumn]:
        """The columns of a temporary table, which no catalogue lists."""
        rows = self._rows(f"SHOW COLUMNS FROM {quoted(table)}")
        return [
            PlaceColumn(name, of, _kind(of), nullable=True, limits=_limits(of, nulls=True), folds=True)
            for name, of, *_ in rows
        ]

    def quantiles(self, column: str, shares: Sequence[float]) -> str:
        """It has none of all rows; the embedded engine is asked for them."""
        return MariaRenderer.quantiles(column, shares)

    def changes_rows(self, table: str) -> bool:
        """Whether it has triggers, or is no plain table."""
        *schema, name = table.split(".")
        given = [name, schema[0] if schema else None]
        triggers = self._rows(
            "SELECT 1 FROM information_schema.triggers WHERE event_object_table = %s "
            "AND event_object_schema = coalesce(%s, database()) LIMIT 1", given,
        )  # fmt: skip
        kinds = self._rows(
            "SELECT table_type FROM information_schema.tables WHERE table_name = %s "
            "AND table_schema = coalesce(%s, database())", given,
        )  # fmt: skip
        return bool(triggers) or [kind for (kind,) in kinds] != ["BASE TABLE"]

    def guarantees(self, table: str) -> Guarantees:
        """What its primary key and its types see to: its other keys a session may have switched off."""
        *schema, name = table.split(".")
        rows = self._rows(
            "SELECT column_name FROM information_schema.statistics WHERE index_name = 'PRIMARY' AND sub_part IS NULL "
            "AND table_name = %s AND table_schema = coalesce(%s, database())",
            [name, schema[0] if schema else None],
        )
        columns = self.columns(table) or []
        return Guarantees(
            (frozenset(column for (column,) in rows),) if rows else (),
            frozenset(column.name for column in columns if not column.limits.nulls),
            frozenset(column.name for column in columns if column.type_name.lower().startswith("varchar(")),
        )

    def finds(self, table: str, column: str) -> bool:
        """Whether an index begins with it."""
        *schema, name = table.split(".")
        return bool(self._rows(
            "SELECT 1 FROM information_schema.statistics WHERE seq_in_index = 1 AND column_name = %s "
            "AND table_name = %s AND table_schema = coalesce(%s, database()) LIMIT 1",
            [column, name, schema[0] if schema else None],
        ))  # fmt: skip

    def stored(self, table: str) -> list[str]:
        """All columns but those that the database works out."""
        *schema, name = table.split(".")
        rows = self._rows(
            "SELECT column_name FROM information_schema.columns WHERE extra NOT LIKE '%%GENERATED%%' "
            "AND table_name = %s AND table_schema = coalesce(%s, database()) ORDER BY ordinal_position",
            [name, schema[0] if schema else None],
        )
        return [name for (name,) in rows]

    def strange(self, column: PlaceColumn) -> str | None:
        """A date can have a month or a day of zero, and a time more than a day."""
        name, kind = quoted(column.name), column.kind.name if column.kind else ""
        if kind == "time":
            return f"NOT {name} BETWEEN '00:00:00' AND '23:59:59.999999'"
        if kind in {"date", "timestamp", "timestamptz"}:
            return f"({name} < '0001-01-01' OR month({name}) = 0 OR dayofmonth({name}) = 0)"
        return None

    def differs(self, node: Node) -> Sequence[str] | None:
        """It clamps what a cast does not hold, gives null for a date past 9999, and has letter cases of its own."""
        for each in node.walk():
            clamped = each.op == "cast" and each.args[0].kind.is_number and each.value.is_number
            ranked = each.op == "aggregate" and (each.value.share or each.value.name == "median")
            if clamped or ranked or each.op in {"shift", "at zone"}:
                return ()
        return case_of(node)

    def home(self) -> str:
        """The schema that a name without one stands for."""
        return str(self._rows("SELECT database()")[0][0])

    def tables(self) -> list[str]:
        """All tables and views but our own."""
        rows = self._rows("SELECT table_name FROM information_schema.tables WHERE table_schema = database() ORDER BY 1")
        return [name for (name,) in rows if name not in {MARKS, FILES}]

    def create(self, table: str, columns: Mapping[str, Kind]) -> None:
        """Create an empty table, and its database where it is not there."""
        if "." in table:
            self._run(f"CREATE SCHEMA IF NOT EXISTS {quoted(table.split('.', maxsplit=1)[0])}")
        listed = ", ".join(f"{quoted(name)} {mariadb_type(kind)} NULL" for name, kind in columns.items())
        self._run(f"CREATE TABLE {quoted_table(table)} ({listed}){_OPTIONS}")


def _kind(type_name: str) -> Kind | None:
    found = re.fullmatch(r"decimal\((\d+),(\d+)\)(?: unsigned)?(?: zerofill)?", type_name)
    if found:
        return decimal(int(found[1]), int(found[2]))
    if type_name == "tinyint(1)":
        return Kind("boolean")
    sized = re.fullmatch(r"(?:var)?char\((\d+)\)", type_name)
    if sized:
        return Kind("text", int(sized[1]))
    if type_name.startswith("bigint") and "unsigned" in type_name:
        return decimal(20, 0)
    if re.match(r"(?:float|double)\(", type_name):
        return None  # which rounds to so many places
    bare = re.split(r"[( ]", type_name, maxsplit=1)[0]
    return Kind(_KINDS[bare]) if bare in _KINDS else None


_BITS = {"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32}


def _limits(type_name: str, *, nulls: bool) -> Limits:
    """What a column of a type gives back as it is; null into one that may not be null can be filled by the server."""
    bare, unsigned = re.split(r"[( ]", type_name, maxsplit=1)[0], "unsigned" in type_name
    digits = re.fullmatch(r"(?:datetime|timestamp|time)(?:\((\d)\))?", type_name)
    octets = re.fullmatch(r"binary\((\d+)\)", type_name)
    bits = _BITS.get(bare)
    bounds = (0 if unsigned else -(2 ** (bits - 1)), 2 ** (bits - (not unsigned)) - 1) if bits else None
    words = [word.replace("''", "'") for word in re.findall(r"'((?:[^']|'')*)'", type_name)] if bare == "enum" else None
    return Limits(
        nulls=nulls, second_digits=int(digits[1] or 0) if digits else 6, single=bare == "float",
        bounds=None if type_name == "tinyint(1)" else bounds, octets=int(octets[1]) if octets else None,
        padded=re.fullmatch(r"char\(\d+\)", type_name) is not None, listed=tuple(words) if words is not None else None,
    )  # fmt: skip
