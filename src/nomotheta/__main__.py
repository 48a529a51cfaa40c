"""`python -m nomotheta` and the command `nomotheta` are the same program."""

from __future__ import annotations


def main() -> None:
    """Run the command line."""
    from nomotheta.start import prepare

    prepare()
    from nomotheta.cli import app

    app(prog_name="nomotheta")


if __name__ == "__main__":
    main()
