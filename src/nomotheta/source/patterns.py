"""File patterns of deliveries: with a day filled in, and read back out of names."""

from __future__ import annotations

import datetime
import fnmatch
import functools
import re
from collections.abc import Sequence

_PLACE = re.compile(r"\{(day|number|file)(?::([^{}]*))?\}")
_WIDTHS = {"Y": r"\d{4}", "y": r"\d\d", "m": r"\d\d", "d": r"\d\d", "H": r"\d\d", "M": r"\d\d", "S": r"\d\d",
           "j": r"\d{3}", "U": r"\d\d", "W": r"\d\d", "V": r"\d\d", "G": r"\d{4}", "u": r"\d", "w": r"\d"}  # fmt: skip
_ISO = "%Y-%m-%d"


def filled(pattern: str, day: datetime.date, file: str = "") -> str:
    """A pattern with the day, and the file it speaks of, filled in; for a number, what looks like one."""

    def fill(match: re.Match[str]) -> str:
        if match[1] == "day":
            return day.strftime(match[2] or _ISO)
        return "[0-9]*" if match[1] == "number" else file

    return _PLACE.sub(fill, pattern)


@functools.lru_cache(1_000)
def _read_by(pattern: str, *, folded: bool) -> tuple[re.Pattern[str], tuple[str, ...]]:
    """A pattern as a regular expression over whole names, and the forms of the days in it; `folded`: in any case."""
    made, forms, at = [], list[str](), 0
    for match in _PLACE.finditer(pattern):
        made.append(_of_signs(pattern[at : match.start()]))
        if match[1] == "day":
            form = match[2] or _ISO
            forms.append(form)
            made.append(f"(?P<day{len(forms) - 1}>{_of_form(form)})")
        else:
            made.append(r"(?P<number>\d+)" if match[1] == "number" and "number" not in "".join(made) else r"\d+")
        at = match.end()
    made.append(_of_signs(pattern[at:]))
    return re.compile("".join(made), re.IGNORECASE if folded else 0), tuple(forms)


def _of_signs(text: str) -> str:
    """Plain text with `*`, `?` and `[…]` as a regular expression; none of them reaches across folders."""
    told = fnmatch.translate(text)
    inner = told.removeprefix("(?s:").removesuffix(r")\Z").removesuffix(r")\z")
    return inner.replace(".*", "[^/]*") if text else ""


def _of_form(form: str) -> str:
    parts = re.split(r"%-?(.)", form)
    return "".join(
        re.escape(part) if at % 2 == 0 else _WIDTHS.get(part, re.escape(part) if part == "%" else r"\w+")
        for at, part in enumerate(parts)
    )


def day_in(pattern: str, name: str, *, folded: bool = False) -> datetime.date | bool:
    """The day of a file by its name; whether the name fits at all where the pattern has no day, or one not told whole.

    Args:
        pattern: as it is declared.
        name: a file's path, as the pattern is written.
        folded: whether capital and small letters are the same.
    """
    expression, forms = _read_by(pattern, folded=folded)
    found = expression.fullmatch(name)
    if found is None:
        return False
    texts = [found[f"day{at}"] for at in range(len(forms))]
    told = [(form, text) for form, text in zip(forms, texts, strict=True) if _is_whole(form)]
    if not told and _is_whole("".join(forms)):  # the year is in a folder's name, the rest in the file's
        told = [("|".join(forms), "|".join(texts))]
    if not told:
        return True  # a year, a month or a week is no day
    try:
        day = datetime.datetime.strptime(told[0][1], told[0][0]).date()
    except (ValueError, re.error):
        return False
    return day if [day.strftime(form) for form in forms] == texts else False


def _is_whole(form: str) -> bool:
    """Whether a day can be told by what is written in a form."""
    told = {*re.findall("%-?(.)", form)}
    return bool(told & {"Y", "y"} and ("j" in told or ("d" in told and told & {"m", "b", "B"}))) or {*"GVu"} <= told


def number_in(patterns: Sequence[str], name: str) -> int | None:
    """The running number in a file's name, by the first pattern that has one and that the name fits."""
    for pattern in patterns:
        if "{number}" in pattern:
            found = _read_by(pattern, folded=False)[0].fullmatch(name)
            if found is not None:
                return int(found["number"])
    return None
