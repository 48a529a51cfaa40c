"""Files as they come, with a few oddities planted: a proposal names each, and sets just those rows aside that it must."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field

import pytest

from conftest import DAY, Space
from test_propose import accepted, named

NAMES = ["Alda", "Brandur", "Eyðna", "Høgni", "Kára", "Sunnuva"]


@dataclass
class File:
    """A file in the making: rows of cells, lines that are no rows, what of it is to be set aside, and what is named."""

    chance: random.Random
    rows: list[list[str]]
    delimiter: str
    sign: str
    form: str
    aside: list[list[str]] = field(default_factory=list)
    told: list[str] = field(default_factory=list)
    foot: list[str] = field(default_factory=list)
    between: list[tuple[int, str]] = field(default_factory=list)

    @classmethod
    def made(cls, chance: random.Random) -> File:
        """A file without oddities."""
        delimiter, form = chance.choice(",;\t|"), chance.choice(["%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%d %b %Y"])
        sign = "," if delimiter == ";" and chance.random() < 0.6 else "."
        key = chance.choice(["T{:06d}", "{}", "AB-{:04d}"])
        made = cls(chance, [], delimiter, sign, form)
        for at in range(chance.randint(60, 240)):
            made.rows.append(
                [key.format(at + 1001), chance.choice(NAMES), made.amount(), str(chance.randint(1, 9)), made.day()]
            )
        return made

    def amount(self) -> str:
        return f"{self.chance.uniform(1, 99):.2f}".replace(".", self.sign)

    def day(self, form: str = "") -> str:
        import datetime

        return datetime.date(2026, self.chance.randint(1, 6), self.chance.randint(1, 28)).strftime(form or self.form)

    def row(self) -> list[str]:
        """A row that nothing was done to so far; the first few stay sound."""
        return self.chance.choice([row for row in self.rows[5:] if not any(row is each for each in self.aside)])

    def cell(self, column: int, value: str, told: str = "") -> None:
        """Another value in a row, which is to be set aside for it."""
        row = self.row()
        row[column] = value
        self.aside.append(row)
        self.told.append(told or f"'{value}' ")

    def again(self, row: list[str], told: str) -> None:
        """A further row."""
        self.rows.append(row)
        self.aside.append(row)
        self.told.append(told)

    def short(self) -> None:
        row = self.row()
        del row[3:]
        self.aside.append(row)
        self.told.append("has 3 fields")

    def long(self) -> None:
        row = self.row()
        row.append("more")
        self.aside.append(row)
        self.told.append("has 6 fields")

    def shifted(self) -> None:
        row = self.row()
        row[1:] = ["x", *row[1:4]]
        self.aside.append(row)
        self.told.append(f"'{row[2]}' ")

    def total(self) -> None:
        count = len(self.rows) + sum(len(line) > 0 for _, line in self.between)
        self.foot = [
            self.chance.choice([f"Total{self.delimiter}{count}", f"{count} rows", f"TOTAL{self.delimiter * 4}"])
        ]
        self.told.append("the last line is not a row, but")

    def null(self) -> None:
        self.row()[2] = "n/a"
        self.told.append("may mean null, such as n/a")

    def grouped(self) -> None:
        value = f"1{'.' if self.sign == ',' else ','}234{self.sign}50"
        self.row()[2] = f'"{value}"' if self.delimiter == "," else value
        self.told.append("with a thousands sign")

    def header(self) -> None:
        self.between.append((self.chance.randint(10, 50), self.delimiter.join(HEADER)))
        self.told.append("of the header further down")

    def empty(self) -> None:
        self.between.append((self.chance.randint(10, 50), ""))
        self.told.append("1 empty line")

    def text(self) -> tuple[str, list[int]]:
        """The file, and the lines that are to be set aside."""
        lines, aside = [self.delimiter.join(HEADER)], []
        for at, row in enumerate(self.rows):
            lines += [line for place, line in self.between if place == at]
            lines.append(self.delimiter.join(row))
            aside += [len(lines)] * any(row is each for each in self.aside)
        return "\n".join([*lines, *self.foot]) + "\n", aside


HEADER = ["ticket no", "passenger", "fare", "travellers", "sold on"]
ODDITIES: list[Callable[[File], None]] = [
    File.short, File.long, File.shifted, File.null, File.grouped, File.header, File.empty,
    lambda file: file.cell(2, "two"), lambda file: file.cell(2, f" {file.amount()}", "white space around it"),
    lambda file: file.cell(3, "many"), lambda file: file.cell(4, file.day().replace(file.form and "2026", "20x6")),
    lambda file: file.cell(4, file.day("%Y/%m/%d")), lambda file: file.cell(0, "", "is blank"),
    lambda file: file.again([*file.rows[2]], "a copy of line 4"),
    lambda file: file.again([file.rows[3][0], "Sunnuva", "1" + file.sign + "11", "77", file.day()], "same key as line 5"),
]  # fmt: skip


@pytest.mark.parametrize("tens", range(7))
def test_every_oddity_of_ten_files_is_named_and_just_the_bad_rows_are_rejected(space: Space, tens: int) -> None:
    for seed in range(10 * tens, 10 * tens + 10):
        chance = random.Random(seed)
        file = File.made(chance)
        chosen = chance.sample(ODDITIES, chance.randint(1, 5))
        for oddity in chosen:
            oddity(file)
        if chance.random() < 0.3:
            file.total()
        text, aside = file.text()
        name = f"inbox/x{seed}-{DAY}.csv"
        space.write(name, text)
        (space.root / "charters/x.toml").unlink(missing_ok=True)
        space.sql("drop table if exists x")
        space.sql("drop table if exists nomotheta_marks")
        space.sql("drop table if exists nomotheta_files")

        proposed, load = accepted(space, name)

        assert sorted(named(proposed)) == sorted(aside), (seed, text, proposed)
        assert [told for told in file.told if told not in proposed] == [], (seed, proposed)
        assert load["balance"]["loaded"] == len(file.rows) - len(aside)
