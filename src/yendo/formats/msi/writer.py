"""Writing an installer database.

The same content gives the same bytes: strings are numbered in the order of tables and rows, rows
are sorted by their stored keys as the real code leaves them.
"""

from __future__ import annotations

import struct
from array import array
from collections.abc import Iterable
from pathlib import Path
from typing import BinaryIO

from yendo.formats import cfb
from yendo.formats.msi import names, strings
from yendo.formats.msi.database import Column, TableCell
from yendo.formats.msi.summary import Summary

CLASS_IDS = {
    "database": "84100c0000000000c000000000000046",
    "transform": "82100c0000000000c000000000000046",
    "patch": "86100c0000000000c000000000000046",
}


class DatabaseWriter:
    """Collects tables and streams, and writes them as one file."""

    def __init__(self, *, code_page: int = 1252, summary: Summary | None = None, kind: str = "database") -> None:
        self._pool = strings.PoolWriter(code_page)
        self._tables: dict[str, tuple[list[Column], list[tuple[TableCell, ...]]]] = {}
        self._streams: dict[str, bytes | Path | cfb.ByteSource] = {}
        self.storages: dict[str, cfb.Storage] = {}  # by their names as they stand in the directory
        self.summary, self.kind = summary or Summary(code_page=code_page or 1252), kind

    def table(
        self,
        name: str,
        columns: Iterable[Column | str],
        rows: Iterable[Iterable[TableCell]] = (),
        *,
        as_it_is: bool = False,
    ) -> None:
        """Adds a table. Columns as ``Column`` or as ``"Name! s72"``; rows as cells in that order.

        Raises ValueError on a row of the wrong length or with a cell of the wrong type, naming it;
        ``as_it_is`` takes rows that another writer got away with.
        """
        parsed = [Column.parse(column) if isinstance(column, str) else column for column in columns]
        cells = []
        for row in rows:
            cell = tuple(row)
            if len(cell) != len(parsed):
                raise ValueError(f"{name}: a row of {len(cell)} cells for {len(parsed)} columns: {cell}")
            cells.append(cell)
        if not as_it_is:
            for at, column in enumerate(parsed):
                _judge_all(name, column, [cell[at] for cell in cells])
        self._tables[name] = (parsed, cells)

    def stream(self, name: str, data: bytes | Path | cfb.ByteSource) -> None:
        """Adds an embedded stream: a cabinet, or ``Table.Key`` for a stream column."""
        self._streams[name] = data

    def write(self, target: BinaryIO, *, sector_size: int = 512) -> None:
        """Writes the database. Raises ValueError if a text does not fit the code page."""
        pool = self._pool
        definitions: list[tuple[int, int, int, int]] = []
        encoded: dict[str, list[list[int]]] = {}
        for name, (columns, rows) in sorted(self._tables.items()):
            number = pool.add(name)
            for at, column in enumerate(columns, 1):
                pool.add(name)
                definitions.append((number, at, pool.add(column.name), column.type))
            add, streams_at = pool.add, [column.is_stream for column in columns]
            bases = [0x80000000 if column.width == 4 else 0x8000 for column in columns]
            encoded[name] = [
                [
                    (add(value) if isinstance(value, str) else _stored(base, value))
                    if not stream
                    else int(value not in (None, ""))
                    for stream, base, value in zip(streams_at, bases, row, strict=True)
                ]
                for row in rows
            ]
        width = pool.width
        streams: dict[str, bytes | Path | cfb.ByteSource] = {"\x05SummaryInformation": self.summary.encode()}
        for name, (columns, _) in self._tables.items():
            keys = [at for at, column in enumerate(columns) if column.is_key]
            lines = sorted(encoded[name], key=lambda line: [line[at] for at in keys])
            if lines:
                streams[names.encode(name, table=True)] = _pack(columns, lines, width)
        streams[names.encode("_Tables", table=True)] = _pack(
            [Column.parse("Name! s64")], [[pool.number[name]] for name in sorted(self._tables)], width
        )
        streams[names.encode("_Columns", table=True)] = _pack(
            [Column.parse(text) for text in ("Table! s64", "Number! i2", "Name s64", "Type i2")],
            [[table, number + 0x8000, name, kind ^ 0x8000] for table, number, name, kind in sorted(definitions)],
            width,
        )
        texts, data = pool.encode()
        streams[names.encode("_StringPool", table=True)] = texts
        streams[names.encode("_StringData", table=True)] = data
        streams |= {names.encode(name): blob for name, blob in self._streams.items()}
        root = cfb.Storage(streams, bytes.fromhex(CLASS_IDS[self.kind]))
        root.storages |= self.storages
        cfb.write(target, root, sector_size=sector_size)


def _judge_all(table: str, column: Column, values: list[TableCell]) -> None:
    """All cells of a column; only where something may be wrong each is looked at. Raises ValueError."""
    limit = 0x7FFFFFFF if column.width == 4 else 0x7FFF
    if column.is_string:
        sound = all(type(value) is str or value is None for value in values)
    elif column.is_stream:
        sound = column.is_nullable
    else:
        sound = all(type(value) is int and -limit <= value <= limit for value in values)
    if not sound:
        for value in values:
            _judge(table, column, value)


def _judge(table: str, column: Column, value: TableCell) -> None:
    if value is None or value == "":
        if not column.is_nullable and not column.is_string:
            raise ValueError(f"{table}.{column.name} may not be null")
    elif column.is_string and not isinstance(value, str):
        raise ValueError(f"{table}.{column.name} is text, not {value!r}")
    elif not column.is_string and not column.is_stream and not isinstance(value, int):
        raise ValueError(f"{table}.{column.name} is a number, not {value!r}")
    elif isinstance(value, int) and not column.is_stream:
        limit = 0x7FFFFFFF if column.width == 4 else 0x7FFF
        if not -limit <= value <= limit:
            raise ValueError(f"{table}.{column.name}: {value} does not fit {column.width} bytes")


def _stored(base: int, value: TableCell) -> int:
    return 0 if value is None or value == "" else int(value) + base


def _pack(columns: list[Column], lines: list[list[int]], width: int) -> bytes:
    out = bytearray()
    for at, column in enumerate(columns):
        values = [line[at] for line in lines]
        if column.is_string and width == 3:
            for value in values:
                out += struct.pack("<I", value)[:3]
        else:
            out += array("I" if not column.is_string and column.width == 4 else "H", values).tobytes()
    return bytes(out)
