"""A Delta table at one version: its columns, its files, what of its protocol we keep to, and its rows as SQL."""

from __future__ import annotations

import contextlib
import functools
import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import unquote

import pyarrow as pa
import pyarrow.compute as pc
from deltalake import DeltaTable
from deltalake.exceptions import DeltaError

from nomotheta.conditions import own, quoted
from nomotheta.errors import PlaceError
from nomotheta.frozen import frozen
from nomotheta.place.delta.memory import APPLICATION
from nomotheta.place.delta.store import LOG, Store, reason
from nomotheta.place.delta.types import Field, fields_of
from nomotheta.place.render import text_literal

# what the protocol names, and we keep to ("Reader Features", "Writer Features"); anything else is refused in words
_READ = frozenset({
    "timestampNtz", "deletionVectors", "columnMapping", "vacuumProtocolCheck", "v2Checkpoint", "domainMetadata",
    "appendOnly", "invariants", "checkConstraints", "changeDataFeed", "generatedColumns", "identityColumns",
    "inCommitTimestamp", "clustering", "rowTracking", "allowColumnDefaults", "typeWidening",
})  # fmt: skip
_WRITTEN = frozenset({"timestampNtz", "appendOnly", "invariants", "vacuumProtocolCheck", "deletionVectors"})
_OLD_READER, _OLD_WRITER, _BY_FEATURE = 2, 2, 7
FILE, ROW = own("file"), own("file row")
_OF_FILE = quoted(own("read"))  # a column of a file is always named with it: else the engine may take another's name


@frozen
class LakeFile:
    """A data file: its path within the table, bytes, rows, its partition's values, whether rows of it are deleted."""

    path: str
    size: int
    rows: int | None
    partition: tuple[Any, ...]
    deleted: bool = False


Absent = Callable[["Snapshot", Sequence[LakeFile]], frozenset[str]]


class Snapshot:
    """One version of a table."""

    def __init__(self, store: Store, table: str, folder: str, version: int | None = None) -> None:
        self.store, self.table, self.folder = store, table, folder
        with self.told():
            self.delta = DeltaTable(store.uri(folder), version=version, storage_options=store.options or None)
        self.version = int(self.delta.version())

    @contextlib.contextmanager
    def told(self) -> Iterator[None]:
        """What deltalake raises, as the place's error."""
        try:
            yield
        except (DeltaError, OSError, ValueError) as error:
            raise PlaceError(f"the Delta table cannot be read: {reason(error)}", where=self.where,
                             mend="see whether _delta_log is whole, and the files it names") from None  # fmt: skip

    @property
    def where(self) -> str:
        """As messages say where something is wrong."""
        return f"{self.table} in place {self.store.place}"

    def newer(self) -> Snapshot:
        """The table as it is now: itself where nobody has changed it."""
        after = f"{self.folder}/{LOG}/{self.version + 1:020d}.json"
        return Snapshot(self.store, self.table, self.folder) if self.store.holds(after) else self

    def at(self, version: int) -> Snapshot:
        """An older version.

        Raises:
            PlaceError: it is not there any more.
        """
        return self if version == self.version else Snapshot(self.store, self.table, self.folder, version)

    @functools.cached_property
    def number(self) -> int | None:
        """The number of our newest transaction."""
        with self.told():
            found = self.delta.transaction_version(APPLICATION)
        return None if found is None else int(found)

    @functools.cached_property
    def fields(self) -> list[Field]:
        """Its columns."""
        with self.told():
            return fields_of(self.delta.schema().to_json())

    @functools.cached_property
    def configuration(self) -> Mapping[str, str]:
        """The properties that are set for the table."""
        with self.told():
            return dict(self.delta.metadata().configuration)

    @functools.cached_property
    def partitioned(self) -> list[str]:
        """The columns whose values the log holds, not the files."""
        with self.told():
            return list(self.delta.metadata().partition_columns)

    @functools.cached_property
    def files(self) -> list[LakeFile]:
        """Its data files; each is as large as the log says, so that no other lies in the place of one.

        Raises:
            PlaceError: one is not.
        """
        folders = {f"{self.folder}/{file.path}".rpartition("/")[0] for file in self.listed}
        there = {path: size for folder in folders for path, size in self.store.listed(folder)}
        for file in self.listed:
            size = there.get(f"{self.folder}/{file.path}")
            if size != file.size:
                told = "is not there" if size is None else f"has {size:,} bytes, and the log says {file.size:,}"
                raise PlaceError(f"a file of the table {told}: {file.path}", where=self.where,
                                 mend="put it back from a copy, or go back to an older version")  # fmt: skip
        return self.listed

    @functools.cached_property
    def listed(self) -> list[LakeFile]:
        """Its data files as the log has them."""
        self.check_readable()
        with self.told():
            adds = pa.table(self.delta.get_add_actions())
        names = [unquote(path) for path in adds["path"].to_pylist()]
        count = len(names)
        rows = adds["num_records"].to_pylist() if "num_records" in adds.column_names else [None] * count
        parts: list[tuple[Any, ...]] = [()] * count
        if self.partitioned and count:
            columns = [adds["partition"].combine_chunks().field(name).to_pylist() for name in self._partition_names]
            parts = list(zip(*columns, strict=True))
        elsewhere = next((name for name in names if "://" in name or name.startswith(("/", ".."))), None)
        if elsewhere is not None:
            raise PlaceError(f"the table names files that are not in its folder, such as {elsewhere}", where=self.where,
                             mend="make a copy of it whose files are its own")  # fmt: skip
        gone = self.deleted.keys()
        return [
            LakeFile(name, size, count, part, name in gone)
            for name, size, count, part in zip(names, adds["size_bytes"].to_pylist(), rows, parts, strict=True)
        ]

    @property
    def _partition_names(self) -> list[str]:
        physical = {field.name: field.physical for field in self.fields}
        with self.told():
            there = pa.table(self.delta.get_add_actions())["partition"].type
        named = [there.field(at).name for at in range(there.num_fields)]
        return [name if name in named else physical[name] for name in self.partitioned]

    @functools.cached_property
    def deleted(self) -> Mapping[str, Any]:
        """By file, the rows that are deleted from it: their numbers, from 0, as an Arrow array."""
        features = set(self._protocol[0])
        if self.delta.protocol().min_reader_version < 3 or "deletionVectors" not in features:
            return {}
        with self.told():
            vectors = pa.table(self.delta.deletion_vectors())
        found: dict[str, Any] = {}
        start = len(self.store.uri(self.folder).rstrip("/")) + 1
        for uri, kept in zip(vectors["filepath"].to_pylist(), vectors["selection_vector"], strict=True):
            name = unquote(uri.partition("://")[2] if self.store.local is not None and "://" in uri else uri)[start:]
            found[name] = pc.indices_nonzero(pc.invert(kept.values)).cast(pa.int64())
        return found

    # ---- what of the protocol is asked of readers and writers

    @property
    def _protocol(self) -> tuple[list[str], list[str]]:
        protocol = self.delta.protocol()
        return list(protocol.reader_features or []), list(protocol.writer_features or [])

    def check_readable(self) -> None:
        """Whether we read the table as its protocol asks.

        Raises:
            PlaceError: it has a feature that we do not know.
        """
        reader = self.delta.protocol().min_reader_version
        unknown = sorted(set(self._protocol[0]) - _READ) if reader > _OLD_READER else []
        if unknown or reader > 3:
            told = f"feature {unknown[0]}" if unknown else f"reader version {reader}"
            raise PlaceError(f"the table asks its readers for what nomotheta does not know: {told}", where=self.where,
                             mend="rewrite it without that feature, or use an engine that knows it")  # fmt: skip

    def check_writable(self, *, removing: bool) -> None:
        """Whether rows may be put in, or taken out, as its protocol asks.

        Raises:
            PlaceError: they may not.
        """
        told = self._why_not_written(removing=removing)
        if told:
            raise PlaceError(told, where=self.where, mend="load it with the engine that made it, or into another table")

    def _why_not_written(self, *, removing: bool) -> str:
        self.check_readable()
        writer, configuration = self.delta.protocol().min_writer_version, self.configuration
        unknown = sorted(set(self._protocol[1]) - _WRITTEN) if writer >= _BY_FEATURE else []
        constraints = [key.rpartition(".")[2] for key in configuration if key.startswith("delta.constraints.")]
        on = {key for key, value in configuration.items() if str(value).lower() == "true"}
        worked_out = [field.name for field in self.fields if field.generated]
        strange = [field.name for field in self.fields if "delta.invariants" in field.metadata]
        mapped = configuration.get("delta.columnMapping.mode", "none") != "none"
        cases = (
            (bool(constraints), f"it has a constraint that only its own engine checks: {', '.join(constraints)}"),
            (bool(strange), f"the column '{', '.join(strange)}' has a condition that only its own engine checks"),
            (bool(worked_out), f"the values of '{', '.join(worked_out)}' are worked out by its own engine"),
            (mapped, "its columns have other names in its files"),
            ("delta.enableChangeDataFeed" in on and removing, "it records changes row by row"),
            ("delta.appendOnly" in on and removing, "it only takes more rows (delta.appendOnly)"),
            (removing and bool(self.deleted), "rows are deleted from its files, which only its own engine replaces"),
            (bool(self.partitioned), f"it is partitioned by '{', '.join(self.partitioned)}'"),
            (bool(unknown), f"it asks its writers for a feature that nomotheta does not know: {', '.join(unknown)}"),
            (_OLD_WRITER < writer < _BY_FEATURE and writer not in {3, 4}, f"it asks for writer version {writer}"),
            (writer > _BY_FEATURE, f"it asks for writer version {writer}"),
        )  # fmt: skip
        return next((f"rows cannot be written: {told}" for holds, told in cases if holds), "")

    # ---- its rows

    def rows(
        self, files: Sequence[LakeFile], absent: Absent, *, located: bool = False, deleted: str = ""
    ) -> str:  # fmt: skip
        """A SELECT of the rows of some files in the engine's SQL; `located`, with file and number in it of each.

        `absent` says which columns none of some files has; `deleted` is the table of the engine in which the deleted
        rows of these files are, if any are.
        """
        if not files:
            empty = [f"CAST(NULL AS {field.engine_type or 'VARCHAR'}) AS {quoted(field.name)}" for field in self.fields]
            more = [f"'' AS {quoted(FILE)}", f"0 AS {quoted(ROW)}"] if located else []
            return f"SELECT {', '.join([*empty, *more])} WHERE FALSE"
        groups: dict[tuple[Any, ...], list[LakeFile]] = {}
        for file in files:
            groups.setdefault(file.partition, []).append(file)
        return " UNION ALL ".join(
            self._of_partition(values, each, absent(self, each), located=located, deleted=deleted)
            for values, each in groups.items()
        )

    def _of_partition(
        self, values: tuple[Any, ...], files: Sequence[LakeFile], absent: frozenset[str], *, located: bool,
        deleted: str,
    ) -> str:  # fmt: skip
        given = dict(zip(self.partitioned, values, strict=True)) if self.partitioned else {}
        listed = []
        for field in self.fields:
            if field.name in given:
                cell = _literal(given[field.name])
            else:
                cell = "NULL" if field.physical in absent else f"{_OF_FILE}.{quoted(field.physical)}"
            of = field.engine_type
            listed.append(f"{cell if of is None else f'CAST({cell} AS {of})'} AS {quoted(field.name)}")
        root = f"{self.store.engine_path(self.folder)}/"
        paths = ", ".join(text_literal(self.store.engine_path(f"{self.folder}/{file.path}")) for file in files)
        marked = located or any(file.deleted for file in files)
        read = f"read_parquet([{paths}], hive_partitioning = false, union_by_name = {str(len(files) > 1).lower()}"
        read += ", filename = true, file_row_number = true)" if marked else ")"
        if located:
            name = f"substr({_OF_FILE}.filename, {len(root) + 1})"
            listed += [f"{name} AS {quoted(FILE)}", f"{_OF_FILE}.file_row_number AS {quoted(ROW)}"]
        where = ""
        if any(file.deleted for file in files):
            there = f"d.file = substr({_OF_FILE}.filename, {len(root) + 1}) AND d.row = {_OF_FILE}.file_row_number"
            where = f" WHERE NOT EXISTS (SELECT 1 FROM {deleted} AS d WHERE {there})"
        return f"SELECT {', '.join(listed)} FROM {read} AS {_OF_FILE}{where}"


def _literal(value: Any) -> str:
    if isinstance(value, bytes):
        return f"unhex('{value.hex()}')"
    return "NULL" if value is None else text_literal(value if isinstance(value, str) else _as_text(value))


def _as_text(value: Any) -> str:
    return json.dumps(value) if isinstance(value, bool) else str(value)
