"""Who hears of what: results into the outbox, and what waits there to its mail server.

Whatever goes wrong here, it is told beside the result, and takes nothing from it.
"""

from __future__ import annotations

import datetime
import time
import zoneinfo
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.charter import Settings, Tell
from nomotheta.errors import NomothetaError
from nomotheta.ledger import TOLD, Event, Ledger, LoadResult, Mail, RunResult

if TYPE_CHECKING:
    from nomotheta.tell import Delivered

_PATIENCE = 30  # seconds, for all mails together


def tell(
    settings: Settings, ledger: Ledger, root: Path, zone: zoneinfo.ZoneInfo, identity: str,
    result: RunResult | LoadResult,
) -> list[NomothetaError]:  # fmt: skip
    """Tell those who want to hear of a result, and send what earlier attempts could not; what went wrong in that."""
    try:
        _write(settings, ledger, result)
        return list(_send(settings, ledger, root, zone, identity)) if ledger.outbox.waiting() else []
    except NomothetaError as error:
        return [error]


def _write(settings: Settings, ledger: Ledger, result: RunResult | LoadResult) -> None:
    """Mails about a result and about what has changed since the last ones, into the outbox; all of them or none."""
    changes = ledger.docket.unposted()
    if not settings.tell:
        ledger.docket.posted([number for number, _ in changes])
        return
    silent = result.verdict == "pass" and not any("pass" in tell.on for tell in settings.tell.values())
    if silent and not changes:
        return
    from nomotheta.tell import news_for, worth_telling, written

    now = datetime.datetime.now(datetime.UTC)
    run = RunResult.of_one(result, settings.name, now) if isinstance(result, LoadResult) else result
    entries = {each.entry_no: each for each in ledger.docket.entries(closed=True)} if changes else {}
    news = [(entries[event.entry_no], event) for event in _in_sum([event for _, event in changes])]
    with ledger.together():
        for name, told in settings.tell.items():
            mine = news_for(news, told)
            tables = worth_telling(run, told, mine)
            if tables or mine:
                ledger.outbox.post(name, told.to, *written(run, tables, mine, settings.report.base_url), now)
        ledger.docket.posted([number for number, _ in changes])


def _in_sum(events: Sequence[Event]) -> list[Event]:
    """Of each entry what is to be told of all that happened since the last mail: nothing of what came and went."""
    by_entry: dict[int, list[Event]] = {}
    for event in events:
        if event.what in TOLD:
            by_entry.setdefault(event.entry_no, []).append(event)
    told = []
    for happened in by_entry.values():
        last = {event.what: event for event in happened}
        if happened[-1].what == "closed":
            came = happened[0].what in {"new", "back"}
            told += [] if came else [happened[-1]]
        else:
            told += [event for what, event in last.items() if what != "closed"]
    return told


def _send(
    settings: Settings, ledger: Ledger, root: Path, zone: zoneinfo.ZoneInfo, identity: str
) -> Iterator[NomothetaError]:
    from nomotheta.tell import message_of, send

    outbox, down, until = ledger.outbox, set[str](), time.monotonic() + _PATIENCE
    for mail in outbox.waiting():
        name, declared = _entry(settings, mail)
        if declared is None:
            outbox.refused(mail, "its entry is gone")
            yield NomothetaError(
                f"the mail '{mail.subject}' is not sent: nomotheta.toml has no [tell.{mail.tell}] any more, and no "
                "other entry with one of its receivers", where=f"tell {mail.tell}",
                mend="see what it would have said: nomotheta report",
            )  # fmt: skip
            continue
        left = until - time.monotonic()
        if name in down or left <= 0 or not outbox.take(mail, datetime.datetime.now(datetime.UTC)):
            continue
        recipients = [each for each in mail.recipients if each in declared.to] or declared.to
        try:
            message = message_of(mail, declared, datetime.datetime.now(zone), identity)
            delivered = send(message, recipients, declared, name, root, left)
        except NomothetaError as error:
            outbox.put_back(mail)
            down.add(name)
            yield error
        except BaseException:
            outbox.put_back(mail)
            raise
        else:
            yield from _settled(ledger, mail, name, delivered)


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
