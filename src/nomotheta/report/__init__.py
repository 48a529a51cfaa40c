"""Reports: results as pages, JSON and CSV."""

from nomotheta.report.documents import (
    Demo,
    Failure,
    Judgements,
    LedgerPage,
    Linted,
    Loads,
    Page,
    Places,
    Proposed,
    Reconciliations,
    Rejects,
    schemas,
    to_json,
)
from nomotheta.report.look_page import look_page
from nomotheta.report.page import STATES, gravest_first, headline, ordered, page, why, write_file, write_parts
from nomotheta.report.table import mendable_csv

__all__ = [
    "STATES",
    "Demo",
    "Failure",
    "Judgements",
    "LedgerPage",
    "Linted",
    "Loads",
    "Page",
    "Places",
    "Proposed",
    "Reconciliations",
    "Rejects",
    "gravest_first",
    "headline",
    "look_page",
    "mendable_csv",
    "ordered",
    "page",
    "schemas",
    "to_json",
    "why",
    "write_file",
    "write_parts",
]
