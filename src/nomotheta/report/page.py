"""A run as one self-contained HTML page: no script, no outside resource."""

from __future__ import annotations

import datetime
from typing import Any

from nomotheta.errors import visible
from nomotheta.ledger import RunResult
from nomotheta.load.balance import aside_told
from nomotheta.report.words import STATES, gravest_first, headline, ordered, shown_text


def page(result: RunResult, now: datetime.datetime) -> str:
    """The HTML of a run's page."""
    template = environment().get_template("page.html.j2")
    text: str = template.render(
        run=result,
        headline=headline(result),
        title=headline(result),
        now=now,
        words=STATES,
        aside_told=aside_told,
        ordered=ordered,
        gravest_first=gravest_first,
    )
    return text


def environment() -> Any:
    """The templates."""
    import jinja2

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("nomotheta.report"), autoescape=True, trim_blocks=True, lstrip_blocks=True,
        undefined=jinja2.StrictUndefined, finalize=shown_text,
    )  # fmt: skip
    environment.filters["thousands"] = lambda value: f"{value:,}"
    environment.filters["visible"] = visible
    return environment
