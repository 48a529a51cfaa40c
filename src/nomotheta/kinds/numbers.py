"""Texts into whole numbers, decimals and reals. The shape is checked first: no cast sees what the shape refuses."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nomotheta.conditions import Kind
from nomotheta.kinds.cells import Bools, Cells, Ints, nulled, without
from nomotheta.kinds.digits import WORD, read_fixed_point
from nomotheta.kinds.typed import Misfit, Typed, united
from nomotheta.layout import Layout

_OTHER, _DIGIT, _SIGN, _MARK = range(4)
_LONGEST_INTEGER = 18  # digits that surely fit 64 bits
_FEW_DIGITS = 36  # bytes of a decimal of which a cast needs none taken away
_POWERS = 10 ** np.arange(_LONGEST_INTEGER + 1)


def read_integer(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    """`[+-]?digits`, within 64 bits; leading zeros say nothing."""
    texts, misplaced = _ungrouped(_bare_of_affixes(texts, layout), layout)
    shape = _misshapen(texts, mark=None)
    clean = _bare(nulled(texts, shape))
    try:
        values, far = pc.cast(clean, pa.int64()), np.zeros(0, np.int64)
    except pa.ArrowInvalid:
        far = _beyond_64_bits(clean)
        values = pc.cast(nulled(clean, far), pa.int64())
    return Typed(values, Misfit.all(kind=united(shape, misplaced), range=far))


def read_decimal(texts: Any, kind: Kind, layout: Layout) -> Typed:
    """`[+-]?digits[mark digits]` or `[+-]?mark digits`, exact; zeros past the scale are no loss."""
    texts = _bare_of_affixes(texts, layout)
    if not 1 <= kind.scale < WORD or not len(texts):
        return _any_decimals(texts, kind, layout)
    cells = Cells.of(texts)
    scaled, plain = read_fixed_point(cells, kind.scale, layout.decimal_sign)
    if kind.digits < WORD + kind.scale:
        plain &= scaled < 10**kind.digits
    odd = np.flatnonzero(cells.valid & ~plain)
    if len(odd) * 8 > len(texts):
        return _any_decimals(texts, kind, layout)
    values = _as_decimals(scaled, kind, None if plain.all() else plain)
    if not len(odd):
        return Typed(values)
    rest = _any_decimals(texts.take(pa.array(odd)), kind, layout)
    mask = np.zeros(len(texts), np.bool_)
    mask[odd] = True
    values = pc.replace_with_mask(values, pa.array(mask), rest.values)
    return Typed(values, tuple(Misfit(misfit.reason, odd[misfit.rows]) for misfit in rest.misfits))


def _any_decimals(texts: Any, kind: Kind, layout: Layout) -> Typed:
    """Decimals however they are written."""
    texts, misplaced = _ungrouped(texts, layout)
    shape = _misshapen(texts, mark=layout.decimal_sign)
    clean = without(texts, shape)
    values = _scaled(clean, kind, layout.decimal_sign)
    far = np.zeros(0, np.int64)
    if values is None:
        values, far = _cast_decimal(_pointed(clean, layout.decimal_sign), kind)
    return Typed(values, Misfit.all(kind=united(shape, misplaced), range=far))


def _as_decimals(scaled: Ints, kind: Kind, valid: Bools | None) -> Any:
    """Whole numbers of the last place as decimals, null where they are not valid; all are, if None."""
    wide = np.empty((len(scaled), 2), np.int64)
    wide[:, 0] = scaled
    wide[:, 1] = scaled >> 63
    bits = None if valid is None else pa.py_buffer(np.packbits(valid, bitorder="little"))
    return pa.Array.from_buffers(pa.decimal128(kind.size, kind.scale), len(scaled), [bits, pa.py_buffer(wide)])


def _cast_decimal(texts: Any, kind: Kind) -> tuple[Any, Ints]:
    """Decimals of any length. The digits are counted before the cast, which wraps around what is too long for it."""
    far = _beyond_digits(texts, kind)
    texts = without(texts, far)
    if int(Cells.of(texts).lengths.max(initial=0)) > _FEW_DIGITS:
        texts = pc.replace_substring_regex(texts, r"^([+-]?)0+([0-9])", r"\1\2")
        texts = pc.replace_substring_regex(texts, rf"(\.[0-9]{{{kind.scale}}})0+$" if kind.scale else r"\.()0*$", r"\1")
    return pc.cast(texts, pa.decimal128(kind.size, kind.scale)), far


def _scaled(texts: Any, kind: Kind, mark: str) -> Any | None:
    """Decimals as whole numbers of their last place: four times as fast as a cast from text.

    None where a value has more places than the scale or too many digits for it; then the exact cast decides.
    """
    cells = Cells.of(texts)
    lengths = cells.lengths
    if not len(lengths) or kind.scale > _LONGEST_INTEGER or not cells.dense or lengths.max() > _LONGEST_INTEGER + 1:
        return None
    first, last = int(cells.starts[0]), int(cells.ends[-1])
    data = cells.data[first:last]
    is_mark = data == ord(mark)
    marks = np.flatnonzero(is_mark)
    rows = cells.rows(marks + first)
    places = np.zeros(len(lengths), np.int64)
    places[rows] = cells.ends[rows] - first - marks - 1
    marked = np.zeros(len(lengths), np.int64)
    marked[rows] = 1
    if int(places.max()) > kind.scale:
        return None
    if int((lengths - marked).max()) > _LONGEST_INTEGER:
        return None
    digits = _bare(_strings(data[~is_mark], lengths - marked, texts))
    whole = pc.fill_null(pc.cast(digits, pa.int64()), 0).to_numpy(zero_copy_only=False)
    power = _POWERS[kind.scale - places]
    limit = _POWERS[min(kind.digits, _LONGEST_INTEGER)]
    if (np.abs(whole.astype(np.float64)) * power >= limit * (1 - 1e-9)).any():
        return None
    return _as_decimals(whole * power, kind, cells.valid)


def _strings(data: NDArray[np.uint8], lengths: Ints, like: Any) -> Any:
    """Texts of these lengths, one after the other in `data`, null where `like` is."""
    edges = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int32)
    buffers = [_validity(like), pa.py_buffer(edges), pa.py_buffer(np.ascontiguousarray(data))]
    return pa.Array.from_buffers(pa.string(), len(like), buffers)


def _validity(array: Any) -> Any:
    return array.buffers()[0] if array.null_count else None


def read_real(texts: Any, _kind: Kind, layout: Layout) -> Typed:
    """A decimal as above, with an exponent where need be; finite, and not zero unless it is written so."""
    texts, misplaced = _ungrouped(_bare_of_affixes(texts, layout), layout)
    sign = re.escape(layout.decimal_sign)
    written = rf"^[+-]?([0-9]+({sign}[0-9]+)?|{sign}[0-9]+)([eE][+-]?[0-9]+)?$"
    shape = _rows(pc.invert(pc.match_substring_regex(texts, written)))
    clean = _pointed(without(texts, shape), layout.decimal_sign)
    values = pc.cast(_short_exponents(clean), pa.float64())
    vanished = pc.and_(pc.equal(values, 0.0), pc.match_substring_regex(clean, r"^[^eE]*[1-9]"))
    far = _rows(pc.or_(pc.invert(pc.is_finite(values)), vanished))
    return Typed(without(values, far), Misfit.all(kind=united(shape, misplaced), range=far))


def _short_exponents(texts: Any) -> Any:
    """Without plus signs and the zeros before an exponent, which a cast from text may not take."""
    if not pc.any(pc.match_substring_regex(texts, r"^\+|[eE][+-]?0")).as_py():
        return texts
    return pc.replace_substring_regex(_bare(texts), r"([eE][+-]?)0+([0-9])", r"\1\2")


def _rows(mask: Any) -> Ints:
    return np.flatnonzero(pc.fill_null(mask, fill_value=False).to_numpy(zero_copy_only=False))


def _table(mark: str | None) -> NDArray[np.uint8]:
    table = np.zeros(256, np.uint8)
    table[ord("0") : ord("9") + 1] = _DIGIT
    table[[ord("+"), ord("-")]] = _SIGN
    if mark:
        table[ord(mark)] = _MARK
    return table


def _misshapen(texts: Any, mark: str | None) -> Ints:
    """The rows whose bytes are not an optional sign, digits and at most one mark, with a digit last."""
    cells = Cells.of(texts)
    if not len(cells.starts):
        return np.zeros(0, np.int64)
    first = int(cells.starts[0])
    data = cells.data[first : int(cells.ends[-1])]
    empty = np.flatnonzero(cells.valid & (cells.lengths == 0))
    digits = data - np.uint8(ord("0"))  # what is not a digit wraps around to more than 9
    if int(digits.max(initial=0)) <= 9:
        return empty
    positions = np.flatnonzero(digits > 9)
    sorts = _table(mark)[data[positions]]
    positions += first
    rows = cells.rows(positions)
    wrong = (sorts == _OTHER) | ((sorts == _SIGN) & (positions != cells.starts[rows]))
    wrong |= positions == cells.ends[rows] - 1
    marks = rows[sorts == _MARK]
    twice = marks[1:][marks[1:] == marks[:-1]]
    found = united(rows[wrong], twice, empty)
    hits: Ints = found[cells.valid[found]]
    return hits


def _bare(texts: Any) -> Any:
    """Without plus signs, which Arrow's cast does not take."""
    if not (Cells.of(texts).data == ord("+")).any():
        return texts
    return pc.replace_substring_regex(texts, r"^\+", "") if pc.any(pc.starts_with(texts, "+")).as_py() else texts


def _pointed(texts: Any, mark: str) -> Any:
    return texts if mark == "." else pc.replace_substring(texts, mark, ".")


def _bare_of_affixes(texts: Any, layout: Layout) -> Any:
    """Without a declared prefix, which a sign may precede, and a declared suffix, at most one of each."""
    if layout.number_prefixes:
        listed = "|".join(map(re.escape, sorted(layout.number_prefixes, key=len, reverse=True)))
        texts = pc.replace_substring_regex(texts, f"^([+-]?)(?:{listed})", r"\1")
    if layout.number_suffixes:
        listed = "|".join(map(re.escape, sorted(layout.number_suffixes, key=len, reverse=True)))
        texts = pc.replace_substring_regex(texts, f"(?:{listed})$", "")
    return texts


def _ungrouped(texts: Any, layout: Layout) -> tuple[Any, Ints]:
    """Texts without their declared thousands signs; the rows where one stands elsewhere than between threes."""
    mark = layout.thousands_sign
    nothing = np.zeros(0, np.int64)
    if not mark:
        return texts, nothing
    grouped = pc.match_substring(texts, mark)
    if not pc.any(grouped).as_py():
        return texts, nothing
    shape = f"^[+-]?[1-9][0-9]{{0,2}}({re.escape(mark)}[0-9]{{3}})+({re.escape(layout.decimal_sign)}[0-9]+)?$"
    wrong = _rows(pc.and_(grouped, pc.invert(pc.match_substring_regex(texts, shape))))
    return pc.replace_substring(without(texts, wrong), mark, ""), wrong


def _beyond_64_bits(texts: Any) -> Ints:
    """Rows of whole numbers that 64 bits do not hold."""
    long = _rows(pc.greater(pc.binary_length(texts), _LONGEST_INTEGER))
    digits = pc.replace_substring_regex(texts.take(pa.array(long)), r"^([+-]?)0*", r"\1").to_pylist()
    far = [len(text) > _LONGEST_INTEGER + 2 or not -(2**63) <= int(text + "0") // 10 < 2**63 for text in digits]
    return long[np.array(far, np.bool_)]


def _beyond_digits(texts: Any, kind: Kind) -> Ints:
    """Rows with too many digits before the mark, or more behind it than the scale that are not zero."""
    whole = kind.digits - kind.scale
    fits = rf"^[+-]?0*[0-9]{{0,{whole}}}(\.[0-9]{{0,{kind.scale}}}0*)?$"
    return _rows(pc.invert(pc.match_substring_regex(texts, fits)))
