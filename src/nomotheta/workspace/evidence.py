"""What an auditor asks for, packed: a BagIt bag (RFC 8493) in a zip file."""

from __future__ import annotations

import datetime
import hashlib
import json
import zipfile
from collections.abc import Iterator, Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

from nomotheta.errors import DeclarationError, GoneError
from nomotheta.frozen import frozen
from nomotheta.ledger import Entry
from nomotheta.workspace.aside import as_csv
from nomotheta.workspace.context import Context, moment

_MOST = 100_000  # rows that were set aside, of a load
_EPOCH = (1980, 1, 1, 0, 0, 0)  # of all members, so that the same content makes the same file


@frozen
class Evidence:
    """What was packed: the file, how many entries of the ledger it tells of, its files, and the chain's newest hash."""

    file: str
    entries: int
    files: int
    head: str
    intact: bool
    format: str = "nomotheta/evidence/1"


def pack(
    context: Context, first: datetime.date, last: datetime.date, table: str | None, file: Path
) -> Evidence:  # fmt: skip
    """Pack what the ledger knows of the deliveries of some days, of a table or of all.

    Raises:
        DeclarationError: nothing is known of these days, or the file cannot be written.
    """
    days = context.ledger.run_days()
    entries = [each for each in _entries(context, table) if first <= _day(context, each, days) <= last]
    if not entries:
        of = f" of {table}" if table else ""
        raise DeclarationError(f"the ledger knows nothing{of} from {first} to {last}", mend="see: nomotheta ledger")
    verified = context.ledger.verified()
    part = file.with_name(f".{file.name}.part")
    manifest: dict[str, str] = {}
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as packed:
            size = 0
            for name, content in _payload(context, entries, verified):
                _add(packed, f"data/{name}", content)
                manifest[f"data/{name}"] = hashlib.sha256(content).hexdigest()
                size += len(content)
            tags = {
                "bagit.txt": "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n",
                "bag-info.txt": _info(context, first, last, table, size, len(manifest), verified.head),
                "manifest-sha256.txt": "".join(f"{digest}  {name}\n" for name, digest in manifest.items()),
            }
            for name, text in tags.items():
                _add(packed, name, text.encode())
            listed = (f"{hashlib.sha256(text.encode()).hexdigest()}  {name}\n" for name, text in tags.items())
            _add(packed, "tagmanifest-sha256.txt", "".join(listed).encode())
        part.replace(file)
    except OSError as error:
        raise DeclarationError(f"it cannot be written: {error.strerror}", where=str(file)) from None
    finally:
        part.unlink(missing_ok=True)
    return Evidence(str(file), len(entries), len(manifest), verified.head, not verified.altered)


def _entries(context: Context, table: str | None) -> list[Entry]:
    return [each for each in reversed(context.ledger.entries(table)) if each.state != "started"]


def _day(context: Context, entry: Entry, days: Mapping[int, datetime.date]) -> datetime.date:
    """The delivery's day that an entry is about: its own, its run's, or that on which it was made."""
    return entry.day or days.get(entry.run_id or 0) or entry.started.astimezone(context.zone).date()


def _payload(context: Context, entries: list[Entry], verified: Any) -> Iterator[tuple[str, bytes]]:
    """The files of the bag."""
    yield "README.txt", _README.encode()
    charters, tables = dict[str, str](), {each.table for each in entries}
    for entry in entries:
        document = context.ledger.document(entry.entry_id)
        about = {"entry": asdict(entry), "document": document}
        yield f"entries/{entry.entry_id:06}-{entry.what}.json", _json(about)
        if entry.what == "load" and document and document.get("charter"):
            charters[document["charter"]] = entry.table
        if entry.what == "load" and entry.load_no is not None and document and document.get("reasons"):
            yield _rejects(context, entry.load_no)
    for version, table in charters.items():
        kept = context.ledger.charter(version)
        if kept is not None:
            yield f"charters/{_plain(table)}-{_plain(version)}.toml", kept[0].encode("utf-8", "replace")
    docket = [each for each in context.ledger.docket.entries(closed=True) if each.table in tables]
    events = [asdict(event) for each in docket for event in context.ledger.docket.events(each.entry_no)]
    yield "docket.json", _json({"entries": [asdict(each) for each in docket], "events": events})
    yield "chain.json", _json({"verified": asdict(verified), "records": context.ledger.chain()})


def _rejects(context: Context, load_no: int) -> tuple[str, bytes]:
    """A file of what a load set aside, or one that says why there is none."""
    try:
        return f"rejects/load-{load_no}.csv", as_csv(context, load_no, _MOST).encode("utf-8", "replace")
    except GoneError as error:
        return f"rejects/load-{load_no}.txt", f"{error.where}: {error.what}\n".encode()


def _info(
    context: Context, first: datetime.date, last: datetime.date, table: str | None, size: int, files: int, head: str
) -> str:  # fmt: skip
    facts = {
        "Source-Organization": context.settings.name, "Bagging-Date": str(moment().astimezone(context.zone).date()),
        "External-Description": f"deliveries from {first} to {last}" + (f" of {table}" if table else ""),
        "Payload-Oxum": f"{size}.{files}", "Bag-Software-Agent": "nomotheta", "Ledger-Head": head,
    }  # fmt: skip
    return "".join(f"{name}: {' '.join(value.split())}\n" for name, value in facts.items())


def _add(packed: zipfile.ZipFile, name: str, content: bytes) -> None:
    base = _plain(Path(packed.filename or "").name.lstrip(".").partition(".")[0])  # the bag's own folder
    packed.writestr(zipfile.ZipInfo(f"{base}/{name}", _EPOCH), content, zipfile.ZIP_DEFLATED)


def _json(document: Any) -> bytes:
    return (json.dumps(document, ensure_ascii=False, indent=1, default=str) + "\n").encode("utf-8", "replace")


def _plain(name: str) -> str:
    """A name as that of a file in the bag."""
    return "".join(sign if sign.isascii() and (sign.isalnum() or sign in "_-") else "_" for sign in name) or "_"


_README = """What the ledger of this workspace knows of some days.

entries/   each load, judgement, reconciliation and undo as the ledger keeps it: balances, file checksums (BLAKE3),
           findings with the SQL that counts them, fingerprints of rows, who did it and by which command
charters/  the charters that were carried out, as they were then
rejects/   the rows that were set aside; private values are masked
docket.json  what failed, who took it, what was excused by whom until when and why
chain.json   the chain of the ledger's records; each carries the hash of the one before it
"""
