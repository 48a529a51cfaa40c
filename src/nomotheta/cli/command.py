"""What every command shares: its workspace, how it answers, and that no traceback leaves it."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable, Iterable, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, TypeVar

import typer

from nomotheta.cli.guard import CODES, guarded, print_json
from nomotheta.cli.plainly import take_plainly
from nomotheta.frozen import frozen

if TYPE_CHECKING:
    from nomotheta.errors import NomothetaError
    from nomotheta.events import Listener
    from nomotheta.workspace import Workspace

take_plainly()
app = typer.Typer(
    add_completion=True, no_args_is_help=True, rich_markup_mode=None, pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    help="Load the night's files into tables, check them against what was declared, and show what did not fit.",
)  # fmt: skip

HERE = Path()
FOLDER = Annotated[
    Path | None,
    typer.Option("--workspace", "-w", metavar="FOLDER", show_default=False,
                 help="The workspace; default: here or a folder above."),
]  # fmt: skip
JSON = Annotated[bool, typer.Option("--json", help="Print one JSON document.")]
QUIET = Annotated[bool, typer.Option("--quiet", "-q", help="No progress, and no output unless something fails.")]
VERBOSE = Annotated[bool, typer.Option("--verbose", "-v", help="Log files and SQL statements to stderr, with times.")]


@dataclass(slots=True)
class Before:
    """What was given before the command."""

    folder: Path | None = None
    quiet: bool = False
    verbose: bool = False


_before = Before()


def keep_before(folder: Path | None, *, quiet: bool, verbose: bool) -> None:
    """Keep what was given before the command, which then holds for it."""
    _before.folder, _before.quiet, _before.verbose = folder, quiet, verbose


@frozen
class Call:
    """How a command was called: for which workspace, and how it answers."""

    folder: Path
    json: bool
    quiet: bool
    opened: list[Workspace] = field(default_factory=list)

    def workspace(self, *, lazily: bool = False) -> Workspace:
        """The workspace, opened; `lazily` for what needs little of it."""
        from nomotheta.workspace import Workspace

        self.opened.append(Workspace.open(self.folder, lazily=lazily))
        return self.opened[-1]

    def workspace_if_any(self) -> Workspace | None:
        """The workspace here or above; None where there is none, and none was named."""
        from nomotheta.workspace import Workspace, folder_of

        return Workspace.open(self.folder) if self.folder != HERE or folder_of(self.folder) else None

    def bars(self, screen: str) -> AbstractContextManager[Listener]:
        """A listener to long work; a module of `screens` is imported meanwhile."""
        from nomotheta.cli.progress import bars

        return bars(json=self.json, quiet=self.quiet, screen=f"nomotheta.cli.screens.{screen}")

    def silent(self, verdict: str) -> bool:
        """Whether nothing is printed: it was asked for, and nothing fails."""
        return self.quiet and not CODES[verdict]

    def print(self, document: Any) -> None:
        """Print a document as JSON."""
        from nomotheta.report.documents import to_json

        print_json(to_json(document))

    def tell(self, text: str) -> None:
        """Say on stderr what was done."""
        if not self.quiet:
            typer.echo(text, err=True)


def warn(errors: Iterable[NomothetaError]) -> None:
    """Show what could not be done beside the command's work, on stderr."""
    from nomotheta.cli.paint import show_error

    for error in errors:
        show_error(error)


def end(verdict: str) -> None:
    """End the command with the verdict's exit code."""
    if CODES[verdict]:
        raise typer.Exit(CODES[verdict])


def gravest(verdicts: Iterable[Any]) -> str:
    """The gravest of some verdicts."""
    from nomotheta.rules.finding import gravest

    return gravest(verdicts)


_Command = TypeVar("_Command", bound=Callable[..., None])


def command(*, workspace: bool = True) -> Callable[[_Command], _Command]:
    """Make a function a command: its first parameter is the call, the others are arguments and options.

    Args:
        workspace: whether it takes --workspace.
    """
    shared: dict[str, Any] = {"workspace": FOLDER} if workspace else {}
    shared |= {"json": JSON, "quiet": QUIET, "verbose": VERBOSE}
    defaults: dict[str, Any] = {"workspace": None}

    def made(function: _Command) -> _Command:
        own: Sequence[inspect.Parameter] = list(inspect.signature(function, eval_str=True).parameters.values())[1:]

        @functools.wraps(function)
        def run(**values: Any) -> None:
            given = {name: values.pop(name) for name in shared}
            folder = given.get("workspace") or _before.folder or HERE
            call = Call(folder, given["json"], given["quiet"] or _before.quiet)
            with guarded(json=call.json, verbose=given["verbose"] or _before.verbose):
                try:
                    function(call, **values)
                except BaseException:  # else the traceback keeps the ledger open, and its process seems to be at work
                    for opened in call.opened:
                        opened.close()
                    raise

        more = [
            inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=defaults.get(name, False), annotation=kind)
            for name, kind in shared.items()
        ]
        keyword = [each.replace(kind=inspect.Parameter.KEYWORD_ONLY) for each in own]
        run.__signature__ = inspect.Signature([*keyword, *more])  # type: ignore[attr-defined]
        run.__annotations__ = {each.name: each.annotation for each in (*own, *more)}
        app.command()(run)
        return function

    return made


def _version(value: bool) -> None:
    if value:
        from nomotheta import __version__
        from nomotheta.kernel import in_use

        typer.echo(f"nomotheta {__version__} ({'with' if in_use() else 'without'} the compiled kernel)")
        raise typer.Exit


@app.callback()
def _main(
    _: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")] = False,
    workspace: FOLDER = None,
    quiet: QUIET = False,
    verbose: VERBOSE = False,
) -> None:
    keep_before(workspace, quiet=quiet, verbose=verbose)
