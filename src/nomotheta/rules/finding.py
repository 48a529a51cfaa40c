"""What came of a rule."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from nomotheta.frozen import frozen
from nomotheta.kinds.show import show

if TYPE_CHECKING:
    from nomotheta.charter import Check
    from nomotheta.place.few import Answer

Verdict = Literal["pass", "warn", "fail", "error"]
HIDDEN = "(masked)"


@frozen
class Samples:
    """A few rows that broke a rule, as text; null is None, and a private value is never among them."""

    columns: tuple[str, ...]
    rows: tuple[tuple[str | None, ...], ...]


NO_SAMPLES = Samples((), ())


@frozen
class Finding:
    """The verdict on one rule.

    `breaks` counts what broke it (rows; for a whole, 0 or 1) and `rows` what was looked at; both are None where it
    could not be judged. `over` is `table` or `load N`. `excused` counts the known breaks that do not count, and
    `excuses` says why; `owners` are those whom a break concerns. `sql` is the statement that counts the breaks, for the
    embedded engine where the place's own answer would be another; `measured` is what later loads
    are compared with.
    """

    rule: str
    sort: str
    verdict: Verdict
    columns: tuple[str, ...] = ()
    breaks: int | None = None
    rows: int | None = None
    set_aside: int = 0
    message: str = ""
    because: str = ""
    otherwise: str = "fail"
    tolerate: str = "none"
    over: str = "table"
    samples: Samples = NO_SAMPLES
    sql: str = ""
    excused: int = 0
    excuses: tuple[str, ...] = ()
    owners: tuple[str, ...] = ()
    embedded: bool = False
    measured: str = ""
    COLUMNS: ClassVar[Mapping[str, str]] = {
        "rule": "text", "sort": "text", "verdict": "text", "columns": "text", "breaks": "integer", "rows": "integer",
        "excused": "integer", "set_aside": "integer", "message": "text", "because": "text", "otherwise": "text",
        "tolerate": "text", "over": "text", "owners": "text", "sql": "text",
    }  # fmt: skip

    def record(self) -> dict[str, Any]:
        """It as a row of a table: its values by `COLUMNS`, but for the samples."""
        return {name: getattr(self, name) for name in self.COLUMNS} | {
            "columns": ", ".join(self.columns), "owners": ", ".join(self.owners)
        }  # fmt: skip


def samples_of(found: Answer, private: frozenset[str]) -> Samples:
    """A few rows as samples, private columns hidden; two columns may have one name."""
    hidden = {name.casefold() for name in private}
    masked = [name.casefold() in hidden for name in found.columns]
    rows = (zip(row, masked, strict=True) for row in found.rows)
    return Samples(found.columns, tuple(tuple(HIDDEN if hide else show(value) for value, hide in row) for row in rows))


def verdict_of(check: Check, breaks: int, rows: int) -> Verdict:
    """What so many breaks mean for a check."""
    if breaks == 0 or check.tolerate.allows(breaks, rows):
        return "pass"
    return "warn" if check.otherwise == "warn" else "fail"


def message_of(check: Check, breaks: int, rows: int, noun: str = "rows") -> str:
    """The counts in words."""
    if breaks == 0:
        return "" if rows else "there were no rows to check"
    share = f" ({breaks / rows:.2%})" if rows else ""
    of = f" of {rows:,}" if rows else ""
    told = f"{breaks:,}{of} {noun if (rows or breaks) != 1 else noun.removesuffix('s')}{share}"
    if check.tolerate.allows(breaks, rows):
        told += f", within the tolerance of {check.tolerate}"
    return told


def gravest(verdicts: Iterable[Verdict]) -> Verdict:
    """The gravest of some verdicts: error before fail before warn before pass."""
    given = set(verdicts)
    order: tuple[Verdict, ...] = ("error", "fail", "warn", "pass")
    return next((verdict for verdict in order if verdict in given), "pass")


def worst(findings: Iterable[Finding]) -> Verdict:
    """The gravest verdict among findings."""
    return gravest(finding.verdict for finding in findings)
