"""Errors turned into one message and an exit code; no traceback reaches a user."""

from __future__ import annotations

import importlib
import os
import sys
import tempfile
import traceback
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import typer

from nomotheta.errors import DeclarationError, NomothetaError
from nomotheta.events import watch
from nomotheta.interrupts import INTERRUPTED, raise_interrupts
from nomotheta.secrets import scrubbed

CODES = {"pass": 0, "warn": 0, "fail": 1, "error": 3}


@contextmanager
def guarded(*, json: bool, verbose: bool = False) -> Iterator[None]:
    """Run a command; what goes wrong is told on stderr, or as a document where JSON was asked for."""
    raise_interrupts()
    if verbose:
        from nomotheta.cli.log import log_steps

        log_steps()
    try:
        yield
    except NomothetaError as error:
        _tell(error, json=json)
        raise typer.Exit(error.code) from None
    except KeyboardInterrupt:
        print("stopped; what was not committed was rolled back", file=sys.stderr)  # noqa: T201
        raise typer.Exit(INTERRUPTED) from None
    except (typer.Exit, typer.Abort):
        raise
    except Exception as error:
        _tell(_unforeseen(error), json=json)
        raise typer.Exit(3) from None
    finally:
        if verbose:  # the next command of this process, if there is one, is its own
            watch(None)


def run(arguments: Sequence[str]) -> int:
    """Run a command line; its exit code. What is wrong with the line itself is a document too, where JSON is wanted."""
    from nomotheta.cli.command import app
    from nomotheta.cli.commands import take_in

    if not take_in(arguments[0] if arguments else ""):  # help, options before the command, a word that is none
        importlib.import_module("nomotheta.cli.app")
    try:
        return int(app(list(arguments), prog_name="nomotheta", standalone_mode=False) or 0)
    except typer.Abort:
        return INTERRUPTED
    except typer.TyperException as error:
        told = getattr(error, "format_message", error.__str__)()
        if "--json" in arguments:
            _tell(DeclarationError(told, mend="see: nomotheta --help"), json=True)
        else:
            getattr(error, "show", lambda: typer.echo(told, err=True))()
        return int(getattr(error, "exit_code", DeclarationError.code))


def print_json(document: str) -> None:
    """Print a document as UTF-8 (RFC 8259), whatever the terminal's encoding is."""
    typer.echo(document.encode("utf-8", "replace"))


def _tell(error: NomothetaError, *, json: bool) -> None:
    if json:
        from nomotheta.report.documents import Failure, to_json

        print_json(to_json(Failure(error.what, error.where, error.mend, error.code)))
        return
    from nomotheta.cli.paint import show_error

    show_error(error)


def _unforeseen(error: Exception) -> NomothetaError:
    descriptor, name = tempfile.mkstemp(prefix="nomotheta-", suffix=".log")
    with os.fdopen(descriptor, "w", encoding="utf-8") as file:
        file.write(scrubbed("".join(traceback.format_exception(error))))
    return NomothetaError(
        f"unexpected error: {type(error).__name__}: {error}",
        mend=f"the details are in {name}; please send that file to the maintainers",
    )
