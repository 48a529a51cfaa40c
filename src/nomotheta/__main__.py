"""`python -m nomotheta` and the command `nomotheta` are the same program."""

from __future__ import annotations

import sys

_INTERRUPTED = 130


def main() -> None:
    """Run the command line, and end the process with its exit code."""
    from nomotheta.start import mind_interrupts
    from nomotheta.streams import lost, make_sturdy

    mind_interrupts()
    make_sturdy()
    try:
        code = _run(sys.argv[1:])
    except KeyboardInterrupt:  # while it was still being imported
        print("stopped; nothing was begun", file=sys.stderr)  # noqa: T201
        code = _INTERRUPTED
    why = lost()
    if why:
        print(f"the output could not be written: {why}", file=sys.stderr)  # noqa: T201
    sys.exit(code)


def _run(arguments: list[str]) -> int:
    from nomotheta.start import prepare

    prepare()
    if arguments[:1] == ["load"]:
        from nomotheta.ahead import foresee

        foresee(arguments)
    from nomotheta.cli import run

    return run(arguments)


if __name__ == "__main__":
    main()
