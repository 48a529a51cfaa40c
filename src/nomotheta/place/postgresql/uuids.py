"""Texts of uuids (RFC 9562) as their sixteen bytes, and back, a column at a time."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

_HYPHENS = (8, 13, 18, 23)
_DIGITS = np.array([at for at in range(36) if at not in _HYPHENS])
_VALUE = np.zeros(256, np.uint8)
_VALUE[[ord(digit) for digit in "0123456789abcdef"]] = range(16)
_LETTER = np.frombuffer(b"0123456789abcdef", np.uint8)


def uuid_bytes(texts: Any) -> Any:
    """N canonical texts of uuids as a `pa.uuid()` array; null stays null."""
    valid = texts.is_valid().to_numpy(zero_copy_only=False)
    text = "".join(texts.drop_null().to_pylist()).encode()
    nibbles = _VALUE[np.frombuffer(text, np.uint8).reshape(-1, 36)[:, _DIGITS]]
    data = np.zeros((len(texts), 16), np.uint8)
    data[valid] = nibbles[:, 0::2] << 4 | nibbles[:, 1::2]
    bits = pa.py_buffer(np.packbits(valid, bitorder="little"))
    storage = pa.Array.from_buffers(pa.binary(16), len(texts), [bits, pa.py_buffer(data)])
    return pa.ExtensionArray.from_storage(pa.uuid(), storage)


def uuid_texts(array: Any) -> Any:
    """N uuids, a `pa.uuid()` array, as their canonical texts."""
    valid = array.is_valid().to_numpy(zero_copy_only=False)
    data = np.frombuffer(b"".join(array.storage.drop_null().to_pylist()), np.uint8).reshape(-1, 16)
    letters = np.full((len(data), 36), ord("-"), np.uint8)
    letters[:, _DIGITS[0::2]], letters[:, _DIGITS[1::2]] = _LETTER[data >> 4], _LETTER[data & 15]
    edges = np.concatenate([[0], np.cumsum(36 * valid)]).astype(np.int32)
    bits = pa.py_buffer(np.packbits(valid, bitorder="little"))
    return pa.Array.from_buffers(pa.string(), len(array), [bits, pa.py_buffer(edges), pa.py_buffer(letters)])
