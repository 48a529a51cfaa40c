"""What waits in the outbox, handed to the channels that its entries name."""

from __future__ import annotations

import datetime
import json
import time
from collections.abc import Iterator, Sequence
from dataclasses import replace
from html import escape
from pathlib import Path

from nomotheta.charter import Settings, Tell
from nomotheta.errors import DeclarationError, NomothetaError, counted, did_you_mean
from nomotheta.ledger import Ledger, Mail
from nomotheta.tell import Delivered, Parcel, send

_PATIENCE = 30  # seconds, for all messages together


class Sending:
    """One round through the outbox."""

    def __init__(
        self, settings: Settings, ledger: Ledger, root: Path, zone: datetime.tzinfo, identity: str
    ) -> None:  # fmt: skip
        self.settings, self.ledger, self.root, self.zone, self.identity = settings, ledger, root, zone, identity
        self.until = time.monotonic() + _PATIENCE
        self.down: set[str] = set()  # entries whose servers could not be reached in this round

    def run(self) -> Iterator[NomothetaError]:
        """Send what may go out now; what could not be sent, which stays for the next time."""
        now = datetime.datetime.now(datetime.UTC)
        for mail, others in _bundled(self.settings, self.ledger.outbox.waiting(now)):
            name, declared = _entry(self.settings, mail)
            if declared is None:
                yield self._without_entry(mail)
            elif self._may_go(name, declared, mail, now) and self._taken((mail, *others), now):
                yield from self._sent(name, declared, mail, others)

    def _without_entry(self, mail: Mail) -> NomothetaError:
        self.ledger.outbox.refused(mail, "its entry is gone")
        return NomothetaError(
            f"the mail '{mail.subject}' is not sent: nomotheta.toml has no [tell.{mail.tell}] any more, and no "
            "other entry with one of its receivers", where=f"tell {mail.tell}",
            mend="see what it would have said: nomotheta report",
        )  # fmt: skip

    def _may_go(self, name: str, declared: Tell, mail: Mail, now: datetime.datetime) -> bool:
        """Whether there is time left, its server answers, and not too many went out within the hour."""
        if name in self.down or time.monotonic() >= self.until:
            return False
        hour_ago = now - datetime.timedelta(hours=1)
        return declared.at_most is None or self.ledger.outbox.sent_since(mail.tell, hour_ago) < declared.at_most

    def _taken(self, mails: Sequence[Mail], now: datetime.datetime) -> bool:
        """Whether all of them are in our hand: none, where another process has one of them."""
        for at, each in enumerate(mails):
            if not self.ledger.outbox.take(each, now):
                self._put_back(mails[:at])
                return False
        return True

    def _sent(self, name: str, declared: Tell, mail: Mail, others: Sequence[Mail]) -> Iterator[NomothetaError]:
        outbox = self.ledger.outbox
        base, left = self.settings.report.base_url or "", self.until - time.monotonic()
        now = datetime.datetime.now(self.zone)
        try:
            whole = together(mail, others)
            last = others[-1].mail_id if others else 0
            delivered = send(Parcel(whole, declared, name, self.root, left, now, self.identity, base, last))
        except NomothetaError as error:
            self._put_back((mail, *others))
            self.down.add(name)
            yield error
        except BaseException:
            self._put_back((mail, *others))
            raise
        else:
            for each in others:
                outbox.sent(each, now)
            yield from _settled(self.ledger, mail, name, delivered)

    def _put_back(self, mails: Sequence[Mail]) -> None:
        for each in mails:
            self.ledger.outbox.put_back(each)


def send_test(
    settings: Settings, ledger: Ledger, root: Path, zone: datetime.tzinfo, identity: str, name: str
) -> list[NomothetaError]:  # fmt: skip
    """Send a test message by an entry at once; it is in the outbox like any other, but is not tried again.

    Raises:
        DeclarationError: there is no such entry.
    """
    if name not in settings.tell:
        mend = did_you_mean(
            name, settings.tell, "entries: " + ", ".join(settings.tell) if settings.tell else "declare it"
        )
        raise DeclarationError(f"nomotheta.toml has no [tell.{name}]", where="tell", mend=mend)
    told, now = settings.tell[name], datetime.datetime.now(datetime.UTC)
    subject = f"[{settings.name}] a test message"
    text = f"This is a test of [tell.{name}]. Nothing has failed.\n"
    html = f"<p>This is a test of <code>[tell.{escape(name)}]</code>. Nothing has failed.</p>"
    document = json.dumps({"format": "nomotheta/told/1", "workspace": settings.name, "told": subject, "test": True,
                           "docket": [], "tables": []})  # fmt: skip
    ledger.outbox.post(name, told.to, subject, text, html, now, document)
    mail = ledger.outbox.waiting()[-1]
    ledger.outbox.take(mail, now)
    try:
        delivered = send(
            Parcel(mail, told, name, root, _PATIENCE, now.astimezone(zone), identity, settings.report.base_url or "")
        )
    except NomothetaError as error:
        ledger.outbox.refused(mail, error.what)
        return [DeclarationError(error.what, where=error.where, mend="correct the entry, and try it again")]
    return list(_settled(ledger, mail, name, delivered))


def _bundled(settings: Settings, waiting: Sequence[Mail]) -> list[tuple[Mail, Sequence[Mail]]]:
    """The messages, each with those that go with it: all that wait for a digest."""
    found: list[tuple[Mail, list[Mail]]] = []
    first: dict[str, list[Mail]] = {}
    for mail in waiting:
        declared = settings.tell.get(mail.tell)
        if declared is not None and declared.digest is not None and mail.tell in first:
            first[mail.tell].append(mail)
            continue
        others: list[Mail] = []
        first.setdefault(mail.tell, others)
        found.append((mail, others))
    return [(mail, tuple(others)) for mail, others in found]


def together(mail: Mail, others: Sequence[Mail]) -> Mail:
    """Several messages as one, which is known by the first."""
    if not others:
        return mail
    every = (mail, *others)
    parts = [json.loads(each.document or "{}") for each in every]
    document = parts[0] | {name: [row for part in parts for row in part.get(name, ())] for name in ("docket", "tables")}
    return replace(
        mail, subject=f"{mail.subject}, and {counted(len(others), 'more message')}",
        text="\n\n".join(f"{each.subject}\n\n{each.text}" for each in every),
        html="\n<hr>\n".join(each.html for each in every), document=json.dumps(document),
        files={name: text for each in every for name, text in each.files.items()},
    )  # fmt: skip


def _settled(ledger: Ledger, mail: Mail, name: str, delivered: Delivered) -> Iterator[NomothetaError]:
    """Who has got a mail and who has not is kept."""
    if delivered.refused:
        ledger.outbox.refused(mail, delivered.refused)
        yield NomothetaError(
            f"the mail '{mail.subject}' was refused for good: {delivered.refused}", where=f"tell {name}",
            mend="it is not tried again; what it says is in the report: nomotheta report",
        )  # fmt: skip
        return
    if delivered.later:
        ledger.outbox.put_back(mail, tuple(delivered.later))
    else:
        ledger.outbox.sent(mail, datetime.datetime.now(datetime.UTC))
    for refused, mend in (
        (delivered.later, "it stays in the outbox for them and is tried again with the next run"),
        (delivered.never, f"correct the address in [tell.{name}] of nomotheta.toml; the others have got the mail"),
    ):
        if refused:
            told = "; ".join(f"{who}: {reason}" for who, reason in refused.items())
            yield NomothetaError(f"the server does not take mail for {told}", where=f"tell {name}", mend=mend)


def _entry(settings: Settings, mail: Mail) -> tuple[str, Tell | None]:
    """The entry by which a mail is sent: its own, or, where that was renamed, one with some of its receivers."""
    if mail.tell in settings.tell:
        return mail.tell, settings.tell[mail.tell]
    others = (each for each in settings.tell.items() if not {*mail.recipients}.isdisjoint(each[1].to))
    return next(others, (mail.tell, None))
