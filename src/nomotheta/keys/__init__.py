"""Which rows repeat a key: hashes of keys, and those seen so far."""

from nomotheta.keys.hashing import Hasher
from nomotheta.keys.seen import IN_TABLE, PARTITIONS, Ascending, Hashes, InOrder, Ints, Keys, SeenKeys, split, take_in

__all__ = [
    "IN_TABLE",
    "PARTITIONS",
    "Ascending",
    "Hasher",
    "Hashes",
    "InOrder",
    "Ints",
    "Keys",
    "SeenKeys",
    "split",
    "take_in",
]
