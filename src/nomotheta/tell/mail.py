"""Failing loads to the team, as mail: text and HTML (RFC 5322, RFC 2046)."""

from __future__ import annotations

import datetime
import re
from email.message import EmailMessage
from email.utils import format_datetime

from nomotheta.charter import Tell
from nomotheta.errors import counted, visible
from nomotheta.ledger import Mail, RunResult, TableResult
from nomotheta.report.words import STATES, headline, shown_text, todo, why, why_aside

_SUBJECT, _CELL = 150, 300  # characters at most
_MOST_TABLES = 100  # that a mail tells of one by one


def worth_telling(result: RunResult, tell: Tell) -> list[TableResult]:
    """The tables of a run that this entry wants to hear of; what could not be found out counts as failing."""
    wanted = {"error", *tell.on} if "fail" in tell.on else set(tell.on)
    return [table for table in result.tables if table.verdict in wanted]


def written(result: RunResult, tables: list[TableResult]) -> tuple[str, str, str]:
    """Subject, text and HTML of the mail about these tables of a run."""
    import jinja2

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("nomotheta.tell"), trim_blocks=True, lstrip_blocks=True,
        autoescape=jinja2.select_autoescape(["html.j2"]), undefined=jinja2.StrictUndefined, finalize=shown_text,
    )  # fmt: skip
    environment.filters["visible"] = lambda text: shortened(visible(text), _CELL)
    given = {
        "run": result, "tables": tables[:_MOST_TABLES], "more": len(tables[_MOST_TABLES:]), "why": why,
        "todo": todo, "words": STATES, "why_aside": why_aside, "counted": counted,
        "headline": headline(result),
    }  # fmt: skip
    subject = shortened(visible(f"[{result.workspace}] {result.day}: {headline(result)}"), _SUBJECT)
    text = environment.get_template("mail.txt.j2").render(given)
    html = environment.get_template("mail.html.j2").render(given)
    return subject, text, html


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
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's absence is to answer it
    message.set_content(_encodable(mail.text))
    message.add_alternative(_encodable(mail.html), subtype="html")
    return message


def _encodable(text: str) -> str:
    """A text without halves of characters, which a file's name may hold."""
    return text.encode("utf-8", "replace").decode()
