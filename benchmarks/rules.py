"""Two million rows of fifteen columns judged: `nomotheta judge` against SQL by hand.

    python benchmarks/rules.py PLACE [ROWS] [PAIRS]

PLACE is `duckdb`, or the URL of a PostgreSQL database in which tables `bench_tickets` and `bench_sailings` may be made
anew. Twenty row rules, two wholes, a key and a reference. By hand it is one SELECT with an aggregate for every rule, and
one each for the key and the reference; or one query a rule. Then forty rules against twenty, and one load of thirty in
the table, with an index on its number, against the whole. Then loads: rules in flight against none, and two `usual` and
three `drift` besides against those rules alone. All are whole processes, in turn.
"""

from __future__ import annotations

import itertools
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from common import machine, measured, summary

COLUMNS = """ticket_no varchar(9), sailing varchar(6), passenger varchar(80), travellers bigint, class varchar(8),
 fare decimal(8,2), port_fee decimal(6,2), discount decimal(6,2), sold_on date, sold_at timestamp, note varchar(200),
 channel varchar(8), port varchar(3), agent bigint, load_no bigint"""
ROWS = """insert into bench_tickets select 'T' || lpad(cast(i as varchar), 8, '0'), 'K' || lpad(cast(i % 60 as varchar), 5, '0'),
 case i % 3 when 0 then 'Alda Bakka' when 1 then 'Bergur Brandsdal' else 'Jovald Nesi' end, 1 + i % 6,
 case i % 4 when 0 then 'foot' when 1 then 'cycle' when 2 then 'car' else 'freight' end, 20 + (i % 58000) / 100.0,
 5 + (i % 1100) / 100.0, (i % 90) / 10.0, date '2026-05-01' + cast(i % 28 as integer),
 cast(date '2026-05-01' + cast(i % 28 as integer) as timestamp) + interval '10 hours', case when i % 3 = 0 then 'window seat' end,
 case i % 2 when 0 then 'web' else 'desk' end, case i % 3 when 0 then 'SKE' when 1 then 'HOL' else 'TVO' end, 1 + i % 40,
 1 + i % 30 from generate_series(1, {rows}) as series(i)"""
SAILINGS = "create table bench_sailings as select 'K' || lpad(cast(i as varchar), 5, '0') as code from generate_series(0, 59) as s(i)"
TEXTS = {"ticket_no": 9, "sailing": 6, "passenger": 80, "class": 8, "note": 200, "channel": 8, "port": 3}
KINDS = {"travellers": "integer", "fare": "decimal(8,2)", "port_fee": "decimal(6,2)", "discount": "decimal(6,2)",
         "sold_on": "date", "sold_at": "timestamp", "agent": "integer"}  # fmt: skip
# a column's check as the charter has it, and what an analyst writes for it: the condition that a row breaks
CHECKS = [
    *((name, 'blank = { value = "never", otherwise = "fail" }', f"{name} is null or trim({name}) = ''")
      for name in ("ticket_no", "sailing", "passenger", "class", "port")),
    ("ticket_no", 'pattern = { value = "T[0-9]{8}", otherwise = "fail" }', "not (ticket_no ~ '^T[0-9]{8}$')"),
    ("port", 'pattern = { value = "[A-Z]{3}", otherwise = "fail" }', "not (port ~ '^[A-Z]{3}$')"),
    ("class", 'among = { values = ["foot", "cycle", "car", "freight"], otherwise = "fail" }',
     "class not in ('foot', 'cycle', 'car', 'freight')"),
    ("channel", 'among = { values = ["web", "desk"], otherwise = "fail" }', "channel not in ('web', 'desk')"),
    ("travellers", 'between = { values = [1, 9], otherwise = "fail" }', "travellers not between 1 and 9"),
    ("fare", 'between = { values = [0, 900], otherwise = "fail" }', "fare not between 0 and 900"),
    ("discount", 'between = { values = [0, 9], otherwise = "fail" }', "discount not between 0 and 9"),
]  # fmt: skip
EACH = ["fare >= port_fee", "sold_on <= date '2026-12-31'", "cast(sold_at as date) = sold_on", "upper(port) = port",
        "char_length(note) <= 150", "discount < fare", "trim(passenger) = passenger", "agent > 0"]  # fmt: skip
MORE = [f"fare + {n} > port_fee" for n in range(1, 21)]
WHOLES = [f"count(*) between 1 and {10**9}", "sum(fare) > 0"]
KEY = "select coalesce(sum(n - 1), 0) from (select count(*) as n from bench_tickets group by ticket_no having count(*) > 1) as r"
REFERENCE = """select count(*) from bench_tickets t where sailing is not null
 and not exists (select 1 from bench_sailings s where s.code = t.sailing)"""


def charter(each: list[str], over: str = "", delivery: str = "", *, checks: bool = True, alone: bool = False) -> str:
    """What is declared of the table."""
    lines = ['table = "bench_tickets"', delivery]
    for name in ("ticket_no", "sailing", "passenger", "travellers", "class", "fare", "port_fee", "discount", "sold_on",
                 "sold_at", "note", "channel", "port", "agent"):  # fmt: skip
        kind = f"text({TEXTS[name]})" if name in TEXTS else KINDS[name]
        lines += [f"[columns.{name}]", f'kind = "{kind}"', *(text for of, text, _ in CHECKS if of == name and checks)]
    lines += ["[columns.load_no]", 'from = "@load.no"']
    if not (over or alone):
        lines += ["[[keys]]", 'columns = ["ticket_no"]', 'otherwise = "fail"']
        lines += ["[[references]]", 'columns = ["sailing"]', 'listed_in = "bench_sailings(code)"']
    for sort, conditions in (("each", each), ("whole", WHOLES if checks else [])):
        for condition in conditions:
            lines += ["[[rules]]", f'name = "{condition}"', f'{sort} = "{condition}"', over]
    return "\n".join(lines) + "\n"


def by_hand(each: list[str], *, fused: bool) -> list[str]:
    """The SQL of one who knows how, or of one who asks rule by rule."""
    broken = [condition for _, _, condition in CHECKS] + [f"not ({condition})" for condition in each]
    if not fused:
        single = [f"select count(*) from bench_tickets where {condition}" for condition in broken]
        return [*single, *(f"select {whole} from bench_tickets" for whole in WHOLES), KEY, REFERENCE]
    counts = [f"count(case when {condition} then 1 end)" for condition in broken]
    return [f"select {', '.join(['count(*)', *counts, *WHOLES])} from bench_tickets", KEY, REFERENCE]


DELIVERY = '[delivery]\nfiles = "{file}"\n[load]\nempty = "accept"'


class Bench:
    """A place with the table, and how each side asks it."""

    def __init__(self, place: str, folder: Path) -> None:
        self.folder, self.embedded = folder, place == "duckdb"
        self.url = "duckdb:///ours.duckdb" if self.embedded else place
        (folder / "nomotheta.toml").write_text(f'name = "bench"\n[places.there]\nurl = "{self.url}"\n')
        (folder / "charters").mkdir()

    def program(self, statements: list[str]) -> list[str]:
        """The command that has the database answer statements, one after the other."""
        file = self.folder / "statements.sql"
        if not self.embedded:
            file.write_text(";\n".join(statements) + ";\n")
            return ["psql", "-q", "-f", str(file), self.url]
        code = f"import duckdb\nc = duckdb.connect('ours.duckdb')\nfor s in {statements!r}: c.execute(s).fetchall()"
        return [sys.executable, "-c", code]

    def make(self, rows: int) -> None:
        """The tables, with what every database gathers about new ones."""
        made = ["drop table if exists bench_tickets", "drop table if exists bench_sailings", SAILINGS]
        made += [f"create table bench_tickets ({COLUMNS})", ROWS.format(rows=rows)]
        made += [] if self.embedded else ["vacuum analyze bench_tickets", "vacuum analyze bench_sailings", "checkpoint"]
        subprocess.run(self.program(made), cwd=self.folder, check=True)

    def empty(self) -> None:
        """Take out all that was loaded, and the memory of it."""
        shutil.rmtree(self.folder / ".nomotheta", ignore_errors=True)
        if self.embedded:
            (self.folder / "ours.duckdb").unlink(missing_ok=True)
        else:
            gone = "drop table if exists bench_tickets, nomotheta_marks, nomotheta_files"
            subprocess.run(self.program([gone, "checkpoint"]), cwd=self.folder, check=True)

    def judge(self, text: str, *more: str) -> list[str]:
        """Our command, over a charter."""
        (self.folder / "charters" / "t.toml").write_text(text)
        return [sys.executable, "-m", "nomotheta", "judge", "bench_tickets", *more]

    def pairs(self, name: str, ours: list[str], theirs: list[str], count: int) -> None:
        """Both in turn, so many times; a round before that warms the machine."""
        found: list[tuple[float, float, float]] = []
        for pair in range(count + 1):
            seconds, peak = measured(ours, self.folder)
            other, _ = measured(theirs, self.folder)
            if pair:
                found.append((seconds, other, peak))
        print(summary(name, *map(list, zip(*found, strict=True))), flush=True)  # type: ignore[arg-type]


def load(bench: Bench, rows: int, pairs: int) -> None:
    """A file loaded with twenty row rules and two wholes that are judged in flight, and without any."""
    file = bench.folder / "tickets.csv"
    code = f"import duckdb\nc = duckdb.connect()\nc.execute({f'create table bench_tickets ({COLUMNS})'!r})\n"
    code += f"c.execute({ROWS.format(rows=rows)!r})\n"
    code += f"c.execute(\"copy (select * exclude load_no from bench_tickets) to '{file}' (header)\")"
    subprocess.run([sys.executable, "-c", code], check=True)
    found: list[tuple[float, float, float]] = []
    delivery = DELIVERY.format(file=file)
    texts = (charter(EACH, 'over = "load"', delivery), charter([], 'over = "load"', delivery, checks=False))
    for pair in range(pairs + 1):
        taken = []
        for text in texts:
            bench.empty()
            bench.judge(text)
            taken.append(
                measured([sys.executable, "-m", "nomotheta", "load", "bench_tickets", "--create"], bench.folder)
            )
        if pair:
            found.append((taken[0][0], taken[1][0], taken[0][1]))
    print(summary("load with twenty rules in flight, against none", *map(list, zip(*found, strict=True))), flush=True)  # type: ignore[arg-type]


BACK = ['[[rules]]\nname = "as usual"\nusual = "count(*)"\notherwise = "warn"',
        '[[rules]]\nname = "fares as usual"\nusual = "sum(fare)"\notherwise = "warn"']  # fmt: skip
NIGHTS = 8  # before the one that is measured, of a thousand rows each


def looking_back(bench: Bench, pairs: int) -> None:
    """The same load with two `usual` rules and `drift` of three columns besides, after a week of others; and without."""
    big = bench.folder / "tickets.csv"
    days = [f"2026-06-{day:02}" for day in range(1, NIGHTS + 2)]
    with big.open() as file:
        lines = list(itertools.islice(file, NIGHTS * 1000 + 1))
    for at, day in enumerate(days[:-1]):
        (bench.folder / f"back-{day}.csv").write_text("".join([lines[0], *lines[at * 1000 + 1 : at * 1000 + 1001]]))
    big.rename(bench.folder / f"back-{days[-1]}.csv")
    plain = charter(EACH, 'over = "load"', DELIVERY.format(file=bench.folder / "back-{day}.csv"))
    also = "\n".join([plain, *BACK])
    for name in ("travellers", "fare", "class"):
        also = also.replace(f"[columns.{name}]", f"[columns.{name}]\ndrift = true")
    found: list[tuple[float, float, float]] = []
    for pair in range(pairs + 1):
        taken = []
        for text in (also, plain):
            bench.empty()
            bench.judge(text)
            for day in days[:-1]:
                load = [sys.executable, "-m", "nomotheta", "load", "bench_tickets", "--create", "--day", day]
                subprocess.run(load, cwd=bench.folder, check=True, stdout=subprocess.DEVNULL)
            load = [sys.executable, "-m", "nomotheta", "load", "bench_tickets", "--day", days[-1]]
            taken.append(measured(load, bench.folder))
        if pair:
            found.append((taken[0][0], taken[1][0], taken[0][1]))
    name = "load that looks back, against one that does not"
    print(summary(name, *map(list, zip(*found, strict=True))), flush=True)  # type: ignore[arg-type]


def one_of_thirty(bench: Bench, rows: int, pairs: int) -> None:
    """The rows of one load of thirty, each of which came together, with an index on its number, against all of them."""
    shutil.rmtree(bench.folder / ".nomotheta", ignore_errors=True)
    bench.make(0)
    text = charter([], "", DELIVERY.format(file=bench.folder / "first.csv"), checks=False, alone=True)
    names = [*TEXTS, *KINDS]
    (bench.folder / "first.csv").write_text(",".join(names) + "\n")
    bench.judge(text)
    load_first = [sys.executable, "-m", "nomotheta", "load", "bench_tickets"]
    subprocess.run(load_first, cwd=bench.folder, check=True, stdout=subprocess.DEVNULL)
    filled = ROWS.format(rows=rows).replace("1 + i % 30 from", f"1 + (i - 1) * 30 / {rows} from")
    after = ["create index bench_loads on bench_tickets (load_no)"]
    after += [] if bench.embedded else ["vacuum analyze bench_tickets", "checkpoint"]
    subprocess.run(bench.program([filled, *after]), cwd=bench.folder, check=True)
    judge = bench.judge(charter(EACH, alone=True))
    bench.pairs("one load of thirty, against the table", [*judge, "--load", "1"], judge, pairs)


def main(place: str, rows: int, pairs: int) -> None:
    """Run all of it and print the medians."""
    folder = Path(tempfile.mkdtemp(prefix="nomotheta-bench-"))
    try:
        bench = Bench(place, folder)
        bench.make(rows)
        print(f"{rows:,} rows in {'DuckDB' if bench.embedded else 'PostgreSQL'}; {machine()}", flush=True)
        twenty = bench.judge(charter(EACH))
        bench.pairs("judge, against one SELECT by hand", twenty, bench.program(by_hand(EACH, fused=True)), pairs)
        bench.pairs("judge, against a query a rule", twenty, bench.program(by_hand(EACH, fused=False)), pairs)
        forty = folder / "forty"
        shutil.copytree(folder, forty, ignore=shutil.ignore_patterns("forty", "*.duckdb"))
        text = (folder / "nomotheta.toml").read_text().replace("ours.duckdb", "../ours.duckdb")
        (forty / "nomotheta.toml").write_text(text)
        (forty / "charters" / "t.toml").write_text(charter([*EACH, *MORE]))
        bench.pairs("forty row rules, against twenty", [*twenty, "--workspace", str(forty)], twenty, pairs)
        one_of_thirty(bench, rows, pairs)
        load(bench, rows, pairs)
        looking_back(bench, pairs)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main(
        sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 2_000_000, int(sys.argv[3]) if len(sys.argv) > 3 else 5
    )
