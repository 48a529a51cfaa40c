"""Rules: declared checks held against a table, and what came of each.

Its modules are imported one by one: what only shows a result is not to wait for what makes one.
"""

__all__ = ()
