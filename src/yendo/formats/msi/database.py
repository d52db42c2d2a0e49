"""Reading an installer database: tables with typed columns, and the streams beside them.

Tables are stored a column at a time: all first cells, then all second cells. Strings are references
into the pool, 16-bit numbers are stored with their top bit flipped, and so are 32-bit ones; zero
then means null. Source: observed in databases of the real writer, compared table by table.
"""

from __future__ import annotations

import struct
from array import array
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, BinaryIO, Protocol, Self

import msgspec

from yendo.errors import Unreadable
from yendo.formats.cfb import CompoundFile, StorageEntry
from yendo.formats.msi import names, strings
from yendo.formats.msi.schema import SCHEMA
from yendo.formats.msi.schema import columns as standard_columns
from yendo.formats.msi.summary import Summary

TableCell = str | int | None

VALID, LOCALISABLE, STRING, NULLABLE, KEY = 0x0100, 0x0200, 0x0800, 0x1000, 0x2000
MAX_SCANS = 8
MAX_COLUMNS = 32  # the real code refuses a 33rd


class Column(msgspec.Struct, frozen=True):
    """A column: its name and its 16-bit type word.

    The low byte is the width (characters of a string, bytes of a number); the high bits say whether
    it is localisable, a string, nullable, part of the primary key.
    """

    name: str
    type: int

    @property
    def is_key(self) -> bool:
        return bool(self.type & KEY)

    @property
    def is_nullable(self) -> bool:
        return bool(self.type & NULLABLE)

    @property
    def is_stream(self) -> bool:
        """The cell only says that there is a stream called Table.Key."""
        return self.type & ~(NULLABLE | KEY | 0xFF) == STRING | VALID and not self.type & 0xFF

    @property
    def is_string(self) -> bool:
        return bool(self.type & STRING) and not self.is_stream

    @property
    def width(self) -> int:
        return self.type & 0xFF

    @property
    def idt(self) -> str:
        """The type in the notation of table text files: ``s72``, ``L0``, ``I2``, ``v0``."""
        if self.is_stream:
            letter = "v"
        elif self.is_string:
            letter = "l" if self.type & LOCALISABLE else "s"
        else:
            letter = "i"
        return f"{letter.upper() if self.is_nullable else letter}{0 if self.is_stream else self.width}"

    @classmethod
    def parse(cls, text: str) -> Column:
        """``"Name s72"`` or, for a part of the key, ``"Name! s72"``."""
        name, _, kind = text.strip().partition(" ")
        letter, width = kind[0], int(kind[1:])
        base = {
            "s": STRING | VALID | 0x400,
            "l": STRING | VALID | LOCALISABLE | 0x400,
            "v": STRING | VALID,
            "i": VALID | (0x400 if width == 2 else 0),
        }[letter.lower()]
        return cls(
            name.rstrip("!"), base | width | (NULLABLE if letter.isupper() else 0) | (KEY if name.endswith("!") else 0)
        )


class TableRow(Sequence[TableCell]):
    """One row; cells by position or by column name, null as None. ``row["Missing"]`` raises KeyError."""

    __slots__ = ("_cells", "_index")

    def __init__(self, cells: tuple[TableCell, ...], index: dict[str, int]) -> None:
        self._cells, self._index = cells, index

    def __getitem__(self, key: Any) -> Any:
        return self._cells[self._index[key] if isinstance(key, str) else key]

    def get(self, name: str) -> Any:
        """The cell, or None where this database's table has no such column."""
        at = self._index.get(name)
        return None if at is None else self._cells[at]

    def text(self, name: str) -> str:
        """The cell as text, null as the empty string."""
        value = self.get(name)
        return "" if value is None else str(value)

    def number(self, name: str, default: int = 0) -> int:
        """The cell as a number; ``default`` for null and for anything that is none."""
        value = self.get(name)
        return value if isinstance(value, int) else default

    def __len__(self) -> int:
        return len(self._cells)

    def __eq__(self, other: object) -> bool:
        return tuple(self) == tuple(other) if isinstance(other, (TableRow, tuple)) else NotImplemented

    def __hash__(self) -> int:
        return hash(self._cells)

    def __repr__(self) -> str:
        return "Row(" + ", ".join(f"{name}={self._cells[at]!r}" for name, at in self._index.items()) + ")"


class Cells(Protocol):
    """Where a table's cells come from: how many rows, and a column of them at a time."""

    count: int

    def column(self, at: int) -> list[TableCell]: ...


class Table:
    """A table: its columns, and its rows in stored order."""

    def __init__(self, name: str, columns: list[Column], stored: Cells) -> None:
        self.name, self.columns, self._stored = name, columns, stored
        self._index = {column.name: at for at, column in enumerate(columns)}
        self._keys = [at for at, column in enumerate(columns) if column.is_key]
        self._scans = 0

    @cached_property
    def cells(self) -> list[tuple[TableCell, ...]]:
        """Every row as a plain tuple."""
        return list(zip(*(self._stored.column(at) for at in range(len(self.columns))), strict=True))

    def __len__(self) -> int:
        return self._stored.count

    def __iter__(self) -> Iterator[TableRow]:
        index = self._index
        return (TableRow(cells, index) for cells in self.cells)

    def key_of(self, row: Sequence[TableCell]) -> tuple[TableCell, ...]:
        return tuple(row[at] for at in self._keys)

    @cached_property
    def _by_key(self) -> dict[tuple[TableCell, ...], tuple[TableCell, ...]]:
        if not self._keys:
            return dict.fromkeys([()], self.cells[-1]) if self.cells else {}
        return dict(zip(zip(*(self._stored.column(at) for at in self._keys), strict=True), self.cells, strict=True))

    def find(self, *key: TableCell) -> TableRow | None:
        """The row with this primary key, or None."""
        if (
            len(self._keys) == 1 == len(key)
            and self._scans < MAX_SCANS
            and len(self) > MAX_SCANS
            and "_by_key" not in self.__dict__
        ):
            self._scans += 1  # for a few questions a look along the column is cheaper than an index of all rows
            try:
                at = len(self) - 1 - self._stored.column(self._keys[0])[::-1].index(key[0])
            except ValueError:
                return None
            return TableRow(tuple(self._stored.column(column)[at] for column in range(len(self.columns))), self._index)
        cells = self._by_key.get(key)
        return None if cells is None else TableRow(cells, self._index)

    def pick(self, *names: str) -> Iterator[tuple[Any, ...]]:
        """Some columns of every row; only these are decoded. A column that is not there gives None."""
        found = [self._index.get(name) for name in names]
        return zip(*([None] * len(self) if at is None else self._stored.column(at) for at in found), strict=True)

    def where(self, **wanted: TableCell) -> Iterator[TableRow]:
        """The rows whose named cells equal the values given. An unknown column matches nothing."""
        if not wanted.keys() <= self._index.keys():
            return
        tests = [(self._index[name], value) for name, value in wanted.items()]
        for row in self:
            if all(row[at] == value for at, value in tests):
                yield row


class _Stored:
    """A table's stream, decoded a column at a time when one is asked for.

    ``texts`` are the strings by number, None first. Raises Unreadable on a ragged stream, and when a
    column is decoded whose references are out of range.
    """

    def __init__(self, data: bytes, columns: list[Column], width: int, texts: Sequence[TableCell], table: str) -> None:
        self._data, self._columns, self._texts, self._table = data, columns, texts, table
        self._sizes = [
            width if column.is_string else 2 if column.is_stream or column.width != 4 else 4 for column in columns
        ]
        self.count, rest = divmod(len(data), sum(self._sizes)) if columns else (0, 0)
        if rest:
            raise Unreadable(f"table {table}: {len(data)} bytes are no whole number of {sum(self._sizes)}-byte rows")
        self._decoded: dict[int, list[TableCell]] = {}

    def column(self, at: int) -> list[TableCell]:
        if at not in self._decoded:
            self._decoded[at] = self._decode(at)
        return self._decoded[at]

    def _decode(self, at: int) -> list[TableCell]:
        column, size, count = self._columns[at], self._sizes[at], self.count
        offset = sum(self._sizes[:at]) * count
        block = self._data[offset : offset + size * count]
        if size == 3:
            wide = bytearray(4 * count)
            wide[0::4], wide[1::4], wide[2::4] = block[0::3], block[1::3], block[2::3]
            block = bytes(wide)
        numbers = array("H" if size == 2 else "I")
        numbers.frombytes(block)
        if column.is_string:
            try:
                return list(map(self._texts.__getitem__, numbers))
            except IndexError:
                raise Unreadable(
                    f"table {self._table}, column {column.name}: string {max(numbers)} of {len(self._texts) - 1}"
                ) from None
        if column.is_stream:
            return [1 if number else None for number in numbers]
        zero = 0x8000 if size == 2 else 0x80000000
        return [number - zero if number else None for number in numbers]


def _expect(table: Table) -> None:
    """Holds a standard table to the kinds of its columns. Raises Unreadable: nothing above could use it."""
    wanted = {column.name: column for column in map(Column.parse, standard_columns(table.name))}
    for at, column in enumerate(table.columns):
        known = wanted.get(column.name)
        if known and (column.is_string, column.is_stream) != (known.is_string, known.is_stream):
            raise Unreadable(
                f"table {table.name}, column {column.name} is of kind {column.idt}; it is {known.idt} in every "
                "installer"
            )
        if known and known.is_key and known.is_string and not known.is_nullable and None in table._stored.column(at):
            raise Unreadable(f"table {table.name} has a row without its key {column.name}")
    if len(table) and (
        missing := [name for name, column in wanted.items() if column.is_key and name not in table._index]
    ):
        raise Unreadable(f"table {table.name} lacks its key column {missing[0]}")


_TABLES = [Column.parse("Name! s64")]
_COLUMNS = [Column.parse("Table! s64"), Column.parse("Number! i2"), Column.parse("Name S64"), Column.parse("Type i2")]


class Database:
    """An installer database (or a transform or patch, which are stored alike), open for reading.

    Use as a context manager. Tables are decoded when first asked for. Raises Unreadable.
    """

    def __init__(self, source: Path | BinaryIO) -> None:
        self.container = CompoundFile(source)
        self.source = source
        try:
            self._open()
        except (Unreadable, struct.error, IndexError, KeyError, UnicodeError) as error:
            self.close()
            raise Unreadable(f"{source}: {error}") from error

    def _open(self) -> None:
        self._tables: dict[str, StorageEntry] = {}
        self.streams: dict[str, StorageEntry] = {}
        for entry in self.container.entries():
            name, is_table = names.decode(entry.name)
            if not entry.is_storage:
                (self._tables if is_table else self.streams)[name] = entry
        if "_StringPool" not in self._tables or "_StringData" not in self._tables:
            raise Unreadable("a compound file, but not an installer database (it has no string pool)")
        self.strings, self.code_page, self.reference_width = strings.read_pool(
            self._tables["_StringPool"].read(), self._tables["_StringData"].read(), any_page=True
        )
        self._texts: list[TableCell] = [None, *self.strings[1:]]
        declared = [cells[0] for cells in self._table("_Tables", _TABLES).cells]
        self.schema: dict[str, list[Column]] = {str(name): [] for name in declared if name}
        for table, number, title, kind in sorted(
            self._table("_Columns", _COLUMNS).cells, key=lambda cells: (str(cells[0]), int(cells[1] or 0))
        ):
            if str(table) in self.schema:
                columns = self.schema[str(table)]
                if number != len(columns) + 1 or len(columns) >= MAX_COLUMNS:
                    raise Unreadable(f"_Columns: table {table} has no column {len(columns) + 1}, but a column {number}")
                columns.append(Column(str(title or ""), int(kind or 0) & 0xFFFF))
        self._cache: dict[str, Table] = {}

    def _table(self, name: str, columns: list[Column]) -> Table:
        entry = self._tables.get(name) if columns else None
        table = Table(
            name, columns, _Stored(entry.read() if entry else b"", columns, self.reference_width, self._texts, name)
        )
        if name in SCHEMA:
            _expect(table)
        return table

    def __contains__(self, table: str) -> bool:
        return table in self.schema

    def __getitem__(self, name: str) -> Table:
        """A table; one that the database lacks is empty, as the system treats it."""
        if name not in self._cache:
            self._cache[name] = self._table(name, self.schema.get(name, []))
        return self._cache[name]

    @property
    def flaws(self) -> list[str]:
        """What is wrong with the file and can be lived with, in words."""
        found = list(self.container.flaws)
        if not strings.is_known(self.code_page):
            found.append(f"it names code page {self.code_page}, which does not exist; read as that of western Windows")
        return found

    @property
    def tables(self) -> list[str]:
        return list(self.schema)

    def stream(self, name: str) -> StorageEntry | None:
        """An embedded stream: a cabinet, or ``Table.Key`` for a stream column."""
        return self.streams.get(name)

    @cached_property
    def summary(self) -> Summary:
        """The summary information; an absent one reads as empty."""
        entry = self.streams.get("\x05SummaryInformation")
        return Summary.decode(entry.read()) if entry else Summary()

    def close(self) -> None:
        self.container.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
