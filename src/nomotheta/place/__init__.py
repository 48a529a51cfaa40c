"""Places: one protocol, one module a database. Conditions are rendered here, from their checked trees."""

from nomotheta.place.base import Mark, Place, PlaceColumn
from nomotheta.place.connect import connect, masked, rehearsal, with_secrets
from nomotheta.place.fingerprint import BUCKETS, SCHEME, bucket, fingerprinted, hash_sum, row_hash
from nomotheta.place.render import WHITE_SPACE, Now, Renderer, quoted, quoted_table, text_literal

__all__ = [
    "BUCKETS",
    "SCHEME",
    "WHITE_SPACE",
    "Mark",
    "Now",
    "Place",
    "PlaceColumn",
    "Renderer",
    "bucket",
    "connect",
    "fingerprinted",
    "hash_sum",
    "masked",
    "quoted",
    "quoted_table",
    "rehearsal",
    "row_hash",
    "text_literal",
    "with_secrets",
]
