"""Source files: arrivals, record-aligned blocks, and their columns as text.

Its modules are imported one by one: what only shows a result is not to wait for what makes one.
"""

__all__ = ()
