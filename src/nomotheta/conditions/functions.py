"""The functions a condition may call, and what to write in place of those it may not."""

from __future__ import annotations

PERCENTILES = ("percentile_cont", "percentile_disc")
DEVIATIONS = ("stddev_samp", "stddev_pop")
AGGREGATES = ("count", "sum", "avg", "min", "max", "median", *DEVIATIONS, *PERCENTILES)
# name -> fewest and most arguments
FUNCTIONS: dict[str, tuple[int, int]] = {
    "abs": (1, 1),
    "ceil": (1, 1),
    "char_length": (1, 1),
    "coalesce": (2, 9),
    "floor": (1, 1),
    "left": (2, 2),
    "lower": (1, 1),
    "mod": (2, 2),
    "nullif": (2, 2),
    "position": (2, 2),
    "regexp_like": (2, 3),
    "replace": (3, 3),
    "right": (2, 2),
    "round": (1, 2),
    "substring": (2, 3),
    "trim": (1, 1),
    "upper": (1, 1),
}
SAME_AS = {"length": "char_length", "substr": "substring", "ceiling": "ceil"}
INSTEAD_OF = {
    "concat": "write a || b",
    "ifnull": "write coalesce(a, b)",
    "nvl": "write coalesce(a, b)",
    "now": "write current_timestamp",
    "year": "write extract(year from d)",
    "month": "write extract(month from d)",
    "if": "write case when ... then ... else ... end",
    "iif": "write case when ... then ... else ... end",
    "greatest": "write case when a > b then a else b end",
    "least": "write case when a < b then a else b end",
    "stddev": "write stddev_samp(x), or stddev_pop(x)",
    "percentile": "write percentile_cont(0.95) within group (order by x)",
    "quantile": "write percentile_cont(0.95) within group (order by x)",
    "octet_length": "write char_length",
}
FIELDS = ("year", "quarter", "month", "day", "isodow", "week", "isoyear", "hour", "minute", "second")
EXACT = {
    "second": 1_000_000,
    "minute": 60_000_000,
    "hour": 3_600_000_000,
    "day": 86_400_000_000,
    "week": 604_800_000_000,
}
# units, and their lengths in microseconds; months and years have none
UNITS = ("second", "minute", "hour", "day", "week", "month", "year")
# parameters, filled by the run
PARAMETERS = {"day": "date", "load_no": "integer"}
