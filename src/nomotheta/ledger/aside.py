"""What became of rows that loads set aside: they came later, came again and stay out, or will not come."""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping, Sequence
from typing import Any

from nomotheta.ledger.database import Database

_NUMBER, _TEXT = "CAST(? AS BIGINT)", "CAST(? AS TEXT)"  # a value whose kind nothing else tells


def _as_json(rows: Sequence[tuple[str, int]]) -> str:
    """Rows (file and record) as one JSON object: half a million of them go in with one statement."""
    by_file: dict[str, list[int]] = {}
    for file, record in rows:
        by_file.setdefault(file, []).append(record)
    return json.dumps(by_file)


class Aside:
    """That part of a ledger; rows are known by their file and record."""

    _database: Database

    def _rows(self, sql: str, *values: Any) -> Sequence[Any]:
        return self._database.rows(sql, *values)

    def _listed(self) -> str:
        """The rows of a value that `_as_json` has made."""
        return f"files.key, {self._database.row} {self._database.each_row}"

    def loads_in_the_way(self, table: str, place: str) -> dict[int, tuple[int | None, dict[int, int]]]:
        """Of the loads that set rows aside for the sake of other loads' rows: whose rows it mends, and those others."""
        mends, way = self._database.of("mends", number=True), self._database.of("in_the_way")
        rows = self._rows(
            f"SELECT load_no, {mends} AS mends, {way} AS way FROM entries "
            "WHERE what = 'load' AND table_name = ? AND place = ? AND state = 'loaded' "
            f"AND {way} NOT IN ('{{}}', 'null') ORDER BY entry_id",
            table, place,
        )  # fmt: skip
        ways = {row["load_no"]: (row["mends"], json.loads(row["way"])) for row in rows}
        return {
            load_no: (mends, {int(by): count for by, count in way.items()}) for load_no, (mends, way) in ways.items()
        }

    def tried_again(self, of_load: int, ways: Mapping[int, Sequence[tuple[str, int]]]) -> None:
        """Rows (file and record) came again and stay out, by the load whose rows are in the way now, or 0."""
        for load_no, rows in ways.items():
            self._rows(
                f"INSERT INTO tried SELECT DISTINCT {_NUMBER}, files.key, {self._database.row}, {_NUMBER} "
                f"{self._database.each_row} WHERE 1 = 1 "
                "ON CONFLICT (of_load, file, record) DO UPDATE SET load_no = excluded.load_no",
                of_load,
                load_no,
                _as_json(rows),
            )

    def tried(self, of_load: int) -> dict[tuple[str, int], int]:
        """The rows of a load that came again and stay out, with the load whose rows were in the way then, or 0."""
        rows = self._rows("SELECT file, record, load_no FROM tried WHERE of_load = ?", of_load)
        return {(row[0], row[1]): row[2] for row in rows}

    def close_rejects(
        self, of_load: int, rows: Sequence[tuple[str, int]], reason: str, by: str, at: datetime.datetime
    ) -> None:
        """Rows (file and record) that a load set aside will not come, and why."""
        self._rows(
            f"INSERT OR IGNORE INTO closed SELECT {_NUMBER}, files.key, {self._database.row}, {_TEXT}, {_TEXT}, "
            f"{_TEXT} {self._database.each_row}",
            of_load, reason, by, at, _as_json(rows),
        )  # fmt: skip

    def closed(self, of_load: int) -> dict[tuple[str, int], str]:
        """The rows of a load (file and record) that will not come, with the reason."""
        rows = self._rows("SELECT file, record, reason FROM closed WHERE of_load = ?", of_load)
        return {(row[0], row[1]): row[2] for row in rows}

    def expect_mended(self, of_load: int, load_no: int, rows: Sequence[tuple[str, int]]) -> None:
        """Rows that a load set aside (file and record) are about to come with another."""
        sql = f"INSERT INTO mended SELECT {_NUMBER}, {_NUMBER}, {self._listed()}"
        self._rows(sql, of_load, load_no, _as_json(rows))

    def drop_mended(self, of_load: int, load_no: int, rows: Sequence[tuple[str, int]] | None) -> None:
        """These did not come after all; None for all of them."""
        if rows is None:
            self._rows("DELETE FROM mended WHERE of_load = ? AND load_no = ?", of_load, load_no)
            return
        of = f"of_load = ? AND load_no = ? AND (file, record) IN (SELECT {self._listed()})"
        self._rows(f"DELETE FROM mended WHERE {of}", of_load, load_no, _as_json(rows))

    def mended(self, of_load: int) -> dict[tuple[str, int], int]:
        """The rows of a load (file and record) that came later, each with the load it came with."""
        rows = self._rows(
            "SELECT file, record, load_no FROM mended WHERE of_load = ? AND EXISTS "
            "(SELECT 1 FROM entries WHERE entries.load_no = mended.load_no AND state = 'loaded')",
            of_load,
        )
        return {(row[0], row[1]): row[2] for row in rows}

    def mends(self, load_no: int) -> int | None:
        """The load whose rows this one mends, or None."""
        found = self._rows("SELECT of_load FROM mended WHERE load_no = ? LIMIT 1", load_no)
        return found[0][0] if found else None

    def mending(self, of_load: int) -> list[int]:
        """The loads that mend rows of this one and stand."""
        return sorted(set(self.mended(of_load).values()))
