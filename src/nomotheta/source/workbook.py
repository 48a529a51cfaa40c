"""What a workbook holds that its cells' values do not tell: errors, formulas without a value, and the first day.

The library that reads cells gives an empty one for an error and for a formula that was never calculated, and the 28th
of February 1900 for two numbers of days. Here the file itself is asked.
"""

from __future__ import annotations

import posixpath
import re
import zipfile
from collections.abc import Iterator, Mapping
from dataclasses import field
from pathlib import Path
from xml.etree import ElementTree

from nomotheta.frozen import frozen

Cell = tuple[int, int]  # row and column, from 0
_RELATIONS = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}"
NOT_CALCULATED = "a formula without a value"


@frozen
class Workbook:
    """The cells of a sheet that have no value though they are not empty, with what they hold.

    `from_1904` says whether its days count from 1904 on.
    """

    unread: Mapping[Cell, str] = field(default_factory=dict)
    from_1904: bool = False


def looked_into(path: Path, sheet: str) -> Workbook:
    """What there is to know of a workbook and of one of its sheets.

    Raises:
        OSError, ValueError, KeyError, zipfile.BadZipFile, ElementTree.ParseError: the file is not such a workbook.
    """
    with path.open("rb") as file:
        packed = file.read(4) == b"PK\x03\x04"
    if not packed:
        return _old(path, sheet)
    with zipfile.ZipFile(path) as archive:
        names = set(archive.namelist())
        if "content.xml" in names:
            return _open_document(archive, sheet)
        return _office(archive, sheet, "xl/workbook.xml" if "xl/workbook.xml" in names else "xl/workbook.bin")


def _office(archive: zipfile.ZipFile, sheet: str, book: str) -> Workbook:
    """Office Open XML (ECMA-376), and its binary form."""
    relations = ElementTree.fromstring(archive.read(f"xl/_rels/{posixpath.basename(book)}.rels"))  # noqa: S314
    targets = {each.get("Id"): str(each.get("Target")) for each in relations}
    if book.endswith(".bin"):
        found, from_1904 = _binary_sheets(archive.read(book))
        cells = _binary_cells(archive.read(_part(targets[found[sheet]])))
        return Workbook(dict(cells), from_1904)
    tree = ElementTree.fromstring(archive.read(book))  # noqa: S314 - entities are not resolved outside the file
    space = tree.tag.partition("}")[0] + "}"
    sheets = {each.get("name"): each.get(f"{_RELATIONS}id") for each in tree.iter(f"{space}sheet")}
    settings = tree.find(f"{space}workbookPr")
    from_1904 = settings is not None and settings.get("date1904", "0") in {"1", "true"}
    return Workbook(dict(_xml_cells(archive.read(_part(targets[sheets[sheet]])))), from_1904)


def _part(target: str) -> str:
    return target.removeprefix("/") if target.startswith("/") else posixpath.normpath(posixpath.join("xl", target))


_ERROR = re.compile(rb'<(?:\w+:)?c\b[^>]*\bt=["\']e["\'][^>]*>(?:(?!</(?:\w+:)?c>).)*?<(?:\w+:)?v>([^<]*)<', re.DOTALL)
_NO_VALUE = re.compile(rb"(?:</(?:\w+:)?f>|<(?:\w+:)?f\b[^>]*/>)\s*(?:<(?:\w+:)?v\s*/>\s*)?</(?:\w+:)?c>")
_OPENED = re.compile(rb"<(?:\w+:)?c\b[^>]*>")
_NAME = re.compile(rb'\br=["\']([A-Z]+)([0-9]+)["\']')
_TEXT = re.compile(rb'\bt=["\']str["\']')


def _xml_cells(data: bytes) -> Iterator[tuple[Cell, str]]:
    """The errors of a sheet, and its formulas without a value; the empty text is one, too."""
    for match in _ERROR.finditer(data):
        yield _named(match[0]), f"the error {match[1].decode('utf-8', 'replace')}"
    for match in _NO_VALUE.finditer(data):
        opened = max(data.rfind(b"<c ", 0, match.start()), data.rfind(b":c ", 0, match.start()))
        tag = _OPENED.match(data, data.rfind(b"<", 0, opened + 1)) if opened >= 0 else None
        if tag is None or not _TEXT.search(tag[0]):
            yield _named(tag[0] if tag else b""), NOT_CALCULATED


def _named(tag: bytes) -> Cell:
    match = _NAME.search(tag)
    if match is None:
        raise ValueError("a cell does not say its position")
    return int(match[2]) - 1, column_number(match[1].decode()) - 1


def column_number(letters: str) -> int:
    """The number of a column, from 1, by its letters."""
    number = 0
    for letter in letters:
        number = number * 26 + ord(letter) - 64
    return number


_ERRORS = {
    0x00: "#NULL!", 0x07: "#DIV/0!", 0x0F: "#VALUE!", 0x17: "#REF!", 0x1D: "#NAME?", 0x24: "#NUM!", 0x2A: "#N/A",
}  # fmt: skip


def _records(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The records of a part in binary form ([MS-XLSB], 2.1.4): their type, and what they hold."""
    at = 0
    while at < len(data):
        sort, at = _varied(data, at, 2)
        size, at = _varied(data, at, 4)
        yield sort, data[at : at + size]
        at += size


def _varied(data: bytes, at: int, most: int) -> tuple[int, int]:
    value = shift = 0
    for _ in range(most):
        byte = data[at]
        at += 1
        value |= (byte & 0x7F) << shift if most == 4 else byte << (8 * shift // 7)
        shift += 7
        if not byte & 0x80:
            break
    return value, at


def _binary_sheets(data: bytes) -> tuple[dict[str, str], bool]:
    """The relation of each sheet by its name, and whether days count from 1904 on."""
    found, from_1904 = {}, False
    for sort, body in _records(data):
        if sort == 0x99 | 0x01 << 8:  # BrtWbProp
            from_1904 = bool(body[0] & 1)
        if sort == 0x9C | 0x01 << 8:  # BrtBundleSh
            relation, rest = _wide(body[8:])
            found[_wide(rest)[0]] = relation
    return found, from_1904


def _wide(data: bytes) -> tuple[str, bytes]:
    size = 2 * int.from_bytes(data[:4], "little")
    return data[4 : 4 + size].decode("utf-16-le"), data[4 + size :]


def _binary_cells(data: bytes) -> Iterator[tuple[Cell, str]]:
    row = 0
    for sort, body in _records(data):
        if sort == 0:  # BrtRowHdr
            row = int.from_bytes(body[:4], "little")
        elif sort in {3, 11}:  # BrtCellError, BrtFmlaError
            column = int.from_bytes(body[:4], "little")
            yield (row, column), f"the error {_ERRORS.get(body[8], hex(body[8]))}"


def _open_document(archive: zipfile.ZipFile, sheet: str) -> Workbook:
    """OpenDocument spreadsheets (ISO/IEC 26300)."""
    unread: dict[Cell, str] = {}
    from_1904, chosen, row, column = False, False, 0, 0
    with archive.open("content.xml") as file:
        for event, each in ElementTree.iterparse(file, ("start", "end")):  # noqa: S314
            space, _, tag = each.tag[1:].partition("}")
            own = {name.partition("}")[2]: value for name, value in each.attrib.items()}
            if event == "start":
                if tag == "null-date":
                    from_1904 = own.get("date-value", "").startswith("1904")
                elif tag == "table" and space.endswith("table:1.0"):
                    chosen, row = own.get("name") == sheet, 0
                elif tag == "table-row":
                    column = 0
                continue
            if tag in {"table-cell", "covered-table-cell"}:
                times = int(own.get("number-columns-repeated", "1"))
                told = _open_cell(each, own) if chosen else ""
                unread |= {(row, column + at): told for at in range(times if told else 0)}
                column += times
            elif tag == "table-row":
                row += int(own.get("number-rows-repeated", "1"))
                each.clear()
    return Workbook(unread, from_1904)


def _open_cell(cell: ElementTree.Element, own: Mapping[str, str]) -> str:
    """What is wrong with a cell, or nothing."""
    text = "".join(cell.itertext())
    if any(name.endswith("}value-type") and value == "error" for name, value in cell.attrib.items()):
        return f"the error {text or '?'}"
    if "formula" in own and (text.startswith("#") or re.fullmatch(r"Err:\d+", text)):
        return f"the error {text}"
    return NOT_CALCULATED if "formula" in own and "value-type" not in own else ""


def _old(path: Path, sheet: str) -> Workbook:
    """Workbooks of Excel 97 to 2003."""
    import xlrd

    with xlrd.open_workbook(str(path), on_demand=True, logfile=_Silent()) as book:
        cells = book.sheet_by_name(sheet)
        unread = {
            (row, column): f"the error {xlrd.error_text_from_code.get(cells.cell_value(row, column), '?')}"
            for row in range(cells.nrows)
            for column, sort in enumerate(cells.row_types(row))
            if sort == xlrd.XL_CELL_ERROR
        }
        return Workbook(unread, book.datemode == 1)


class _Silent:
    """Where a library may write what nobody is to read."""

    def write(self, _text: str) -> None:
        """Nothing."""
