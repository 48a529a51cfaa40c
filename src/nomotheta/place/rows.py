"""Rows as a driver gives them, as Arrow columns."""

from __future__ import annotations

import datetime
import uuid
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import pyarrow as pa


def rows_table(names: Sequence[str], rows: Sequence[Sequence[Any]]) -> Any:
    """N rows of values as a `pa.Table`; a column without any value is of texts."""
    columns = zip(*rows, strict=True) if rows else [()] * len(names)
    return pa.table([_column(values) for values in columns], names=list(names))


def _column(values: Sequence[Any]) -> Any:
    """Values as an Arrow array; what Arrow knows no type for as text."""
    kinds = set(map(type, values))
    if Decimal in kinds and any(isinstance(value, Decimal) and not value.is_finite() for value in values):
        values = [None if value is None else float(value) for value in values]
    elif kinds & {uuid.UUID, list, dict}:
        values = [None if value is None else str(value) for value in values]
    elif datetime.timedelta in kinds:
        values = [None if value is None else _time(value) for value in values]
    try:
        made = pa.array(values)
    except OverflowError:  # whole numbers of 64 bits without a sign
        made = pa.array(values, pa.uint64())
    return made.cast(pa.string()) if pa.types.is_null(made.type) else made


def _time(value: datetime.timedelta) -> datetime.time | None:
    """How long after midnight, as a time of day; None where it is none."""
    if not datetime.timedelta(0) <= value < datetime.timedelta(days=1):
        return None
    return (datetime.datetime.min + value).time()
