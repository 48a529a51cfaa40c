"""Errors turned into one message and an exit code; no traceback reaches a user."""

from __future__ import annotations

import os
import sys
import tempfile
import traceback
from collections.abc import Iterator
from contextlib import contextmanager

import typer

from nomotheta.errors import NomothetaError

CODES = {"pass": 0, "warn": 0, "fail": 1, "error": 3}


@contextmanager
def guarded(*, json: bool) -> Iterator[None]:
    """Run a command; what goes wrong is told on stderr, or as a document where JSON was asked for."""
    try:
        yield
    except NomothetaError as error:
        _tell(error, json=json)
        raise typer.Exit(error.code) from None
    except KeyboardInterrupt:
        print("stopped; what was not committed is undone", file=sys.stderr)  # noqa: T201
        raise typer.Exit(130) from None
    except BrokenPipeError:
        # the reader of a pipe has gone: nothing more to say, and nobody to say it to
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise typer.Exit(0) from None
    except (typer.Exit, typer.Abort):
        raise
    except Exception as error:
        _tell(_unforeseen(error), json=json)
        raise typer.Exit(3) from None


def _tell(error: NomothetaError, *, json: bool) -> None:
    if json:
        from nomotheta.report import Failure, to_json

        print(to_json(Failure(error.what, error.where, error.mend, error.code)))  # noqa: T201
        return
    from nomotheta.cli.paint import show_error

    show_error(error)


def _unforeseen(error: Exception) -> NomothetaError:
    descriptor, name = tempfile.mkstemp(prefix="nomotheta-", suffix=".log")
    with os.fdopen(descriptor, "w", encoding="utf-8") as file:
        file.write("".join(traceback.format_exception(error)))
    return NomothetaError(
        f"this was not foreseen: {type(error).__name__}: {error}",
        mend=f"the details are in {name}; please send them to the maintainers",
    )
