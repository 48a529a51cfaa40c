"""Where each key and value is in a TOML text.

`tomllib` reads values and gives no positions; this scanner gives positions and reads no values. It is meant for texts
that `tomllib` has accepted, so it follows the grammar without checking it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from nomotheta.frozen import frozen

Path = tuple[str | int, ...]
_SPACE = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_BLANK = re.compile(r"[ \t]*")
_BARE = re.compile(r"[A-Za-z0-9_-]+")
_STRING = re.compile(r'"""(?:[^\\]|\\.)*?"{3,5}|' r"'''.*?'{3,5}|" r'"(?:[^"\\\n]|\\.)*"|' r"'[^'\n]*'", re.S)
_PLAIN = re.compile(r"[^,\]}\n#]+")
_ESCAPE = re.compile(r"\\(u[0-9A-Fa-f]{4}|U[0-9A-Fa-f]{8}|.)", re.S)


@frozen
class Position:
    """Line and column of a key, from 1, and where its value starts, as an offset into the text.

    `file` is the one in which it stands, where that is another than the one that is read.
    """

    line: int
    column: int
    value: int
    file: str = ""


def positions(text: str) -> dict[Path, Position]:
    """The position of every key, table and list entry of a valid TOML text, by its path."""
    return dict(_Scanner(text).document())


class _Scanner:
    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0
        self.counts: dict[Path, int] = {}

    def place(self, at: int, value: int) -> Position:
        start = self.text.rfind("\n", 0, at) + 1
        return Position(self.text.count("\n", 0, at) + 1, at - start + 1, value)

    def skip(self, pattern: re.Pattern[str] = _SPACE) -> None:
        match = pattern.match(self.text, self.at)
        self.at = match.end() if match else self.at

    def here(self, sign: str) -> bool:
        return self.text.startswith(sign, self.at)

    def document(self) -> Iterator[tuple[Path, Position]]:
        table: Path = ()
        self.skip()
        while self.at < len(self.text):
            start = self.at
            if self.here("["):
                table = self.header()
                yield table, self.place(start, start)
            else:
                yield from self.pair(table)
            self.skip()

    def header(self) -> Path:
        several = self.here("[[")
        self.at += 2 if several else 1
        table = self.numbered(self.key(), several=several)
        self.at += 2 if several else 1
        return table

    def numbered(self, key: Path, *, several: bool) -> Path:
        """The path of a table header: a list of tables stands for its last entry, `[[...]]` for a new one."""
        path: Path = ()
        for depth, part in enumerate(key):
            path = (*path, part)
            if several and depth == len(key) - 1:
                self.counts[path] = self.counts.get(path, -1) + 1
            if path in self.counts:
                path = (*path, self.counts[path])
        return path

    def key(self) -> Path:
        parts: list[str] = []
        while True:
            self.skip(_BLANK)
            bare = _BARE.match(self.text, self.at)
            match = bare or _STRING.match(self.text, self.at)
            if not match:
                return tuple(parts)
            parts.append(match[0] if bare else _unquoted(match[0]))
            self.at = match.end()
            self.skip(_BLANK)
            if not self.here("."):
                return tuple(parts)
            self.at += 1

    def pair(self, table: Path) -> Iterator[tuple[Path, Position]]:
        start = self.at
        path = (*table, *self.key())
        self.at += 1
        self.skip(_BLANK)
        yield path, self.place(start, self.at)
        yield from self.value(path)

    def value(self, path: Path) -> Iterator[tuple[Path, Position]]:
        if self.here("["):
            yield from self.entries(path)
        elif self.here("{"):
            yield from self.inline(path)
        else:
            match = _STRING.match(self.text, self.at) or _PLAIN.match(self.text, self.at)
            self.at = match.end() if match else self.at + 1

    def entries(self, path: Path) -> Iterator[tuple[Path, Position]]:
        self.at += 1
        number = 0
        self.skip()
        while self.at < len(self.text) and not self.here("]"):
            entry = (*path, number)
            yield entry, self.place(self.at, self.at)
            yield from self.value(entry)
            number += 1
            self.skip()
            self.at += self.here(",")
            self.skip()
        self.at += 1

    def inline(self, path: Path) -> Iterator[tuple[Path, Position]]:
        self.at += 1
        self.skip()
        while self.at < len(self.text) and not self.here("}"):
            yield from self.pair(path)
            self.skip()
            self.at += self.here(",")
            self.skip()
        self.at += 1


def _unquoted(text: str) -> str:
    if text.startswith("'"):
        return text[1:-1]

    def plain(match: re.Match[str]) -> str:
        code = match[1]
        return chr(int(code[1:], 16)) if code[0] in "uU" else code

    return _ESCAPE.sub(plain, text[1:-1])
