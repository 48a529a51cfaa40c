"""CSV on the Web: charters proposed from its metadata, and metadata written for a charter.

Source: Metadata Vocabulary for Tabular Data, W3C Recommendation, 2015.
"""

from nomotheta.charter.csvw.read import is_metadata, propose_from_metadata
from nomotheta.charter.csvw.write import metadata_of

__all__ = ["is_metadata", "metadata_of", "propose_from_metadata"]
