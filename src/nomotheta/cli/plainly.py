"""The values of arguments and options, made of what was written, and what is wrong with them in our own words.

Typer would have each checked by a model of pydantic, whose import takes longer than many a command of ours.
"""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any, get_args

import typer.core

_DAY = "%Y-%m-%d"


class _Plainly:
    """Makes a parameter's value of what was written."""

    def coerce(self, value: Any, param: Any, ctx: Any) -> Any:
        """The value of a parameter.

        Raises:
            typer.BadParameter: what was written is not of its kind.
        """
        kind = param.type_descriptor.annotation
        several = param.multiple or param.nargs == -1
        if value is None:
            return () if several else None
        try:
            if several:
                return [_made(each, get_args(kind)[0], param) for each in value]
            return _made(value, kind, param)
        except ValueError as error:
            raise typer.BadParameter(str(error), ctx=ctx, param=param) from None


def _made(value: Any, kind: Any, param: Any) -> Any:
    if kind is datetime.datetime and isinstance(value, str):
        try:
            return datetime.datetime.strptime(value, _DAY)
        except ValueError:
            raise ValueError(f"'{value}' is not a day; write it as 2026-12-31") from None
    if kind is int and isinstance(value, str):
        try:
            value = int(value)
        except ValueError:
            raise ValueError(f"'{value}' is not a whole number") from None
    least = param.type_descriptor.parameter_info.min
    if kind is int and least is not None and value < least:
        raise ValueError(f"{value} is less than {least}")
    return kind(value) if kind in (str, Path) else value


def take_plainly() -> None:
    """Have all parameters take their values so; another version of Typer may have its own way, and keeps it."""
    params = getattr(typer.core, "_TyperParameter", None)
    if params is not None and hasattr(params, "get_runtime_param"):
        params.get_runtime_param = lambda _param: _Plainly()
