"""The rows that were sent last, so that one which the place refuses can be named by its file, line and values."""

from __future__ import annotations

import contextlib
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from nomotheta.errors import PlaceError
from nomotheta.kinds.show import show
from nomotheta.load.work import Worked
from nomotheta.rules.finding import HIDDEN

_KEPT = 2  # blocks: no place looks further ahead
_SHOWN = 6  # columns of a row


@dataclass(slots=True)
class Sent:
    """The last blocks of rows: the number of the first of them, where they come from, their records, the rows."""

    count: int = 0
    blocks: deque[tuple[int, Worked, Any, Any]] = field(default_factory=lambda: deque(maxlen=_KEPT))

    def remember(self, worked: Worked, records: Any, rows: Any) -> None:
        """Take in a block; `records` are those of the rows, a `pa.Table`."""
        self.blocks.append((self.count, worked, records, rows))
        self.count += rows.num_rows

    @contextlib.contextmanager
    def explaining(self, private: frozenset[str]) -> Iterator[None]:
        """An error of a row that was sent is told with the row's file, line and values.

        Raises:
            PlaceError: that error.
        """
        try:
            yield
        except PlaceError as error:
            raise self._explained(error, private) from error

    def _explained(self, error: PlaceError, private: frozenset[str]) -> PlaceError:
        for first, worked, records, rows in self.blocks if error.row is not None else ():
            at = (error.row or 0) - 1 - first
            if 0 <= at < rows.num_rows:
                file, line = worked.place_of(int(records[at]))
                cells = [(name, rows[name][at].as_py()) for name in rows.column_names[:_SHOWN]]
                told = [f"{name} = {HIDDEN if name in private else show(value) or 'null'}" for name, value in cells]
                return PlaceError(f"{error.told} ({', '.join(told)})", where=f"{file}:{line}", mend=error.mend)
        return error
