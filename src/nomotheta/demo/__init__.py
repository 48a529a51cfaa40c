"""The Skerry Line, a made-up ferry operator: a workspace to try everything on, and the faults planted in its files."""

from nomotheta.demo.faults import NIGHTS, PLANTED, Planted
from nomotheta.demo.write import write_demo

__all__ = ["NIGHTS", "PLANTED", "Planted", "write_demo"]
