"""Transforms: rows inserted, changed and deleted, tables and columns added, streams brought along.

A transform is stored like a database, but a table's stream holds records one after another, each
led by 16 bits: 0 deletes the row whose key follows; an odd number inserts a row whose count of
cells is in the high byte; any other number updates a row, its bits naming the columns that follow
beside the key, from bit 0 for the first. Cells are stored as in a table, texts as numbers of the
transform's own pool. ``_Tables`` and ``_Columns`` are changed in the same way. Source: observed in
transforms that the real code applies; confirmed by having ours applied by it.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import BinaryIO, Protocol

import msgspec

from yendo.errors import Unreadable
from yendo.formats import cfb
from yendo.formats.msi import names, strings
from yendo.formats.msi.database import MAX_COLUMNS, Column, Database, TableCell
from yendo.formats.msi.schema import SCHEMA
from yendo.formats.msi.schema import columns as standard_columns
from yendo.formats.msi.summary import Summary
from yendo.formats.msi.writer import CLASS_IDS

RowKey = tuple[TableCell, ...]
MAX_UPDATABLE = 16  # a record has 16 bits for the columns it changes
_TABLES = [Column.parse("Name! s64")]
_COLUMNS = [Column.parse("Table! s64"), Column.parse("Number! i2"), Column.parse("Name S64"), Column.parse("Type i2")]


class Stream(Protocol):
    """Bytes that may be large: ``size`` in bytes, whole or as an open file."""

    size: int

    def read(self) -> bytes: ...
    def open(self) -> BinaryIO: ...


class HeldStream:
    """A stream held in memory."""

    def __init__(self, data: bytes) -> None:
        self._data, self.size = data, len(data)

    def read(self) -> bytes:
        return self._data

    def open(self) -> BinaryIO:
        return io.BytesIO(self._data)


def source_of(stream: Stream) -> cfb.ByteSource:
    """A stream as the writer of compound files takes it, piece by piece."""

    def pieces() -> Iterable[bytes]:
        with stream.open() as file:
            while piece := file.read(1 << 20):
                yield piece

    return cfb.ByteSource(stream.size, pieces)


class TableChange(msgspec.Struct):
    """What happens to one table.

    ``columns`` are those of the table afterwards; the last ``added`` of them are new, all where the
    table itself is ``created``. Rows by their key: ``inserted`` whole, ``updated`` as new cells by
    column name, ``deleted`` by key alone.
    """

    columns: list[Column]
    created: bool = False
    dropped: bool = False
    added: int = 0
    inserted: dict[RowKey, tuple[TableCell, ...]] = msgspec.field(default_factory=dict)
    updated: dict[RowKey, dict[str, TableCell]] = msgspec.field(default_factory=dict)
    deleted: list[RowKey] = msgspec.field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.created or self.dropped or self.added or self.inserted or self.updated or self.deleted)

    def key_of(self, cells: Sequence[TableCell]) -> RowKey:
        return tuple(cell for cell, column in zip(cells, self.columns, strict=True) if column.is_key)


class Transform:
    """The changes to every table, and the streams that come along: ``Table.Key`` or a cabinet's name.

    ``undecoded`` are tables whose columns nobody knows, each with the reason.
    """

    def __init__(
        self,
        tables: Mapping[str, TableChange] | None = None,
        streams: Mapping[str, Stream] | None = None,
        *,
        summary: Summary | None = None,
        code_page: int = 1252,
        undecoded: Mapping[str, str] | None = None,
    ) -> None:
        self.tables, self.streams, self.undecoded = dict(tables or {}), dict(streams or {}), dict(undecoded or {})
        self.summary, self.code_page = summary or Summary(), code_page

    def __len__(self) -> int:
        """How many rows it touches."""
        return sum(len(change.inserted) + len(change.updated) + len(change.deleted) for change in self.tables.values())


# --- reading ----------------------------------------------------------------------------------------


def read(source: Path | BinaryIO, base: Database) -> Transform:
    """Reads a transform's file. ``base`` tells the columns. Raises Unreadable."""
    with cfb.CompoundFile(source) as container:
        found = read_storage(container, None, base)
        found.streams = {
            name: HeldStream(stream.read()) if stream.size < 1 << 26 else _Later(source, name)
            for name, stream in found.streams.items()
        }
        return found


class _Later:
    """A large stream of a transform's file, opened again when it is wanted."""

    def __init__(self, source: Path | BinaryIO, name: str) -> None:
        self._source, self._name = source, name
        with cfb.CompoundFile(source) as container:
            self.size = self._entry(container).size

    def _entry(self, container: cfb.CompoundFile) -> cfb.StorageEntry:
        return next(entry for entry in container.entries() if names.decode(entry.name) == (self._name, False))

    def read(self) -> bytes:
        with cfb.CompoundFile(self._source) as container:
            return self._entry(container).read()

    def open(self) -> BinaryIO:
        return self._entry(cfb.CompoundFile(self._source)).open()


def read_storage(container: cfb.CompoundFile, storage: cfb.StorageEntry | None, base: Database) -> Transform:
    """Reads a transform from a storage: the root of its own file, or one inside a patch. Raises Unreadable."""
    tables: dict[str, bytes] = {}
    streams: dict[str, Stream] = {}
    summary = Summary()
    for entry in container.entries(storage):
        name, is_table = names.decode(entry.name)
        if entry.is_storage:
            continue
        if is_table:
            tables[name] = entry.read()
        elif name == "\x05SummaryInformation":
            summary = Summary.decode(entry.read())
        elif not name.startswith("\x05"):
            streams[name] = entry
    if "_StringPool" not in tables or "_StringData" not in tables:
        raise Unreadable("a compound file, but not a transform (it has no string pool)")
    texts, code_page, width = strings.read_pool(tables.pop("_StringPool"), tables.pop("_StringData"))
    reader = _Reader(texts, width)
    changes, undecoded = {}, {}
    schema = _schema(reader, tables.pop("_Tables", b""), tables.pop("_Columns", b""), base)
    for name in sorted(schema.keys() | tables.keys()):
        change = schema.get(name)
        if change is None:
            columns = base.schema.get(name) or [
                Column.parse(text) for text in (standard_columns(name) if name in SCHEMA else [])
            ]
            if not columns:
                undecoded[name] = "neither this database nor the transform says which columns it has"
                continue
            change = TableChange(list(columns))
        try:
            reader.records(name, tables.get(name, b""), change)
        except Unreadable as error:
            undecoded[name] = str(error)
            continue
        changes[name] = change
    return Transform(changes, streams, summary=summary, code_page=code_page, undecoded=undecoded)


def _schema(reader: _Reader, raw_tables: bytes, raw_columns: bytes, base: Database) -> dict[str, TableChange]:
    """Tables that are created, dropped or widened, as ``_Tables`` and ``_Columns`` have it."""
    tables, columns = TableChange(list(_TABLES)), TableChange(list(_COLUMNS))
    reader.records("_Tables", raw_tables, tables)
    reader.records("_Columns", raw_columns, columns)
    found: dict[str, TableChange] = {}
    for (name,) in tables.deleted:
        found[str(name)] = TableChange(list(base.schema.get(str(name), [])), dropped=True)
    for (name,) in tables.inserted:
        found[str(name)] = TableChange([], created=True)
    for table, number, title, kind in sorted(
        columns.inserted.values(), key=lambda cells: (str(cells[0]), int(cells[1] or 0))
    ):
        change = found.setdefault(str(table), TableChange(list(base.schema.get(str(table), []))))
        if not isinstance(number, int) or number != len(change.columns) + 1 or number > MAX_COLUMNS:
            if change.created or not base.schema.get(str(table)):
                raise Unreadable(
                    f"_Columns of the transform: table {table} gets a column {number} after {len(change.columns)}"
                )
            continue  # the base has it already
        change.columns.append(Column(str(title or ""), int(kind or 0) & 0xFFFF))
        change.added += 0 if change.created else 1
    return found


class _Reader:
    """Decodes records of one transform."""

    def __init__(self, texts: Sequence[str], width: int) -> None:
        self.texts, self.width = texts, width

    def _cell(self, data: bytes, at: int, column: Column) -> tuple[TableCell, int]:
        size = self.width if column.is_string else 2 if column.is_stream or column.width != 4 else 4
        if at + size > len(data):
            raise Unreadable(f"a record ends at byte {at + size} of {len(data)}")
        number = int.from_bytes(data[at : at + size], "little")
        if column.is_string:
            if number >= len(self.texts):
                raise Unreadable(f"string {number} of {len(self.texts) - 1} at byte {at}")
            return (self.texts[number] or None), at + size
        if column.is_stream:
            return (1 if number else None), at + size
        return (number - (0x8000 if size == 2 else 0x80000000) if number else None), at + size

    def records(self, table: str, data: bytes, change: TableChange) -> None:
        """Adds the records of a table's stream to ``change``. Raises Unreadable with the place."""
        columns, at = change.columns, 0
        keys = [column for column in columns if column.is_key]
        while at < len(data):
            if at + 2 > len(data):
                raise Unreadable(f"table {table}: half a record at byte {at}")
            (mask,) = struct.unpack_from("<H", data, at)
            at += 2
            try:
                if mask == 0:
                    key = []
                    for column in keys:
                        cell, at = self._cell(data, at, column)
                        key.append(cell)
                    change.deleted.append(tuple(key))
                elif mask & 1:
                    count = mask >> 8
                    if count > len(columns):
                        raise Unreadable(f"a row of {count} cells for {len(columns)} columns at byte {at - 2}")
                    cells: list[TableCell] = []
                    for column in columns[:count]:
                        cell, at = self._cell(data, at, column)
                        cells.append(cell)
                    row = (*cells, *[None] * (len(columns) - count))
                    change.inserted[change.key_of(row)] = row
                else:
                    key, changed = [], {}
                    for number, column in enumerate(columns):
                        if column.is_key or (number < MAX_UPDATABLE and mask & 1 << number):
                            cell, at = self._cell(data, at, column)
                            if column.is_key:
                                key.append(cell)
                            else:
                                changed[column.name] = cell
                    change.updated.setdefault(tuple(key), {}).update(changed)
            except Unreadable as error:
                raise Unreadable(f"table {table}: {error}") from error


# --- writing ----------------------------------------------------------------------------------------


def storage_of(transform: Transform) -> cfb.Storage:
    """The transform as a storage. The same changes give the same bytes.

    Raises ValueError where a text does not fit the code page, or a row's change cannot be expressed.
    """
    pool = strings.PoolWriter(transform.code_page)
    encoded: dict[str, list[tuple[int, list[tuple[Column, TableCell]]]]] = {"_Tables": [], "_Columns": []}
    for name, change in sorted(transform.tables.items()):
        if change.dropped:
            encoded["_Tables"].append((0, [(_TABLES[0], name)]))
            encoded["_Columns"] += [
                (0, [(_COLUMNS[0], name), (_COLUMNS[1], at)]) for at in range(1, len(change.columns) + 1)
            ]
            continue
        if change.created:
            encoded["_Tables"].append((0x0101, [(_TABLES[0], name)]))
        fresh = len(change.columns) if change.created else change.added
        for at, column in list(enumerate(change.columns, 1))[len(change.columns) - fresh :]:
            cells: list[TableCell] = [
                name,
                at,
                column.name,
                column.type - 0x10000 if column.type > 0x7FFF else column.type,
            ]
            encoded["_Columns"].append((0x0401, list(zip(_COLUMNS, cells, strict=True))))
        if records := _records(name, change):
            encoded[name] = records
    for records in encoded.values():
        for _, row in records:
            for column, cell in row:
                if column.is_string:
                    pool.add(str(cell or ""))
    width, numbers = pool.width, pool.number
    streams: dict[str, bytes | Path | cfb.ByteSource] = {"\x05SummaryInformation": transform.summary.encode()}
    for name, records in encoded.items():
        if records:
            data = b"".join(
                struct.pack("<H", mask) + b"".join(_encode(column, cell, width, numbers) for column, cell in cells_)
                for mask, cells_ in records
            )
            streams[names.encode(name, table=True)] = data
    texts, data = pool.encode()
    streams[names.encode("_StringPool", table=True)] = texts
    streams[names.encode("_StringData", table=True)] = data
    streams |= {names.encode(name): source_of(stream) for name, stream in transform.streams.items()}
    return cfb.Storage(streams, bytes.fromhex(CLASS_IDS["transform"]))


def write(transform: Transform, target: BinaryIO) -> None:
    """Writes a transform as a file of its own. Raises ValueError as ``storage_of`` does."""
    cfb.write(target, storage_of(transform))


def _records(table: str, change: TableChange) -> list[tuple[int, list[tuple[Column, TableCell]]]]:
    columns = change.columns
    keys = [column for column in columns if column.is_key]
    records: list[tuple[int, list[tuple[Column, TableCell]]]] = [
        (0, list(zip(keys, key, strict=True))) for key in sorted(change.deleted, key=str)
    ]
    for key, changed in sorted(change.updated.items(), key=str):
        mask, cells, waiting = 0, [], list(key)
        for number, column in enumerate(columns):
            if column.is_key:
                cells.append((column, waiting.pop(0)))
            elif column.name in changed:
                if number >= MAX_UPDATABLE:
                    raise ValueError(
                        f"{table}.{column.name} is column {number + 1}; a transform can change the first "
                        f"{MAX_UPDATABLE} of a row only"
                    )
                mask |= 1 << number
                cells.append((column, changed[column.name]))
        if mask:
            records.append((mask, cells))
    for _, row in sorted(change.inserted.items(), key=str):
        records.append((len(columns) << 8 | 1, list(zip(columns, row, strict=True))))
    return records


def _encode(column: Column, cell: TableCell, width: int, numbers: Mapping[str, int]) -> bytes:
    if column.is_string:
        return numbers[str(cell or "")].to_bytes(width, "little")
    if column.is_stream:
        return (1 if cell else 0).to_bytes(2, "little")
    size = 4 if column.width == 4 else 2
    if cell is None or cell == "":
        return bytes(size)
    return (int(cell) + (0x80000000 if size == 4 else 0x8000)).to_bytes(size, "little")
