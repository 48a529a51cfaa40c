"""Who hears of what: results into the outbox, and what waits there to its mail server.

Whatever goes wrong here, it is told beside the result, and takes nothing from it.
"""

from __future__ import annotations

import datetime
import zoneinfo
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nomotheta.charter import Settings, Tell
from nomotheta.errors import NomothetaError
from nomotheta.frozen import frozen
from nomotheta.ledger import TOLD, Event, Ledger, LoadResult, Outgoing, OutgoingPage, RunResult, TableResult
from nomotheta.secrets import masked

if TYPE_CHECKING:
    from nomotheta.tell import News, Written

Rejects = Callable[[int, int], str | None]


def tell(
    settings: Settings, ledger: Ledger, root: Path, zone: zoneinfo.ZoneInfo, identity: str,
    result: RunResult | LoadResult, rejects: Rejects,
) -> list[NomothetaError]:  # fmt: skip
    """Tell those who want to hear of a result, and send what earlier attempts could not; what went wrong in that.

    `rejects` gives the rows that a load set aside as CSV, or None where that has more than so many kilobytes.
    """
    try:
        _write(settings, ledger, zone, result, rejects)
        if not ledger.outbox.waiting():
            return []
        from nomotheta.workspace.outgoing import Sending  # only now: most nights there is nothing to be sent

        return list(Sending(settings, ledger, root, zone, identity).run())
    except NomothetaError as error:
        return [error]


@frozen
class Due:
    """A message that is to be written: by which entry, from when on, and for what changes and tables."""

    name: str
    tell: Tell
    message: Written
    not_before: datetime.datetime | None
    why: str
    loads: tuple[int, ...] = ()  # those that set rows aside


def due(
    settings: Settings, ledger: Ledger, zone: datetime.tzinfo, result: RunResult | LoadResult,
    changes: Sequence[tuple[int, Event]], now: datetime.datetime,
) -> list[Due]:  # fmt: skip
    """The messages about a result and about changes of the docket."""
    silent = result.verdict == "pass" and not any("pass" in tell.on for tell in settings.tell.values())
    if silent and not changes:
        return []
    from nomotheta.tell import news_for, worth_telling, written

    run = RunResult.of_one(result, settings.name, now) if isinstance(result, LoadResult) else result
    entries = {each.entry_no: each for each in ledger.docket.entries(closed=True)} if changes else {}
    news = [(entries[event.entry_no], event) for event in _in_sum([event for _, event in changes])]
    found = []
    for name, told in settings.tell.items():
        mine = news_for(news, told)
        tables = worth_telling(run, told, mine)
        if tables or mine:
            made = written(run, tables, mine, settings.report.base_url)
            loads = tuple(each.load.load_no for each in tables if each.load.rejects and each.load.load_no)
            found.append(Due(name, told, made, not_before(told, now, zone), _why(told, mine, tables), loads))
    return found


def _attached(due: Due, rejects: Rejects) -> dict[str, str]:
    """The rows that the loads of a message set aside, as files by their names, as far as they are wanted."""
    if not due.tell.by_mail or not due.tell.attach:
        return {}
    texts = {f"rejects-{number}.csv": rejects(number, due.tell.attach) for number in due.loads}
    return {name: text for name, text in texts.items() if text is not None}


def _why(tell: Tell, news: News, tables: Sequence[TableResult]) -> str:
    """Why somebody is told, in words."""
    counts = Counter(event.what for _, event in news)
    parts = [f"{count} {what}" for what, count in counts.items()]
    if tell.when == "always" or not parts:
        parts += [f"{count} {verdict}" for verdict, count in Counter(each.verdict for each in tables).items()]
    return ", ".join(parts)


def _write(
    settings: Settings, ledger: Ledger, zone: zoneinfo.ZoneInfo, result: RunResult | LoadResult, rejects: Rejects
) -> None:  # fmt: skip
    """Messages about a result and about what has changed since the last ones, into the outbox; all of them or none."""
    changes, now = ledger.docket.unposted(), datetime.datetime.now(datetime.UTC)
    found = due(settings, ledger, zone, result, changes, now)
    if not found and not changes:
        return
    files = [_attached(each, rejects) for each in found]
    with ledger.together():
        for each, attached in zip(found, files, strict=True):
            made = each.message
            ledger.outbox.post(
                each.name, each.tell.to, made.subject, made.text, made.html, now, made.document, each.not_before,
                attached,
            )  # fmt: skip
        ledger.docket.posted([number for number, _ in changes])


def outgoing(
    settings: Settings, ledger: Ledger, zone: datetime.tzinfo, result: RunResult, *, rehearse: bool
) -> OutgoingPage:  # fmt: skip
    """What waits in the outbox; or, as a rehearsal, what would be written about a run as if it had just ended."""
    now = datetime.datetime.now(datetime.UTC)
    waiting = [
        Outgoing(
            each.tell, each.recipients, masked(settings.tell[each.tell].url) if each.tell in settings.tell else "",
            each.subject, "waits", ledger.outbox.when(each),
        )
        for each in ledger.outbox.waiting()
    ]  # fmt: skip
    if not rehearse:
        sent = ledger.outbox.sent_by_all(now - datetime.timedelta(hours=1))
        return OutgoingPage(tuple(waiting), rehearsed=False, sent=sent)
    events = [(-1, each) for each in ledger.docket.events(run_id=result.run_id)]
    would = [
        Outgoing(each.name, tuple(each.tell.to), masked(each.tell.url), each.message.subject, each.why, each.not_before)
        for each in due(settings, ledger, zone, result, events, now)
    ]
    return OutgoingPage((*waiting, *would), rehearsed=True)


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


def not_before(tell: Tell, now: datetime.datetime, zone: datetime.tzinfo) -> datetime.datetime | None:
    """The moment until which a message waits: the end of quiet hours, or the time of the digest; None for at once."""
    local = now.astimezone(zone)
    if tell.digest is not None:
        return _next(local, tell.digest)
    if tell.quiet is not None:
        start, end = (datetime.time.fromisoformat(each) for each in tell.quiet.split("-"))
        time_of_day = local.time().replace(tzinfo=None)
        within = start <= time_of_day < end if start <= end else time_of_day >= start or time_of_day < end
        return _next(local, f"{end:%H:%M}") if within else None
    return None


def _next(local: datetime.datetime, clock: str) -> datetime.datetime:
    """The next moment at which clocks show a time."""
    wanted = datetime.datetime.combine(local.date(), datetime.time.fromisoformat(clock), local.tzinfo)
    if wanted <= local:
        wanted = datetime.datetime.combine(local.date() + datetime.timedelta(days=1), wanted.time(), local.tzinfo)
    return wanted.astimezone(datetime.UTC)
