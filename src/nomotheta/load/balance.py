"""The account of a load: two sums that must each add up."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True, slots=True)
class FileCount:
    """One file's part: its content (BLAKE2b-256), its bytes, its lines by what they are, and its records."""

    file: str
    content: str
    bytes: int
    lines: int
    header: int
    empty: int
    record_lines: int
    records: int
    rejected: int
    repeated: int


@dataclass(frozen=True, slots=True)
class Balance:
    """Lines: every line is header, empty, or part of a record. Rows: every record is loaded, rejected or repeated.

    `before`, `removed` and `after` count the table's rows, in the load's own transaction.
    """

    how: Literal["append", "overwrite"] = "append"
    files: tuple[FileCount, ...] = ()
    lines: int = 0
    records: int = 0
    loaded: int = 0
    rejected: int = 0
    repeated: int = 0
    before: int = 0
    removed: int = 0
    after: int = 0

    @classmethod
    def of(
        cls, how: Literal["append", "overwrite"], files: Sequence[FileCount], loaded: int, before: int, removed: int,
        after: int,
    ) -> Balance:  # fmt: skip
        """The account of these files and of what the place counted."""
        return cls(
            how, tuple(files), sum(file.lines for file in files), sum(file.records for file in files), loaded,
            sum(file.rejected for file in files), sum(file.repeated for file in files), before, removed, after,
        )  # fmt: skip

    def faults(self) -> list[str]:
        """What does not add up, and by how much; empty where everything does."""
        found = [
            f"{file.file}: {file.lines:,} lines were read, but header {file.header:,} + empty {file.empty:,} + "
            f"records {file.record_lines:,} are {file.header + file.empty + file.record_lines:,}"
            for file in self.files
            if file.lines != file.header + file.empty + file.record_lines
        ]
        kept = self.loaded + self.rejected + self.repeated
        if kept != self.records:
            found.append(
                f"{self.records:,} records, but loaded {self.loaded:,} + rejected {self.rejected:,} + "
                f"repeated {self.repeated:,} are {kept:,}"
            )
        if self.after != self.before - self.removed + self.loaded:
            found.append(
                f"the table holds {self.after:,} rows, but before {self.before:,} − removed {self.removed:,} + "
                f"loaded {self.loaded:,} are {self.before - self.removed + self.loaded:,}"
            )
        return found
