"""Where the rows of tables come from, in the W3C's PROV: each load used some files, and made a state of a table."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from typing import Any

from nomotheta.report.outputs import Shown
from nomotheta.report.outputs.linked import document, typed, uri

_PREFIXES = {
    "prov": "http://www.w3.org/ns/prov#", "dcterms": "http://purl.org/dc/terms/",
    "xsd": "http://www.w3.org/2001/XMLSchema#", "rdfs": "http://www.w3.org/2000/01/rdf-schema#",
}  # fmt: skip


def written(shown: Shown) -> bytes:
    """The document; a file is known by its content, so that it is the same wherever it is spoken of."""
    return document(_PREFIXES, list(_nodes(shown)))


def _nodes(shown: Shown) -> Iterator[dict[str, Any]]:
    run = shown.run
    for table in run.tables:
        load, balance = table.load, table.load.balance
        if load.state != "loaded" or balance is None:
            continue
        activity = uri(run.workspace, "load", load.load_no)
        began = run.started
        files = []
        for file in balance.files:
            known = uri("blake3", file.content)
            files.append({"@id": known})
            yield {
                "@id": known, "@type": "prov:Entity", "rdfs:label": file.file,
                "dcterms:extent": typed(file.bytes, "integer"),
            }  # fmt: skip
        yield {
            "@id": activity, "@type": "prov:Activity", "rdfs:label": f"load {load.load_no} of {table.table}",
            "prov:used": files, "prov:startedAtTime": typed(began.isoformat(timespec="seconds"), "dateTime"),
            "prov:endedAtTime": typed(
                (began + datetime.timedelta(seconds=run.seconds)).isoformat(timespec="seconds"), "dateTime"
            ),
            "prov:wasAssociatedWith": {"@id": uri("agent", load.by or "unknown"), "@type": "prov:Agent"},
        }  # fmt: skip
        yield {
            "@id": uri(run.workspace, "table", load.place, table.table, "load", load.load_no), "@type": "prov:Entity",
            "rdfs:label": f"{table.table} after load {load.load_no}", "prov:wasGeneratedBy": {"@id": activity},
            "prov:wasDerivedFrom": files, "dcterms:extent": typed(balance.loaded, "integer"),
            "prov:specializationOf": {"@id": uri(run.workspace, "table", load.place, table.table)},
        }  # fmt: skip
