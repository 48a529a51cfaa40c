"""The pages of a workspace, linked with each other: an index, a page per table, per run and per entry of the docket."""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping, Sequence
from typing import Any

from nomotheta.errors import counted
from nomotheta.frozen import frozen
from nomotheta.ledger import DocketEntry, Event, Part, RunResult, usual_range
from nomotheta.report.nights import GRAVEST, bars, run_rows, strip
from nomotheta.report.page import environment, page
from nomotheta.report.words import STATES, fails

STRIP, NIGHTS = 30, 60  # nights of the index, and of a table's page
_BARS = 20  # nights of a rule's small chart
_MOST_NAMED = 5_000  # nights of an index that all are named when pointed at


@frozen
class About:
    """What a table is for, and whose it is."""

    about: str = ""
    owners: tuple[str, ...] = ()


@frozen
class CharterChange:
    """A run that was the first to carry out another charter of a table, and the keys that are not as before."""

    run_id: int
    day: datetime.date
    keys: tuple[str, ...]


@frozen
class Site:
    """What the pages are written of: parts by table, oldest first; the docket; the newest day on which each passed.

    `changes` are those of the tables' charters, the newest first.
    """

    workspace: str
    parts: Mapping[str, Sequence[Part]]
    entries: Sequence[DocketEntry]
    passed: Mapping[str, datetime.date]
    about: Mapping[str, About]
    changes: Mapping[str, Sequence[CharterChange]]
    now: datetime.datetime

    @property
    def today(self) -> datetime.date:
        """The day on which they are written."""
        return self.now.date()


def safe_name(table: str) -> str:
    """A table's name as that of a file; whatever is no plain letter is written as its code."""
    return re.sub(r"[^A-Za-z0-9_-]", lambda found: f"~{ord(found[0]):x}~", table) + ".html"


def run_name(run_id: int, day: datetime.date) -> str:
    """What the files of a run are called, without their ending."""
    return f"run-{run_id}-{day}"


def run_file(run_id: int, day: datetime.date) -> str:
    """Where the page of a run is."""
    return f"{run_name(run_id, day)}.html"


def pages_of(site: Site) -> dict[int, str]:
    """The pages of the runs that are spoken of."""
    return {each.run_id: run_file(each.run_id, each.day) for parts in site.parts.values() for each in parts}


class Pages:
    """Writes the pages of a site; its templates are read once."""

    def __init__(self, site: Site) -> None:
        self.site, self._pages = site, pages_of(site)
        self._environment = environment()
        self._environment.globals |= {
            "now": site.now, "today": site.today, "fails": fails, "words": STATES, "pages": self._pages,
        }  # fmt: skip

    def _made(self, template: str, **values: Any) -> str:
        text: str = self._environment.get_template(template).render(**values)
        return text

    def index(self) -> str:
        """Tables by their last nights, what fails, what is late."""
        site = self.site
        every = [part for parts in site.parts.values() for part in parts]
        newest = max(every, key=lambda part: part.run_id, default=None)
        last = [parts[-1] for parts in site.parts.values()]
        newest_day = max((part.day for part in last), default=None)
        nights = min(STRIP, max(map(len, site.parts.values()), default=0))
        terse = len(site.parts) * nights > _MOST_NAMED
        tables = [self._line(name, parts, nights, newest_day, terse=terse) for name, parts in site.parts.items()]
        tables.sort(key=lambda line: (GRAVEST.index(line["last"].verdict), line["name"]))
        opened = [each for each in site.entries if each.open]
        verdict = min((each.verdict for each in opened), key=GRAVEST.index) if opened else "pass"
        told = f"{len(opened):,} open in the docket" if opened else "nothing fails"
        if newest is not None:
            failing = sum(part.verdict in {"fail", "error"} for part in last)
            told = f"{failing:,} of {counted(len(last), 'table')} {'fails' if failing == 1 else 'fail'}, {told}"
        file = run_file(newest.run_id, newest.day) if newest is not None else ""
        return self._made(
            "index.html.j2", workspace=site.workspace, told=told, verdict=verdict, newest=newest, file=file,
            open=opened, tables=tables, nights=nights,
        )  # fmt: skip

    def _line(
        self, name: str, parts: Sequence[Part], nights: int, newest: datetime.date | None, *, terse: bool
    ) -> dict[str, Any]:  # fmt: skip
        passed = self.site.passed.get(name)
        behind = (newest - passed).days if newest is not None and passed is not None else 0
        return {
            "name": name, "file": safe_name(name), "strip": _markup(strip(parts, nights, terse=terse)),
            "last": parts[-1], "passed": passed, "behind": max(behind, 0),
        }  # fmt: skip

    def table(self, name: str) -> str:
        """A table's nights."""
        parts, about = self.site.parts[name], self.site.about.get(name, About())
        days = [str(part.day) for part in parts]
        charts = [
            (title, _markup(bars([getattr(part, of) for part in parts], days, f"{title} of {name}", unit)))
            for title, of, unit in (
                ("Rows loaded", "loaded", "rows"), ("Rows rejected", "rejected", "rows"),
                ("Rows in the table", "rows", "rows"),
                ("Size of the files", "bytes", "bytes"), ("Duration", "seconds", "s"),
            )
        ]  # fmt: skip
        return self._made(
            "history.html.j2", name=name, last=parts[-1], runs=_markup(run_rows(parts, self._pages)),
            about=about.about, owners=about.owners,
            passed=self.site.passed.get(name), strip=_markup(strip(parts, min(NIGHTS, len(parts)))), charts=charts,
            open=[each for each in self.site.entries if each.open and each.table == name], rules=_rules(parts),
            changes=self.site.changes.get(name, ()),
        )  # fmt: skip

    def entry(self, entry: DocketEntry, events: Sequence[Event]) -> str:
        """An entry of the docket."""
        days = [str(night.day) for night in entry.nights]
        chart = _markup(bars([night.size for night in entry.nights], days, f"rows of {fails(entry)}", "rows"))
        return self._made("entry.html.j2", e=entry, events=events, chart=chart, file=safe_name(entry.table))

    def run(self, run: RunResult, events: Sequence[Event], files: Mapping[tuple[str, str], str]) -> str:
        """A run, with what of it is new; files beside it hold rows, by what they are and their table."""
        entries = {each.entry_no: each for each in self.site.entries}
        return page(
            run, self.site.now, [(entries[event.entry_no], event) for event in events], linked=True, files=files
        )


def _rules(parts: Sequence[Part]) -> list[dict[str, Any]]:
    """The rules that were broken on any of these nights, those of the last night first."""
    judged = [part for part in parts if part.rules]
    names = dict.fromkeys(rule for part in judged for rule in part.breaks)
    days = [str(part.day) for part in judged[-_BARS:]]
    found = []
    for rule in names:
        counts = [part.breaks.get(rule, 0) for part in judged]
        usual = usual_range(counts[:-1])
        broken = [part for part in judged if part.breaks.get(rule)]
        found.append({
            "rule": rule, "last": counts[-1], "nights": len(broken), "day": broken[-1].day,
            "usual": f"{usual[0]:,} to {usual[1]:,}" if usual else "–",
            "chart": _markup(bars(counts[-_BARS:], days, f"breaks of {rule}", "rows", small=True)),
        })  # fmt: skip
    return sorted(found, key=lambda each: (-each["last"], each["rule"]))


def _markup(text: str) -> Any:
    from markupsafe import Markup

    return Markup(text)  # noqa: S704 - drawn by us, with what is from data escaped
