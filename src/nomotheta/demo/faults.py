"""The faults planted in the Skerry Line's files, in the order in which they arrive."""

from __future__ import annotations

import datetime

from nomotheta.frozen import frozen

NIGHTS = (datetime.date(2026, 6, 1), datetime.date(2026, 6, 2), datetime.date(2026, 6, 3))


@frozen
class Planted:
    """One fault: the night, the table, how Nomotheta names it, and what it is in words.

    `how` is `reject` (then `name` is the reason code, and `mark` a text of the record), `finding` (then `name` is the
    rule and `breaks` how many rows break it) or `refused` (then `name` is a part of the message).
    """

    night: datetime.date
    table: str
    how: str
    name: str
    told: str
    mark: str = ""
    breaks: int = 1


_SECOND, _THIRD = NIGHTS[1], NIGHTS[2]
PLANTED = (
    Planted(_SECOND, "sailings", "finding", "to_port is listed in ports(code)", "a sailing to XQZ: not a port"),
    Planted(_SECOND, "tickets", "reject", "too_few_fields", "a row cut off after its fare", "T26020101"),
    Planted(_SECOND, "tickets", "reject", "too_many_fields", "a note with an unquoted semicolon in it", "T26020202"),
    Planted(_SECOND, "tickets", "reject", "kind", "a number of travellers written as a word: two", "T26020303"),
    Planted(_SECOND, "tickets", "reject", "kind", "a day that no calendar has: 31.06.2026", "T26020404"),
    Planted(_SECOND, "tickets", "reject", "kind", "a fare with thousands sign, decimal comma: 1.250,00", "T26020505"),
    Planted(_SECOND, "tickets", "reject", "text_length", "a note longer than its 40 characters", "T26020606"),
    Planted(_SECOND, "tickets", "reject", "blank", "a sailing code made of spaces", "T26020707"),
    Planted(_SECOND, "tickets", "reject", "among", "a class that is not in the list: bicycle", "T26020808"),
    Planted(_SECOND, "tickets", "reject", "copy", "a ticket that is in the file twice", "T26020909"),
    Planted(_SECOND, "tickets", "reject", "conflict", "a number of the night before on another ticket", "T26010042"),
    Planted(_SECOND, "tickets", "finding", "fare covers the port fee", "three fares below the port fee", breaks=3),
    Planted(_THIRD, "sailings", "refused", "no such file has arrived", "the file of the sailings is missing"),
    Planted(_THIRD, "tickets", "refused", "the same content was loaded before",
            "last night's tickets arrive again under tonight's name"),
)  # fmt: skip
