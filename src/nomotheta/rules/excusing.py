"""Findings with their excuses: what is excused is counted apart, and never hidden."""

from __future__ import annotations

from dataclasses import replace

from nomotheta.charter import Check, Excuse
from nomotheta.errors import counted
from nomotheta.rules.finding import Finding
from nomotheta.rules.question import Question

_NOUNS = {"groups": "group", "gaps": "value"}
_VALUES = {"whole", "equals", "usual"}  # which break as one, and whose values are told


def excusing(question: Question, check: Check, finding: Finding) -> Finding:
    """A finding, with all that breaks it excused where an excuse is for the rule as a whole, and with what is said."""
    if not check.excuses or finding.verdict == "error":
        return finding
    active = question.excuses(check)
    if finding.breaks and any(excuse.node is None for excuse in active):
        message = finding.message if check.sort in _VALUES else ""
        excused = finding.excused + finding.breaks
        finding = replace(finding, verdict="pass", excused=excused, breaks=0, message=message)
    said = [finding.message]
    if check.otherwise == "reject" and question.set_aside is not None:
        finding = replace(finding, set_aside=question.set_aside.get(check.name, 0))
        said.append(f"{counted(finding.set_aside, 'row')} set aside at loading" if finding.set_aside else "")
    if finding.excused:
        noun = _NOUNS.get(check.sort, "row")
        said.append("excused" if check.sort in _VALUES else f"{counted(finding.excused, noun)} excused")
    if finding.breaks:
        ended = [excuse for excuse in check.excuses if excuse not in active]
        said += [f"the excuse by {excuse.by} ended on {excuse.until}" for excuse in ended]
    message = "; ".join(filter(None, said))
    return replace(finding, message=message, excuses=tuple(map(_told, active)) if finding.excused else ())


def _told(excuse: Excuse) -> str:
    return f"until {excuse.until} by {excuse.by}: {excuse.reason}"
