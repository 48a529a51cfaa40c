"""A footer that looks like a row is one, most likely: the file came without its footer, and a row would be lost."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path

from nomotheta.errors import DeliveryError, visible
from nomotheta.load.work import Plan, work
from nomotheta.source.base import SourceFile
from nomotheta.source.formats import open_file
from nomotheta.source.shape import match_columns

_SHOWN = 80  # characters of a line
_MEND = (
    "if the footer is missing, have the file sent again; if there is none, take footer out of the layout; "
    'or say what it states: [delivery.stated] in = "footer"'
)


def check_footer(source: SourceFile, plan: Plan) -> None:
    """Whether the lines that were taken for a file's footer could not be rows of it.

    What the sender states in a footer is looked for there by the charter's own pattern, which says as much.

    Raises:
        DeliveryError: one could be a row.
    """
    delivery, layout = plan.charter.delivery, plan.compiled.layout
    stated = delivery is not None and delivery.stated is not None and delivery.stated.in_ == "footer"
    if not layout.footer or stated or not source.footer.strip():
        return
    plain = replace(layout, footer=0, encoding="utf-8", comment="")
    compiled = replace(plan.compiled, layout=plain)
    with tempfile.TemporaryDirectory(prefix="nomotheta-") as folder:
        path = Path(folder) / "footer"
        for line in filter(str.strip, source.footer.splitlines(keepends=True)):
            path.write_text(source.heading + line, encoding="utf-8", newline="")
            if _has_row(path, plan, replace(plan, compiled=compiled, keys=())):
                hidden = "it is not shown, because it may hold private values"
                told = hidden if plan.charter.private() else f"'{visible(line.strip())[:_SHOWN]}'"
                raise DeliveryError(f"its footer looks like a row: {told}", where=plan.file, mend=_MEND)


def _has_row(path: Path, plan: Plan, asked: Plan) -> bool:
    """Whether a file has a row that would be loaded."""
    try:
        source = open_file(path, plan.file, asked.compiled.layout, plan.charter)
        shape = match_columns(source, plan.charter)
        placed = replace(asked, positions=shape.positions, width=shape.width)
        return any(work(source, block, placed).good.num_rows for block in source.blocks())
    except DeliveryError:  # it is not a file of this layout
        return False
