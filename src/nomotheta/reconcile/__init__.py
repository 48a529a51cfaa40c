"""Reconciliation: files against tables, by counts, column totals and the fingerprint of all rows."""

from nomotheta.reconcile.groups import GroupCount, RowCounts
from nomotheta.reconcile.reconciliation import Cell, ColumnTotals, Reconciliation, RowDifference

__all__ = ["Cell", "ColumnTotals", "GroupCount", "Reconciliation", "RowCounts", "RowDifference"]
