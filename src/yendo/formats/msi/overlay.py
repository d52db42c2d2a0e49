"""A database with transforms laid over it, the difference of two databases as a transform, and copying a database.

Nothing is written for an overlay: it answers as a database does, and shares what did not change
with the one below.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from typing import Any, BinaryIO, Literal

import msgspec

from yendo.errors import Unreadable
from yendo.formats import cfb
from yendo.formats.msi.database import Column, Database, Table, TableCell
from yendo.formats.msi.summary import Summary
from yendo.formats.msi.transform import RowKey, Stream, TableChange, Transform, source_of
from yendo.formats.msi.writer import DatabaseWriter

# The bits of a transform's summary that let an application go on over each kind of misfit.
# Source: "Character Count Summary property", the lower half of a transform's.
Misfit = Literal[
    "row exists already",
    "row to delete is missing",
    "table exists already",
    "table is missing",
    "row to change is missing",
]
SUPPRESSED_BY: dict[Misfit, int] = {
    "row exists already": 0x01,
    "row to delete is missing": 0x02,
    "table exists already": 0x04,
    "table is missing": 0x08,
    "row to change is missing": 0x10,
}


class OverlayProblem(msgspec.Struct, frozen=True):
    """A change that has no target in the database, or whose target is there already."""

    kind: Misfit
    table: str
    key: RowKey = ()

    def __str__(self) -> str:
        where = (
            f"{self.table}[{','.join('' if part is None else str(part) for part in self.key)}]"
            if self.key
            else self.table
        )
        return f"{where}: {self.kind}"


class _Rows:
    """Rows held in memory, in the form a table asks for."""

    def __init__(self, columns: Sequence[Column], rows: Sequence[tuple[TableCell, ...]]) -> None:
        self.count = len(rows)
        self._columns = list(zip(*rows, strict=True)) if rows else [()] * len(columns)

    def column(self, at: int) -> list[TableCell]:
        return list(self._columns[at])


def table_of(name: str, columns: list[Column], rows: Sequence[tuple[TableCell, ...]]) -> Table:
    """A table that no file holds."""
    return Table(name, columns, _Rows(columns, rows))


class Overlay(Database):
    """``base`` with ``transforms`` applied in order. Lives no longer than ``base``, which it does not close.

    ``problems`` lists what did not fit: such a change has no effect, as the real code passes over it
    where the transform's flags allow.
    """

    def __init__(self, base: Database, transforms: Iterable[Transform]) -> None:
        self.base, self.container, self.source = base, base.container, base.source
        self.code_page, self.strings, self.reference_width = base.code_page, base.strings, base.reference_width
        self.schema = dict(base.schema)
        self.streams: dict[str, Any] = dict(base.streams)  # read, or opened: alike
        self.problems: list[OverlayProblem] = []
        self._cache: dict[str, Table] = {}
        for transform in transforms:
            for name, change in transform.tables.items():
                self._apply(name, change)
            self.streams |= transform.streams

    def __getitem__(self, name: str) -> Table:
        if name not in self._cache:
            self._cache[name] = self.base[name] if name in self.schema else table_of(name, [], [])
        return self._cache[name]

    @cached_property
    def summary(self) -> Summary:
        return self.base.summary

    def replace(self, name: str, rows: Sequence[tuple[TableCell, ...]]) -> None:
        """Lets a table have these rows in place of its own; one that is not there stays away."""
        if name in self.schema:
            self._cache[name] = table_of(name, self.schema[name], rows)

    when_closed: Callable[[], object] | None = None

    def close(self) -> None:
        """Leaves the base open, which is another's, unless its closing was handed over."""
        if self.when_closed:
            self.when_closed()

    def _apply(self, name: str, change: TableChange) -> None:
        there = self.schema.get(name)
        if change.dropped:
            if there is None:
                self.problems.append(OverlayProblem("table is missing", name))
            self.schema.pop(name, None)
            self._cache.pop(name, None)
            return
        if change.created and there:
            self.problems.append(OverlayProblem("table exists already", name))
        if there is None and not change.created:
            self.problems.append(OverlayProblem("table is missing", name))
            return
        columns = list(there or change.columns)
        known = {column.name for column in columns}
        columns += [column for column in change.columns if column.name not in known]
        before = self[name]
        missing = len(columns) - len(before.columns) if before.columns else 0
        index = {column.name: at for at, column in enumerate(columns)}
        rows = (
            {key: (*cells, *[None] * missing) for key, cells in before._by_key.items()}
            if missing
            else dict(before._by_key)
        )
        for key in change.deleted:
            if rows.pop(key, None) is None:
                self.problems.append(OverlayProblem("row to delete is missing", name, key))
        for key, changed in change.updated.items():
            old = rows.get(key)
            if old is None:
                self.problems.append(OverlayProblem("row to change is missing", name, key))
                continue
            cells = list(old)
            for column, cell in changed.items():
                cells[index[column]] = cell
            rows[key] = tuple(cells)
        order = [column.name for column in change.columns]
        for key, row in change.inserted.items():
            if key in rows:
                self.problems.append(OverlayProblem("row exists already", name, key))
            given = dict(zip(order, row, strict=True))
            rows[key] = tuple(given.get(column.name) for column in columns)
        self.schema[name] = columns
        self._cache[name] = table_of(name, columns, list(rows.values()))


# --- the difference of two databases --------------------------------------------------------------------


def same_bytes(one: Stream, other: Stream) -> bool:
    """Whether two streams hold the same, compared by the piece."""
    if one.size != other.size:
        return False
    with one.open() as left, other.open() as right:
        while piece := left.read(1 << 20):
            if piece != right.read(len(piece)):
                return False
    return True


def _alike(one: Column, other: Column) -> bool:
    """Whether cells of one column can stand in the other; a stated width alone makes no difference."""
    return (one.name, one.is_key, one.is_string, one.is_stream, one.width == 4) == (
        other.name,
        other.is_key,
        other.is_string,
        other.is_stream,
        other.width == 4,
    )


def difference(base: Database, other: Database, *, to_apply: bool = True) -> Transform:
    """The transform that makes ``other`` out of ``base``, with the streams that are new or of other content.

    Its summary is empty: what it is for is said by whoever writes it. Raises Unreadable where a
    table's columns were exchanged, which no transform can express; without ``to_apply`` such rows are
    compared by the columns of the second database.
    """
    tables: dict[str, TableChange] = {}
    for name in sorted(base.schema.keys() | other.schema.keys()):
        if name not in other:
            tables[name] = TableChange(list(base.schema[name]), dropped=True)
            continue
        columns = list(other.schema[name])
        if name not in base:
            change = TableChange(columns, created=True)
            change.inserted = {change.key_of(cells): cells for cells in other[name].cells}
            tables[name] = change
            continue
        old = base.schema[name]
        if len(columns) < len(old) or not all(map(_alike, old, columns)):
            if to_apply:
                raise Unreadable(
                    f"table {name} has other columns in the second database; a transform can only add some at the end"
                )
            change = _rows(_projected(base[name], columns), other[name], TableChange(columns))
            if change:
                tables[name] = change
            continue
        change = _rows(base[name], other[name], TableChange(columns, added=len(columns) - len(old)))
        if change:
            tables[name] = change
    streams = _streams(base, other, tables)
    return Transform(tables, streams, code_page=other.code_page or base.code_page)


def _projected(table: Table, columns: list[Column]) -> Table:
    """The rows of a table under the columns of another."""
    return table_of(table.name, columns, list(table.pick(*(column.name for column in columns))))


def _rows(old: Table, new: Table, change: TableChange) -> TableChange:
    if change.added == 0:
        before, after = old.cells, new.cells
        gone, come = set(before), set(after)
        gone, come = gone - come, come - gone
        if not gone and not come:
            return change
    else:
        gone, come = {(*cells, *[None] * change.added) for cells in old.cells}, set(new.cells)
        gone, come = gone - come, come - gone
    left = {change.key_of(cells): cells for cells in gone}
    for cells in sorted(come, key=str):
        key = change.key_of(cells)
        was = left.pop(key, None)
        if was is None:
            change.inserted[key] = cells
        else:
            names = [column.name for column in change.columns]
            change.updated[key] = {name: now for name, then, now in zip(names, was, cells, strict=True) if then != now}
    change.deleted = sorted(left, key=str)
    return change


def _streams(base: Database, other: Database, tables: dict[str, TableChange]) -> dict[str, Stream]:
    """Streams to bring along.

    A cabinet of the same name and other content gets a new name, for the base's would be taken.
    """
    found: dict[str, Stream] = {}
    for name, entry in other.streams.items():
        if name.startswith("\x05"):
            continue
        there = base.stream(name)
        if there is not None and same_bytes(there, entry):
            continue
        table, _, _ = name.partition(".")
        if there is None or table in other.schema:
            found[name] = entry
            if (
                table in other.schema and there is not None
            ):  # the row says nothing of a changed stream, so it is said here
                _touch(name, other[table], tables)
            continue
        media = tables.setdefault("Media", TableChange(list(other.schema["Media"])))
        fresh = next(f"{name}-{number}" for number in range(2, 1000) if other.stream(f"{name}-{number}") is None)
        for row in other["Media"].where(Cabinet=f"#{name}"):
            key = (row["DiskId"],)
            if key in media.inserted:
                cells = media.inserted[key]
                media.inserted[key] = tuple(
                    f"#{fresh}" if column.name == "Cabinet" else cell
                    for column, cell in zip(media.columns, cells, strict=True)
                )
            else:
                media.updated.setdefault(key, {})["Cabinet"] = f"#{fresh}"
        found[fresh] = entry
    return found


def _touch(name: str, table: Table, tables: dict[str, TableChange]) -> None:
    """Updates the stream cell of the row that a stream ``Table.Key`` belongs to."""
    for cells in table.cells:
        key = table.key_of(cells)
        if f"{table.name}.{'.'.join(str(part) for part in key)}" == name:
            change = tables.setdefault(table.name, TableChange(list(table.columns)))
            if key not in change.inserted:
                change.updated.setdefault(key, {}).update(
                    {column.name: 1 for column in table.columns if column.is_stream}
                )


# --- copying ---------------------------------------------------------------------------------------------


def _copied(container: cfb.CompoundFile, entry: cfb.StorageEntry) -> cfb.Storage:
    storage = cfb.Storage()
    for child in container.entries(entry):
        if child.is_storage:
            storage.storages[child.name] = _copied(container, child)
        else:
            storage.streams[child.name] = source_of(child)
    return storage


_SIGNATURES = ("\x05DigitalSignature", "\x05MsiDigitalSignatureEx")


def write(database: Database, target: BinaryIO, *, revision: str | None = None) -> bool:
    """Writes a database, an overlay among them, as a new file; whether a signature had to be left out.

    ``revision`` is the new package code: two files of one code must be the same file.
    """
    summary = database.summary if revision is None else msgspec.structs.replace(database.summary, revision=revision)
    writer = DatabaseWriter(code_page=database.code_page, summary=summary)
    for name in database.tables:
        table = database[name]
        writer.table(name, table.columns, table.cells, as_it_is=True)
    signed = False
    for name, stream in database.streams.items():
        if name in _SIGNATURES:
            signed = True
        elif not name.startswith("\x05SummaryInformation"):
            writer.stream(name, source_of(stream))
    writer.storages = {
        entry.name: _copied(database.container, entry) for entry in database.container.entries() if entry.is_storage
    }
    writer.write(target)
    return signed
