"""The rooms of the code: each imports only from those below it, and the core knows no interface."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

import nomotheta

ROOT = Path(nomotheta.__file__).parent
# from the ground up
FLOORS = [
    ["frozen"], ["interrupts", "secrets", "streams"], ["errors", "events", "days", "tabular", "formats", "kernel", "start", "urls"], ["layout"], ["unpack"], ["ahead"], ["conditions"], ["charter"], ["kinds"], ["source"], ["keys"], ["place"], ["rules"], ["load"], ["cluster"], ["peek"], ["reconcile"],
    ["ledger"], ["report"], ["tell"], ["workspace"], ["demo"], ["cli"], ["__main__"],
]  # fmt: skip
FLOOR = {room: number for number, rooms in enumerate(FLOORS) for room in rooms}
INTERFACE = {"typer", "rich", "click"}


def room_of(path: Path) -> str:
    return path.relative_to(ROOT).with_suffix("").parts[0]


def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path} imports relatively"
            found.add(node.module or "")
            found |= {f"{node.module}.{alias.name}" for alias in node.names if node.module == "nomotheta"}
    return found


MODULES = sorted(path for path in ROOT.rglob("*.py") if path != ROOT / "__init__.py")


@pytest.mark.parametrize("path", MODULES, ids=lambda path: str(path.relative_to(ROOT)))
def test_a_module_imports_only_from_its_own_room_and_those_below(path: Path) -> None:
    here = room_of(path)
    for name in imports(path):
        parts = name.split(".")
        if parts[0] == "nomotheta" and len(parts) > 1 and parts[1] in FLOOR:
            assert parts[1] == here or FLOOR[parts[1]] < FLOOR[here], f"{here} may not import {name}"


@pytest.mark.parametrize(
    "path", [path for path in MODULES if room_of(path) != "cli"], ids=lambda path: str(path.relative_to(ROOT))
)
def test_no_room_but_the_command_line_knows_a_terminal(path: Path) -> None:
    assert not {name.split(".")[0] for name in imports(path)} & INTERFACE


def test_every_room_has_a_floor_and_says_what_is_public() -> None:
    rooms = {path.name for path in ROOT.iterdir() if path.is_dir() and path.name != "__pycache__"}

    assert rooms <= set(FLOOR)
    for room in rooms - {"cli"}:
        tree = ast.parse((ROOT / room / "__init__.py").read_text())
        public = next(
            node.value for node in tree.body if isinstance(node, ast.Assign) and node.targets[0].id == "__all__"
        )
        named = {
            alias.asname or alias.name for node in tree.body if isinstance(node, ast.ImportFrom) for alias in node.names
        }
        assert set(ast.literal_eval(public)) == named
