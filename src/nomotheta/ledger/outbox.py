"""The mails that are still to be sent. One process at a time has one in hand, so that none is sent twice."""

from __future__ import annotations

import datetime
import json
import os
from collections.abc import Sequence

from nomotheta.frozen import frozen
from nomotheta.ledger.database import Database, at_work

_OPEN = "sent IS NULL AND refused IS NULL"


@frozen
class Mail:
    """A mail that waits to be sent. `recipients` are those who have not got it yet; empty for all of its entry."""

    mail_id: int
    tell: str
    subject: str
    text: str
    html: str
    recipients: tuple[str, ...] = ()


class Outbox:
    """The mails of a ledger."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def post(
        self, tell: str, recipients: Sequence[str], subject: str, text: str, html: str, created: datetime.datetime
    ) -> None:
        """A mail to be sent."""
        self._database.add(
            "outbox", tell=tell, recipients=json.dumps(list(recipients)), subject=subject, text=text, html=html,
            created=created,
        )  # fmt: skip

    def waiting(self) -> list[Mail]:
        """The mails that are still to be sent and that no other process is sending, oldest first."""
        rows = self._database.rows(f"SELECT * FROM outbox WHERE {_OPEN} ORDER BY mail_id")
        return [
            Mail(
                row["mail_id"], row["tell"], row["subject"], row["text"], row["html"],
                tuple(json.loads(row["recipients"] or "[]")),
            )
            for row in rows
            if not at_work(row["holder"], row["held"])
        ]  # fmt: skip

    def take(self, mail: Mail, now: datetime.datetime) -> bool:
        """Take a mail in hand, if no other process has taken it meanwhile."""
        sql = f"SELECT holder, held FROM outbox WHERE mail_id = ? AND {_OPEN}"
        row = next(iter(self._database.rows(sql, mail.mail_id)), None)
        if row is None or at_work(row["holder"], row["held"]):
            return False
        taken = self._database.rows(
            f"UPDATE outbox SET holder = ?, held = ? WHERE mail_id = ? AND holder IS ? AND held IS ? AND {_OPEN} "
            "RETURNING 1", os.getpid(), now, mail.mail_id, row["holder"], row["held"],
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
