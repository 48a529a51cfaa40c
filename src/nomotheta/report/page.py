"""A run as one self-contained HTML page: no script, no outside resource."""

from __future__ import annotations

import contextlib
import datetime
import functools
import html
from collections.abc import Mapping, Sequence
from typing import Any

from nomotheta.errors import counted, visible
from nomotheta.ledger import DocketEntry, Event, RunResult, TableResult
from nomotheta.load.balance import Balance, aside_told
from nomotheta.reconcile import Reconciliation
from nomotheta.report.flow import flow
from nomotheta.report.words import (
    STATES,
    gravest_first,
    headline,
    quiet,
    shown_text,
    telling,
    todo,
    why,
    why_aside,
    widths,
)
from nomotheta.rules.finding import Finding


def page(
    result: RunResult, now: datetime.datetime, news: Sequence[tuple[DocketEntry, Event]] = (), *, linked: bool = False,
    files: Mapping[tuple[str, str], str] | None = None,
) -> str:  # fmt: skip
    """The HTML of a run's page.

    Args:
        result: what it is of.
        now: when it is written.
        news: what happened to the docket in this run, with the entries.
        linked: whether it stands among the pages of a workspace, and refers to them.
        files: where the rows are that were set aside, broke rules or differ, by that and their table, if beside it.
    """
    template = _page_template()
    text: str = template.render(
        run=result, headline=headline(result), now=now, words=STATES, lines=_LINES, aside_told=aside_told, why=why,
        todo=todo, telling=telling, quiet=quiet, gravest_first=gravest_first, why_aside=why_aside, account=_account,
        passed_rows=_passed_rows, differing=_differing, news=_news(news), linked=linked, file_of=_file_of, flow=_flow,
        files=files or {},
    )  # fmt: skip
    return text


def _news(news: Sequence[tuple[DocketEntry, Event]]) -> dict[tuple[str, str, str], tuple[DocketEntry, Event]]:
    """The newest of what happened to each entry, by table, sort and name."""
    return {(entry.table, entry.sort, entry.name): (entry, event) for entry, event in news}


def _flow(balance: Balance, *, undone: bool) -> Any:
    from markupsafe import Markup

    return Markup(flow(balance, undone=undone))  # noqa: S704 - drawn by us


def _file_of(table: str) -> str:
    from nomotheta.report.site import safe_name

    return f"tables/{safe_name(table)}"


_LINES = {
    "lines": "lines", "header": "header", "comment": "comment", "empty": "empty", "footer": "footer",
    "in records": "record_lines", "records": "records", "bytes": "bytes",
}  # fmt: skip


def _account(table: TableResult) -> str:
    """What the folded part of a table's section holds, in a line."""
    load, met = table.load, sum(finding.verdict == "pass" for finding in table.load.findings)
    parts = [f"{counted(load.balance.records, 'record')}"] if load.balance else []
    parts += [f"{counted(met, 'check')} passed"] if met else []
    same = table.reconciliation is not None and table.reconciliation.verdict == "pass"
    parts += ["files and table are equal"] if same else []
    return ", ".join(parts) or "notes"


def _passed_rows(met: Sequence[Finding]) -> Any:
    """Checks that passed, as rows of an HTML table: most of a page, and a template would take five times as long."""
    from markupsafe import Markup

    made = [
        f'<tr><td data-label="">{_escaped(each.rule)}</td><td class="n" data-label="rows">'
        f"{'at loading' if each.rows is None else f'{each.rows:,}'}</td>"
        f'<td data-label="">{_escaped(each.message)}</td></tr>\n'
        for each in met
    ]
    return Markup("".join(made))  # noqa: S704 - escaped above


@functools.lru_cache(10_000)
def _escaped(text: str) -> str:
    """A text within HTML; the same rules pass in every run."""
    return html.escape(visible(text))


def _differing(result: Reconciliation) -> list[tuple[str | None, ...]]:
    """The rows that differ, a line for each cell."""
    return [
        tuple(row.get(name, "") for name in ("key", "sort", "column", "source", "target")) for row in result.as_rows()
    ]


@functools.cache
def _page_template() -> Any:
    return environment().get_template("page.html.j2")


def _compiled() -> Any:
    """Where compiled templates are kept for the next time, a folder of this user's alone; None where there is none."""
    import jinja2

    with contextlib.suppress(OSError, RuntimeError):
        return jinja2.FileSystemBytecodeCache()
    return None


def environment() -> Any:
    """The templates."""
    import jinja2

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("nomotheta.report"), autoescape=True, trim_blocks=True, lstrip_blocks=True,
        undefined=jinja2.StrictUndefined, finalize=shown_text, bytecode_cache=_compiled(),
    )  # fmt: skip
    environment.filters["thousands"] = lambda value: f"{value:,}"
    environment.filters["visible"] = visible
    environment.globals["counted"] = counted
    environment.globals["widths"] = widths
    return environment
