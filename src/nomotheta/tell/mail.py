"""Failing loads to the team, as mail: text and HTML (RFC 5322, RFC 2046), over SMTP or into a folder."""

from __future__ import annotations

import datetime
import re
import smtplib
import ssl
import urllib.parse
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from pathlib import Path

from nomotheta.charter import Tell
from nomotheta.errors import NomothetaError, visible
from nomotheta.ledger import LoadResult, Mail, RunResult, TableResult
from nomotheta.place import masked, with_secrets
from nomotheta.report import STATES, headline, why

_PATIENCE = 20  # seconds


def worth_telling(result: RunResult, tell: Tell) -> list[TableResult]:
    """The tables of a run that this entry wants to hear of; what could not be found out counts as failing."""
    wanted = {"error", *tell.on} if "fail" in tell.on else set(tell.on)
    return [table for table in result.tables if table.verdict in wanted]


def written(result: RunResult, tables: list[TableResult]) -> tuple[str, str, str]:
    """Subject, text and HTML of the mail about these tables of a run."""
    import jinja2

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("nomotheta.tell"), trim_blocks=True, lstrip_blocks=True,
        autoescape=jinja2.select_autoescape(["html.j2"]), undefined=jinja2.StrictUndefined,
    )  # fmt: skip
    environment.filters["visible"] = visible
    given = {"run": result, "tables": tables, "headline": headline(result), "why": why, "words": STATES}
    subject = visible(f"[{result.workspace}] {result.day}: {headline(result)}")
    text = environment.get_template("mail.txt.j2").render(given)
    html = environment.get_template("mail.html.j2").render(given)
    return subject, text, html


def as_run(load: LoadResult, workspace: str, started: datetime.datetime) -> RunResult:
    """A single load as a run of one table, so that it is told like one."""
    table = TableResult(load.table, load.verdict, load)
    return RunResult(0, workspace, load.day, started, load.seconds, load.verdict, (table,))


def send(mail: Mail, tell: Tell, root: Path, now: datetime.datetime) -> None:
    """Hand a mail to its server, or lay it into a folder as a file of its own.

    Raises:
        DeclarationError: a secret in the server's URL is not set.
        NomothetaError: the server cannot be reached or refuses.
    """
    message = EmailMessage()
    message["Subject"] = mail.subject
    message["From"], message["To"] = tell.sender, ", ".join(tell.to)
    message["Date"] = format_datetime(now)
    message["Message-ID"] = make_msgid(
        f"nomotheta.{mail.mail_id}", domain=tell.sender.rpartition("@")[2] or "localhost"
    )
    message.set_content(mail.text)
    message.add_alternative(mail.html, subtype="html")
    if tell.server.startswith("folder:"):
        folder = root / tell.server.removeprefix("folder:")
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"mail-{mail.mail_id}.eml").write_bytes(message.as_bytes())
        return
    try:
        _over_smtp(message, with_secrets(tell.server, f"tell {mail.tell}"))
    except (OSError, smtplib.SMTPException) as error:
        reason = re.sub(r"^\[Errno -?\d+\] ", "", str(error)) or type(error).__name__
        raise NomothetaError(
            f"the mail could not be sent: {reason}", where=f"tell {mail.tell}, {masked(tell.server)}",
            mend="it stays in the outbox and is tried again with the next run",
        ) from None  # fmt: skip


def _over_smtp(message: EmailMessage, url: str) -> None:
    parts = urllib.parse.urlsplit(url)
    secure = parts.scheme == "smtps"
    port = parts.port or (465 if secure else 587 if "starttls" in parts.scheme else 25)
    context = ssl.create_default_context()
    host = parts.hostname or "localhost"
    client = (
        smtplib.SMTP_SSL(host, port, timeout=_PATIENCE, context=context)
        if secure
        else smtplib.SMTP(host, port, timeout=_PATIENCE)
    )
    with client:
        if "starttls" in parts.scheme:
            client.starttls(context=context)
        if parts.username:
            client.login(urllib.parse.unquote(parts.username), urllib.parse.unquote(parts.password or ""))
        client.send_message(message)
