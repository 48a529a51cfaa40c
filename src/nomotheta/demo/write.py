"""The Skerry Line: a made-up ferry operator whose files arrive every night, with faults planted in them.

Everything is generated from a fixed seed; no person, port or ticket exists.
"""

from __future__ import annotations

import datetime
import gzip
import random
from pathlib import Path

from nomotheta.demo.faults import NIGHTS, PLANTED
from nomotheta.errors import DeclarationError

_SEED = 20260601
_TICKETS = 3000
_SAILINGS = 60
_PORTS = (
    ("AND", "Andefjord", "12.00"),
    ("BRK", "Brekkavík", "9.50"),
    ("DRU", "Drunnoy", "7.00"),
    ("ELD", "Eldhamn", "14.00"),
    ("FLA", "Flatskjer", "5.50"),
    ("GRY", "Grýluvágur", "8.00"),
    ("HVA", "Hvalsund", "11.00"),
    ("KOL", "Kolbeinsey Ferry Pier", "6.00"),
    ("LYN", "Lyngholm", "7.50"),
    ("MYR", "Mýrarnes", "10.00"),
    ("SKE", "Skerry Harbour", "16.00"),
    ("TOR", "Torsvík", "9.00"),
)
_GIVEN = (
    "Alda",
    "Bergur",
    "Dýri",
    "Eyðna",
    "Finnleif",
    "Gunnvør",
    "Høgrun",
    "Ívald",
    "Jóvald",
    "Kára",
    "Ljóta",
    "Møna",
)
_FAMILY = (
    "á Bakka",
    "Brandsdal",
    "Eyvindá",
    "Fuglhamar",
    "Heygslund",
    "í Nesi",
    "Klettá",
    "Mýrdalín",
    "Sandvág",
    "Ýristein",
)
_NOTES = (
    "",
    "",
    "",
    "",
    "",
    "window seat",
    "travels with a dog",
    "wheelchair space",
    'left cabin "B"',
    "late check-in",
)
_CLASSES = (("foot", 1.0), ("cycle", 1.2), ("car", 3.4), ("freight", 6.0))

_SETTINGS = """\
# The workspace of the Skerry Line, a made-up ferry operator.
name = "Skerry Line nightly"
time_zone = "Atlantic/Faroe"

[places.warehouse]
url = "duckdb:///warehouse.duckdb"

[layouts.booking-office]      # how the booking office writes its files
delimiter = ";"
encoding = "cp1252"
decimal_sign = ","
date_forms = ["%d.%m.%Y"]
null_words = ["", "n/a"]

[tell.booking-desk]           # who is told when something fails
url = "folder:mails"          # smtp://mail.example:25 in real life; here each mail becomes a file in mails/
from = "nomotheta@skerry-line.example"
to = ["booking-desk@skerry-line.example"]
"""

_CHARTERS = {
    "ports": """\
table = "ports"
about = "The harbours and their fees: a list kept with the charters, not delivered by anyone."
owners = ["harbour-office"]

[delivery]
files = "charters/ports.csv"

[load]
how = "overwrite"

[columns.code]
kind = "text(3)"
blank = "never"
pattern = "[A-Z]{3}"

[columns.name]
kind = "text(40)"
blank = "never"

[columns.port_fee]
kind = "decimal(6,2)"
between = [0, 50]

[[keys]]
columns = ["code"]
""",
    "sailings": """\
table = "sailings"
about = "One row per sailing, sent every night by the harbour office."
owners = ["harbour-office"]

[delivery]
files = "inbox/sailings-{day}.csv.gz"
due = "23:30"

[load]
how = "append"
after_fail = "keep"           # a port that is not listed yet must not hold up the tickets

[columns.code]
kind = "text(6)"
blank = "never"

[columns.from_port]
kind = "text(3)"
blank = "never"

[columns.to_port]
kind = "text(3)"
blank = "never"

[columns.day]
kind = "date"
blank = "never"

[columns.departs]
kind = "time"

[columns.places]
kind = "integer"
between = [1, 900]

[columns.load_no]
from = "@load.no"

[[keys]]
columns = ["code"]

[[references]]
columns = ["from_port"]
listed_in = "ports(code)"

[[references]]
columns = ["to_port"]
listed_in = "ports(code)"

[[rules]]
name = "a sailing goes somewhere else"
each = "from_port <> to_port"
""",
    "tickets": """\
table = "tickets"
about = "One row per ticket sold, sent every night by the booking office."
owners = ["booking-desk"]

[delivery]
files = "inbox/tickets-{day}.csv"
layout = "booking-office"
due = "23:30"

[load]
how = "append"
tolerate = "0.5%"             # of the night's rows may be set aside before the whole load is undone

[columns.ticket_no]
kind = "text(9)"
blank = "never"
pattern = "T[0-9]{8}"

[columns.sailing]
kind = "text(6)"
from = "Sailing code"
blank = "never"

[columns.passenger]
kind = "text(80)"
private = true                # never shown in samples, mails, pages or the ledger

[columns.travellers]
kind = "integer"
between = [1, 60]

[columns.class]
kind = "text"
among = ["foot", "cycle", "car", "freight"]

[columns.fare]
kind = "decimal(8,2)"
between = { values = [0, 900], otherwise = "warn" }

[columns.port_fee]
kind = "decimal(6,2)"

[columns.sold_on]
kind = "date"
blank = "never"

[columns.note]
kind = "text(40)"

[columns.load_no]
from = "@load.no"

[columns.file_line]
from = "@file.line"

[[keys]]
columns = ["ticket_no"]

[[references]]
columns = ["sailing"]
listed_in = "sailings(code)"

[[rules]]
name = "fare covers the port fee"
each = "fare >= port_fee"
otherwise = "warn"
because = "A fare below the fee means that the tariff file was stale."

[[rules]]
name = "a plausible night"
whole = "count(*) between 500 and 20000 and sum(fare) > 0"
over = "load"

[[rules]]
name = "no ticket after its sailing"
offenders = \"\"\"
select t.ticket_no, t.sold_on, s.day as sails_on
from tickets t join sailings s on s.code = t.sailing
where t.sold_on > s.day\"\"\"
""",
}


def write_demo(folder: Path) -> None:
    """Write the workspace into a new or empty folder.

    Raises:
        DeclarationError: the folder holds something already, or cannot be written to.
    """
    if folder.is_dir() and any(folder.iterdir()):
        raise DeclarationError("the folder is not empty", where=str(folder), mend="name another: nomotheta demo FOLDER")
    try:
        for part in ("charters", "inbox"):
            (folder / part).mkdir(parents=True, exist_ok=True)
        _write(folder)
    except OSError as error:
        raise DeclarationError(f"the demo cannot be written: {error.strerror}", where=str(folder)) from None


def _write(folder: Path) -> None:
    (folder / "nomotheta.toml").write_text(_SETTINGS, "utf-8")
    for name, text in _CHARTERS.items():
        (folder / "charters" / f"{name}.toml").write_text(text, "utf-8")
    ports = ["code,name,port_fee", *(",".join(port) for port in _PORTS)]
    (folder / "charters" / "ports.csv").write_text("\n".join(ports) + "\n", "utf-8")
    (folder / "README.md").write_text(_readme(), "utf-8")
    chance = random.Random(_SEED)  # noqa: S311 - made-up data, not secrets
    files = {night: _night(night, chance) for night in NIGHTS[:2]}
    for night, (sailings, tickets) in files.items():
        _write_gzip(folder / "inbox" / f"sailings-{night}.csv.gz", sailings)
        (folder / "inbox" / f"tickets-{night}.csv").write_bytes(tickets.encode("cp1252"))
    # the third night: no sailings, and the second night's tickets once more
    again = files[NIGHTS[1]][1].encode("cp1252")
    (folder / "inbox" / f"tickets-{NIGHTS[2]}.csv").write_bytes(again)


def _write_gzip(path: Path, text: str) -> None:
    with path.open("wb") as file, gzip.GzipFile(fileobj=file, mode="wb", filename="", mtime=0) as packed:
        packed.write(text.encode())


def _night(night: datetime.date, chance: random.Random) -> tuple[str, str]:
    """The texts of a night's two files."""
    sailings = _sailings(night, chance)
    tickets = _tickets(night, sailings, chance)
    if night == NIGHTS[1]:
        sailings[41][2] = "XQZ"
        _plant(tickets)
    head = ["code", "from_port", "to_port", "day", "departs", "places"]
    text = "\n".join(",".join(row) for row in [head, *sailings]) + "\n"
    names = ["ticket_no", "Sailing code", "passenger", "travellers", "class", "fare", "port_fee", "sold_on", "note"]
    return text, "".join(";".join(row) + "\r\n" for row in [names, *tickets])


def _sailings(night: datetime.date, chance: random.Random) -> list[list[str]]:
    rows = []
    for number in range(_SAILINGS):
        start, end = chance.sample(_PORTS, 2)
        day = night + datetime.timedelta(days=chance.randint(0, 9))
        departs = datetime.time(chance.randint(5, 22), chance.choice((0, 15, 30, 45)))
        code = f"K{night.day:02d}{number:03d}"
        rows.append([code, start[0], end[0], day.isoformat(), departs.isoformat(), str(chance.choice((120, 240, 400)))])
    return rows


def _tickets(night: datetime.date, sailings: list[list[str]], chance: random.Random) -> list[list[str]]:
    fees = {code: float(fee) for code, _, fee in _PORTS}
    rows = []
    for number in range(1, _TICKETS + 1):
        sailing = chance.choice(sailings)
        name, factor = chance.choices(_CLASSES, (60, 12, 24, 4))[0]
        fee = fees[sailing[1]]
        fare = fee + round(chance.uniform(4, 60) * factor, 1)
        sold = night - datetime.timedelta(days=chance.randint(0, 20))
        passenger = f"{chance.choice(_GIVEN)} {chance.choice(_FAMILY)}"
        note = chance.choice(_NOTES)
        rows.append([
            f"T26{night.day:02d}{number:04d}", sailing[0], passenger, str(chance.randint(1, 6)), name, _comma(fare),
            _comma(fee), sold.strftime("%d.%m.%Y"), '"' + note.replace('"', '""') + '"' if '"' in note else note,
        ])  # fmt: skip
    return rows


def _comma(value: float) -> str:
    return f"{value:.2f}".replace(".", ",")


def _plant(rows: list[list[str]]) -> None:
    """The faults of the second night's tickets; row n has the number n + 1."""
    rows[100] = rows[100][:6]
    rows[201][8] = "two bags; one pram"
    rows[302][3] = "two"
    rows[403][7] = "31.06.2026"
    rows[504][5] = "1.250,00"
    rows[605][8] = "asks for a cabin far from the engine room and near the bar"
    rows[706][1] = "   "
    rows[807][4] = "bicycle"
    for at in (1200, 1800, 2400):
        rows[at][5] = "1,50"
    rows.insert(1500, list(rows[908]))
    rows.insert(2000, ["T26010042", *rows[41][1:]])


def _readme() -> str:
    lines = [
        "# The Skerry Line",
        "",
        "A made-up ferry operator: no person, port or ticket here exists. Three nights of files lie in `inbox/`, the",
        "charters of three tables in `charters/`. The first night is sound; these faults are planted in the others:",
        "",
        "| night | table | fault | how it shows |",
        "|---|---|---|---|",
    ]
    words = {"reject": "row set aside:", "finding": "rule broken:", "refused": "delivery refused:"}
    lines += [f"| {each.night} | {each.table} | {each.told} | {words[each.how]} {each.name} |" for each in PLANTED]
    lines += [
        "",
        "Try, in this folder:",
        "",
        "    nomotheta rejects                        # what was set aside, and why",
        "    nomotheta judge tickets                  # the rules, over the whole table",
        "    nomotheta reconcile tickets              # files against table, to the last cell",
        "    nomotheta ledger                         # what happened before",
        "    nomotheta report                         # the page of the last night",
        "",
    ]
    return "\n".join(lines)
