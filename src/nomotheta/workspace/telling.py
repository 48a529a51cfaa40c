"""Who hears of what: results into the outbox, and what waits there to its mail server."""

from __future__ import annotations

import datetime
import zoneinfo
from pathlib import Path

from nomotheta.charter import Settings
from nomotheta.errors import NomothetaError
from nomotheta.ledger import Ledger, LoadResult, RunResult


def tell(
    settings: Settings, ledger: Ledger, root: Path, zone: zoneinfo.ZoneInfo, result: RunResult | LoadResult
) -> list[NomothetaError]:
    """Tell those who want to hear of a result, and send what earlier attempts could not; what failed again."""
    tells_passes = any("pass" in tell.on for tell in settings.tell.values())
    if not settings.tell or (result.verdict == "pass" and not ledger.unsent() and not tells_passes):
        return []
    from nomotheta.tell import as_run, send, worth_telling, written

    now = datetime.datetime.now(datetime.UTC)
    run = as_run(result, settings.name, now) if isinstance(result, LoadResult) else result
    for name, told in settings.tell.items():
        tables = worth_telling(run, told)
        if tables:
            ledger.post(name, *written(run, tables), now)
    failed: list[NomothetaError] = []
    for mail in ledger.unsent():
        declared = settings.tell.get(mail.tell)
        if declared is None or any(error.where.startswith(f"tell {mail.tell}") for error in failed):
            continue
        try:
            send(mail, declared, root, datetime.datetime.now(zone))
        except NomothetaError as error:
            failed.append(error)
        else:
            ledger.sent(mail.mail_id, datetime.datetime.now(datetime.UTC))
    return failed
