"""The chain of the ledger: each record carries the hash of the one before it, so that no later change goes unseen.

A record is made whenever a run or an entry is written: it holds the SHA-256 of what was written (FIPS 180-4), and its
own hash is that of the hash before it and of what it says. Whoever keeps the newest hash elsewhere, in a mail or on
paper, can prove later that nothing before it was altered.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from typing import Any

from nomotheta.errors import NomothetaError
from nomotheta.frozen import frozen
from nomotheta.ledger.steps import Ask

START = "0" * 64  # before the first record
_ENTRY = ("entry_id", "what", "run_id", "load_no", "table_name", "place", "day", "started", "state", "verdict",
          "summary", "document")  # fmt: skip
_RUN = ("run_id", "day", "started", "verdict", "document")
_EVENT = ("event_id", "entry_no", "episode", "at", "day", "run_id", "what", "size", "nights", "told", "by_name")
# what is sealed: its table, its key, the columns that count, and which of its rows have been sealed by now
KINDS = {
    "entry": ("entries", "entry_id", _ENTRY, "state <> 'started'"),
    "run": ("runs", "run_id", _RUN, "document IS NOT NULL"),
    "docket": ("docket_events", "event_id", _EVENT, "1 = 1"),
    "pruning": ("prunings", "pruning_no", ("pruning_no", "at", "before", "by_name", "removed"), "1 = 1"),
}


@frozen
class Altered:
    """Something in the ledger that is not as it was written."""

    what: str
    told: str


@frozen
class Verified:
    """What came of looking through the chain: how many records it has, its newest hash, and what was altered."""

    records: int
    head: str
    altered: tuple[Altered, ...]
    format: str = "nomotheta/ledger-verified/1"


def seal(ask: Ask, kind: str, key: int) -> None:
    """Add a record of a row as it is now; within a transaction of the caller's."""
    table, name, columns, _ = KINDS[kind]
    (row,) = ask(f"SELECT {', '.join(columns)} FROM {table} WHERE {name} = ?", key)
    digest = _digest(tuple(row))
    last = ask("SELECT seq, hash FROM chain ORDER BY seq DESC LIMIT 1")
    number, before = (last[0][0], last[0][1]) if last else (0, START)
    ask(
        "INSERT INTO chain (seq, kind, key, digest, hash) VALUES (?, ?, ?, ?, ?)",
        number + 1,
        kind,
        key,
        digest,
        _hash(before, kind, key, digest),
    )


def seal_all(ask: Ask) -> None:
    """Begin the chain of a ledger that has none: with all that is in it, and could be then."""
    for kind, (table, name, _, sealed) in [*KINDS.items()][:3]:
        for (key,) in ask(f"SELECT {name} FROM {table} WHERE {sealed} ORDER BY {name}"):
            seal(ask, kind, key)


def verified(ask: Ask) -> Verified:
    """Look through the chain, and hold what is in the ledger against it."""
    before, count, newest, altered = START, 0, dict[tuple[str, int], str](), list[Altered]()
    for seq, kind, key, digest, found in ask("SELECT seq, kind, key, digest, hash FROM chain ORDER BY seq"):
        count += 1
        if seq != count:
            altered.append(Altered(f"record {count}", "is missing from the chain"))
            count = seq
        if _hash(before, kind, key, digest) != found:
            altered.append(Altered(f"record {seq}", f"of {_named(kind, key)} was altered"))
        before = found
        newest[kind, key] = digest
    pruned = _pruned(ask, newest)
    for kind, (table, name, columns, sealed) in KINDS.items():
        there = set()
        for row in ask(f"SELECT {', '.join(columns)}, {sealed} FROM {table} ORDER BY {name}"):
            *values, is_sealed = row
            key = values[0]
            there.add((kind, key))
            known = newest.get((kind, key))
            if known is None and is_sealed:
                altered.append(Altered(_named(kind, key), f"was added by other means{_about(kind, values)}"))
            elif known is not None and known != _digest(tuple(values)):
                altered.append(Altered(_named(kind, key), f"was altered after it was written{_about(kind, values)}"))
        missing = {key for other, key in newest if other == kind and (kind, key) not in there}
        gone = sorted(missing - pruned.get(kind, frozenset()))
        altered += [Altered(_named(kind, key), "was removed") for key in gone]
    return Verified(count, before, tuple(altered))


def check_unaltered(ask: Ask, told: str, where: str) -> None:
    """Whether a ledger is as it was written, before something is done that its chain could not tell of later.

    Raises:
        NomothetaError: it is not; with what is not done then.
    """
    altered = verified(ask).altered
    if altered:
        first = f"{altered[0].what} {altered[0].told}"
        raise NomothetaError(f"{told}: {first}", where=where, mend="see: nomotheta ledger --verify")


def _pruned(ask: Ask, newest: Mapping[tuple[str, int], str]) -> dict[str, set[int]]:
    """What was removed on purpose, by kind: as those prunings tell that are as they were written."""
    table, _, columns, _ = KINDS["pruning"]
    found: dict[str, set[int]] = {}
    for row in ask(f"SELECT {', '.join(columns)} FROM {table}"):
        if newest.get(("pruning", row[0])) == _digest(tuple(row)):
            for kind, ranges in json.loads(row[-1]).items():
                found.setdefault(kind, set()).update(key for first, last in ranges for key in range(first, last + 1))
    return found


def _about(kind: str, values: Sequence[Any]) -> str:
    if kind != "entry":
        return ""
    _, what, _, load_no, table, _, day, *_ = values
    return f": {what}{f' {load_no}' if load_no else ''} of {table}" + (f" for {day}" if day else "")


def _named(kind: str, key: int) -> str:
    return f"{_NAMES.get(kind, kind)} {key}"


_NAMES = {"entry": "ledger entry", "docket": "docket event"}


_PIECE = 1 << 20  # letters of a document that are hashed at a time


def _digest(values: tuple[Any, ...]) -> str:
    """The SHA-256 of some values as one JSON array; a document of many files is never in memory twice for it."""
    found = hashlib.sha256(b"[")
    for at, value in enumerate(values):
        found.update(b", " if at else b"")
        if isinstance(value, str) and len(value) > _PIECE:
            found.update(b'"')
            for first in range(0, len(value), _PIECE):
                found.update(json.dumps(value[first : first + _PIECE], ensure_ascii=True)[1:-1].encode())
            found.update(b'"')
        else:
            found.update(json.dumps(value, ensure_ascii=True, default=repr).encode())
    found.update(b"]")
    return found.hexdigest()


def _hash(before: str, kind: str, key: int, digest: str) -> str:
    return hashlib.sha256(f"{before}\n{kind}\n{key}\n{digest}".encode("utf-8", "replace")).hexdigest()
