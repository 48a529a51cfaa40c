"""Loads: one delivery into one table, in one transaction, with its balance and its rejects."""

from nomotheta.load.balance import Balance, FileCount
from nomotheta.load.blocks import worked_blocks, worked_files
from nomotheta.load.compare import compare
from nomotheta.load.engine import Engine
from nomotheta.load.load import Judge, Order, Outcome, OvertakenError, load
from nomotheta.load.mended import LINKS, Mended, columns_of, delimiter_of, mended_charter, open_mended, read_mended
from nomotheta.load.rejects import (
    FAULTS_SHOWN,
    Came,
    Reject,
    RejectFile,
    count_faults,
    left_out,
    open_faults,
    part_of,
    read_rejects,
    recover,
)
from nomotheta.load.stage import begun, stage_name, stage_token
from nomotheta.load.undo import TakenOut, told_apart, undo
from nomotheta.load.work import Plan, Worked, constants

__all__ = [
    "FAULTS_SHOWN",
    "LINKS",
    "Balance",
    "Came",
    "Engine",
    "FileCount",
    "Judge",
    "Mended",
    "Order",
    "Outcome",
    "OvertakenError",
    "Plan",
    "Reject",
    "RejectFile",
    "TakenOut",
    "Worked",
    "begun",
    "columns_of",
    "compare",
    "constants",
    "count_faults",
    "delimiter_of",
    "left_out",
    "load",
    "mended_charter",
    "open_faults",
    "open_mended",
    "part_of",
    "read_mended",
    "read_rejects",
    "recover",
    "stage_name",
    "stage_token",
    "told_apart",
    "undo",
    "worked_blocks",
    "worked_files",
]
