"""The first hour: from a file of one's own to a table that is loaded every night, and what is typed on the way."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pyarrow as pa
import pytest

import nomotheta
from conftest import Space
from nomotheta.errors import DeclarationError

ROOT = Path(__file__).resolve().parent.parent
CHARTER = """
table = "t"
[delivery]
files = "inbox/t-{day}.csv"
[load]
tolerate = "all"
[columns.k]
kind = "text(9)"
[columns.v]
kind = "integer"
from = ["value", "amount"]
[columns.load_no]
from = "@load.no"
[[keys]]
columns = ["k"]
"""


@pytest.fixture
def nights(space: Space) -> Space:
    """A table with two nights loaded, some of whose rows were set aside."""
    (space.root / "charters/tickets.toml").unlink()
    space.charter(CHARTER, "t")
    space.write("inbox/t-2026-06-01.csv", "k,value\nA,1\nB,x\nC,3\n")
    space.write("inbox/t-2026-06-02.csv", "k,amount\nD,4\nA,9\n")
    space.run("load", "t", "--day", "2026-06-01", "--create")
    space.run("load", "t", "--day", "2026-06-02")
    return space


def test_the_guide_can_be_typed_word_for_word(tmp_path: Path) -> None:
    text = (ROOT / "docs/guide.md").read_text(encoding="utf-8")
    script = "\n".join(["set -e", *re.findall(r"^```sh\n(.*?)^```", text, re.M | re.S)])
    path = os.pathsep.join([str(Path(sys.executable).parent), os.environ["PATH"]])

    ended = subprocess.run(
        ["bash", "-c", script],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "PATH": path},
    )

    assert ended.returncode == 0, ended.stdout + ended.stderr
    for told in ("written to charters/fares.toml", "1 row of load 1 closed"):
        assert told in ended.stderr
    assert "files and table are equal" in ended.stdout
    assert (tmp_path / "nightly/reports/run-1-2026-06-01.html").exists()


# ---- a workspace


def test_a_workspace_is_made_and_what_is_there_is_left_as_it_is(space: Space, tmp_path: Path) -> None:
    new = Space(tmp_path / "new")
    new.write(".gitignore", "mine\n")

    first = space.run("begin", str(new.root), "--json").json
    text = (new.root / "nomotheta.toml").read_text()
    again = space.run("begin", str(new.root), "--json").json

    assert first["made"] == ["charters/", "inbox/", "nomotheta.toml"]
    assert (first["kept"], first["ignored"]) == ([".gitignore"], [".nomotheta/", "warehouse.duckdb*"])
    assert (again["made"], (new.root / "nomotheta.toml").read_text()) == ([], text)
    assert (new.root / ".gitignore").read_text() == "mine\n"
    assert new.run("places").code == 0


@pytest.mark.parametrize(
    ("url", "told"), [("nonsense://x", "no place can be opened"), ("postgresql://a:b@h/d", "contains a password")]
)
def test_a_workspace_is_not_made_for_a_place_that_cannot_be(space: Space, tmp_path: Path, url: str, told: str) -> None:
    ended = space.run("begin", str(tmp_path / "new"), "--place", url)

    assert (ended.code, told in ended.text) == (2, True), ended.text
    assert not (tmp_path / "new").exists()


def test_a_file_is_looked_at_and_proposed_without_a_workspace(tmp_path: Path) -> None:
    bare = Space(tmp_path / "bare")
    bare.write("f-2026-06-01.csv", "id;n\n1;2\n2;3\n")

    assert bare.run("peek", "f-2026-06-01.csv").code == 0
    assert 'files = "f-{day}.csv"' in bare.run("propose", "f-2026-06-01.csv").out
    assert "there is no nomotheta.toml" in bare.run("lint").text


# ---- proposals


def test_several_files_of_one_pattern_are_proposed_as_one(space: Space) -> None:
    space.write("inbox/a-x.csv", "id,n\n1,2\n2,x\n3,4\n4,5\n5,6\n6,7\n7,8\n8,9\n9,1\n10,2\n")
    space.write("inbox/a-y.csv", "id,n\n11,2\n12,2\n")

    text = space.run("propose", "inbox/a-x.csv", "inbox/a-y.csv", "--table", "a").out

    assert 'files = "inbox/a-*.csv"' in text
    assert "12 rows read" in text
    assert "a-x.csv, line 3: n 'x' is not an integer" in text
    space.write("inbox/a-z.csv", "id,other\n1,2\n")
    refused = space.run("propose", "inbox/a-x.csv", "inbox/a-z.csv")
    assert (refused.code, "its columns are not those of" in refused.text) == (1, True)


def test_a_proposal_for_a_table_that_is_there_takes_its_columns_over(nights: Space) -> None:
    nights.sql("create table w (k varchar(9) not null, v smallint, made timestamp default now(), gone as (v + 1))")
    nights.write("inbox/w.csv", "K;V;note\na;1;x\nb;2;y\n")

    text = nights.run("propose", "inbox/w.csv", "--into", "w").out
    nights.charter(text, "w")

    for told in ('kind = "text"', 'blank = "never"', 'from = "K"', 'from = "@place"', "not in the table: note"):
        assert told in text
    (charter := nights.root / "charters/w.toml").write_text(
        text.replace("[load]\n", "[load]\nkeep_previous = false\n").replace('"append" ', '"overwrite" ')
    )
    assert nights.run("lint").code == 0, nights.run("lint").text
    assert nights.load(table="w")["state"] == "loaded", charter.read_text()
    assert nights.sql("select k, v, gone from w order by k") == [("a", 1, 2), ("b", 2, 3)]


# ---- tables


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("nothing",), "there is no table 'nothing'"), (("t", "--where", "w > 1"), "no column 'w'"),
        (("t", "--by", "w"), "no column 'w'"), (("t", "--rows", "3"), "are for files"), (("no.csv",), "is not there"),
    ],
)  # fmt: skip
def test_what_cannot_be_looked_at_is_told(nights: Space, words: tuple[str, ...], told: str) -> None:
    ended = nights.run("peek", *words)

    assert ended.code > 0
    assert told in ended.text


def test_how_a_file_is_written_may_be_said(space: Space) -> None:
    space.write("x.txt", "a:b\n1:2\n")

    found = space.run("peek", "x.txt", "--delimiter", ":", "--no-header", "--encoding", "latin-1", "--json").json

    assert (found["delimiter"], found["header"], found["encoding"], found["rows"]) == (":", False, "latin-1", 2)


# ---- loads


def test_a_column_may_have_had_another_name(nights: Space) -> None:
    assert nights.sql("select k, v from t order by k") == [("A", 1), ("C", 3), ("D", 4)]
    nights.write("inbox/t-2026-06-03.csv", "k,amount,value\nE,1,2\n")

    both = nights.load(table="t", day="2026-06-03")

    assert (both["state"], "named twice: 'amount' and 'value'" in both["message"]) == ("refused", True), both["message"]


def test_a_file_is_loaded_whatever_the_pattern_and_known_afterwards(nights: Space) -> None:
    file = nights.write("late/found.csv", "k,value\nE,5\n")

    first = nights.load("--file", str(file), table="t", day="2026-06-03")
    again = nights.load("--file", "late/found.csv", table="t", day="2026-06-03")
    lost = nights.run("load", "t", "--file", "late/none.csv")

    assert (first["state"], first["balance"]["files"][0]["file"]) == ("loaded", "late/found.csv")
    assert (again["state"], again["exit"]) == ("refused", 1)
    assert (lost.code, "the file is not there" in lost.text) == (1, True)
    assert nights.run("reconcile", "t").code == 0


def test_a_night_is_rehearsed_as_it_would_be_and_leaves_nothing(demo: Space, tmp_path: Path) -> None:
    copy = Space(tmp_path / "line")
    copy.root.mkdir()
    copy.run("demo", ".")
    (copy.root / "warehouse.duckdb").unlink()
    for each in copy.root.glob(".nomotheta/*"):
        if each.is_file():
            each.unlink()
    copy.run("run", "--day", "2026-06-01", "--create", "--no-tell")
    before = copy.sql("select count(*) from tickets")

    trial = copy.run("run", "--day", "2026-06-02", "--rehearse", "--json").json
    entries, rows = copy.run("ledger", "--json").json["entries"], copy.sql("select count(*) from tickets")
    real = copy.run("run", "--day", "2026-06-02", "--json", "--no-tell").json

    assert (trial["rehearsed"], trial["verdict"], real["verdict"]) == (True, "fail", "fail")
    assert [each["verdict"] for each in trial["tables"]] == [each["verdict"] for each in real["tables"]]
    assert {each["run_id"] for each in entries} == {1}
    assert rows == before


# ---- what is typed


def test_the_day_may_be_a_word_or_a_number_of_days(nights: Space) -> None:
    for word in ("yesterday", "-1", "today"):
        assert nights.run("load", "t", "--day", word).code == 1  # no such file has arrived
    assert "is not a day" in nights.run("load", "t", "--day", "-x").text


def test_quiet_says_nothing_unless_something_fails(nights: Space) -> None:
    well = nights.run("--quiet", "judge", "t")
    ill = nights.run("load", "t", "--day", "2026-06-09", "-q")

    assert (well.code, well.out, well.err) == (0, "", "")
    assert (ill.code, "no such file has arrived" in ill.out) == (1, True)


def test_verbose_tells_files_statements_and_rules(nights: Space) -> None:
    nights.write("inbox/t-2026-06-03.csv", "k,value\nE,5\n")

    told = nights.run("-v", "load", "t", "--day", "2026-06-03").err

    for each in (
        r"inbox/t-2026-06-03.csv: arrived: 12 bytes",
        r"\d s  warehouse: SELECT",
        r"t: rule 'key \(k\)[^']*': pass",
    ):
        assert re.search(each, told), told


def test_entries_of_the_ledger_are_found_by_what_they_are(nights: Space) -> None:
    nights.run("load", "t", "--day", "2026-06-09")

    def numbers(*words: str) -> list[int]:
        return [each["load_no"] for each in nights.run("ledger", *words, "--json").json["entries"]]

    assert numbers("--day", "2026-06-02") == [2]
    assert (len(numbers("--failed")), len(numbers("--place", "nowhere")), len(numbers("t"))) == (1, 0, 3)
    assert len({len(line) for line in nights.run("ledger").out.splitlines()[2:]}) > 1  # nothing is padded


def test_rejects_and_reconcile_need_no_number_and_no_table(nights: Space) -> None:
    assert nights.run("rejects", "t", "--json").json["load_no"] == 2
    assert "did you mean 't'?" in nights.run("rejects", "tt").text
    assert [each["table"] for each in nights.run("reconcile", "--json").json["tables"]] == ["t"]
    assert nights.run("-w", str(nights.root), "rejects", "1").code == 0


def test_tables_and_loads_are_completed(nights: Space) -> None:
    def completed(words: str, at: int) -> list[str]:
        given = {**os.environ, "_NOMOTHETA_COMPLETE": "complete_bash", "COMP_WORDS": words, "COMP_CWORD": str(at)}
        told = subprocess.run(
            [sys.executable, "-c", "from nomotheta.cli import run; import sys; sys.exit(run([]))"],
            cwd=nights.root, env=given, capture_output=True, text=True, check=False,
        )  # fmt: skip
        return told.stdout.split()

    assert completed("nomotheta load ", 2) == ["t"]
    assert completed("nomotheta undo ", 2) == ["2", "1"]


# ---- from Python


def test_what_the_package_offers_is_listed_and_there() -> None:
    assert sorted(nomotheta.__all__) == ["__version__", "begin", "look", "open_workspace"]
    assert all(hasattr(nomotheta, name) for name in nomotheta.__all__)


def test_results_are_tables_for_arrow_pandas_and_notebooks(nights: Space) -> None:
    pandas = pytest.importorskip("pandas")
    workspace = nomotheta.open_workspace(nights.root)
    nights.sql("update t set v = v + 1 where k = 'D'")
    results = [
        workspace.judge(["t"])[0], workspace.set_aside("t"), workspace.reconcile("t", load_no=2),
        workspace.look_at_table("t"), workspace.kept_load(1)[0].balance,
    ]  # fmt: skip

    for result in results:
        assert result is not None
        table, frame = result.to_arrow(), result.to_pandas()
        assert isinstance(table, pa.Table)
        assert isinstance(frame, pandas.DataFrame)
        assert table.column_names == list(frame.columns) == list(result.COLUMNS)
        assert table.num_rows == len(frame) == result._repr_html_().count("<tr>") - 1 > 0
    differing = results[2]
    assert differing is not None
    assert differing.to_arrow().to_pylist() == [
        {
            "sort": "changed",
            "key": "k = D",
            "column": "v",
            "source": "4",
            "target": "5",
            "file": "inbox/t-2026-06-02.csv",
            "line": 2,
        }
    ]


def test_a_notebook_gets_no_markup_from_data(nights: Space) -> None:
    nights.write("inbox/t-2026-06-03.csv", "k,value\nE,<script>\n")
    nights.run("load", "t", "--day", "2026-06-03")

    page = nomotheta.open_workspace(nights.root).set_aside("t")._repr_html_()

    assert "&lt;script&gt;" in page
    assert "<script" not in page


def test_a_day_or_a_place_that_cannot_be_ends_in_an_error_of_the_core(tmp_path: Path) -> None:
    with pytest.raises(DeclarationError, match="no place can be opened"):
        nomotheta.begin(tmp_path / "x", "nonsense://y")
