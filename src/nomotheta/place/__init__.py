"""Places: one protocol, one module a database. Conditions are rendered here, from their checked trees.

Its modules are imported one by one: what only shows a result is not to wait for what makes one.
"""

__all__ = ()
