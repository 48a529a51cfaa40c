"""The command line: arguments in, the API called, results shown. Nothing is computed here."""

from nomotheta.cli.app import app

__all__ = ["app"]
