"""Rows by MariaDB's bulk execution: one prepared INSERT, carried out for thousands of rows a packet.

The packets are those of the documentation of MariaDB's client protocol (COM_STMT_PREPARE, COM_STMT_BULK_EXECUTE). The
driver does all else, but has no name for them: this is its connection, which says that it can do bulk execution. What a
column does not hold is an error of the statement, as it is for every INSERT under strict rules. The server need not
take local files for it.
"""

from __future__ import annotations

import contextlib
import re
import struct
from collections import deque
from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pymysql
import pymysql.protocol
from pymysql.connections import Connection
from pymysql.constants import CLIENT

from nomotheta.conditions import quoted
from nomotheta.kernel import bulk_rows
from nomotheta.place.render import quoted_table

_CLIENT_CAN_BULK = struct.pack("<I", 1 << 2)  # MARIADB_CLIENT_STMT_BULK_OPERATIONS, in the last four bytes of a filler
_FILLER = slice(28, 32)
_PREPARE, _CLOSE, _BULK = 0x16, 0x19, 0xFA
_SEND_TYPES = 128
_TYPES = {
    pa.bool_(): 1, pa.float64(): 5, pa.int64(): 8, pa.date32(): 10, pa.time64("us"): 11, pa.timestamp("us"): 12,
    pa.timestamp("us", "UTC"): 12, pa.binary(): 252, pa.string(): 253,
}  # fmt: skip
_DECIMAL = 246
_WARNED = 1265
_LONGEST = 0xFFFFFF  # bytes; what is longer goes as several packets
_PACKET = 1 << 18  # bytes, about
_UNDER_WAY = 16  # packets that are sent before the answer to the first is read
_OF_A_ROW = (pymysql.IntegrityError, pymysql.DataError, pymysql.OperationalError)
_INNER = ("_request_authentication", "_execute_command", "_read_packet", "write_packet", "affected_rows")
UNKNOWN = {(1047,), (1295,)}  # the server, or something between us and it, does not know bulk execution


def type_of(arrow: Any) -> int | None:
    """The number of the type that a parameter of an Arrow type has; None if rows of it are not sent so."""
    return _DECIMAL if pa.types.is_decimal128(arrow) else _TYPES.get(arrow)


def missing() -> str:
    """What the installed driver has not, of what bulk execution needs of its inside; empty where it has all."""
    found = [name for name in _INNER if not callable(getattr(Connection, name, None))]
    found += [] if hasattr(pymysql.protocol, "OKPacketWrapper") else ["OKPacketWrapper"]
    return ", ".join(found)


class BulkConnection(Connection):
    """The driver's connection, which also says that it can do bulk execution."""

    _greeted = False

    def _request_authentication(self) -> None:
        self.client_flag &= ~CLIENT.LONG_PASSWORD  # which says that the client is none of MariaDB's
        parent: Any = super()
        parent._request_authentication()
        self._greeted = True

    def write_packet(self, payload: bytes) -> None:
        """Send a packet; the client's answer to the greeting says what else it can do."""
        if not self._greeted and len(payload) >= _FILLER.stop:
            payload = payload[: _FILLER.start] + _CLIENT_CAN_BULK + payload[_FILLER.stop :]
        super().write_packet(payload)


class BulkInsert:
    """An INSERT that is prepared, and the packets of it that are under way."""

    def __init__(self, connection: Any, table: str, columns: Sequence[str], schema: Any) -> None:
        self.rows = self.taken = 0
        self._connection, self._columns = connection, list(columns)
        self._types = b"".join(struct.pack("<BB", type_of(schema.field(name).type) or 0, 0) for name in columns)
        self._under_way: deque[tuple[int, bytes]] = deque()
        listed = ", ".join(map(quoted, columns))
        sql = f"INSERT INTO {quoted_table(table)} ({listed}) VALUES ({', '.join('?' * len(columns))})"
        connection._execute_command(_PREPARE, sql)
        answer = connection._read_packet().get_all_data()
        self._statement, results, parameters = struct.unpack("<IHH", answer[1:9])
        for count in (parameters, results):
            for _ in range(count + bool(count)):  # a packet each, and one that ends them
                connection._read_packet()

    def send(self, batch: Any) -> None:
        """Send the rows of a `pa.RecordBatch`, and read the answers to what was sent long before.

        Raises:
            pymysql.MySQLError: the server refuses a row, or warns of one; it is told by its number among all rows.
        """
        if not batch.num_rows:
            return
        step = max(1, min(batch.num_rows, batch.num_rows * _PACKET // max(1, batch.nbytes)))
        rows, ends = bulk_rows(batch.select(self._columns), step)
        head, first, begun = struct.pack("<IH", self._statement, _SEND_TYPES) + self._types, 0, 0
        for end in ends.tolist():
            packet = head + rows[begun:end].tobytes()
            self._connection._execute_command(_BULK, packet)
            self._under_way.append((self.rows + first, packet))
            begun, first = end, first + step
            while len(self._under_way) > (_UNDER_WAY if self.taken else 0):
                self._answer()
        self.rows += batch.num_rows

    def _answer(self) -> None:
        before, packet = self._under_way.popleft()
        try:
            answer = self._read(packet)
        except pymysql.MySQLError as error:
            self.forget()
            raise _numbered(self._with_row(error, packet), before) from None
        self.taken += answer.affected_rows
        if answer.warning_count:
            self.forget()
            raise _numbered(self._warning(packet), before)

    def _read(self, packet: bytes) -> Any:
        """The answer to a packet."""
        self._connection._next_seq_id = (len(packet) + 1) // _LONGEST + 1
        return pymysql.protocol.OKPacketWrapper(self._connection._read_packet())

    def _with_row(self, error: pymysql.MySQLError, packet: bytes) -> pymysql.MySQLError:
        """An error with its row: what was refused is sent again, since only the newest statement's is told.

        What came behind it was carried out meanwhile; all of it is undone.
        """
        told = str(error.args[-1]) if error.args else ""
        if row_of(told) or not isinstance(error, _OF_A_ROW) or not self._connection.open:
            return error
        with contextlib.suppress(pymysql.MySQLError, OSError), self._connection.cursor() as cursor:
            self._connection._execute_command(_BULK, packet)
            with contextlib.suppress(pymysql.MySQLError):
                self._read(packet)
            cursor.execute("GET DIAGNOSTICS CONDITION 1 @nomotheta_row = ROW_NUMBER")
            cursor.execute("SELECT @nomotheta_row")
            row = int((cursor.fetchone() or [0])[0] or 0)
            return type(error)(error.args[0], f"{told}{ROW}{row}") if row else error
        return error

    def _warning(self, packet: bytes) -> pymysql.MySQLError:
        """What the server warns of in a packet, which is said only of the newest: all of this is undone anyway."""
        with contextlib.suppress(pymysql.MySQLError):  # a key, for instance, is there already
            self._connection._execute_command(_BULK, packet)
            self._read(packet)
            with self._connection.cursor() as cursor:
                cursor.execute("SHOW WARNINGS LIMIT 1")
                for _, code, told in cursor.fetchall():
                    return pymysql.DataError(code, told)
        return pymysql.DataError(_WARNED, "a row was taken with a warning")

    def forget(self) -> None:
        """Read the answers that still come, so that the connection can be asked for something else."""
        with contextlib.suppress(AttributeError, OSError):  # it is closed
            while self._under_way:
                _, packet = self._under_way.popleft()
                with contextlib.suppress(pymysql.MySQLError):
                    self._read(packet)

    def end(self) -> None:
        """Wait for the last answers.

        Raises:
            pymysql.MySQLError: the server refuses a row.
        """
        while self._under_way:
            self._answer()
        self._connection._execute_command(_CLOSE, struct.pack("<I", self._statement))  # which is not answered


ROW = " at row "  # what comes before the number of a row in what the server says of it


def row_of(told: str) -> int | None:
    """The row that an error speaks of."""
    row = re.search(rf"{ROW}(\d+)$", told)
    return int(row[1]) if row else None


def _numbered(error: pymysql.MySQLError, before: int) -> pymysql.MySQLError:
    """An error of a packet with the number of its row among all that were sent."""
    told = str(error.args[-1]) if error.args else ""
    row = row_of(told)
    return type(error)(error.args[0], f"{told.partition(ROW)[0]}{ROW}{before + row}") if row else error
