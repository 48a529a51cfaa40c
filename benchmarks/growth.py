"""What grows: moments in many forms, wide and long files, many rejects, repeats, keys, files and charters.

    python benchmarks/growth.py [NAME ...] [--pairs N]

Each line is a whole process against what it is compared with: the same work by DuckDB's reader, by SQL written by hand,
or by ours on a smaller scale. Names: zones, names, peek, wide, commas, rejects, keyed, keys, files, folders, copies,
charters, feeds.
"""

from __future__ import annotations

import gzip
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
from common import machine, measured

NOMOTHETA = [sys.executable, "-m", "nomotheta"]
SETTINGS = 'name = "bench"\n[places.w]\nurl = "duckdb:///w.duckdb"\n'
READ = "import sys\nfrom nomotheta.start import prepare\nprepare()\nsys.path.insert(0, {here!r})\nfrom growth import read\nread({file!r}, {columns!r}, {layout!r})\n"
DUCKDB = "import duckdb; duckdb.connect().execute('''create table t as select * from read_csv({file!r}, {options})''').fetchall()"
Taken = tuple[float, float]


def read(file: str, columns: dict[str, str], layout: dict[str, object]) -> None:
    """Read a file as a load does, without a place."""
    import datetime

    from nomotheta.charter import lint, read_charter
    from nomotheta.charter.settings import Place, Settings
    from nomotheta.load.blocks import worked_blocks
    from nomotheta.load.engine import Engine
    from nomotheta.load.work import Plan
    from nomotheta.place.render import Now
    from nomotheta.source.formats import open_file
    from nomotheta.source.shape import match_columns

    charter = Path(file).with_suffix(".toml")
    lines = ['table = "t"', "[delivery]", f'files = "{Path(file).name}"', "[delivery.layout]"]
    lines += [f"{key} = {value!r}" for key, value in layout.items()] + ["[load]", 'tolerate = "all"']
    lines += [f'[columns.{name}]\nkind = "{kind}"' for name, kind in columns.items()]
    charter.write_text("\n".join(lines))
    found, problems = read_charter(charter, charter.name)
    compiled, more = (
        lint([found], Settings(name="bench", places={"w": Place(url="duckdb:///x")})) if found else ({}, [])
    )
    assert not problems and not more, [*problems, *more]
    chosen = compiled["t"]
    source = open_file(Path(file), file, chosen.layout, chosen.charter)
    shape = match_columns(source, chosen.charter)
    moment = datetime.datetime.now(datetime.UTC)
    plan = Plan(
        chosen, file, shape.positions, shape.width, {}, [], Engine([], Now(moment, moment.date())), "Atlantic/Faroe", 0
    )
    rows = sum(worked.good.num_rows for worked in worked_blocks(source, plan))
    print(rows)


def pairs(label: str, ours: Callable[[], Taken], theirs: Callable[[], Taken], bar: str, count: int) -> None:
    """Run both in turn, and print the medians."""
    found = [(ours(), theirs()) for _ in range(count + 1)][1:]
    ratio = statistics.median(own[0] / other[0] for own, other in found)
    own, other = (statistics.median(pair[side][0] for pair in found) for side in (0, 1))
    peak = max(pair[0][1] for pair in found)
    print(f"{label}: ours {own:.2f} s, {peak:.0f} MB; theirs {other:.2f} s; ratio {ratio:.2f}; bar {bar}", flush=True)


def alone(label: str, ours: Callable[[], Taken], bar: str, count: int) -> None:
    """Run it some times, and print the median."""
    found = [ours() for _ in range(count)]
    seconds, peak = statistics.median(each[0] for each in found), max(each[1] for each in found)
    print(f"{label}: {seconds:.2f} s, {peak:.0f} MB; bar {bar}", flush=True)


def python(program: str, folder: Path) -> Taken:
    return measured([sys.executable, "-c", program], folder)


def command(folder: Path, *words: str, fails: bool = False) -> Taken:
    """A command of ours as a whole process; one that `fails` may end with 1."""
    if not fails:
        return measured([*NOMOTHETA, *words], folder)
    shell = " ".join(f"'{word}'" for word in [*NOMOTHETA, *words])
    return measured(["sh", "-c", f"{shell} > /dev/null || test $? -eq 1"], folder)


def reading(
    folder: Path, name: str, columns: dict[str, str], layout: dict[str, object], options: str
) -> tuple[Callable[[], Taken], Callable[[], Taken]]:
    here, file = str(Path(__file__).parent), str(folder / name)
    ours = READ.format(here=here, file=file, columns=columns, layout=layout)
    theirs = DUCKDB.format(file=file, options=options)
    return (lambda: python(ours, folder)), (lambda: python(theirs, folder))


def zones(folder: Path, count: int) -> None:
    """Ten columns of moments with their zones."""
    chance, rows = np.random.default_rng(1), 1_000_000
    ends = ["Z", "+02:00", "Z", "-05:30", "Z", "+01:00", "Z", "+00:00", "Z", "+03:00"]
    start = np.datetime64("2020-01-01T00:00:00")
    with (folder / "z.csv").open("w") as file:
        file.write(",".join(f"t{at}" for at in range(10)) + "\n")
        for _ in range(10):
            columns = [
                np.char.add(
                    (start + chance.integers(0, 2 * 10**8, rows // 10).astype("timedelta64[s]")).astype(str), end
                )
                for end in ends
            ]
            file.writelines(",".join(row) + "\n" for row in zip(*columns, strict=True))
    kinds = {f"t{at}": "timestamptz" for at in range(10)}
    options = "header = true, columns = {" + ", ".join(f"t{at}: TIMESTAMPTZ" for at in range(10)) + "}"
    pairs(
        "zones: ten columns of timestamptz, 1,000,000 rows", *reading(folder, "z.csv", kinds, {}, options), "2.0", count
    )


def names(folder: Path, count: int) -> None:
    """Ten columns of days with the names of their months."""
    chance, rows = np.random.default_rng(2), 1_000_000
    months = [
        "January",
        "February",
        "March",
        "April",
        "May",
        "June",
        "July",
        "August",
        "September",
        "October",
        "November",
        "December",
    ]
    with (folder / "n.csv").open("w") as file:
        file.write(",".join(f"d{at}" for at in range(10)) + "\n")
        for _ in range(10):
            parts = [chance.integers(1, last, (rows // 10, 10)).tolist() for last in (29, 13, 30)]
            file.writelines(
                ",".join(f"{d:02d} {months[m - 1]} {2000 + y}" for d, m, y in zip(*row, strict=True)) + "\n"
                for row in zip(*parts, strict=True)
            )
    kinds = {f"d{at}": "date" for at in range(10)}
    options = (
        "header = true, dateformat = ''%d %B %Y'', columns = {" + ", ".join(f"d{at}: DATE" for at in range(10)) + "}"
    )
    pairs(
        "names: ten columns of %d %B %Y, 1,000,000 rows",
        *reading(folder, "n.csv", kinds, {"date_forms": ["%d %B %Y"]}, options.replace("''", "'")),
        "1.7",
        count,
    )


def bookings(path: Path, rows: int, faults: bool = False) -> None:
    """Rows of several kinds; with faults, every second has five."""
    chance = np.random.default_rng(3)
    with path.open("w") as file:
        file.write("id,code,name,day,at,number,fare,paid\n")
        for start in range(0, rows, 100_000):
            count = min(100_000, rows - start)
            a = chance.integers(0, 1_000_000, (count, 5)).tolist()
            for i, (r0, r1, r2, r3, r4) in enumerate(a):
                n = start + i
                if faults and n % 2:
                    file.write(f"x{n},,n{r1},2026-13-01,x,1.5.5,abc,maybe\n")
                    continue
                file.write(
                    f"{n},K{r0 % 9999:04d},passenger {r1 % 5000},2026-{r2 % 12 + 1:02d}-{r3 % 28 + 1:02d},2026-01-{r3 % 28 + 1:02d} {r2 % 24:02d}:{r3 % 60:02d}:00,{r4 % 90},{r4 % 9000 / 100:.2f},{'true' if r4 % 2 else 'false'}\n"
                )


BOOKINGS = {
    "id": "integer",
    "code": "text(5)",
    "name": "text(40)",
    "day": "date",
    "at": "timestamp",
    "number": "integer",
    "fare": "decimal(8,2)",
    "paid": "boolean",
}


def workspace(
    folder: Path,
    more: str = "",
    keys: str = "",
    columns: dict[str, str] | None = None,
    files: str = "b.csv",
    table: str = "t",
) -> None:
    (folder / "charters").mkdir(exist_ok=True)
    (folder / "nomotheta.toml").write_text(SETTINGS)
    listed = "".join(f'[columns.{name}]\nkind = "{kind}"\n' for name, kind in (columns or BOOKINGS).items())
    (folder / f"charters/{table}.toml").write_text(
        f'table = "{table}"\n[delivery]\nfiles = "{files}"\n[load]\n{more}\n{listed}{keys}'
    )


def fresh(folder: Path, *names: str) -> None:
    """Take away what an earlier round has left."""
    for name in names or ("w.duckdb", ".nomotheta"):
        subprocess.run(["rm", "-rf", str(folder / name)], check=True)


def peek(folder: Path, count: int) -> None:
    """A look at a long file, against a summary by DuckDB."""
    bookings(folder / "b.csv", 5_500_000)
    size = (folder / "b.csv").stat().st_size / 2**20
    theirs = f"import duckdb; duckdb.connect().execute('''summarize select * from read_csv({str(folder / 'b.csv')!r})''').fetchall()"
    pairs(
        f"peek: {size:.0f} MB", lambda: command(folder, "peek", "b.csv"), lambda: python(theirs, folder), "2.5", count
    )


def wide(folder: Path, count: int) -> None:
    """Two lines of 2,000 columns."""
    (folder / "w.csv").write_text(
        ",".join(f"c{at}" for at in range(2000)) + "\n" + ",".join(str(at % 90) for at in range(2000)) + "\n"
    )
    alone("wide: peek at two lines of 2,000 columns", lambda: command(folder, "peek", "w.csv"), "1 s", count)


def commas(folder: Path, count: int) -> None:
    """Lines of nothing but commas."""
    (folder / "c.csv").write_bytes(b"," * 200_000)
    alone(
        "commas: peek at 200 KB of commas", lambda: command(folder, "peek", "c.csv", fails=True), "refused early", count
    )
    workspace(folder)
    (folder / "b.csv").write_text(",".join(BOOKINGS) + "\n" + "," * 1_000_000 + "\n")
    alone(
        "commas: load of a line of 1 MB of commas",
        lambda: command(folder, "load", "t", "--create", fails=True),
        "1 s",
        count,
    )


def feeds(folder: Path, count: int) -> None:
    """A gigabyte of line feeds packed in five megabytes."""
    workspace(folder, files="b.csv.gz")
    with gzip.open(folder / "b.csv.gz", "wb", 6) as file:
        file.write((",".join(BOOKINGS) + "\n").encode())
        for _ in range(1024):
            file.write(b"\n" * 2**20)
    alone(
        "feeds: load of 1 GB of line feeds",
        lambda: command(folder, "load", "t", "--create", fails=True),
        "400 MB",
        count,
    )


def rejects(folder: Path, count: int) -> None:
    """Half of the rows set aside with five faults each."""
    bookings(folder / "b.csv", 1_000_000, faults=True)
    workspace(folder, 'tolerate = "all"')

    def load() -> Taken:
        fresh(folder)
        return command(folder, "load", "t", "--create")

    alone("rejects: 500,000 rows set aside of 1,000,000", load, "600 MB", count)
    alone(
        "rejects: --csv",
        lambda: (fresh(folder, "out.csv"), command(folder, "rejects", "--csv", "out.csv"))[1],
        "5 s, 400 MB",
        count,
    )
    alone("rejects: the screen", lambda: command(folder, "rejects"), "1 s", count)
    text = (folder / "out.csv").read_text()
    (folder / "out.csv").write_text(text)

    def again() -> Taken:
        fresh(folder)
        command(folder, "load", "t", "--create")
        return command(folder, "load", "t", "--again", "out.csv", fails=True)

    alone("rejects: --again", again, "10 s", 1)


def keyed(folder: Path, count: int) -> None:
    """A thousand rows into a table of five million with a key, against an empty one."""
    for index in ("index", "no index"):
        (own := folder / index.replace(" ", "-")).mkdir(exist_ok=True)
        bookings(own / "b.csv", 1_000)
        workspace(own, 'tolerate = "all"', '[[keys]]\ncolumns = ["id"]\n')
        unique = ", primary key (id)" if index == "index" else ""
        kinds = 'id BIGINT, code VARCHAR, name VARCHAR, day DATE, "at" TIMESTAMP, number BIGINT, fare DECIMAL(8,2), paid BOOLEAN'
        for name, rows in (("full", 5_000_000), ("empty", 0)):
            python(
                f"import duckdb; c = duckdb.connect({str(own / (name + '.duckdb'))!r}); c.execute('create table t ({kinds}{unique})'); "
                f"c.execute('insert into t select -1 - i, 1, 2, null, null, i, 1, true from range({rows}) r(i)')", own,
            )  # fmt: skip

        def load(name: str, own: Path = own) -> Taken:
            fresh(own)
            subprocess.run(["cp", str(own / f"{name}.duckdb"), str(own / "w.duckdb")], check=True)
            return command(own, "load", "t")

        pairs(
            f"keyed: 1,000 rows into 5,000,000, {index}",
            lambda: load("full"),
            lambda: load("empty"),
            "1.3" if index == "index" else "2.5",
            count,
        )


def keys(folder: Path, count: int) -> None:
    """Twenty keys against one."""
    rows, chance = 1_000_000, np.random.default_rng(4)
    columns = {f"k{at}": "integer" for at in range(20)}
    orders = np.stack([chance.permutation(rows) for _ in range(20)], axis=1)
    with (folder / "b.csv").open("w") as file:
        file.write(",".join(columns) + "\n")
        for part in np.array_split(orders, 100):  # what this process holds is counted with the one that it starts
            file.writelines(",".join(map(str, row)) + "\n" for row in part.tolist())
    del orders

    def load(many: int) -> Taken:
        fresh(folder)
        workspace(folder, keys="".join(f'[[keys]]\ncolumns = ["k{at}"]\n' for at in range(many)), columns=columns)
        return command(folder, "load", "t", "--create")

    pairs("keys: twenty, 1,000,000 rows", lambda: load(20), lambda: load(1), "3, 500 MB", count)


def files(folder: Path, count: int) -> None:
    """Five thousand small files against one of the same rows."""
    (folder / "many").mkdir(exist_ok=True)
    with (folder / "one.csv").open("w") as whole:
        for at in range(5000):
            text = "".join(f"{at * 20 + i},K{i:04d},n,2026-01-01,2026-01-01 00:00:00,1,1.00,true\n" for i in range(20))
            (folder / f"many/b-{at:05d}.csv").write_text(",".join(BOOKINGS) + "\n" + text)
            if not at:
                whole.write(",".join(BOOKINGS) + "\n")
            whole.write(text)

    def load(pattern: str) -> Taken:
        fresh(folder)
        workspace(folder, files=pattern)
        return command(folder, "load", "t", "--create")

    pairs("files: 5,000 small ones", lambda: load("many/*.csv"), lambda: load("one.csv"), "2.0", count)


def folders(folder: Path, count: int) -> None:
    """Ten thousand files of 100 rows: all but one of them loaded already; and all at once against one of the same rows."""
    (folder / "many").mkdir(exist_ok=True)
    with (folder / "one.csv").open("w") as whole:
        whole.write(",".join(BOOKINGS) + "\n")
        for at in range(10_000):
            line = "{},K{:04d},n,2026-01-01,2026-01-01 00:00:00,1,1.00,true\n"
            text = "".join(line.format(at * 100 + i, i) for i in range(100))
            (folder / f"many/b-{at:05d}.csv").write_text(",".join(BOOKINGS) + "\n" + text)
            whole.write(text)

    def load(pattern: str) -> Taken:
        fresh(folder)
        workspace(folder, files=pattern)
        return command(folder, "load", "t", "--create")

    pairs("folders: 10,000 files at once", lambda: load("many/*.csv"), lambda: load("one.csv"), "2.0", count)
    last = folder / "many/b-09999.csv"
    text = last.read_text()

    def one_more() -> Taken:
        last.unlink()
        load("many/*.csv")
        last.write_text(text)
        return command(folder, "load", "t")

    alone("folders: 10,000 files, all loaded but one", one_more, "3 s, 300 MB", count)


def copies(folder: Path, count: int) -> None:
    """Two million rows of which 1% repeat a key, as copies or in conflict, against the same rows without any."""
    number = np.random.default_rng(3).permutation(2_000_000)  # keys in no order, so that all are hashed
    for name, repeats in (("none", 0), ("copies", 20_000), ("conflicts", 20_000)):
        rows = number.copy()
        rows[::100] = rows[1::100] if repeats else rows[::100]
        other = "x" if name == "conflicts" else "n"
        with (folder / f"{name}.csv").open("w") as file:
            file.write(",".join(BOOKINGS) + "\n")
            file.writelines(
                f"{row},K{row % 9999:04d},{other if at % 100 == 0 else 'n'},2026-01-01,2026-01-01 00:00:00,1,1.00,true\n"
                for at, row in enumerate(rows.tolist())
            )

    def load(name: str) -> Taken:
        fresh(folder)
        workspace(folder, 'tolerate = "all"', '[[keys]]\ncolumns = ["id"]\n', files=f"{name}.csv")
        return command(folder, "load", "t", "--create")

    for name in ("copies", "conflicts"):
        pairs(f"copies: 2,000,000 rows, 1% {name}", lambda name=name: load(name), lambda: load("none"), "1.1", count)  # type: ignore[misc]


def charters(folder: Path, count: int) -> None:
    """Two hundred charters, all of them loaded already."""
    for at in range(200):
        (folder / f"b{at}.csv").write_text("id,code\n1,a\n2,b\n")
        workspace(
            folder,
            columns={"id": "integer", "code": "text"},
            files=f"b{at}.csv",
            table=f"t{at}",
            keys='[[keys]]\ncolumns = ["id"]\n',
        )
    command(folder, "run", "--create")

    def cpu() -> Taken:
        import resource

        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        _, peak = command(folder, "run", fails=True)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, peak

    alone("charters: 200, all loaded, CPU seconds", cpu, "12 s", count)


ALL = {
    each.__name__: each
    for each in (zones, names, peek, wide, commas, feeds, rejects, keyed, keys, files, folders, copies, charters)
}


def main(chosen: list[str], count: int) -> None:
    """Run what was chosen, each in a folder of its own."""
    print(machine())
    for name in chosen or ALL:
        with tempfile.TemporaryDirectory(prefix="nomotheta-bench-") as folder:
            ALL[name](Path(folder), count)


if __name__ == "__main__":
    words = sys.argv[1:]
    given = int(words[words.index("--pairs") + 1]) if "--pairs" in words else 3
    main([word for word in words if word in ALL], given)
