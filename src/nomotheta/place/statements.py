"""The team's own SQL: a text taken apart into statements, and which of them can be undone with a transaction."""

from __future__ import annotations

import re
from collections.abc import Mapping

from nomotheta.errors import DeclarationError

_PARTS = re.compile(
    r"""--[^\n]*|/\*.*?\*/                            # comments
    |[eE]'(?:[^'\\]|\\.|'')*'|'(?:[^']|'')*'           # texts
    |"(?:[^"]|"")*"|`(?:[^`]|``)*`                     # names
    |\$(?P<tag>\w*)\$.*?\$(?P=tag)\$                   # texts between dollar signs
    |::|:(?P<value>[a-z_]+)\b|(?P<end>;)|[eE](?=')|\w+|.""",
    re.DOTALL | re.VERBOSE,
)
_ROWS = ("INSERT", "UPDATE", "DELETE", "MERGE", "REPLACE", "WITH", "SELECT")
ROWS = frozenset(_ROWS)  # what changes rows, where a change of tables would commit what was done before
ALL = frozenset({*_ROWS, "CREATE", "DROP", "ALTER", "TRUNCATE", "COMMENT", "ANALYZE", "REFRESH", "DO", "LOCK"})
NONE: frozenset[str] = frozenset()
_TEMPORARY = re.compile(r"(CREATE|DROP)\s+(TEMPORARY|TEMP)\s+TABLE\b", re.IGNORECASE)
_MADE = re.compile(
    r'CREATE\s+(?:OR\s+REPLACE\s+)?TEMP(?:ORARY)?\s+TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?("(?:[^"]|"")+"|`[^`]+`|[\w.]+)',
    re.IGNORECASE,
)


def statements_of(text: str, values: Mapping[str, str], where: str) -> list[str]:
    """The statements of a text, without their comments, and with values in the places of `:day` and the like.

    Args:
        text: SQL, statements being ended by semicolons.
        values: by the names that the text may use, as SQL.
        where: what a message speaks of.

    Raises:
        DeclarationError: the text names a value that there is not.
    """
    found, part = [], list[str]()
    for match in _PARTS.finditer(text):
        if match["end"]:
            found.append("".join(part).strip())
            part = []
        elif match["value"]:
            if match["value"] not in values:
                known = ", ".join(f":{name}" for name in values)
                raise DeclarationError(
                    f"there is no value :{match['value']}", where=where, mend=f"write one of {known}"
                )
            part.append(values[match["value"]])
        else:
            part.append(" " if match[0].startswith(("--", "/*")) else match[0])
    return [each for each in (*found, "".join(part).strip()) if each]


def can_be_undone(statement: str, takes: frozenset[str]) -> bool:
    """Whether a statement stays within the transaction that it is in: it neither ends it, nor reaches out of it.

    Args:
        statement: without comments.
        takes: the first words of statements that a place undoes with its transaction.
    """
    first = re.match(r"[\s(]*(\w+)", statement)
    return first is not None and (
        first[1].upper() in takes or (bool(takes) and _TEMPORARY.match(statement) is not None)
    )  # fmt: skip


def temporary_table(statement: str) -> str | None:
    """The temporary table that a statement makes, as it is named there; None where it makes none."""
    found = _MADE.match(statement)
    return found[1] if found else None
