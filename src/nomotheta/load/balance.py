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
    comment: int
    empty: int
    footer: int
    record_lines: int
    records: int
    rejected: int
    repeated: int

    def counted(self) -> int:
        """The lines by what they turned out to be, added up."""
        return self.header + self.comment + self.empty + self.footer + self.record_lines

    def told(self) -> str:
        """The lines by what they turned out to be, in words."""
        rare = ((self.comment, "comment"), (self.footer, "footer"))
        parts = [f"{self.header:,} header", *(f"{count:,} {name}" for count, name in rare if count)]
        return " + ".join([*parts, f"{self.empty:,} empty", f"{self.record_lines:,} in records"])


@dataclass(frozen=True, slots=True)
class Balance:
    """Lines: every line is header, comment, empty, footer, or part of a record.

    Rows: every record is loaded, rejected or repeated.

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
            f"{file.file}: {file.lines:,} lines were read, but {file.told()} are {file.counted():,}"
            for file in self.files
            if file.lines != file.counted()
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
