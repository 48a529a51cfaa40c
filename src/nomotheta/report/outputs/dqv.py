"""The findings of a run in the Data Quality Vocabulary of the W3C: a data set for each table, with its measurements."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from nomotheta.report.outputs import Shown
from nomotheta.report.outputs.linked import document, typed, uri

_PREFIXES = {
    "dqv": "http://www.w3.org/ns/dqv#", "dcat": "http://www.w3.org/ns/dcat#", "dcterms": "http://purl.org/dc/terms/",
    "prov": "http://www.w3.org/ns/prov#", "skos": "http://www.w3.org/2004/02/skos/core#",
    "xsd": "http://www.w3.org/2001/XMLSchema#",
}  # fmt: skip


def written(shown: Shown) -> bytes:
    """The document."""
    return document(_PREFIXES, list(_nodes(shown)))


def _nodes(shown: Shown) -> Iterator[dict[str, Any]]:
    run, metrics = shown.run, dict[str, str]()
    moment = typed(run.started.isoformat(timespec="seconds"), "dateTime")
    for table in run.tables:
        data = uri(run.workspace, "table", table.load.place, table.table)
        measured = []
        for at, each in enumerate(table.load.findings):
            if each.breaks is None:
                continue  # what could not be judged has no number
            metric = uri(run.workspace, "rule", table.table, each.rule)
            metrics[metric] = f"{table.table}: {each.rule}"
            measured.append({
                "@id": uri(run.workspace, "run", run.run_id, table.table, at), "@type": "dqv:QualityMeasurement",
                "dqv:isMeasurementOf": {"@id": metric}, "dqv:computedOn": {"@id": data},
                "dqv:value": typed(each.breaks, "integer"), "prov:generatedAtTime": moment,
            })  # fmt: skip
        yield {
            "@id": data, "@type": "dcat:Dataset", "dcterms:title": table.table, "dcterms:description": table.about,
            "dqv:hasQualityMeasurement": measured,
            "dqv:hasQualityAnnotation": {
                "@type": "dqv:QualityAnnotation",
                "dcterms:description": table.verdict, "prov:generatedAtTime": moment,
            },
        }  # fmt: skip
    for metric, told in metrics.items():
        yield {
            "@id": metric, "@type": "dqv:Metric", "skos:definition": f"rows that break the rule {told}",
            "dqv:expectedDataType": {"@id": "xsd:integer"},
        }  # fmt: skip
