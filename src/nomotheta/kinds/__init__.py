"""Kinds: text into typed values, a column at a time, strictly; Arrow arrays in, Arrow arrays and misfits out.

Its modules are imported one by one: what only shows a result is not to wait for what makes one.
"""

__all__ = ()
