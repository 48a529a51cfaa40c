"""The mails that are still to be sent. One process at a time has one in hand, so that none is sent twice."""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping, Sequence
from dataclasses import field

from nomotheta.frozen import frozen
from nomotheta.ledger.database import Database

_OPEN = "sent IS NULL AND refused IS NULL"


@frozen
class Mail:
    """A message that waits to be sent, as a mail and as a JSON document.

    `recipients` are those who have not got it yet; empty for all of its entry. `created` is when it was written.
    `files` are attached to it, as texts by their names.
    """

    mail_id: int
    tell: str
    subject: str
    text: str
    html: str
    recipients: tuple[str, ...] = ()
    document: str = ""
    created: datetime.datetime = datetime.datetime(1970, 1, 1, tzinfo=datetime.UTC)
    files: Mapping[str, str] = field(default_factory=dict)


@frozen
class Outgoing:
    """A message that goes out, or would: by which entry, to whom or where, from which moment on, and why."""

    tell: str
    to: tuple[str, ...]
    url: str
    subject: str
    why: str
    not_before: datetime.datetime | None = None


@frozen
class OutgoingPage:
    """Messages that wait, or would be written now (`rehearsed`); and how many went out within the hour."""

    messages: tuple[Outgoing, ...]
    rehearsed: bool = False
    sent: int = 0
    format: str = "nomotheta/outgoing/1"


class Outbox:
    """The mails of a ledger."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def post(
        self, tell: str, recipients: Sequence[str], subject: str, text: str, html: str, created: datetime.datetime,
        document: str = "", not_before: datetime.datetime | None = None, files: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        """A message to be sent, at once or from a moment on."""
        self._database.add(
            "outbox", tell=tell, recipients=json.dumps(list(recipients)), subject=subject, text=text, html=html,
            created=created, document=document, not_before=not_before, files=json.dumps(dict(files or {})),
        )  # fmt: skip

    def waiting(self, now: datetime.datetime | None = None) -> list[Mail]:
        """The messages that are still to be sent and that no other process is sending, oldest first.

        With a moment, only those that may go out then.
        """
        due = "AND (? IS NULL OR not_before IS NULL OR not_before <= ?)"
        rows = self._database.rows(f"SELECT * FROM outbox WHERE {_OPEN} {due} ORDER BY mail_id", now, now)
        return [
            Mail(
                row["mail_id"], row["tell"], row["subject"], row["text"], row["html"],
                tuple(json.loads(row["recipients"] or "[]")), row["document"] or "",
                datetime.datetime.fromisoformat(row["created"]), json.loads(row["files"] or "{}"),
            )
            for row in rows
            if not self._database.at_work(row["holder"], row["held"])
        ]  # fmt: skip

    def sent_since(self, tell: str, moment: datetime.datetime) -> int:
        """How many messages of an entry went out since a moment."""
        return int(self._database.rows("SELECT count(*) FROM outbox WHERE tell = ? AND sent >= ?", tell, moment)[0][0])

    def sent_by_all(self, moment: datetime.datetime) -> int:
        """How many messages went out since a moment."""
        return int(self._database.rows("SELECT count(*) FROM outbox WHERE sent >= ?", moment)[0][0])

    def when(self, mail: Mail) -> datetime.datetime | None:
        """The moment from which on a message may go out; None for at once."""
        found = self._database.rows("SELECT not_before FROM outbox WHERE mail_id = ?", mail.mail_id)[0][0]
        return found and datetime.datetime.fromisoformat(found)

    def take(self, mail: Mail, now: datetime.datetime) -> bool:
        """Take a mail in hand, if no other process has taken it meanwhile."""
        sql = f"SELECT holder, held FROM outbox WHERE mail_id = ? AND {_OPEN}"
        row = next(iter(self._database.rows(sql, mail.mail_id)), None)
        if row is None or self._database.at_work(row["holder"], row["held"]):
            return False
        taken = self._database.rows(
            f"UPDATE outbox SET holder = ?, held = ? WHERE mail_id = ? AND holder IS ? AND held IS ? AND {_OPEN} "
            "RETURNING 1", self._database.holder, now, mail.mail_id, row["holder"], row["held"],
        )  # fmt: skip
        return bool(taken)

    def put_back(self, mail: Mail, recipients: Sequence[str] = ()) -> None:
        """It is to be tried again, for those of its recipients who have not got it."""
        self._database.rows(
            "UPDATE outbox SET holder = NULL, held = NULL, recipients = ? WHERE mail_id = ?",
            json.dumps(list(recipients or mail.recipients)), mail.mail_id,
        )  # fmt: skip

    def sent(self, mail: Mail, at: datetime.datetime) -> None:
        """A mail was taken by its server."""
        self._database.rows("UPDATE outbox SET sent = ?, holder = NULL WHERE mail_id = ?", at, mail.mail_id)

    def refused(self, mail: Mail, why: str) -> None:
        """A mail was refused for good, and is not tried again."""
        self._database.rows("UPDATE outbox SET refused = ?, holder = NULL WHERE mail_id = ?", why, mail.mail_id)
