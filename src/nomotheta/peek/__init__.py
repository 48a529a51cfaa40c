"""A look at a file, before anything is declared about it."""

from nomotheta.peek.look import Look, Oddity, SeenColumn, look
from nomotheta.peek.spread import Spread

__all__ = ["Look", "Oddity", "SeenColumn", "Spread", "look"]
