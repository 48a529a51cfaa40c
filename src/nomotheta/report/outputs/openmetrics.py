"""OpenMetrics text: rows, rejects, breaks, seconds, the last success and open failures of each table."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from nomotheta.report.outputs import Shown

_VERDICTS = ("pass", "warn", "fail", "error")
Sample = tuple[Mapping[str, str], float]


def written(shown: Shown) -> bytes:
    """The exposition, to its mark of the end."""
    lines: list[str] = []
    for name, unit, told, samples in _families(shown):
        full = f"nomotheta_{name}" + (f"_{unit}" if unit else "")
        lines += [f"# TYPE {full} gauge"]
        lines += [f"# UNIT {full} {unit}"] * bool(unit)
        lines += [f"# HELP {full} {told}"]
        for labels, value in samples:
            listed = ",".join(f'{label}="{_escaped(text)}"' for label, text in labels.items())
            lines.append(f"{full}{{{listed}}} {value:.15g}")
    return ("\n".join([*lines, "# EOF"]) + "\n").encode("utf-8", "replace")


def _families(shown: Shown) -> Iterator[tuple[str, str, str, list[Sample]]]:
    run = shown.run
    of = {each.table: {"table": each.table, "place": each.load.place} for each in run.tables}
    balances = {each.table: each.load.balance for each in run.tables if each.load.balance is not None}
    loaded = {each.table for each in run.tables if each.load.state == "loaded"}
    yield (
        "verdict",
        "",
        "1 for the verdict of a table in the newest run, 0 for the others.",
        [
            ({**of[each.table], "verdict": verdict}, float(each.verdict == verdict))
            for each in run.tables
            for verdict in _VERDICTS
        ],
    )
    yield (
        "loaded",
        "rows",
        "Rows that the newest run loaded.",
        [(of[name], balance.loaded if name in loaded else 0) for name, balance in balances.items()],
    )
    yield (
        "rejected",
        "rows",
        "Rows that the newest run set aside.",
        [(of[name], balance.rejected) for name, balance in balances.items()],
    )
    yield (
        "table",
        "rows",
        "Rows in the table after the newest run.",
        [(of[each.table], each.load.table_rows) for each in run.tables if each.load.table_rows is not None],
    )
    yield (
        "breaks",
        "rows",
        "Rows that break a rule.",
        [
            ({**of[each.table], "rule": finding.rule}, finding.breaks)
            for each in run.tables
            for finding in each.load.findings
            if finding.breaks is not None
        ],
    )
    yield (
        "duration",
        "seconds",
        "How long the table took.",
        [(of[each.table], each.load.seconds) for each in run.tables],
    )
    yield (
        "last_success_timestamp",
        "seconds",
        "When a run of the table passed last, in seconds since 1970.",
        [({"table": name}, at) for name, at in shown.passed.items()],
    )
    yield (
        "docket_open",
        "",
        "Failures of the table that are open in the docket.",
        [
            ({"table": each.table}, float(sum(entry.table == each.table and entry.open for entry in shown.entries)))
            for each in run.tables
        ],
    )


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
