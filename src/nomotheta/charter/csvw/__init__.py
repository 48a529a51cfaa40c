"""CSV on the Web: charters drafted from its metadata, and metadata written for a charter.

Source: Metadata Vocabulary for Tabular Data, W3C Recommendation, 2015.
"""

from nomotheta.charter.csvw.read import draft_from_metadata, is_metadata
from nomotheta.charter.csvw.write import metadata_of

__all__ = ["draft_from_metadata", "is_metadata", "metadata_of"]
