"""The docket: a failure that goes on is one entry, told when something about it changes."""

from __future__ import annotations

import csv
import datetime
import email
import email.policy
import json
import random
import re
import urllib.parse
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

import pyarrow.parquet as pq
import pytest

from conftest import SETTINGS, TICKETS, Space
from nomotheta.ledger import TOLD, DocketEntry, Ledger, LoadResult, RunResult, TableResult
from nomotheta.rules.finding import Finding

FIRST = datetime.date(2026, 3, 1)
RULES = ("fare is known", "dates in order", "no more than sixty")


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[Ledger]:
    opened = Ledger(tmp_path / "ledger.sqlite")
    yield opened
    opened.close()


def night(ledger: Ledger, at: int, tables: dict[str, dict[str, int] | str]) -> None:
    """A run in which of each table some rules break, by so many rows; or its load ends in another state."""
    day, results = FIRST + datetime.timedelta(days=at), []
    for name, found in tables.items():
        if isinstance(found, str):
            load = LoadResult(name, "w", day, found, "error" if found == "failed" else "fail", message=found)  # type: ignore[arg-type]
        else:
            findings = tuple(
                Finding(rule, "row", "fail" if found.get(rule) else "pass", breaks=found.get(rule, 0)) for rule in RULES
            )
            load = LoadResult(name, "w", day, "loaded", "fail" if any(found.values()) else "pass", findings=findings)
        results.append(TableResult(name, load.verdict, load, owners=("desk",)))
    verdict = "fail" if any(each.verdict != "pass" for each in results) else "pass"
    started = datetime.datetime.combine(day, datetime.time(2), datetime.UTC)
    number = ledger.begin_run(day, started)
    ledger.end_run(RunResult(number, "line", day, started, 1.0, verdict, tuple(results)))  # type: ignore[arg-type]


class Model:
    """What the docket should hold, kept in plain dictionaries."""

    def __init__(self) -> None:
        self.open: dict[tuple[str, str], list[tuple[int, int | None]]] = {}
        self.told: dict[tuple[str, str], tuple[int | None, bool]] = {}
        self.excused: dict[tuple[str, str], int] = {}
        self.known: set[tuple[str, str]] = set()
        self.changes: list[tuple[str, str, str]] = []

    def night(self, at: int, tables: dict[str, dict[str, int] | str]) -> None:
        self.changes = []
        for table, found in tables.items():
            if found == "held back":
                continue
            if isinstance(found, str):
                self.fails((table, ""), at, None, graver=found == "failed")
                continue
            self.passes((table, ""))
            for rule in RULES:
                if found.get(rule):
                    self.fails((table, rule), at, found[rule])
                else:
                    self.passes((table, rule))

    def fails(self, key: tuple[str, str], at: int, size: int | None, *, graver: bool = False) -> None:
        nights = self.open.setdefault(key, [])
        if not nights:
            self.say("back" if key in self.known else "new", key, size, graver)
            self.known.add(key)
        elif key in self.excused and self.excused[key] < at:
            del self.excused[key]
            self.say("excuse ended", key, size, graver)
        elif key not in self.excused and self.is_worse(key, size, graver):
            self.say("worse", key, size, graver)
        nights.append((at, size))

    def passes(self, key: tuple[str, str]) -> None:
        if self.open.pop(key, None):
            self.excused.pop(key, None)
            self.changes.append(("closed", *key))

    def is_worse(self, key: tuple[str, str], size: int | None, graver: bool) -> bool:
        told, was_graver = self.told[key]
        return (graver and not was_graver) or (size is not None and size > (told or 0) * 1.1)

    def say(self, what: str, key: tuple[str, str], size: int | None, graver: bool) -> None:
        self.told[key] = size, graver
        self.changes.append((what, *key))


def test_after_ninety_nights_the_docket_is_what_a_model_says(ledger: Ledger) -> None:
    for seed in range(4):
        _ninety(ledger, random.Random(seed), f"{seed} ")


def _ninety(ledger: Ledger, chance: random.Random, of: str) -> None:
    model, names = Model(), [f"{of}{name}" for name in ("tickets", "sailings", "ports")]
    state: dict[str, dict[str, int]] = {name: {} for name in names}
    for at in range(90):
        tables: dict[str, dict[str, int] | str] = {}
        for name in names:
            for rule in RULES:
                now = state[name].get(rule, 0)
                change = chance.random()
                state[name][rule] = (
                    max(0, now + chance.randrange(-3, 4)) if now and change < 0.8 else
                    0 if now else chance.choice([0, 0, 0, chance.randrange(1, 30)])
                )  # fmt: skip
            tables[name] = chance.choice([dict(state[name])] * 8 + ["failed", "held back", "refused"])  # type: ignore[list-item]
        if model.open and chance.random() < 0.1:
            key, days = chance.choice(list(model.open)), chance.randrange(1, 6)
            (entry,) = [each for each in ledger.docket.entries() if (each.table, each.name) == key]
            until, moment = FIRST + datetime.timedelta(days=at + days), datetime.datetime.now(datetime.UTC)
            ledger.docket.excuse(entry.entry_no, until, "known", "ada", moment)
            model.excused[key] = at + days

        night(ledger, at, tables)
        model.night(at, tables)

        found = {(each.table, each.name): each for each in ledger.docket.entries() if each.table in names}
        assert {key: _nights(each) for key, each in found.items()} == model.open, at
        events = [event for _, event in ledger.docket.unposted()]
        told = [(event.what, *_key(ledger, event.entry_no)) for event in events if event.what in TOLD]
        assert sorted(told) == sorted(model.changes), at
        assert len(told) == len(set(told))
        ledger.docket.posted([number for number, _ in ledger.docket.unposted()])


def _nights(entry: DocketEntry) -> list[tuple[int, int | None]]:
    return [((each.day - FIRST).days, each.size) for each in entry.nights]


def _key(ledger: Ledger, number: int) -> tuple[str, str]:
    entry = ledger.docket.entry(number)
    assert entry is not None
    return entry.table, entry.name


def test_a_run_that_is_repeated_is_no_further_night_and_an_older_day_closes_nothing(ledger: Ledger) -> None:
    for at in (5, 5, 6):
        night(ledger, at, {"tickets": {RULES[0]: 3}})
    night(ledger, 2, {"tickets": {}})

    (entry,) = ledger.docket.entries()

    assert _nights(entry) == [(5, 3), (6, 3)]
    night(ledger, 6, {"tickets": {}})
    assert ledger.docket.entries() == []


def test_what_was_not_decided_neither_closes_an_entry_nor_counts_as_a_night(ledger: Ledger) -> None:
    night(ledger, 0, {"tickets": {RULES[0]: 3}})
    for at, state in enumerate(("held back", "failed"), 1):
        night(ledger, at, {"tickets": state})

    rule = next(each for each in ledger.docket.entries() if each.name == RULES[0])
    assert (rule.open, _nights(rule)) == (True, [(0, 3)])


RULED = TICKETS.replace("[[keys]]", '[[rules]]\nname = "not dear"\neach = "fare <= 50"\nowners = ["ada"]\n[[keys]]')
HEAD = "ticket_no;fare;sold_on\n"


def _night(space: Space, day: int, *fares: str) -> str:
    rows = "".join(f"T{day}{at:02};{fare};01.06.2026\n" for at, fare in enumerate(fares))
    space.tickets(HEAD + rows, f"2026-06-{day:02}")
    return space.run("run", "--day", f"2026-06-{day:02}", "--create").text


@pytest.fixture
def nights(space: Space) -> Space:
    """Six nights of one table: a rule that holds, breaks, goes on, grows worse, holds, and breaks again."""
    to = '\n[report]\nbase_url = "https://reports.line.example/skerry"\n'
    tell = '[tell.desk]\nurl = "folder:mails"\nfrom = "n@line.example"\nto = ["a@line.example"]\n'
    space.write("nomotheta.toml", SETTINGS + to + tell)
    space.charter(RULED)
    for day, fares in enumerate((("1",), ("60",), ("70", "2"), ("60", "70", "80"), ("1",), ("99", "3")), 1):
        _night(space, day, *fares)
    return space


def _mails(space: Space) -> list[str]:
    found = []
    for path in sorted((space.root / "mails").glob("*.eml"), key=lambda path: path.stat().st_mtime_ns):
        message = email.message_from_bytes(path.read_bytes(), policy=email.policy.default)
        body = message.get_body(("plain",))
        assert body is not None
        found.append(f"{message['Subject']}\n{body.get_content()}")
    return found


def test_a_failure_is_told_when_it_is_new_worse_over_and_back_and_not_every_night(nights: Space) -> None:
    mails = _mails(nights)

    assert len(mails) == 4
    told = ("* new: tickets: not dear, 1 row", "* worse: tickets: not dear, 3 rows, 3 nights",
            "* closed: tickets: not dear passes after 3 nights", "* back again: tickets: not dear, 1 row")  # fmt: skip
    for mail, what in zip(mails, told, strict=True):
        assert what in " ".join(mail.split()), mail
        assert "https://reports.line.example/skerry/docket/1.html" in mail
    assert "https://reports.line.example/skerry/run-2-2026-06-02.html" in mails[0]


def test_the_docket_shows_what_fails_and_whose_it_is_until_somebody_takes_it(nights: Space) -> None:
    shown = nights.run("docket").text
    (entry,) = nights.run("docket", "--json").json["entries"]
    taken = nights.run("docket", "take", "1", "--by", "Ada", "--note", "asked the office")

    assert "1 open, 1 not taken" in shown and "tickets: not dear" in shown
    assert (entry["owners"], entry["episode"], len(entry["nights"])) == (["ada"], 2, 1)
    assert "Ada (asked the office)" in taken.text
    assert "Ada" in (nights.root / "reports/index.html").read_text()
    assert "Ada" in (nights.root / "reports/tables/tickets.html").read_text()
    assert "taken by Ada: tickets: not dear" in _mails(nights)[-1]
    assert nights.run("docket", "--owner", "ADA", "--json").json["entries"]
    assert not nights.run("docket", "--owner", "bo", "--json").json["entries"]
    nights.run("docket", "--closed", "--csv", "all.csv")
    assert "not dear" in (nights.root / "all.csv").read_text()


def test_what_is_excused_is_told_again_when_the_day_is_over(nights: Space) -> None:
    last = max(datetime.date(2026, 6, 8), datetime.datetime.now(datetime.UTC).date() + datetime.timedelta(days=2))
    nights.run("docket", "excuse", "1", "--until", str(last), "--reason", "a test train")
    before = len(_mails(nights))
    _night(nights, 7, "60", "70", "80", "90")

    assert len(_mails(nights)) == before
    assert "excused until" in nights.run("docket").text
    later = last + datetime.timedelta(days=1)
    nights.tickets(HEAD + "T900;90;01.06.2026\n", str(later))
    nights.run("run", "--day", str(later))
    assert "still failing, the excuse is over" in " ".join(_mails(nights)[-1].split())


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("take",), "names no entry"), (("take", "9"), "the docket has no entry 9"), (("9",), "no entry 9"),
        (("excuse", "1", "--reason", "x"), "an end and a reason"), (("1", "--by", "x"), "--by is for docket take"),
        (("excuse", "1", "--until", "2020-01-01", "--reason", "x"), "is over"), (("x",), "'x' names no entry"),
    ],
)  # fmt: skip
def test_what_the_docket_cannot_do_is_said(nights: Space, words: tuple[str, ...], told: str) -> None:
    ended = nights.run("docket", *words)

    assert told in ended.text
    assert ended.code == 2


def test_pages_are_written_and_kept_current_and_their_links_lead_somewhere(nights: Space, demo: Space) -> None:
    folder = nights.root / "reports"
    index = (folder / "index.html").read_text()
    broken = [
        (page.name, link)
        for page in [*folder.rglob("*.html"), *(demo.root / "reports").rglob("*.html")]
        for link in re.findall(r'href="([^"#]+)', page.read_text())
        if not (page.parent / urllib.parse.unquote(link)).is_file()
    ]

    assert broken == []
    (night,) = (demo.root / "reports").glob("run-2-*.html")
    assert 'href="rejects/load-5.csv"' in night.read_text()
    assert (demo.root / "reports/rejects/load-5.csv").read_text().count("\n") == 11
    assert (
        'aria-label="3,003 lines: 3,002 in records, 1 header; 3,002 records: 2,992 loaded, 8 rejected, 1 copy, '
        '1 conflict; 5,992 rows in the table: 2,992 loaded, 3,000 there before"'
    ) in night.read_text()
    broken = (demo.root / "reports/breaks/run-2-2026-06-02-tickets.csv").read_text().splitlines()
    assert [line.split(",")[0] for line in broken[1:]] == ['"fare covers the port fee"'] * 3
    assert 'href="breaks/run-2-2026-06-02-tickets.csv"' in night.read_text()
    assert "1 of 1 table fails" in index
    assert len(list(folder.glob("run-*.html"))) == 6
    known = (folder / "run-3-2026-06-03.html").read_text()
    assert "known, 2 nights since 2026-06-02" in known
    assert "passes" in (folder / "docket" / "1.html").read_text()
    nights.run("report")
    assert (folder / "tables" / "tickets.html").is_file()


def test_forms_for_programs_hold_what_the_run_found(nights: Space) -> None:
    for form in ("junit", "openmetrics", "findings", "breaks", "rejects", "differences", "dqv", "prov"):
        assert nights.run("report", "--as", form, "--to", f"as/{form}").code == 0, form

    suites = ElementTree.parse(nights.root / "as/junit").getroot()
    metrics = (nights.root / "as/openmetrics").read_text()
    failed = [case.get("name") for case in suites.iter("testcase") if case.find("failure") is not None]
    dqv = json.loads((nights.root / "as/dqv").read_text())["@graph"]
    prov = json.loads((nights.root / "as/prov").read_text())["@graph"]
    breaks = {
        each["dqv:isMeasurementOf"]["@id"].rpartition(":")[2]: each["dqv:value"]["@value"]
        for node in dqv
        for each in node.get("dqv:hasQualityMeasurement", ())
    }

    assert failed == ["not dear"]
    assert suites.get("failures") == "1"
    assert 'nomotheta_breaks_rows{table="tickets",place="warehouse",rule="not dear"} 1\n' in metrics
    assert metrics.endswith("# EOF\n")
    assert breaks["not%20dear"] == "1"
    assert nights.run("report", "--as", "findings", "--to", "as/findings.parquet").code == 0
    assert pq.read_table(nights.root / "as/findings.parquet").num_rows == len(
        (nights.root / "as/findings").read_text().splitlines()[1:]
    )
    assert {node["@type"] for node in prov} <= {"prov:Activity", "prov:Entity"}
    assert "did you mean" in nights.run("report", "--as", "junits").text


def test_rows_of_a_run_are_forms_for_programs_too(demo: Space) -> None:
    def read(form: str) -> list[dict[str, object]]:
        assert demo.run("report", "2", "--as", form, "--to", f"{form}.parquet").code == 0
        rows: list[dict[str, object]] = pq.read_table(demo.root / f"{form}.parquet").to_pylist()
        return rows

    breaks, rejects = read("breaks"), read("rejects")

    assert {each["value"] for each in breaks if each["column"] == "ticket_no"} == {
        "T26021201",
        "T26021801",
        "T26022401",
    }
    assert {each["breaks"] for each in breaks if each["table"] == "tickets"} == {3}
    assert {each["line"] for each in rejects} == {102, 203, 304, 405, 506, 607, 708, 809, 1502, 2002}
    assert {(each["table"], each["load_no"]) for each in rejects} == {("tickets", 5)}
    assert read("differences") == []


def test_findings_of_one_name_are_one_entry(ledger: Ledger) -> None:
    findings = tuple(Finding("not dear", "row", "fail", breaks=breaks) for breaks in (2, 1))
    load = LoadResult("tickets", "w", FIRST, "loaded", "fail", findings=findings)
    started = datetime.datetime(2026, 3, 1, tzinfo=datetime.UTC)
    number = ledger.begin_run(FIRST, started)
    ledger.end_run(RunResult(number, "line", FIRST, started, 1.0, "fail", (TableResult("tickets", "fail", load),)))

    (entry,) = ledger.docket.entries()

    assert entry.size == 3


def test_what_comes_from_data_changes_nothing_in_any_form(space: Space) -> None:
    name = '=HYPERLINK(<img src=x onerror=alert(1)>)\\u001b[2J\\u202e\\" # EOF'
    rule = f'[[rules]]\nname = "{name}"\neach = "fare <= 50"\nowners = ["<b>ada</b>\\u001b[2J"]\n[[keys]]'
    tell = '[tell.desk]\nurl = "folder:mails"\nfrom = "n@line.example"\nto = ["a@line.example"]\n'
    space.write("nomotheta.toml", SETTINGS + tell)
    space.charter(TICKETS.replace("[[keys]]", rule))
    _night(space, 1, "60")
    space.run("docket", "take", "1", "--by", "=ada\x1b[2J", "--note", "<script>\x1b")
    space.run("report")
    forms = {form: space.root / f"as/{form}" for form in ("junit", "openmetrics", "findings", "dqv", "prov")}
    for form, path in forms.items():
        assert space.run("report", "--as", form, "--to", str(path)).code == 0
    space.run("docket", "--csv", "docket.csv")

    pages = [path.read_text() for path in (space.root / "reports").rglob("*.html")]
    texts = [*pages, *_mails(space), space.run("docket").out, space.run("docket", "1").out, space.run("tell").text]
    assert not [text for text in texts if "\x1b" in text or "\u202e" in text]
    assert not [page for page in pages if "<img src=x" in page or "<b>ada" in page]
    (case,) = [
        each
        for each in ElementTree.parse(forms["junit"]).getroot().iter("testcase")
        if each.find("failure") is not None
    ]
    assert (case.get("name") or "").startswith("=HYPERLINK(<img")
    metrics = forms["openmetrics"].read_text()
    sample = re.compile(r'[a-z_]+\{(?:[a-z_]+="(?:[^"\\\n]|\\.)*",?)*\} -?[0-9.e+-]+')
    assert all(line.startswith("#") or sample.fullmatch(line) for line in metrics.splitlines())
    assert metrics.count("\n# EOF\n") == 1
    for file in ("as/findings", "docket.csv"):
        with (space.root / file).open(newline="") as rows:
            cells = [cell for row in csv.reader(rows) for cell in row]
        assert not [cell for cell in cells if cell[:1] in {"=", "+", "-", "@"}], file
    assert json.loads(forms["dqv"].read_text())["@graph"]


def test_a_charter_that_was_wrong_is_over_when_it_can_be_read_whatever_else_fails_then(nights: Space) -> None:
    right = (nights.root / "charters/tickets.toml").read_text()
    nights.charter(right.replace("[load]", "[lood]"))
    nights.charter(right.replace("tickets", "others"), "others")
    _night(nights, 8, "1")
    wrong = [each for each in nights.run("docket", "--json").json["entries"] if each["verdict"] == "error"]
    nights.charter(right)
    (nights.root / "inbox/tickets-2026-06-09.csv").unlink(missing_ok=True)
    nights.run("run", "--day", "2026-06-09", "tickets")

    assert [each["table"] for each in wrong] == ["tickets"]
    now = [each for each in nights.run("docket", "--json").json["entries"] if each["table"] == "tickets"]
    assert sorted((each["sort"], each["verdict"]) for each in now) == [("delivery", "fail"), ("rule", "fail")]


def test_a_rule_that_only_warns_now_is_closed_but_not_said_to_pass(nights: Space) -> None:
    nights.charter(RULED.replace('owners = ["ada"]', 'owners = ["ada"]\notherwise = "warn"'))
    _night(nights, 7, "99")

    assert nights.run("docket", "--json").json["entries"] == []
    (last,) = [event for event in nights.run("docket", "1", "--json").json["events"] if event["what"] == "closed"][1:]
    assert last["told"] == "only warns now"
    assert "not dear only warns now after 1 night" in " ".join(_mails(nights)[-1].split())
