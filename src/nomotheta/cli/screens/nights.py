"""The nights of all tables: what changed since the one before, how the last ones were, and what was removed of old."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.cli.paint import RED, SIGNS, TONES, cut, indented, number, out, plain_table, spark, verdict_text
from nomotheta.errors import counted, visible
from nomotheta.ledger import Change, Part, usual_range
from nomotheta.ledger.pruning import Pruned
from nomotheta.report.words import STATES

_WIDE = 90  # characters: room for a table; below, a line says the same, so that no number is cut
_NAME, _DRAWN, _RULES = 24, 14, 6  # characters of a table's name; nights that are drawn; rules that are named


def show_changes(day: datetime.date | None, changes: Sequence[Change], table: str | None = None) -> None:
    """The tables with which anything is otherwise, and how many are as they were."""
    console = out()
    if day is None or not changes:
        of = f" of {visible(table)}" if table else ""
        console.print(f"No run{of} is known" + (f" for {day}." if day else " yet."))
        return
    differing = [each for each in changes if each.differs]
    before = sorted({each.before.day for each in changes if each.before})
    than = f", compared with {before[-1]}" if before else ""
    told = f"{len(differing):,} of {counted(len(changes), 'table')} changed" if differing else "nothing changed"
    console.print(Text(f"{day}{than}: {told}", "bold"))
    if differing:
        console.print()
        _show_differing(console, differing)
    if differing and len(changes) > len(differing):
        same = len(changes) - len(differing)
        console.print(Text(f"{counted(same, 'table')} as the night before", "dim"))


def _show_differing(console: Console, differing: Sequence[Change]) -> None:
    if console.width >= _WIDE:
        console.print(_table_of(differing))
        console.print()
    for each in differing:
        name = (visible(each.table), "bold")
        if console.width < _WIDE:
            console.print(Text.assemble(name, "  ", _in_a_line(each)))
        for line in _said(each):
            console.print(Text.assemble(name, "  ", line))


def _in_a_line(change: Change) -> Text:
    """The verdicts and counts of a table, where there is no room for a table of them."""
    now, old = change.now, change.before
    text = Text.assemble(
        verdict_text(old.verdict) if old else "–", " → ", verdict_text(now.verdict) if now else "not run"
    )
    for of, name in (("loaded", "loaded"), ("rejected", "rejected"), ("rows", "in the table")):
        count, by = _moved(old, now, of)
        if now is not None and getattr(now, of) is not None:
            text.append(f", {count} {name}" + (f" ({by})" if by.plain else ""))
    return text


def _table_of(differing: Sequence[Change]) -> Table:
    table = plain_table(
        ("table", "whole"), ("before", "whole"), ("now", "whole"), ("loaded", "right"), ("", "right"),
        ("rejected", "right"), ("", "right"), ("in table", "right"), ("", "right"),
    )  # fmt: skip
    for each in differing:
        now, old = each.now, each.before
        table.add_row(
            cut(Text(visible(each.table), "bold"), _NAME), verdict_text(old.verdict) if old else Text("–", "dim"),
            verdict_text(now.verdict) if now else Text("not run"),
            *(cell for of in ("loaded", "rejected", "rows") for cell in _moved(old, now, of)),
        )  # fmt: skip
    return table


def _moved(old: Part | None, new: Part | None, of: str) -> tuple[Text, Text]:
    """A count, and by how much it has changed."""
    before, now = getattr(old, of, None), getattr(new, of, None)
    by = now - before if before is not None and now is not None else 0
    return number(now), Text(f"{by:+,}" if by else "", "dim")


def _said(change: Change) -> list[Text]:
    """In words, what is otherwise with a table."""
    now, old = change.now, change.before
    if now is None:
        return [Text("took no part in this night's runs")]
    if old is None:
        return [Text("is new: no night before knew it")]
    said = []
    if change.is_otherwise:
        said.append(Text(f"{STATES.get(now.state, now.state)}; before: {STATES.get(old.state, old.state)}"))
    new, other = list(change.new_breaks.items()), list(change.other_breaks.items())
    said += [Text(f"✗ {visible(rule)}: newly broken, by {counted(count, 'row')}", RED) for rule, count in new[:_RULES]]
    said += [Text(f"✗ {visible(rule)}: broken by {counted(count, 'row')}, {before:,} before")
             for rule, (before, count) in other[:_RULES]]  # fmt: skip
    said += [Text(f"✓ {visible(rule)}: no longer broken") for rule in change.mended_breaks[:_RULES]]
    if change.is_unusual and old.loaded:
        said.append(
            Text(f"{now.loaded or 0:,} rows loaded, {(now.loaded or 0) / old.loaded:.0%} of {old.loaded:,} before")
        )
    if now.charter and old.charter and now.charter != old.charter:
        said.append(Text("its charter has changed"))
    if not said and now.verdict != old.verdict:
        said.append(Text(f"{old.verdict} before, {now.verdict} now"))
    if not said:
        said.append(Text(f"{counted(now.rejected or 0, 'row')} rejected, {old.rejected or 0:,} before"))
    return said


def show_trends(parts: Mapping[str, Sequence[Part]], table_name: str | None = None) -> None:
    """A line for each table: its verdicts night by night, and how many rows it loaded and rejected."""
    console = out()
    if not parts:
        console.print(f"No run of {visible(table_name)} is known." if table_name else "No run is known yet.")
        return
    wide = console.width >= _WIDE
    table = plain_table(
        ("table", "whole"), ("verdicts", "whole"), ("rows loaded", "whole"), ("last night", "right"),
        ("usual", "right"), ("rejected", "whole"), ("last night", "right"), ("seconds", "right"),
    )  # fmt: skip
    for name, nights in parts.items():
        shown, loaded = nights[-_DRAWN:], [part.loaded for part in nights]
        usual = usual_range([count for count in loaded if count is not None])
        strip = Text.assemble(*((SIGNS.get(part.verdict, "·"), TONES.get(part.verdict, "")) for part in shown))
        if not wide:
            told = f"  {number(loaded[-1])} loaded, {number(nights[-1].rejected)} rejected"
            console.print(Text.assemble((visible(name), "bold"), "  ", strip, told))
            continue
        last = number(loaded[-1])
        if usual and loaded[-1] is not None and not usual[0] <= loaded[-1] <= usual[1]:
            last.stylize(RED)
        rejected = [part.rejected for part in shown]
        table.add_row(
            cut(Text(visible(name), "bold"), _NAME), strip, Text(spark(loaded[-_DRAWN:])), last,
            Text(f"{usual[0]:,.0f} to {usual[1]:,.0f}" if usual else "–", "dim"),
            Text(spark(rejected) if any(rejected) else ""), number(rejected[-1]), Text(f"{shown[-1].seconds:.1f}"),
        )  # fmt: skip
    if wide:
        console.print(table)
    most = max(map(len, parts.values()))
    about = f"the newest night is on the right; usual: what 9 in 10 of {counted(most, 'night')} loaded"
    console.print(Text(about, "dim"))


def show_pruned(found: Pruned) -> None:
    """What was removed from the ledger, and what it takes now."""
    console = out()
    parts = [counted(found.runs, "run"), f"{found.entries:,} {'entry' if found.entries == 1 else 'entries'}",
             f"{counted(found.messages, 'message')} that went out"]  # fmt: skip
    verb = "would be removed" if found.rehearsed else "removed"
    if found.runs or found.entries or found.messages:
        console.print(f"{verb} from the ledger, from before {found.before}: {', '.join(parts)}")
    else:
        console.print(f"nothing to remove: the ledger has nothing from before {found.before} that is no longer needed")
    if found.kept:
        rows = "its rows are" if found.kept == 1 else "their rows are"
        console.print(
            indented(Text(f"{counted(found.kept, 'load')} kept: {rows} in a table, or would be after an undo"), 2)
        )
    if found.unanswered:
        places = " and ".join(found.unanswered)
        console.print(indented(Text(f"all loads into {places} kept: no answer from there"), 2))
    if found.size is not None and found.size_before is not None:
        sizes = f"the ledger takes {found.size / 1e6:,.1f} MB, before {found.size_before / 1e6:,.1f} MB"
        console.print(indented(Text(sizes), 2))
    if not found.rehearsed:
        console.print(indented(Text(f"newest hash {found.head}", "dim"), 2))
