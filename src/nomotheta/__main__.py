"""`python -m nomotheta` and the command `nomotheta` are the same program."""

from __future__ import annotations

import sys


def main() -> None:
    """Run the command line."""
    from nomotheta.start import prepare

    prepare()
    if sys.argv[1:2] == ["load"]:
        from nomotheta.ahead import foresee

        foresee(sys.argv[1:])
    from nomotheta.cli import app

    app(prog_name="nomotheta")


if __name__ == "__main__":
    main()
