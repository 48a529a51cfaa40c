"""Failing loads to the team, as mail: text and HTML (RFC 5322, RFC 2046)."""

from __future__ import annotations

import datetime
import fnmatch
import json
import re
from collections.abc import Iterable, Sequence
from email.message import EmailMessage
from email.utils import format_datetime
from html import escape
from typing import Any

from nomotheta.charter import Tell
from nomotheta.errors import counted, visible
from nomotheta.frozen import frozen
from nomotheta.ledger import DocketEntry, Event, Mail, RunResult, TableResult
from nomotheta.report.picture import FATES, account_picture
from nomotheta.report.picture import told as told_account
from nomotheta.report.site import run_file
from nomotheta.report.words import STATES, headline, news_told, shown_text, todo, why, why_aside

_SUBJECT, _CELL = 150, 300  # characters at most
_MOST_TABLES, _MOST_NEWS = 100, 100  # that a mail tells of one by one
_MOST_THREADS = 20  # that a mail names
_MOST_DRAWN = 12  # loads whose account is drawn
_PICTURE = "<!-- account -->"  # where the picture is in the HTML: no text of a file gets there without being escaped
_FAILS = frozenset({"fail", "error"})


News = Sequence[tuple[DocketEntry, Event]]  # changes of the docket, with the entries that they are of


def worth_telling(result: RunResult, tell: Tell, news: News) -> list[TableResult]:
    """The tables of a run that this entry wants to hear of; what could not be found out counts as failing.

    A table that fails is told of when something about it has changed, or always, as the entry says; one that was
    skipped, where what it waits for is told of.
    """
    wanted = {"error", *tell.on} if "fail" in tell.on else set(tell.on)
    tables = [each for each in result.tables if each.verdict in wanted and _concerns(tell, each.table, _owners(each))]
    if tell.when == "always":
        return tables
    changed = {entry.table for entry, event in news if event.what != "closed"}
    told = [each for each in tables if each.verdict not in _FAILS or each.table in changed]
    return [each for each in tables if each in told or (told and each.load.state == "held back")]


def news_for(news: News, tell: Tell) -> News:
    """The changes that this entry wants to hear of."""
    if "fail" not in tell.on:
        return []
    return [each for each in news if _concerns(tell, each[0].table, each[0].owners)]


def _concerns(tell: Tell, table: str, owners: Iterable[str]) -> bool:
    """Whether an entry is about a table, or about what is somebody's."""
    named = not tell.tables or any(fnmatch.fnmatchcase(table, pattern) for pattern in tell.tables)
    return named and (not tell.owners or not {*tell.owners}.isdisjoint(owners))


def _owners(table: TableResult) -> set[str]:
    return {*table.owners, *(owner for finding in table.load.findings for owner in finding.owners)}


@frozen
class Written:
    """A message: as a mail, with its subject, text and HTML, and as a JSON document for programs."""

    subject: str
    text: str
    html: str
    document: str


def written(
    result: RunResult, tables: list[TableResult], news: News = (), base: str | None = None
) -> Written:  # fmt: skip
    """The message about these tables of a run, and these changes of the docket.

    Args:
        result: the run.
        tables: those that are told of.
        news: the changes that are told of.
        base: where the pages of the workspace are served, if they are.
    """
    import jinja2

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("nomotheta.tell"), trim_blocks=True, lstrip_blocks=True,
        autoescape=jinja2.select_autoescape(["html.j2"]), undefined=jinja2.StrictUndefined, finalize=shown_text,
    )  # fmt: skip
    environment.filters["visible"] = lambda text: shortened(visible(text), _CELL)
    given = {
        "run": result, "tables": tables[:_MOST_TABLES], "more": len(tables[_MOST_TABLES:]), "why": why,
        "todo": todo, "words": STATES, "why_aside": why_aside, "counted": counted,
        "headline": headline(result) if tables else _only_news(news), "verdict": result.verdict if tables else "pass",
        "page": _page(result, base), "index": f"{base.rstrip('/')}/index.html" if base else "",
        "news": [(news_told(*each), _entry_page(each[0], base)) for each in news[:_MOST_NEWS]],
        "more_news": len(news[_MOST_NEWS:]),
    }  # fmt: skip
    subject = shortened(visible(f"[{result.workspace}] {result.day}: {given['headline']}"), _SUBJECT)
    text = environment.get_template("mail.txt.j2").render(given)
    html = environment.get_template("mail.html.j2").render(given)
    return Written(subject, text, html, json.dumps(_document(result, tables, news, base, str(given["headline"]))))


def _document(
    result: RunResult, tables: Sequence[TableResult], news: News, base: str | None, told: str
) -> dict[str, Any]:  # fmt: skip
    """The same for programs."""
    return {
        "format": "nomotheta/told/1", "workspace": result.workspace, "run": result.run_id or None,
        "day": str(result.day), "told": told, "page": _page(result, base) or None,
        "docket": [
            {
                "entry": entry.entry_no, "what": event.what, "table": entry.table, "sort": entry.sort,
                "name": entry.name, "verdict": entry.verdict, "rows": event.size, "nights": event.nights,
                "since": entry.since and str(entry.since), "owners": list(entry.owners), "by": event.by or None,
                "told": news_told(entry, event), "page": _entry_page(entry, base) or None,
            }
            for entry, event in news
        ],
        "tables": [
            {
                "table": each.table, "verdict": each.verdict, "state": each.load.state, "load": each.load.load_no,
                "told": f"{each.table}: {why(each)}", "mend": todo(each), "owners": list(each.owners),
                "account": _account(each),
            }
            for each in tables
        ],
    }  # fmt: skip


def _account(table: TableResult) -> dict[str, Any] | None:
    """What became of the records of a table's files, where they were read."""
    balance = table.load.balance
    if balance is None or table.load.state not in {"loaded", "undone"}:
        return None
    counts = {fate: int(getattr(balance, fate)) for fate in FATES}
    return {"records": balance.records, **counts, "rolled_back": table.load.state == "undone"}


def _only_news(news: News) -> str:
    """What a mail is about that is of no failing table."""
    first = news_told(*news[0])
    return first if len(news) == 1 else f"{first}, and {counted(len(news) - 1, 'more change')}"


def _page(result: RunResult, base: str | None) -> str:
    """The address of a run's page."""
    return f"{base.rstrip('/')}/{run_file(result.run_id, result.day)}" if base and result.run_id else ""


def _entry_page(entry: DocketEntry, base: str | None) -> str:
    return f"{base.rstrip('/')}/docket/{entry.entry_no}.html" if base else ""


def shortened(text: str, most: int) -> str:
    """A text of so many characters at most, with an ellipsis where something is left out."""
    return text if len(text) <= most else f"{text[: most - 1]}…"


def message_of(mail: Mail, tell: Tell, now: datetime.datetime, workspace: str) -> EmailMessage:
    """A mail as it is sent; whenever it is sent again, its Message-ID is the same, so that no reader gets it twice.

    Args:
        mail: what waits in the outbox.
        tell: who sends it, and to whom.
        now: the moment of sending.
        workspace: the id of the workspace whose outbox it is in.
    """
    message = EmailMessage()
    message["Subject"] = mail.subject
    message["From"], message["To"] = tell.sender, ", ".join(tell.to)
    message["Date"] = format_datetime(now)
    domain = re.sub(r"[^A-Za-z0-9.-]", "", tell.sender.rpartition("@")[2]) or "localhost"
    message["Message-ID"] = f"<nomotheta.{workspace}.{mail.mail_id}@{domain}>"
    threads = [f"<nomotheta.{workspace}.docket-{number}@{domain}>" for number in _entries(mail)]
    if threads:  # all that is told of an entry is one conversation (RFC 5322)
        message["References"] = " ".join(threads)
        message["In-Reply-To"] = threads[0]
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's absence is to answer it
    message.set_content(_encodable(mail.text))
    _add_html(message, mail)
    for name, text in mail.files.items():
        message.add_attachment(_encodable(text).encode(), maintype="text", subtype="csv", filename=name)
    return message


def _add_html(message: EmailMessage, mail: Mail) -> None:
    """The HTML, with a picture of what became of the records in it (RFC 2387)."""
    tables = json.loads(mail.document or "{}").get("tables", ())
    accounts = [{"table": each["table"], **each["account"]} for each in tables if each.get("account")][:_MOST_DRAWN]
    html = _encodable(mail.html)
    if not accounts or _PICTURE not in html:
        message.add_alternative(html.replace(_PICTURE, ""), subtype="html")
        return
    told = escape("; ".join(map(told_account, accounts)))
    image = f'<p><img src="cid:account@nomotheta" alt="{told}" style="max-width:100%;width:640px"></p>'
    message.add_alternative(html.replace(_PICTURE, image, 1).replace(_PICTURE, ""), subtype="html")
    _, part = message.iter_parts()
    part.add_related(account_picture(accounts), "image", "png", cid="<account@nomotheta>")


def _entries(mail: Mail) -> list[int]:
    """The entries of the docket that a mail is about, a few at most."""
    found = json.loads(mail.document or "{}").get("docket", ())
    return [int(each["entry"]) for each in found[:_MOST_THREADS]]


def _encodable(text: str) -> str:
    """A text without halves of characters, which a file's name may hold."""
    return text.encode("utf-8", "replace").decode()
