"""JUnit XML: a suite for each table, a case for its delivery, for each of its rules, and for its reconciliation."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Iterator

from nomotheta.ledger import TableResult
from nomotheta.report.outputs import Shown
from nomotheta.report.words import STATES, todo

Case = tuple[str, str, str, str]  # name, what came of it, a line about it, more about it
_NO_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # what XML 1.0 has no way to write


def written(shown: Shown) -> bytes:
    """The document."""
    run = shown.run
    root = ET.Element("testsuites", name=_plain(run.workspace), time=f"{run.seconds:.3f}")
    totals = {"tests": 0, "failures": 0, "errors": 0, "skipped": 0}
    for table in run.tables:
        cases = list(_cases(table))
        counts = {
            "tests": len(cases), "failures": _count(cases, "failure"), "errors": _count(cases, "error"),
            "skipped": _count(cases, "skipped"),
        }  # fmt: skip
        suite = ET.SubElement(root, "testsuite", name=_plain(table.table), time=f"{table.load.seconds:.3f}")
        suite.set("timestamp", run.started.replace(tzinfo=None).isoformat(timespec="seconds"))
        for name, count in counts.items():
            suite.set(name, str(count))
        for name, outcome, message, more in cases:
            case = ET.SubElement(suite, "testcase", classname=_plain(table.table), name=_plain(name), time="0")
            if outcome:
                ET.SubElement(case, outcome, message=_plain(message)).text = _plain(more)
        totals = {name: totals[name] + counts[name] for name in totals}
    for name, count in totals.items():
        root.set(name, str(count))
    ET.indent(root)
    made: bytes = ET.tostring(root, encoding="utf-8", xml_declaration=True)
    return made


def _cases(table: TableResult) -> Iterator[Case]:
    load = table.load
    outcomes = {"pass": "", "warn": "", "fail": "failure", "error": "error"}
    broken = any(each.verdict in {"fail", "error"} for each in load.findings)
    if load.state == "held back":
        yield "delivery", "skipped", load.message, todo(table)
    elif load.state != "compared":
        fails = load.verdict in {"fail", "error"} and not broken
        yield "delivery", outcomes[load.verdict] if fails else "", load.message or STATES[load.state], todo(table)
    for each in load.findings:
        yield each.rule, outcomes[each.verdict], each.message, each.because or each.sql
    if table.reconciliation is not None:
        found = table.reconciliation
        told = f"{found.source} and {found.target} differ"
        yield "reconciliation", outcomes[found.verdict], told, found.cause or ", ".join(found.differing)
    elif load.state == "compared" or (table.verdict in {"fail", "error"} and load.verdict not in {"fail", "error"}):
        yield "reconciliation", outcomes[table.verdict], table.message or load.message, todo(table)


def _count(cases: list[Case], outcome: str) -> int:
    return sum(each[1] == outcome for each in cases)


def _plain(text: str) -> str:
    """A text as XML can hold it."""
    return _NO_XML.sub("\ufffd", text)
