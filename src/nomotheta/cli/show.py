"""Results as an analyst reads them at a terminal: what matters first, then what failed, with examples."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import Path

from rich.console import Console
from rich.table import Table
from rich.text import Text

from nomotheta.charter import Problem
from nomotheta.cli.paint import SIGNS, TONES, cell, indented, number, out, plain_table, rows_told, verdict_text
from nomotheta.errors import counted, visible
from nomotheta.ledger import Entry, Judgement, LoadResult, RunResult, TableResult, Undone
from nomotheta.load.balance import Balance, aside_told
from nomotheta.place.answer import PlaceAnswer
from nomotheta.reconcile import ColumnTotals, Reconciliation
from nomotheta.report.words import STATES, gravest_first, headline, ordered, title
from nomotheta.rules.finding import Finding, Samples
from nomotheta.workspace.aside import SetAside

_REJECTS = 10


# ---- runs


def show_run(result: RunResult) -> None:
    """A night: the summary, then what failed."""
    console = out()
    console.print(Text(title(result), f"bold {TONES[result.verdict]}"))
    console.print(
        Text(f"{result.workspace} · delivery day {result.day} · run {result.run_id} · {result.seconds:.1f} s", "dim")
    )
    console.print()
    table = plain_table(
        ("table", ""), ("verdict", ""), ("loaded", "right"), ("rejected", "right"), ("copies", "right"),
        ("conflicts", "right"), ("in table", "right"), ("files", ""), ("", ""),
    )  # fmt: skip
    for each in result.tables:
        table.add_row(
            Text(each.table, "bold"), verdict_text(each.verdict), *_counts(each.load), _equal(each), _state(each)
        )
    console.print(table)
    for each in gravest_first(result.tables):
        _show_details(console, each)


def _counts(load: LoadResult) -> list[Text]:
    balance = load.balance
    if balance is None or load.state not in {"loaded", "undone"}:
        return [*[number(None)] * 4, number(load.table_rows)]
    loaded = balance.loaded if load.state == "loaded" else 0
    counts = (loaded, balance.rejected, balance.copies, balance.conflicts, load.table_rows)
    return [number(count) for count in counts]


def _equal(table: TableResult) -> Text:
    if table.reconciliation is None:
        return Text("–", "dim")
    same = table.reconciliation.verdict == "pass"
    return Text("equal" if same else "differ", "" if same else "red")


def _state(table: TableResult) -> Text:
    state = table.load.state
    words = {"loaded": "", "refused": "delivery refused", "undone": "load undone", "failed": "could not be loaded"}
    return Text(words.get(state, state))


def _show_details(console: Console, table: TableResult) -> None:
    load = table.load
    broken = [finding for finding in ordered(load.findings) if finding.verdict != "pass"]
    differs = table.reconciliation is not None and table.reconciliation.verdict == "fail"
    told = _has_message(load)
    if not (broken or differs or told or load.rejects or table.message or load.bad or load.warnings):
        return
    console.print()
    console.print(Text(table.table, "bold"))
    if told:
        _show_message(console, load)
    if table.message:
        console.print(Text(f"  {visible(table.message)}", "red"))
    _show_files_apart(console, load)
    for finding in broken:
        show_finding(console, finding)
    if table.reconciliation is not None and differs:
        _show_differences(console, table.reconciliation)
    _show_set_aside(console, load)


def _has_message(load: LoadResult) -> bool:
    """Whether what is said of a load is more than that it is loaded, and than what the rules say."""
    ruled = any(finding.verdict == "fail" for finding in load.findings)
    quiet = load.state in {"loaded", "unchanged"} and (load.verdict != "fail" or ruled)
    return bool(load.message) and (not quiet or bool(load.changed))


def _show_message(console: Console, load: LoadResult | Undone) -> None:
    where = f"{load.where}: " if load.where else ""
    console.print(indented(Text(f"{SIGNS[load.verdict]} {visible(where + load.message)}", TONES[load.verdict]), 2))
    if load.mend:
        console.print(indented(Text(f"→ {visible(load.mend)}"), 4))


def show_finding(console: Console, finding: Finding) -> None:
    """A broken rule, with a few of the rows that break it."""
    tone = TONES[finding.verdict]
    line = Text.assemble((f"{SIGNS[finding.verdict]} {finding.rule}", tone))
    if finding.message:
        line.append(f"  {visible(finding.message)}")
    console.print(indented(line, 2))
    if finding.because:
        console.print(indented(Text(finding.because, "dim"), 4))
    if finding.samples.rows:
        console.print(indented(_samples(finding.samples), 4))
        more = (finding.breaks or 0) - len(finding.samples.rows)
        if more > 0 and finding.sort != "key":
            console.print(indented(Text(f"… and {more:,} more", "dim"), 4))


def _samples(samples: Samples) -> Table:
    table = plain_table(*((name, "") for name in samples.columns))
    for row in samples.rows:
        table.add_row(*map(cell, row))
    return table


def _show_set_aside(console: Console, load: LoadResult) -> None:
    if not load.rejects or load.balance is None:
        return
    balance = load.balance
    console.print(indented(Text(f"rows set aside: {balance.aside()}"), 2))
    table = plain_table(("line", "right"), ("column", ""), ("value", ""), ("why", ""))
    for reject in load.rejects[:_REJECTS]:
        table.add_row(
            number(reject.line), cell(reject.column or None, "–"), cell(reject.value, "–"), cell(reject.message)
        )
    console.print(indented(table, 4))
    more = balance.rejected + balance.repeated - _REJECTS
    kept = load.mends or load.load_no  # a rehearsal keeps none
    rest = f"… and {more:,} more" if more > 0 else "with the rows as they came" if kept else ""
    told = f"{rest}: nomotheta rejects {kept} --csv FILE" if kept else rest
    if told:
        console.print(indented(Text(told, "dim"), 4))


# ---- loads


def show_load(load: LoadResult) -> None:
    """A load: its balance, the rules, what was set aside."""
    console = out()
    number_ = f" {load.load_no}" if load.load_no else ""
    what = f"load{number_} for {load.day}: {STATES[load.state]}"
    if load.mends is not None:
        what += f", mended rows of load {load.mends}"
    title = Text.assemble((load.table, "bold"), "  ", verdict_text(load.verdict), f"  {what}")
    console.print(title)
    if _has_message(load):
        _show_message(console, load)
    if load.balance is not None:
        show_balance(console, load.balance, undone=load.state == "undone")
    _show_files_apart(console, load)
    for note in load.notes:
        console.print(Text(f"note   {visible(note)}", "dim"))
    met = [finding for finding in load.findings if finding.verdict == "pass"]
    for finding in ordered(load.findings):
        if finding.verdict != "pass":
            show_finding(console, finding)
    _show_met_in_short(console, met)
    _show_set_aside(console, load)


def _show_files_apart(console: Console, load: LoadResult) -> None:
    """What is to be looked at, and files that could not be loaded."""
    for bad in load.bad:
        console.print(indented(Text(f"✗ left out: {visible(bad.file)}: {visible(bad.message)}", TONES["fail"]), 2))
        if bad.mend:
            console.print(indented(Text(f"→ {visible(bad.mend)}"), 4))
    for warning in load.warnings:
        console.print(indented(Text(f"! {visible(warning)}", TONES["warn"]), 2))


def _show_met_in_short(console: Console, met: Sequence[Finding]) -> None:
    """How many rules are met; of those that some rows break, how many do; and that there were no rows, where so."""
    if not met:
        return
    idle = sum(finding.rows == 0 for finding in met)
    told = f"{counted(len(met), 'check')} passed"
    text = Text(f"✓ {told}", "green")
    if idle:
        text.append(f", {'all' if idle == len(met) else idle} of them because there were no rows to check", "yellow")
    console.print(indented(text, 2))
    for finding in met:
        if finding.breaks:
            console.print(indented(Text.assemble((f"✓ {finding.rule}", "green"), f"  {finding.message}"), 2))


def show_loads(table: str, results: Sequence[LoadResult]) -> None:
    """Loads one below the other; or that there was nothing to load."""
    console = out()
    if not results:
        told = "nothing to load: no row was set aside as a repeat of one that was taken out since"
        console.print(Text.assemble((visible(table), "bold"), f"  {told}"))
    for at, result in enumerate(results):
        if at:
            console.print()
        show_load(result)


def show_undone(results: Sequence[Undone]) -> None:
    """Loads that were taken out again, or why they were not."""
    if len(results) > 1 and results[0].verdict != "pass":
        console = out()
        console.print(Text.assemble(verdict_text(results[0].verdict), "  no load was taken out"))
        _show_message(console, results[0])
        return
    for result in results:
        _show_undone(result)


def _show_undone(result: Undone) -> None:
    console = out()
    done = result.verdict == "pass"
    title = f"  load {result.load_no} " + ("is taken out again" if done else "was not taken out")
    console.print(Text.assemble((result.table, "bold"), "  ", verdict_text(result.verdict), title))
    if not done:
        _show_message(console, result)
        return
    restored = f" + {result.restored:,} put back" if result.restored else ""
    text = f"{result.before:,} before − {result.removed:,} removed{restored} → {result.after:,}"
    console.print(Text.assemble(("  table  ", "dim"), text))
    for load_no, rows in result.open_again.items():
        verb = "is" if rows == 1 else "are"
        told = f"{counted(rows, 'row')} that load {load_no} set aside as repeats of these rows {verb} open again"
        console.print(indented(Text(f"! {told}", TONES["warn"]), 2))
        console.print(indented(Text(f"→ nomotheta load {visible(result.table)} --again, or the next run"), 4))


def show_balance(console: Console, balance: Balance, *, undone: bool = False) -> None:
    """The account of a load, as two sums."""
    grid = Table.grid(padding=(0, 1))
    for each in () if balance.many else balance.files:
        grid.add_row(Text("file", "dim"), Text(f"{visible(each.file)}: {counted(each.lines, 'line')} = {each.told()}"))
    if balance.many:
        whole, worst = balance.together(), balance.worst()
        grid.add_row(Text("files", "dim"), Text(f"{whole.file}: {counted(whole.lines, 'line')} = {whole.told()}"))
        for each in worst:
            told = f"{each.aside()} of {counted(each.records, 'record')}"
            grid.add_row("", Text(f"{visible(each.file)}: {told}"))
        more = sum(each.set_aside > 0 for each in balance.files) - len(worst)
        if more > 0:
            grid.add_row("", Text(f"… and {more:,} more files with rows set aside", "dim"))
    merged = ""
    if balance.how == "merge":
        merged = f" ({balance.inserted:,} inserted, {balance.updated:,} updated, {balance.unchanged:,} unchanged)"
    rows = f"{counted(balance.records, 'record')} = {balance.loaded:,} loaded{merged} + {balance.aside()}"
    removed = f" − {balance.removed:,} replaced" if balance.removed else ""
    new = f"{balance.inserted:,} inserted" if merged else f"{balance.loaded:,} loaded"
    after = f"{balance.before:,} again" if undone else f"{balance.after:,}"
    grid.add_row(Text("rows", "dim"), Text(rows))
    grid.add_row(Text("table", "dim"), Text(f"{balance.before:,} before{removed} + {new} → {after}"))
    for told in balance.alterations():
        grid.add_row(Text("altered", "dim"), Text(visible(told)))
    console.print(indented(grid, 2))


# ---- rejects


def show_rejects(found: SetAside) -> None:
    """The rows of a load that were set aside: by reason, then one by one."""
    console = out()
    load = found.load
    console.print(Text.assemble((load.table, "bold"), _set_aside_title(found)))
    if load.state == "undone":
        console.print(Text("  the load was undone, so none of its rows is in the table", "dim"))
    for reason, count in found.closed.items():
        console.print(Text(f"  {rows_told(count)} closed: {visible(reason)}", "dim"))
    if (found.came or found.closed) and found.shown:
        console.print(Text("  what follows is still open", "dim"))
    if found.shown:
        _show_faults(console, found)


def _set_aside_title(found: SetAside) -> str:
    """How many rows were set aside, and what became of them."""
    title = f"  load {found.load.load_no} for {found.load.day}: {rows_told(found.rows)} set aside"
    if found.came:
        by = " and ".join(map(str, found.by))
        return f"{title}: {found.came:,} came later with load {by}, {found.open:,} open"
    return f"{title}, {found.open:,} open" if found.closed else title


def _show_faults(console: Console, found: SetAside) -> None:
    """Faults by reason, then one by one."""
    load, shown = found.load, found.shown
    console.print()
    reasons = plain_table(("reason", ""), ("faults", "right"))
    counts = Counter(each.reason for each in shown) if found.came or found.closed else load.reasons
    for reason, count in sorted(counts.items(), key=lambda item: -item[1]):
        reasons.add_row(reason, number(count))
    console.print(reasons)
    console.print()
    table = plain_table(("line", "right"), ("column", ""), ("value", ""), ("reason", ""), ("why", ""))
    several = len({each.file for each in shown}) > 1
    for each in shown:
        line = Text(f"{visible(each.file)}:{each.line}") if several else number(each.line)
        table.add_row(line, cell(each.column or None, "–"), cell(each.value, "–"), each.reason, cell(each.message))
    console.print(table)
    console.print()
    for each in shown[:3] if not found.private else []:
        console.print(Text.assemble((f"line {each.line:,}  ", "dim"), cell(each.original)), soft_wrap=True)
    if found.faults > len(shown):
        console.print(
            Text(f"{len(shown):,} of {found.faults:,} faults are shown; all of them: --all, or --csv FILE", "dim")
        )
    if found.private:
        console.print(Text("The original rows hold private columns and are shown only in --csv FILE.", "dim"))


# ---- judgements


def show_judgements(results: Sequence[Judgement]) -> None:
    """Tables held against their charters."""
    console = out()
    for at, result in enumerate(results):
        if at:
            console.print()
        _show_judgement(console, result)


def _show_judgement(console: Console, result: Judgement) -> None:
    title = Text.assemble((result.table, "bold"), "  ", verdict_text(result.verdict))
    verdicts = [finding.verdict for finding in result.findings]
    rows = next((f.rows for f in result.findings if f.rows is not None and f.over == "table"), None)
    if rows is not None:
        counts = [f"{verdicts.count(each)} {each}" for each in ("error", "fail", "warn", "pass") if each in verdicts]
        title.append(f"  {rows_told(rows)} in {result.place}, {counted(len(verdicts), 'rule')}: {', '.join(counts)}")
    console.print(title)
    if result.message:
        console.print(indented(Text(visible(result.message), TONES[result.verdict]), 2))
        if result.mend:
            console.print(indented(Text(f"→ {visible(result.mend)}"), 2))
        return
    broken = [finding for finding in ordered(result.findings) if finding.verdict != "pass"]
    for finding in broken:
        show_finding(console, finding)
    if broken:
        console.print()
    _show_met(console, [finding for finding in result.findings if finding.verdict == "pass"])


_OF_A_COLUMN = {"kind", "text_length", "blank", "between", "among", "pattern"}


def _show_met(console: Console, findings: Sequence[Finding]) -> None:
    """What is met, a line for each column and for each other rule."""
    columns: dict[str, list[str]] = {}
    others = []
    for finding in findings:
        over = f" (rows of {finding.over})" if finding.over != "table" else ""
        note = finding.message
        told = finding.rule + (f": {note}" if note else "") + over
        if finding.sort in _OF_A_COLUMN:
            name = finding.columns[0]
            short = told.removeprefix(f"{name} ").removeprefix("is ").removeprefix("has ")
            columns.setdefault(name, []).append(short)
        else:
            others.append(told)
    table = Table.grid(padding=(0, 2, 0, 0))
    for name, parts in columns.items():
        table.add_row(Text("✓", "green"), Text(visible(name)), Text(visible(" · ".join(parts))))
    console.print(indented(table, 2))
    for told in others:
        console.print(indented(Text.assemble(("✓", "green"), f"  {visible(told)}"), 2))


# ---- reconciliation


def show_reconciliation(result: Reconciliation) -> None:
    """Files against a table."""
    console = out()
    same = result.verdict == "pass"
    told = "files and table are equal" if same else "files and table differ"
    console.print(Text.assemble((result.table, "bold"), "  ", verdict_text(result.verdict), f"  {result.over}: {told}"))
    grid = Table.grid(padding=(0, 1))
    aside = aside_told(result.rejected, result.copies, result.conflicts).replace(" + ", " − ")
    later = f" + {result.mended:,} mended" if result.mended else ""
    files = f"{counted(result.records, 'record')} − {aside}{later} = {rows_told(result.files_rows)}"
    grid.add_row(Text("files", "dim"), Text(files))
    grid.add_row(
        Text("table", "dim"),
        Text(rows_told(result.table_rows), "" if result.files_rows == result.table_rows else "red"),
    )
    prints = f"{result.files_fingerprint} in the files, {result.table_fingerprint} in the table  ({result.scheme})"
    tone = "" if result.files_fingerprint == result.table_fingerprint else "red"
    grid.add_row(Text("fingerprint", "dim"), Text(prints, tone))
    console.print(indented(grid, 2, 1))
    table = plain_table(
        ("column", ""), ("values", "right"), ("total of", ""), ("in the files", "right"), ("in the table", "right")
    )
    for column in result.totals:
        differs = column.column in result.differing or not column.equal
        table.add_row(*_totals_row(column, differs=differs))
    table.columns[0].min_width, table.columns[2].no_wrap = _NAME_WIDTH, True
    for sides in table.columns[3:]:  # values of many digits are folded, not what they are of
        sides.no_wrap = False
    console.print(indented(table, 2))
    if result.uncompared:
        console.print(
            indented(
                Text(
                    f"not compared (not from the files, or not in the charter): {', '.join(result.uncompared)}", "dim"
                ),
                2,
            )
        )
    if not same:
        console.print()
        _show_differences(console, result)


_NAME_WIDTH, _BESIDE = 12, 18  # characters of a column's name; of a value that stands beside another
_MEASURES = {"sum": "sum", "range": "lowest, highest", "length": "characters", "true": "true values"}


def _totals_row(column: ColumnTotals, *, differs: bool) -> Iterable[Text]:
    tone = "red" if differs else ""
    counts = f"{column.files_count:,}" + (
        "" if column.files_count == column.table_count else f" / {column.table_count:,}"
    )
    both = [[_grouped(value, column.measure) for value in side] for side in (column.files, column.table)]
    mark = ",\n" if any(len(value) > _BESIDE for side in both for value in side) else ", "
    sides = [mark.join(side) for side in both]
    yield Text(f"{'✗ ' if differs else ''}{column.column}", tone)
    yield Text(counts, tone)
    yield Text(_MEASURES[column.measure], "dim")
    yield from (Text(side, tone) for side in sides)


def _grouped(value: str | None, measure: str) -> str:
    """A total as people read it: digits in threes."""
    if value is None:
        return "null"
    whole, mark, fraction = value.partition(".")
    plain = whole.lstrip("-").isdigit() and measure != "range"
    return f"{int(whole):,}{mark}{fraction}" if plain and not value.startswith("-0") else visible(value)


def _show_differences(console: Console, result: Reconciliation) -> None:
    if result.differing:
        console.print(indented(Text(f"✗ columns that differ: {', '.join(result.differing)}", "red"), 2))
    if not result.differences:
        return
    count = "many" if result.differing_rows is None else f"{result.differing_rows:,}"
    console.print(indented(Text(f"✗ rows that differ: {count}", "red"), 2))
    table = plain_table(("row", ""), ("", ""), ("column", ""), ("in the files", ""), ("in the table", ""))
    for each in result.differences:
        key = ", ".join(visible(value if value is not None else "null") for _, value in each.key)
        if not each.cells:
            table.add_row(Text(key), each.where, "", "", "")
        for at, difference in enumerate(each.cells):
            head = (Text(key), Text(each.where)) if not at else (Text(""), Text(""))
            table.add_row(*head, Text(difference.column), cell(difference.files), cell(difference.table))
    console.print(indented(table, 4))


# ---- ledger and lint


def show_ledger(entries: Sequence[Entry], zone: object) -> None:
    """What happened, newest first."""
    console = out()
    if not entries:
        console.print("The ledger is empty: nothing was loaded, judged or reconciled yet.")
        return
    table = plain_table(
        ("when", ""), ("run", "right"), ("what", ""), ("table", ""), ("day", ""), ("verdict", ""), ("result", "")
    )  # fmt: skip
    for each in entries:
        when = each.started.astimezone(zone if isinstance(zone, datetime.tzinfo) else None)
        what = f"{each.what} {each.load_no}" if each.load_no else each.what
        table.add_row(
            Text(f"{when:%Y-%m-%d %H:%M}"), number(each.run_id), what, Text(each.table, "bold"),
            Text(str(each.day) if each.day else ""), verdict_text(each.verdict), Text(visible(each.summary)),
        )  # fmt: skip
    console.print(table)


def show_kept(load: LoadResult, began: datetime.datetime) -> None:
    """All that the ledger keeps of a load, for whoever asks later how a table came to be what it is."""
    console = out()
    what = f"  load {load.load_no} for {load.day}: {STATES[load.state]}"
    console.print(Text.assemble((load.table, "bold"), "  ", verdict_text(load.verdict), what))
    balance = load.balance
    grid = Table.grid(padding=(0, 1))
    facts = [
        ("when", f"{began:%Y-%m-%d %H:%M:%S %Z}, {load.seconds:.1f} s"),
        ("by", load.by or "–"),
        ("command", f"nomotheta {load.command}" if load.command else "–"),
        ("place", load.place),
        ("how", _how(load)),
        ("charter", f"version {load.charter}" if load.charter else "–"),
    ]
    if load.mends is not None:
        facts.append(("mends", f"rows of load {load.mends}"))
    for name, value in facts:
        grid.add_row(Text(name, "dim"), Text(visible(value)))
    console.print(indented(grid, 2))
    if balance is not None:
        show_balance(console, balance, undone=load.state == "undone")
        for each in balance.files[:_FILES]:
            console.print(
                indented(Text(f"{visible(each.file)}  {each.bytes:,} bytes  BLAKE3 {each.content}", "dim"), 2)
            )
        if len(balance.files) > _FILES:
            console.print(indented(Text(f"… and {len(balance.files) - _FILES:,} more files: --json", "dim"), 2))
    if load.charter:
        console.print(indented(Text(f"→ its charter: nomotheta ledger --load {load.load_no} --charter"), 2))


def _how(load: LoadResult) -> str:
    """How the rows went in, and whose place they took."""
    if load.balance is None:
        return "–"
    own = f", in place of load {' and '.join(map(str, load.replaced))}" if load.replaced else ""
    return load.balance.how + own


_FILES = 10  # that are shown one by one


def show_places(answers: Sequence[PlaceAnswer]) -> None:
    """Each place, what it answered, and what to do where something is in the way."""
    console = out()
    table = plain_table(
        ("place", ""), ("database", ""), ("answers in", "right"), ("version", ""), ("may create", ""), ("may write", "")
    )
    said = {True: "yes", False: "no", None: "–"}
    for each in answers:
        taken = Text("no answer", "red") if not each.answers else Text("–")
        if each.milliseconds is not None:
            taken = Text(f"{each.milliseconds:.1f} ms")
        table.add_row(
            Text(each.name, "bold"), Text(visible(each.url)), taken, Text(each.version or "–"),
            Text(said[each.may_create]), Text(said[each.may_write]),
        )  # fmt: skip
    console.print(table)
    for each in answers:
        if each.message:
            console.print()
            style = "yellow" if each.answers else "red"
            console.print(Text.assemble((f"{each.name}: {visible(each.message)}", style)))
            if each.mend:
                console.print(Text(f"  → {visible(each.mend)}"))


def show_lint(charters: Sequence[str], problems: Sequence[Problem], notes: Sequence[str] = ()) -> None:
    """What is wrong with the charters, each with its place and mend."""
    console = out()
    for problem in problems:
        line = Text.assemble((f"{problem.file}:{problem.line}", "bold"), ": ", (visible(problem.what), "red"))
        console.print(line, soft_wrap=True)
        for part in problem.excerpt.split("\n") if problem.excerpt else []:
            console.print(Text(f"    {part}"), soft_wrap=True)
        if problem.mend:
            console.print(Text(f"  → {visible(problem.mend)}"), soft_wrap=True)
    if problems:
        console.print()
    several = counted(len(charters), "charter")
    told = f"{counted(len(problems), 'problem')} in" if problems else "No problem in"
    console.print(Text(f"{told} {several}", "red" if problems else "green"))
    for note in notes:
        console.print(Text(f"note  {visible(note)}", "dim"), soft_wrap=True)


def relative(path: Path) -> str:
    """A path as it is typed from here."""
    here = Path.cwd()
    return str(path.relative_to(here)) if path.is_relative_to(here) else str(path)


def show_demo(runs: Sequence[RunResult], folder: object, pages: Sequence[Path]) -> None:
    """Three nights, each in a summary of its own, and what to look at next."""
    console = out()
    for at, result in enumerate(runs):
        if at:
            console.rule(style="dim")
        show_run(result)
    console.rule(style="dim")
    table = plain_table(("night", ""), ("verdict", ""), ("what happened", ""), ("page", ""))
    for result, page in zip(runs, pages, strict=True):
        table.add_row(str(result.day), verdict_text(result.verdict), Text(headline(result)), Text(relative(page)))
    console.print(table)
    console.print()
    console.print(
        Text(f"The faults that were planted are listed in {folder}/README.md. To look around: cd {folder}", "bold")
    )
