"""The command line: arguments in, the API called, results shown. Nothing is computed here."""

from nomotheta.cli.guard import run

__all__ = ["run"]
