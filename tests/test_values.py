"""A value is a value or a misfit: every kind, in every format, against an oracle in plain Python."""

from __future__ import annotations

import datetime
import math
import random
import struct
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import oracle
from conftest import SETTINGS, TICKETS, Space, without_kernel
from nomotheta.conditions import Kind, parse_kind
from nomotheta.kinds.native import read_values
from nomotheta.kinds.read import read_column
from nomotheta.layout import Layout
from nomotheta.source.formats import open_file

LAYOUTS = {
    "plain": Layout(timestamp_forms=["%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M:%S.%f"]),
    "comma": Layout(
        decimal_sign=",", thousands_sign=".", date_forms=["%d.%m.%Y", "%Y%m%d"], midnight_24=True, true_words=["yes", "1"],
        number_prefixes=["€"], number_suffixes=["%"], null_words=["", "n/a"], timestamp_forms=["%Y-%m-%d %H:%M:%S", "%Y%m%d-%H%M"],
    ),
    "names": Layout(
        decimal_sign=",", date_forms=["%-d %B %Y", "%d %b %Y", "%-d.%-m.%y"], two_digit_years_from=1950, null_words=[],
        time_forms=["%-I:%M %p", "%H:%M:%S.%f", "%-H:%M"], timestamp_forms=["%d %b %Y %I:%M %p", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d"],
    ),
    "spaced": Layout(thousands_sign=" ", midnight_24=True, false_words=["false", ""], null_words=["0"]),
}  # fmt: skip
KINDS = ["text", "text(3)", "integer", "decimal(6,2)", "decimal(12,2)", "decimal(38,2)", "decimal(38,38)", "decimal(18,0)", "decimal(20,7)",
         "decimal(15,9)", "real", "boolean", "uuid", "binary", "date", "time", "timestamp", "timestamptz"]  # fmt: skip
ZONE = "Atlantic/Faroe"


def told(text: str | None, kind: Kind, layout: Layout) -> Any:
    """What the oracle says; MisfitError, the class, where it is none."""
    try:
        return None if text is None else oracle.value(text, kind, layout, ZONE)
    except oracle.MisfitError:
        return oracle.MisfitError


def found(typed: Any) -> list[Any]:
    """What was read, likewise."""
    values = typed.values.to_pylist()
    for misfit in typed.misfits:
        for row in misfit.rows.tolist():
            assert values[row] is None
            values[row] = oracle.MisfitError
    return values


def same(ours: list[Any], theirs: list[Any], given: list[Any]) -> None:
    """The same values, of the same sign and exponent."""
    wrong = [
        (text, mine, his) for text, mine, his in zip(given, ours, theirs, strict=True)
        if repr(mine) != repr(his) and not (mine == his and isinstance(mine, Decimal | datetime.datetime))
    ]  # fmt: skip
    assert not wrong, wrong[:5]


@pytest.mark.parametrize("kernel", ["with the kernel", "without it"])
@pytest.mark.parametrize("name", sorted(LAYOUTS))
@pytest.mark.parametrize("written", KINDS)
def test_a_cell_of_a_file_is_what_the_oracle_says(tmp_path: Path, written: str, name: str, kernel: str) -> None:
    kind, layout = parse_kind(written), replace(LAYOUTS[name], header=0, delimiter="\x1f")
    chance = random.Random(f"{written} {name}")
    texts = [text for text in oracle.texts(kind.name, 400, chance) if "\x1f" not in text]
    sound = [text for text in texts if told(text, kind, layout) is not oracle.MisfitError]
    texts += (
        chance.choices(sound, k=5 * len(texts)) if kernel.startswith("with the") else []
    )  # so that it reads most of them
    quoted = [chance.random() < 0.2 or "\n" in text or not text for text in texts]
    cells = [f'"{text}"' if q else text for text, q in zip(texts, quoted, strict=True)]
    (tmp_path / "x.csv").write_text("".join(f"{cell}\x1f.\n" for cell in cells), newline="")
    nulls = set(layout.null_words)
    given = [
        None if text in nulls and (not q or kind.name != "text") else text
        for text, q in zip(texts, quoted, strict=True)
    ]
    theirs = [told(text, kind, layout) for text in given]
    if kind.name != "text":  # a null word in quotes is null, unless it is a value
        given = [None if text in nulls else text for text in texts]

    def read() -> list[Any]:
        source = open_file(tmp_path / "x.csv", "x.csv", layout)
        source.kinds = {0: kind}
        ours: list[Any] = []
        for block in source.blocks():
            batch = source.read(block, 2)
            assert not batch.odd
            ours += found(read_values(batch.values(0), kind, layout, ZONE, null_words=batch.with_quotes()))
        return ours

    if kernel == "with the kernel":
        ours = read()
    else:
        with without_kernel():
            ours = read()

    same(ours, theirs, cells)


@pytest.mark.parametrize("name", sorted(LAYOUTS))
@pytest.mark.parametrize("written", KINDS)
def test_a_column_of_texts_is_what_the_oracle_says(written: str, name: str) -> None:
    kind, layout, chance = parse_kind(written), LAYOUTS[name], random.Random(f"{name} {written}")
    seeds = oracle.texts(kind.name, 300, chance)
    for _ in range(8):  # few of a sort in one column, and many: each goes its own way
        texts: list[str | None] = [*chance.choices(seeds, k=chance.choice([1, 3, 40])), None]
        texts = chance.choices(texts[:3], k=300) if chance.random() < 0.3 else texts

        ours = found(read_column(pa.array([None, *texts], pa.string())[1:], kind, layout, ZONE))

        same(ours, [told(text, kind, layout) for text in texts], texts)


def moments(unit: str) -> list[int]:
    """Counts of a unit since 1970 at the edges of what there is."""
    second = {"s": 1, "ms": 10**3, "us": 10**6, "ns": 10**9}[unit]
    edges = [
        0, 1, -1, 62_135_596_800 * -second, 62_135_596_800 * -second - 1, 253_402_300_800 * second - 1,
        253_402_300_800 * second,
    ]  # fmt: skip
    return [edge for edge in [*edges, 2**63 - 1, -(2**63) + 1, 1_780_000_000 * second + 7] if -(2**63) < edge < 2**63]


TYPED: list[tuple[Any, list[Any]]] = [
    *[(pa.timestamp(unit, zone), moments(unit)) for unit in ("s", "ms", "us", "ns") for zone in (None, "UTC", ZONE)],
    (pa.date32(), [0, -719_162, -719_163, 2_932_896, 2_932_897, 2**31 - 1, -(2**31)]),
    (pa.date64(), [0, 1, 86_400_000, 86_400_001, -86_400_000, -1, 253_402_300_799_999, 253_402_300_800_000]),
    (pa.time32("s"), [0, 86_399, 86_400, -1]), (pa.time32("ms"), [0, 1, 86_399_999, 86_400_000, -1]),
    (pa.time64("us"), [0, 1, 86_399_999_999, 86_400_000_000, -1]), (pa.time64("ns"), [0, 1000, 1, 86_399_999_999_000, -1]),
    *[(kind, [0, 1, -1, 127, -128]) for kind in (pa.int8(), pa.int16(), pa.int32())], (pa.int64(), [0, 2**63 - 1, -(2**63), 9007199254740993]),
    (pa.uint64(), [0, 2**63 - 1, 2**63, 2**64 - 1]),
    (pa.float64(), [0.0, -0.0, 1.5, 12.0, 1e300, 5e-324, float("nan"), float("inf"), 0.1, 1e17, 123456789.5]),
    (pa.float32(), [0.0, 1.5, float("-inf"), 16777216.0]), (pa.bool_(), [True, False]),
    (pa.decimal128(38, 2), [Decimal("7" * 36 + ".77"), Decimal("-0.01"), Decimal("9999.99"), Decimal("10000.00")]),
    (pa.decimal128(20, 10), [Decimal("1.1000000000"), Decimal("1.1000000001")]), (pa.decimal256(60, 4), [Decimal("9" * 50), Decimal("1.5")]),
    (pa.binary(), [b"\0\xff", b""]), (pa.binary(16), [bytes(range(16))]), (pa.binary_view(), [b"ab"]), (pa.string_view(), ["ab", "1"]),
    (pa.string(), ["ab", "7", "", "1.5"]), (pa.large_string(), ["ab", "\0"]), (pa.duration("s"), [5]),
]  # fmt: skip


def plain(kind: Any, raw: Any) -> str:
    """The canonical text of a value of an Arrow type, told without Arrow."""
    if pa.types.is_timestamp(kind) or pa.types.is_date64(kind) or pa.types.is_date32(kind):
        second = (
            1
            if pa.types.is_date32(kind)
            else 1000
            if pa.types.is_date64(kind)
            else {"s": 1, "ms": 10**3, "us": 10**6, "ns": 10**9}[kind.unit]
        )
        seconds, part = (raw * 86_400, 0) if pa.types.is_date32(kind) else divmod(raw, second)
        try:
            text = str(datetime.datetime(1970, 1, 1) + datetime.timedelta(seconds=seconds))
        except OverflowError:
            return "beyond"
        text += f".{part * 10**9 // second:09d}".rstrip("0").rstrip(".") if part else ""
        return text + ("Z" if pa.types.is_timestamp(kind) and kind.tz else "")
    if pa.types.is_time(kind):
        second = {"s": 1, "ms": 10**3, "us": 10**6, "ns": 10**9}[kind.unit]
        whole, part = divmod(raw, second)
        text = f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}" if 0 <= whole < 86_400 else "beyond"
        return text + (f".{part * 10**9 // second:09d}".rstrip("0") if part else "")
    if isinstance(raw, bytes):
        return raw.hex()
    if isinstance(raw, bool):
        return str(raw).lower()
    if isinstance(raw, float):
        return format(Decimal(repr(raw)), "f") if math.isfinite(raw) else str(raw)
    return f"{raw} s" if pa.types.is_duration(kind) else format(raw, "f") if isinstance(raw, Decimal) else str(raw)


ISO = Layout(
    date_forms=["%Y-%m-%d", "%Y-%m-%d 00:00:00"], time_forms=["%H:%M:%S", "%H:%M:%S.%f"],
    timestamp_forms=["%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%d"],
)  # fmt: skip


@pytest.mark.parametrize("written", [kind for kind in KINDS if kind not in {"text", "text(3)"}])
@pytest.mark.parametrize(("arrow", "raw"), TYPED, ids=lambda each: str(each) if isinstance(each, pa.DataType) else "")
def test_a_value_with_a_type_of_its_own_is_what_the_oracle_says(
    tmp_path: Path, arrow: Any, raw: list[Any], written: str
) -> None:
    kind = parse_kind(written)
    storage = {32: pa.int32(), 64: pa.int64()}.get(
        arrow.bit_width if pa.types.is_temporal(arrow) and not pa.types.is_interval(arrow) else 0
    )
    array = pa.array([*raw, None], storage).cast(arrow) if storage and not pa.types.is_date64(arrow) else (
        pa.Array.from_buffers(arrow, len(raw) + 1, pa.array([*raw, None], pa.int64()).buffers()) if storage else pa.array([*raw, None], arrow))  # fmt: skip
    with pa.ipc.new_file(tmp_path / "x.arrow", pa.schema([("x", arrow)])) as file:
        file.write_batch(pa.record_batch([array], ["x"]))
    layout = Layout(format="arrow")
    theirs: list[Any] = []
    for each in raw:
        text = plain(arrow, each)
        own = layout if isinstance(each, str) else ISO
        if kind.name == "integer" and not isinstance(each, str) and text.replace(".", "").strip("-").isdigit():
            text = text.rstrip("0").rstrip(".") if "." in text else text
        if kind.name == "uuid" and pa.types.is_fixed_size_binary(arrow):
            text = f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"
        if kind.name == "binary" and not isinstance(each, bytes | str):
            theirs.append(...)  # digits may be read as hexadecimal ones; nobody means that
            continue
        theirs.append(told(text, kind, own))

    source = open_file(tmp_path / "x.arrow", "x.arrow", layout)
    source.read_header()
    ours: list[Any] = []
    for block in source.blocks():
        batch = source.read(block, 1)
        ours += found(read_values(batch.values(0), kind, layout, ZONE))
        assert len([batch.original(at) for at in range(len(ours))]) == len(raw) + 1
        if kind.name == "real" and arrow == pa.float32():
            theirs = [
                struct.unpack("f", struct.pack("f", each))[0] if isinstance(each, float) else each for each in theirs
            ]

    pairs = [
        (mine, his, each) for mine, his, each in zip(ours, [*theirs, None], [*raw, None], strict=True) if his is not ...
    ]
    same([mine for mine, _, _ in pairs], [his for _, his, _ in pairs], [each for _, _, each in pairs])


def test_a_moment_of_int96_keeps_every_digit(tmp_path: Path) -> None:
    counts = [1_780_275_723_456_789_000, 1_780_275_723_456_789_001]
    pq.write_table(
        pa.table({"x": pa.array(counts, pa.timestamp("ns"))}),
        tmp_path / "x.parquet",
        use_deprecated_int96_timestamps=True,
    )
    far = pa.table({"x": pa.array([datetime.datetime(9999, 12, 31, 23, 59, 59)], pa.timestamp("us"))})
    pq.write_table(far, tmp_path / "y.parquet", use_deprecated_int96_timestamps=True)

    ours = []
    for name in ("x", "y"):
        source = open_file(tmp_path / f"{name}.parquet", name, Layout(format="parquet"))
        source.read_header()
        for block in source.blocks():
            ours += found(read_values(source.read(block, 1).values(0), Kind("timestamp"), Layout()))

    assert ours == [
        datetime.datetime(2026, 6, 1, 1, 2, 3, 456789), oracle.MisfitError, datetime.datetime(9999, 12, 31, 23, 59, 59)
    ]  # fmt: skip


def test_what_is_nested_is_its_json_and_no_cell_of_two_sorts(tmp_path: Path) -> None:
    rows = [{"text": "a", "value": 1}, {"text": None, "value": 2}, None]
    pq.write_table(
        pa.table({"x": pa.array(rows, pa.struct([("text", pa.string()), ("value", pa.int64())]))}),
        tmp_path / "x.parquet",
    )

    source = open_file(tmp_path / "x.parquet", "x", Layout(format="parquet"))
    source.read_header()
    (batch,) = [source.read(block, 1) for block in source.blocks()]

    assert found(read_values(batch.values(0), Kind("text"), Layout())) == [
        '{"text": "a", "value": 1}', '{"text": null, "value": 2}', None,
    ]  # fmt: skip
    assert found(read_values(batch.values(0), Kind("integer"), Layout())) == [
        oracle.MisfitError, oracle.MisfitError, None,
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "value", "told"),
    [
        ("text(2)", '"abc"', "3 characters"), ("decimal(4,2)", "1.005", "decimal places"), ("decimal(4,2)", "100.5", "more digits"),
        ("integer", "1.5", "does not fit"), ("integer", "9223372036854775808", "does not fit"), ("real", "inf", "does not fit"),
        ("timestamp", "2026-06-01T10:00:00Z", "does not fit"), ("uuid", '"{6f9619ff-8b86-d011-b42d-00c04fc964ff}"', "does not fit"),
    ],
)  # fmt: skip
def test_a_constant_is_held_to_its_kind_before_any_data_is_read(space: Space, kind: str, value: str, told: str) -> None:
    space.charter(TICKETS.replace('from = "@load.no"', f'kind = "{kind}"\nvalue = {value}'))

    ended = space.run("lint")

    assert ended.code == 2
    assert told in ended.text


def test_constants_keep_every_digit_that_the_charter_has(space: Space) -> None:
    more = "".join(
        f'[columns.c{at}]\nkind = "{kind}"\nvalue = {value}\n'
        for at, (kind, value) in enumerate([
            ("decimal(38,18)", "12345678901234567890.123456789012345678"), ("integer", "9007199254740993"), ("binary", '"00ff"'),
            ("timestamptz", "2026-06-01T10:00:00"), ("uuid", '"6F9619FF-8B86-D011-B42D-00C04FC964FF"'),
        ])
    )  # fmt: skip
    space.write("nomotheta.toml", SETTINGS.replace("[places", 'time_zone = "Atlantic/Faroe"\n[places', 1))
    space.charter(TICKETS.replace("[[keys]]", more + "[[keys]]"))
    space.tickets("ticket_no;fare;sold_on\nT001;1,00;01.06.2026\n")

    assert space.load()["exit"] == 0
    assert space.sql("select c0, c1, c2, epoch(c3)::bigint, c4::text from tickets") == [
        (Decimal("12345678901234567890.123456789012345678"), 9007199254740993, b"\0\xff", 1780304400, "6f9619ff-8b86-d011-b42d-00c04fc964ff")
    ]  # fmt: skip
    assert space.run("reconcile", "tickets").code == 0


def test_a_large_quoted_file_with_much_that_is_not_plain_is_read_like_a_small_one(space: Space) -> None:
    space.write("nomotheta.toml", SETTINGS.replace('decimal_sign = ","', 'decimal_sign = ","\nthousands_sign = "."'))
    rows = [f'"T{at % 1000:03d}";"1.{at % 1000:03d},50";"{"x" * 60}"' for at in range(160_000)]
    space.charter(
        TICKETS.replace('sold_on]\nkind = "date"', 'sold_on]\nkind = "text"').replace(
            '[[keys]]\ncolumns = ["ticket_no"]\n', ""
        )
    )
    space.tickets("ticket_no;fare;sold_on\n" + "\n".join(rows) + "\n")

    assert space.load()["balance"]["loaded"] == len(rows)
    assert space.sql("select sum(fare) from tickets") == [
        (sum(Decimal(f"1{at % 1000:03d}.50") for at in range(160_000)),)
    ]
