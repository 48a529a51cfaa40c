"""Places: one protocol, one module a database. Conditions are rendered here, from their checked trees."""

from nomotheta.conditions import quoted
from nomotheta.place.answer import PlaceAnswer, tried
from nomotheta.place.base import LoadedFile, Mark, Place, PlaceColumn
from nomotheta.place.connect import connect, rehearsal, warm, with_secrets
from nomotheta.place.fingerprint import SCHEME, Fingerprint
from nomotheta.place.marks import files_known, files_of_day, forget_files, leave_files, outlived
from nomotheta.place.render import WHITE_SPACE, Now, Renderer, identifiers, quoted_table, text_literal
from nomotheta.place.staging import Merge, Merged

__all__ = [
    "SCHEME",
    "WHITE_SPACE",
    "Fingerprint",
    "LoadedFile",
    "Mark",
    "Merge",
    "Merged",
    "Now",
    "Place",
    "PlaceAnswer",
    "PlaceColumn",
    "Renderer",
    "connect",
    "files_known",
    "files_of_day",
    "forget_files",
    "identifiers",
    "leave_files",
    "outlived",
    "quoted",
    "quoted_table",
    "rehearsal",
    "text_literal",
    "tried",
    "warm",
    "with_secrets",
]
