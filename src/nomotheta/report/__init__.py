"""Reports: results as pages, JSON and CSV.

Whoever needs one of them imports its module: a screen is not to wait for what pages and documents are made of.
"""

__all__ = ()
