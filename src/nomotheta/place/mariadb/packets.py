"""The rows of a SELECT as texts, straight from the packets in which a MariaDB server sends them.

The driver makes an object of each cell, which takes several times as long as the server. What it knows of the
connection is used here: the stream from which it reads, and that a result is being read, until it is at its end.
"""

from __future__ import annotations

import select
import struct
from collections.abc import Iterator
from typing import Any

import pyarrow as pa
import pymysql
from pymysql.cursors import SSCursor
from pymysql.protocol import MysqlPacket

from nomotheta.kernel import packets

_PIECE, _ENOUGH = 1 << 20, 4 << 20  # bytes that are read at a time, and that are worth to be looked through
_LONGEST = 0xFFFFFF  # bytes of a packet that goes on in the next one
_NULL, _WIDTHS = 0xFB, {0xFC: 2, 0xFD: 3, 0xFE: 8}
_INNER = ("_rfile", "_sock", "_result")


def can_read(connection: Any) -> bool:
    """Whether packets can be read from a connection of this driver."""
    return packets.is_there() and all(hasattr(connection, name) for name in _INNER)


def text_rows(connection: Any, sql: str, columns: int) -> Iterator[list[Any]]:
    """The rows of a SELECT of n columns, block by block, as an Arrow array of texts for each.

    Raises:
        pymysql.Error: the server refuses, or is lost.
    """
    with connection.cursor(SSCursor) as cursor:
        cursor.execute(sql)
        stream = _Stream(connection, columns)
        connection._result.unbuffered_active, connection._result.connection = False, None
        connection._result = unread = _Unread(stream)
        try:
            yield from stream.blocks()
        finally:
            stream.finish()
            if connection._result is unread:
                connection._result = None


class _Unread:
    """What the driver takes for a result of its own: before it asks anything else, all of it is read.

    It would wait for the server otherwise, while what is left waits here.
    """

    has_next = False

    def __init__(self, stream: _Stream) -> None:
        self._stream = stream

    @property
    def unbuffered_active(self) -> bool:
        """Whether there is more to be read: now there is not."""
        self._stream.finish()
        return False


class _Stream:
    def __init__(self, connection: Any, columns: int) -> None:
        self.connection, self.columns = connection, columns
        self.waiting, self.ended = memoryview(b""), False

    def blocks(self) -> Iterator[list[Any]]:
        """What is left of the rows."""
        while not self.ended:
            found = packets.read_packets(self.waiting, self.columns)
            self.waiting = self.waiting[found.taken :]
            if found.rows:
                yield found.columns
            elif found.behind == packets.MORE:
                self._read()
            if found.behind == packets.AT_LARGE:
                yield [pa.array([cell], pa.string()) for cell in self._cells(self._packet())]
            elif found.behind != packets.MORE:
                self._end(found.behind)

    def finish(self) -> None:
        """Read what is left, for nothing."""
        for _ in self.blocks():
            pass

    def _read(self) -> None:
        """Wait for some bytes, and take what more is there."""
        pieces: list[bytes] = []
        size = len(self.waiting)
        while not pieces or size < _ENOUGH:
            piece = self.connection._rfile.read1(_PIECE)
            if not (piece or pieces):
                self._lost()
            pieces.append(piece)
            size += len(piece)
            # what came before an end is looked through first
            if not piece or not (self._pending() or select.select([self.connection._sock], [], [], 0)[0]):
                break
        self.waiting = memoryview(b"".join((self.waiting, *pieces)))  # made anew: what was may still be looked at

    def _pending(self) -> bool:
        pending = getattr(self.connection._sock, "pending", None)  # of a connection that is encrypted
        return bool(pending and pending())

    def _take(self, count: int) -> bytes:
        """So many bytes, of those that wait first."""
        taken = bytes(self.waiting[:count])
        self.waiting = self.waiting[count:]
        more = self.connection._rfile.read(count - len(taken)) if len(taken) < count else b""
        if len(taken) + len(more) < count:
            self._lost()
        return taken + more

    def _packet(self) -> bytes:
        """A packet that may go on in others."""
        parts = []
        while True:
            low, high, _ = struct.unpack("<HBB", self._take(4))
            parts.append(self._take(low + (high << 16)))
            if len(parts[-1]) < _LONGEST:
                return b"".join(parts)

    @staticmethod
    def _cells(packet: bytes) -> Iterator[str | None]:
        at = 0
        while at < len(packet):
            length, at = packet[at], at + 1
            if length == _NULL:
                yield None
                continue
            width = _WIDTHS.get(length, 0)
            if width:
                length, at = int.from_bytes(packet[at : at + width], "little"), at + width
            yield packet[at : at + length].decode()
            at += length

    def _end(self, behind: int) -> None:
        """Whatever comes after the last row ends the result."""
        self.ended = True
        if behind == packets.MALFORMED:
            self._lost()
        packet = self._packet()
        if behind == packets.AT_ERROR:
            MysqlPacket(packet, self.connection.encoding).raise_for_error()

    def _lost(self) -> None:
        self.ended = True
        self.connection._force_close()
        raise pymysql.err.OperationalError(2013, "the connection was lost while rows were read")
