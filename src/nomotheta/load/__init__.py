"""Loads: one delivery into one table, in one transaction, with its balance and its rejects."""

from nomotheta.load.balance import Balance, FileCount
from nomotheta.load.engine import Engine
from nomotheta.load.keys import SeenKeys
from nomotheta.load.load import Judge, Order, Outcome, as_kind, compare, load, worked_blocks
from nomotheta.load.rejects import Reject, RejectFile, left_out, read_rejects
from nomotheta.load.work import Plan, Worked, constants

__all__ = [
    "Balance",
    "Engine",
    "FileCount",
    "Judge",
    "Order",
    "Outcome",
    "Plan",
    "Reject",
    "RejectFile",
    "SeenKeys",
    "Worked",
    "as_kind",
    "compare",
    "constants",
    "left_out",
    "load",
    "read_rejects",
    "worked_blocks",
]
