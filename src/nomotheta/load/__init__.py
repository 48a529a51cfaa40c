"""Loads: one delivery into one table, in one transaction, with its balance and its rejects.

Its modules are imported one by one: a screen of rejects needs little of what a load needs.
"""

__all__ = ()
