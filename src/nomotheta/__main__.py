"""`python -m nomotheta` and the command `nomotheta` are the same program."""

from __future__ import annotations

import sys

from nomotheta.interrupts import INTERRUPTED, end_at_once, ignore_interrupts


def main() -> None:
    """Run the command line, and end the process with its exit code."""
    end_at_once()
    from nomotheta.streams import lost, make_sturdy

    make_sturdy()
    try:
        code = _run(sys.argv[1:])
    except KeyboardInterrupt:  # while it showed what it had done
        print("stopped", file=sys.stderr)  # noqa: T201
        code = INTERRUPTED
    ignore_interrupts()
    why = lost()
    if why:
        print(f"the output could not be written: {why}", file=sys.stderr)  # noqa: T201
    sys.exit(code)


_LIGHT = (
    ["lint"],
    ["ledger"],
    ["docket"],
    ["rejects"],
    ["places"],
    ["begin"],
    ["judge"],
)  # commands that read no data, or seldom


def _run(arguments: list[str]) -> int:
    from nomotheta.start import prepare

    prepare(light=arguments[:1] in _LIGHT and "--csv" not in arguments)
    if arguments[:1] == ["load"]:
        from nomotheta.ahead import foresee

        foresee(arguments)
    from nomotheta.cli import run

    return run(arguments)


if __name__ == "__main__":
    main()
