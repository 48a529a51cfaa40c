"""TOML text into a model; every complaint with its line and its mend."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import field
from decimal import Decimal
from pathlib import Path
from typing import Any, TypeVar, get_args

from pydantic import BaseModel, ValidationError

from nomotheta.charter.layout import LayoutKeys
from nomotheta.charter.model import Charter, fields_of
from nomotheta.charter.positions import Path as KeyPath
from nomotheta.charter.positions import Position, positions
from nomotheta.charter.settings import Settings
from nomotheta.errors import DeclarationError, did_you_mean
from nomotheta.frozen import frozen
from nomotheta.layout import Layout

Model = TypeVar("Model", bound=BaseModel)


@frozen
class Problem:
    """One complaint about a declaration. `excerpt` is the text it points into, with carets, or empty.

    `charter` is the file of the charter that cannot be carried out because of it, where that is another one.
    """

    file: str
    line: int
    what: str
    mend: str = ""
    excerpt: str = ""
    charter: str = ""

    @property
    def of(self) -> str:
        """The file of the charter that it is about."""
        return self.charter or self.file

    def __str__(self) -> str:
        lines = [f"{self.file}:{self.line}: {self.what}"]
        lines += [f"    {line}" for line in self.excerpt.splitlines()]
        lines += [f"  → {self.mend}"] if self.mend else []
        return "\n".join(lines)


@frozen
class Source:
    """The text of a declaration, its name for messages, where its keys stand, and the texts of files that it uses."""

    file: str
    text: str
    positions: Mapping[KeyPath, Position]
    texts: Mapping[str, str] = field(default_factory=dict)

    def position(self, path: Sequence[str | int]) -> Position:
        """Where `path` stands, or the nearest key around it."""
        for length in range(len(path), 0, -1):
            found = self.positions.get(tuple(path[:length]))
            if found:
                return found
        return Position(1, 1, 0)

    def problem(self, path: Sequence[str | int], what: str, mend: str = "", excerpt: str = "") -> Problem:
        """A complaint at `path`."""
        position = self.position(path)
        return self.at(position, position.line, what, mend, excerpt)

    def at(self, position: Position, line: int, what: str, mend: str = "", excerpt: str = "") -> Problem:
        """A complaint at a line of the file in which something stands."""
        return Problem(position.file or self.file, line, what, mend, excerpt, self.file if position.file else "")

    def text_at(self, position: Position) -> str:
        """The text of the file in which something stands."""
        return self.texts.get(position.file, self.text)

    @property
    def whole(self) -> str:
        """All that was written, with the files that it uses."""
        return self.text + "".join(f"\n# {name}\n{text}" for name, text in self.texts.items())


@frozen
class Read:
    """A charter with the text it was read from."""

    charter: Charter
    source: Source


def read_source(path: Path, name: str) -> tuple[dict[str, Any], Source]:
    """The raw values of a TOML file, and its source.

    Raises:
        DeclarationError: it cannot be read, is not UTF-8, or is not TOML.
    """
    try:
        text = path.read_bytes().decode("utf-8")
    except FileNotFoundError:
        raise DeclarationError("the file is not there", where=name) from None
    except OSError as error:
        raise DeclarationError(f"it cannot be read: {error.strerror}", where=name, mend="check its rights") from None
    except UnicodeDecodeError as error:
        line = error.object[: error.start].count(b"\n") + 1
        raise DeclarationError(
            "it is not UTF-8, as TOML must be", where=f"{name}:{line}", mend="save the file as UTF-8"
        ) from None
    text = text.replace("\r\n", "\n")
    try:
        return tomllib.loads(text, parse_float=Decimal), Source(name, text, positions(text))
    except tomllib.TOMLDecodeError as error:
        raise _not_toml(error, name) from None


def _not_toml(error: tomllib.TOMLDecodeError, name: str) -> DeclarationError:
    message, _, rest = str(error).partition(" (at ")
    line = "".join(c for c in rest.partition("line")[2].partition(",")[0] if c.isdigit())
    hint = "texts go in quotes, lists in [...], and each table [like.this] on its own line"
    return DeclarationError(
        f"it is not valid TOML: {message[:1].lower()}{message[1:]}", where=f"{name}:{line}" if line else name, mend=hint
    )


def parse(
    model: type[Model], values: Mapping[str, Any], source: Source, folder: Path | None = None
) -> tuple[Model | None, list[Problem]]:
    """The model, or None and what is wrong with the values; files that they name are in `folder`."""
    try:
        return model.model_validate(values, context={"folder": folder} if folder else None), []
    except ValidationError as error:
        return None, [_problem(model, each, source) for each in error.errors() if not _shadowed(each, error)]


def read_settings(path: Path, name: str) -> tuple[Settings | None, Source, list[Problem]]:
    """The settings of a workspace, or None and what is wrong with them."""
    values, source = read_source(path, name)
    settings, problems = parse(Settings, values, source)
    return settings, source, problems


_MESSAGES = {
    "missing": "the key '{key}' is missing",
    "string_type": "'{key}' must be a text in quotes",
    "int_type": "'{key}' must be a whole number",
    "bool_type": "'{key}' must be true or false",
    "bool_parsing": "'{key}' must be true or false",
    "list_type": "'{key}' must be a list in [...]",
    "dict_type": "'{key}' must be a table",
    "model_type": "'{key}' must be a table",
    "model_attributes_type": "'{key}' must be a table",
    "too_short": "'{key}' holds too few entries",
    "too_long": "'{key}' holds too many entries",
}


def _problem(model: type[BaseModel], error: Any, source: Source) -> Problem:
    path = _real_path(error["loc"], source)
    key = next((str(part) for part in reversed(path) if isinstance(part, str)), "the file")
    if error["type"] == "extra_forbidden":
        known = [name for name in _siblings(model, error["loc"]) if name != key]
        mend = did_you_mean(key, known, "known here: " + ", ".join(known))
        return source.problem(path, f"unknown key '{key}'", mend)
    if error["type"] == "value_error":
        what, _, mend = str(error["ctx"]["error"]).partition("; ")
        return source.problem(path, f"{key}: {what}", mend)
    if error["type"] == "literal_error":
        choices = error["ctx"]["expected"].replace(" or ", ", ").replace("'", "").split(", ")
        mend = did_you_mean(str(error["input"]), choices, "write one of " + ", ".join(choices))
        return source.problem(path, f"{key}: {error['input']!r} is not known here", mend)
    template = _MESSAGES.get(error["type"])
    what = template.format(key=key) if template else f"{key}: {error['msg'][:1].lower()}{error['msg'][1:]}"
    return source.problem(path, what, "see the charter reference")


def _real_path(loc: Sequence[str | int], source: Source) -> tuple[str | int, ...]:
    """The path as the file has it: pydantic puts names of union members between, which no file holds."""
    path: tuple[str | int, ...] = ()
    for at, part in enumerate(loc):
        known = (*path, part) in source.positions or (at == len(loc) - 1 and str(part).isidentifier())
        path = (*path, part) if known or _is_prefix((*path, part), source) else path
    return path


def _is_prefix(path: tuple[str | int, ...], source: Source) -> bool:
    return any(known[: len(path)] == path for known in source.positions)


def _siblings(model: type[BaseModel], loc: Sequence[str | int]) -> Sequence[str]:
    """The keys that would have been known beside the last part of `loc`."""
    here: type[BaseModel] = model
    for part in loc[:-1]:
        by_key = {field.alias or name: field for name, field in here.model_fields.items()}
        field = by_key.get(str(part))
        found = _models(field.annotation) if field else []
        here = next((each for each in found), here)
    return fields_of(here)


def _models(annotation: Any) -> list[type[BaseModel]]:
    if annotation is Layout:
        return [LayoutKeys]
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [model for arg in get_args(annotation) for model in _models(arg)]


def _shadowed(error: Any, all_errors: ValidationError) -> bool:
    """Whether it is only the complaint of a union's other member (a text expected where a table was written)."""
    if error["type"] not in {"string_type", "list_type"}:
        return False
    parent = error["loc"][:-1]
    return any(
        each["loc"][: len(parent)] == parent and each["type"] not in {"string_type", "list_type"}
        for each in all_errors.errors()
    )
